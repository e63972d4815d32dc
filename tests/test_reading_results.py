"""Rows, counts, cross-tables, shares, what is in a book: figures agree with a SQL engine, and nothing goes missing."""

from __future__ import annotations

import csv
import io
import json
from decimal import Decimal
from itertools import product

import duckdb
import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.calculate.evaluate import Evaluator
from kivvet.core.calculate.groups import Groups
from kivvet.core.calculate.tally import tally_of
from kivvet.core.calculate.vectors import to_arrow
from kivvet.core.columns.column import column_from_arrow
from kivvet.core.formulas.tree import ColumnName, Window, write_aggregate
from kivvet.show.figures import decimals_of, figure, shown
from tests.conftest import budget, fits_output, write_book
from tests.sql_referee import aggregate, aggregates, tables, windows

BOOK = {
    "book.toml": """\
[datasets.d]
source  = "d.csv"
target  = "out/d.parquet"
types   = { k = "text" }
columns = ["band", "group", { formula = "double", as = "twice" }]

[datasets.few]
source  = "d.csv"
columns = ["band"]
where   = "x > 2"

[summaries.by_band]
from    = "d"
by      = ["band", { kind = "CASE WHEN k = 'a' THEN 'first' ELSE 'other' END" }]
values  = { n = "COUNT(*)", total = "SUM(x)", mean = "SUM(x) / COUNT(x)" }
columns = ["size"]
target  = "out/by_band.csv"

[summaries.by_size]
from    = "by_band"
by      = ["size"]
values  = { bands = "COUNT(DISTINCT band)", n = "SUM(n)" }
target  = "out/by_size.csv"
""",
    "d.csv": "id,k,x,day\n1,a,1,2025-01-05\n2,b,2.5,2025-03-01\n3,a,,2026-02-01\n4,c,7,2026-02-02\n5,,8,\n6,zz,3,2026-05-05\n",
    "tables/band.toml": """\
inputs.x = { type = "number", domain = ">= 0" }
outputs.band = { type = "text", order = ["low", "middle", "high", "never"] }
rows = [["< 2", "low"], ["2 to <5", "middle"], ["5 to <8", "high"], ["100", "never"]]
severity = { gap = "warning" }
""",
    "tables/group.toml": """\
inputs.k = "text"
outputs.group = "text"
rows = [["a", "A"], ["b", ""], ["c", "C"]]
severity = { unfinished = "note" }
""",
    "tables/size.toml": 'inputs.n = "integer"\noutputs.size = "text"\nrows = [["< 2", "small"], [">= 2", "large"]]\n',
    "formulas.toml": 'double = "x * 2"\n',
}


@pytest.fixture
def folder(tmp_path):
    return write_book(tmp_path / "book", {**BOOK, "tables/station.toml": None, "tables/ph_class.toml": None})


@pytest.fixture
def book(folder):
    return kivvet.open_book(folder)


# Aggregates in batches


@settings(max_examples=budget(82))
@given(
    aggregates() | windows().filter(lambda one: one.name in ("SUM", "COUNT", "AVG", "MIN", "MAX")),
    tables(most=24),
    st.integers(1, 9),
    st.sampled_from(["s", "b", "i", "d"]),
)
def test_aggregates_of_batches_are_those_of_a_sql_engine(window, frame, size, key):
    window = Window(
        window.name, window.parts, within=window.within, where=window.where, is_distinct=window.is_distinct
    )
    numbers, labels = pd.factorize(pd.Series(frame[key].to_pylist(), dtype=object), use_na_sentinel=False)
    tally = tally_of(window)
    for begin in range(0, len(frame), size):
        part = frame.slice(begin, size).combine_chunks()
        evaluator = Evaluator(
            lambda name, of=part: column_from_arrow(of[name].combine_chunks(), name), len(part)
        )
        groups = Groups(numbers[begin : begin + size], len(labels))
        tally.add(groups, evaluator.vector, lambda tree, of=evaluator: of.truth(tree)[0])
    engine = duckdb.connect(config={"threads": 1})
    engine.register("frame_", frame)
    for by_key in (True, False):
        n = len(labels) if by_key else 1
        coarser = np.arange(n) if by_key else np.zeros(len(labels), np.int64)
        made = tally.result(coarser, n).vector
        ours = to_arrow(made, n).to_pylist()
        if by_key:
            rows = engine.execute(f"SELECT {key}, {aggregate(window)} FROM frame_ GROUP BY {key}").fetchall()
            theirs = {None if pd.isna(one) else one: value for one, value in rows}
            pairs = [
                (value, theirs[None if pd.isna(one) else one])
                for one, value in zip(labels, ours, strict=True)
            ]
        else:
            pairs = [(ours[0], engine.execute(f"SELECT {aggregate(window)} FROM frame_").fetchone()[0])]
        for one, other in pairs:
            assert agrees(one, other), (write_aggregate(window), key, one, other)


def agrees(ours, theirs):
    if ours is None or theirs is None or theirs == "":
        return ours is None and (theirs is None or theirs == "")
    if isinstance(ours, float) or isinstance(theirs, (float, Decimal)):
        return float(ours) == pytest.approx(float(theirs), rel=1e-9, abs=1e-9)
    return ours == theirs


def test_totals_beyond_64_bits_are_missing_and_exact_below():
    window = Window("SUM", (ColumnName("i"),))
    for values, expected in (
        ([2**62, 2**62 - 1], 2**63 - 1),
        ([2**62, 2**62], None),
        ([-(2**62)] * 2, -(2**63)),
    ):
        tally = tally_of(window)
        for value in values:
            part = pa.array([value], pa.int64())
            evaluator = Evaluator(lambda _, of=part: column_from_arrow(of), 1)
            tally.add(Groups(pd.Series([0]).to_numpy(), 1), evaluator.vector, lambda _: None)
        found = tally.result(pd.Series([0]).to_numpy(), 1).vector
        assert (None if found.missing is not None and found.missing[0] else int(found.values[0])) == expected


# Cross-tables


def test_lines_are_classes_in_order_and_why_rows_have_none(book):
    table = book.cross_table("d", by=["band"], value=["COUNT(*) AS n", "SUM(x)"])
    heads, lines = table.table()
    assert heads == ["band", "n", "SUM(x)"]
    assert lines == [
        ["low", 1, 1.0],
        ["middle", 2, 5.5],
        ["high", 1, 7.0],
        ["never", 0, None],
        ["(unmatched)", 1, 8.0],
        ["(missing)", 1, None],
        ["total", 6, 21.5],
    ]
    unfinished = book.cross_table("d", by=["group"]).table()[1]
    assert unfinished == [
        ["A", 2],
        ["C", 1],
        ["(unfinished)", 1],
        ["(unmatched)", 1],
        ["(missing)", 1],
        ["total", 6],
    ]


@settings(max_examples=budget(22))
@given(
    st.lists(
        st.tuples(st.sampled_from(["a", "b", None]), st.sampled_from([1, 2, None]), st.integers(-5, 5)),
        max_size=25,
    )
)
def test_every_total_is_that_of_all_its_rows(rows):
    frame = pa.table(
        {
            "a": pa.array([one for one, _, _ in rows], pa.string()),
            "b": pa.array([one for _, one, _ in rows], pa.int64()),
            "v": pa.array([one for _, _, one in rows], pa.int64()),
        }
    )
    import tempfile
    from pathlib import Path

    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "f.parquet"
        pq.write_table(frame, path)
        from kivvet.book import cross_table_of

        table = cross_table_of(
            None, path, by=["a", "b"], across="v > 0", value=["COUNT(*) AS n", "MEDIAN(v) AS m"]
        )

    def kept(label, value):
        if label is None or label.kind == "total":
            return True
        return value is None if label.kind == "missing" else value == label.value

    for line, across in product(table.lines, table.columns):
        cell = table.cell(line, across)
        inside = [v for a, b, v in rows if kept(line[0], a) and kept(line[1], b) and kept(across, v > 0)]
        if cell is None:
            assert not inside
            continue
        assert cell.rows == cell.values[0] == len(inside)
        assert cell.values[1] == (None if not inside else pytest.approx(float(pd.Series(inside).median())))


def test_shares_are_of_the_line_the_column_or_all(book):
    table = book.cross_table("d", by=["band"], across="EXTRACT(YEAR FROM day) AS year", where="x IS NOT NULL")
    cell = table.cell(table.lines[1], table.columns[0])
    assert str(table.lines[1][0]) == "middle" and str(table.columns[0]) == "2025"
    assert [table.share(cell, 0, of) for of in ("row", "column", "total")] == [0.5, 0.5, 0.2]
    assert table.left_out == 1 and table.rows == 5


def test_the_smallest_columns_are_joined_and_said_so(folder, run):
    rows = "".join(f"{n % 40},{n}\n" for n in range(400))
    (folder / "wide.csv").write_text("code,n\n" + "39,1\n" * 30 + rows)
    done = run("summary", "wide.csv", "--across", "code", "--most-columns", 5, cwd=folder)
    assert "the 36 smallest columns of code are joined as (rest)" in done.out
    assert done.out.split()[-6:] == ["10", "10", "10", "40", "360", "430"]


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["--by", "bnad"], "did you mean 'band'?"),
        (["--value", "SUM(x) / x"], "'x' stands outside an aggregate"),
        (["--value", "x"], "'x' stands outside an aggregate"),
        (["--value", "1 + 1"], "there is no aggregate in it"),
        (["--value", "SUM(x) OVER ()"], "one for each group is wanted"),
        (["--value", "SUM(k)"], "k is text, and a number is expected"),
        (["--value", "RANK()"], "gives no value for a group of rows"),
        (["--by", "band", "--by", "band"], "each key once"),
        (["--by", "band", "--share", "row"], "--share row needs --across"),
        (["--by", "band", "--value", "AVG(x)", "--share", "total"], "shares are of counts and totals"),
        (["--where", "x"], "where is a condition"),
        (["--where", "x >"], "ends too soon"),
        (["--value", "SUM(x)", "--value", "SUM(x)"], "each value once"),
        (["--csv", "--json"], "give one form, not csv and json"),
        (["--by", "band", "--across", "k", "--save-as", "n"], "takes neither --across nor --where"),
        (["--by", "band", "--save-as", "few"], "there is a dataset or summary 'few' already"),
    ],
)
def test_what_cannot_be_summed_up_is_told(folder, run, arguments, said):
    done = run("summary", "d", *arguments, cwd=folder)
    assert done.code in (1, 2) and said in done.all


def test_the_same_figures_in_every_form(folder, run, book):
    arguments = [
        "summary",
        "d",
        "--by",
        "band",
        "--across",
        "k",
        "--value",
        "SUM(x) AS s",
        "--share",
        "total",
    ]
    rows = list(csv.reader(io.StringIO(run(*arguments, "--csv", cwd=folder).out)))
    cells = json.loads(run(*arguments, "--json", cwd=folder).out)["cells"]
    total = next(one for one in cells if one["by"][0]["kind"] == one["across"]["kind"] == "total")
    assert rows[0][-2:] == ["total", "total share"] and float(rows[-1][-2]) == total["values"]["s"] == 21.5
    assert float(rows[-1][-1]) == total["shares"]["s"] == 1
    frame = book.summary("d", by=["band"], value={"s": "SUM(x)"})
    assert frame.band.cat.ordered and frame.band.tolist()[:3] == ["low", "middle", "high"]
    assert frame.s.sum() == 21.5


# Summaries that are kept


def test_a_summary_is_applied_classified_and_refreshed_like_a_dataset(folder, run):
    assert run("apply", "by_band", "by_size", cwd=folder).code == 0
    by_band = pd.read_csv(folder / "out/by_band.csv")
    assert by_band.columns.tolist() == ["band", "kind", "n", "total", "mean", "size"]
    assert by_band[["band", "kind", "n", "size"]].fillna("").to_numpy().tolist() == [
        ["low", "first", 1, "small"],
        ["middle", "other", 2, "large"],
        ["high", "other", 1, "small"],
        ["", "first", 1, "small"],
        ["", "other", 1, "small"],
    ]
    by_size = pd.read_csv(folder / "out/by_size.csv")
    assert by_size.to_numpy().tolist() == [["small", 2, 4], ["large", 1, 2]]
    assert run("status", "by_band", "by_size", cwd=folder).out.count("current") == 2
    change(folder / "tables/size.toml", '"large"', '"big"')
    status = run("status", cwd=folder).out
    assert "table size changed" in status and "what it sums up changed: by_band" in status
    assert run("refresh", "by_band", "by_size", cwd=folder).code == 0
    assert pd.read_csv(folder / "out/by_size.csv")["size"].tolist() == ["small", "big"]
    change(folder / "tables/band.toml", '"< 2"', '"< 1"')
    change(folder / "tables/band.toml", '"2 to <5"', '"1 to <5"')
    assert "what it sums up changed: d" in run("status", "by_band", cwd=folder).out
    run("refresh", "by_band", cwd=folder)
    (folder / "d.csv").write_text("id,k,x,day\n1,a,1,2025-01-05\n")
    assert "what it sums up changed: d" in run("status", "by_band", cwd=folder).out
    change(folder / "book.toml", 'total = "SUM(x)"', 'total = "MAX(x)"')
    assert "the way the data is read or written changed: values" in run("status", "by_band", cwd=folder).out


def change(path, before, after):
    text = path.read_text()
    assert before in text
    path.write_text(text.replace(before, after))
    return path


def test_an_error_in_a_table_below_stops_a_summary(folder, run):
    change(folder / "tables/band.toml", '"2 to <5"', '"1 to <5"')
    done = run("apply", "by_band", cwd=folder)
    assert done.code == 1 and "overlap" in done.err and not (folder / "out").exists()
    assert "cannot tell" in run("status", "by_size", cwd=folder).out


@pytest.mark.parametrize(
    ("entry", "said"),
    [
        ('from = "nix"', "no dataset or summary has that name"),
        ('by = ["band"]', "add from"),
        ('from = "odd"', "summaries sum up each other: odd -> odd"),
        ('from = "d"\nby = [3]', "by lists columns"),
        ('from = "d"\nby = ["band", "band"]', "names a key twice"),
        ('from = "d"\nvalues = { n = 3 }', "aggregates by name"),
        ('from = "d"\nvalues = { n = "SUM(y)" }', "'y' is neither in the source nor made"),
        ('from = "d"\nby = ["band"]\nvalues = { band = "COUNT(*)" }', "is a key too"),
        ('from = "d"\nacross = "band"', "'across'"),
        ('from = "d"\ntarget = "out/d.parquet"', "is the target of dataset d too"),
    ],
)
def test_a_summary_that_cannot_be_is_told(folder, run, entry, said):
    path = folder / "book.toml"
    path.write_text(path.read_text() + f"\n[summaries.odd]\n{entry}\n")
    done = run("check", cwd=folder)
    assert said in done.all and done.code == 1


def test_an_ad_hoc_summary_can_be_kept(folder, run):
    done = run(
        "summary",
        "d",
        "--by",
        "band",
        "--by",
        "EXTRACT(YEAR FROM day) AS year",
        "--value",
        "SUM(x) AS s",
        "--save-as",
        "kept",
        cwd=folder,
    )
    assert done.code == 0 and 'by     = ["band", { year = "EXTRACT(YEAR FROM day)" }]' in done.out
    assert run("apply", "kept", cwd=folder).code == 0
    assert pd.read_csv(folder / "out/kept.csv").s.sum() == 21.5


# Rows


def rows_shown(book, **wanted):
    return book.rows("d", **wanted).table.to_pydict()


def test_rows_meet_conditions_over_all_that_a_dataset_makes(book):
    assert rows_shown(book, where="band = 'middle' AND double > 5", columns=["id", "x * 10 + 1"]) == {
        "row": [6],
        "id": [6],
        "x * 10 + 1": [31.0],
    }
    assert rows_shown(book, only={"k": "a"})["id"] == [1, 3]
    assert rows_shown(book, only=["id=4"])["band"] == ["high"]
    assert rows_shown(book, sort=["x DESC"], columns=["id"], first=3)["id"] == [5, 4, 6]
    assert rows_shown(book, sort=["x", "id DESC"], columns=["id"])["id"] == [1, 2, 6, 4, 5, 3]
    assert rows_shown(book, each="band", first=1, columns=["band"])["band"] == ["low", "middle", "high", None]
    assert book.rows("few").n_matching == 4 and book.show("d", first=2).index.tolist() == [1, 2]


@settings(max_examples=budget(33))
@given(tables(most=30), st.integers(1, 8), st.sampled_from(["i", "x", "s", "d", "b", "m"]), st.booleans())
def test_sorted_rows_are_those_of_a_stable_sort(frame, first, key, is_down):
    import tempfile
    from pathlib import Path

    from kivvet.book import rows_of

    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "f.parquet"
        pq.write_table(frame, path, row_group_size=7)
        found = rows_of(None, path, sort=[f"{key} DESC" if is_down else key], first=first, columns=[key])
    values = frame[key].to_pylist()
    present = [place for place, value in enumerate(values) if value is not None]
    order = sorted(present, key=lambda place: values[place], reverse=is_down)
    if is_down:  # rows that are equal stand as in the source
        order = sorted(
            present, key=lambda place: (-sorted({values[p] for p in present}).index(values[place]), place)
        )
    order += [place for place, value in enumerate(values) if value is None]
    assert [row - 1 for row in found.table["row"].to_pylist()] == order[:first]


def test_what_decided_each_class_is_told(book):
    found = book.rows("d", why=True)
    assert found.why["band"][:4] == (
        "row 1: x < 2: low",
        "row 2: x 2 to <5: middle",
        "no row",
        "row 3: x 5 to <8: high",
    )
    assert found.why["group"][1] == "row 2: k b: "


def test_a_table_that_is_applied_again_tells_why_by_its_column(folder):
    change(
        folder / "book.toml",
        '"group", {',
        '"group", { table = "band", input = { x = "id" }, keep = { band = "again" } }, {',
    )
    found = kivvet.open_book(folder).rows("d", why=True, first=1)
    assert found.why == {
        "band": ("row 1: x < 2: low",),
        "group": ("row 1: k a: A",),
        "again": ("row 1: x < 2: low",),
    }


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (["--where", "bnad = 'low'"], "did you mean 'band'?"),
        (["--where", "x > 1 AND k = 'q' AND x > 2"], "of 4 rows left before it, k = 'q' left out 4"),
        (["--where", "x"], "where is a condition"),
        (["--only", "id"], "'id' is no key"),
        (["--only", "id=x"], "id = 'x' is no integer"),
        (["--columns", "id,nix"], "'nix' is neither in the source nor made"),
        (["--sort", "nix DESC"], "'nix' is neither in the source nor made"),
        (["--each", "nix"], "'nix' is neither in the source nor made"),
        (["--first", "0"], "0 is not in the range"),
    ],
)
def test_rows_that_cannot_be_shown_are_told(folder, run, arguments, said):
    done = run("show", "d", *arguments, cwd=folder)
    assert said in done.all


def test_text_that_would_be_run_or_steer_a_terminal_is_shown_harmless(folder, run):
    (folder / "odd.csv").write_text('a,b\n=1+1,"x\x1b[31m"\n-2,\u202eabc\n', encoding="utf-8")
    safe = run("show", "odd.csv", "--csv", "--csv-safe", cwd=folder).out
    assert "'=1+1" in safe and run("show", "odd.csv", "--csv", cwd=folder).out.count("'") == 0
    plain = run("show", "odd.csv", cwd=folder).out
    assert "\x1b" not in plain and r"\u001b[31m" in plain
    assert shown("\u202eabc") == r"\u202eabc" and shown("Mühlweg 水") == "Mühlweg 水"


@pytest.mark.parametrize(
    ("values", "texts"),
    [
        ([1.5, 2.25], ["1.50", "2.25"]),
        ([0.1 + 0.2, 7.0], ["0.3", "7.0"]),
        ([1 / 3, 2000.0], ["0", "2,000"]),
        ([1 / 3, None], ["0.3333", "."]),
        ([96069459.888, 1.0], ["96,069,459.89", "1.00"]),
        ([float("inf"), 1.5], ["Infinity", "1.5"]),
        ([10**18, None], ["1,000,000,000,000,000,000", "."]),
    ],
)
def test_figures_of_a_column_have_the_same_decimals(values, texts):
    assert [figure(one, decimals_of(values)) for one in values] == texts


# What is in a book


def test_a_book_is_listed_with_shapes_findings_and_users(book, folder, run):
    found = book.overview()
    tables = {one.name: one for one in found.tables}
    assert {name: one.shape for name, one in tables.items()} == {
        "band": "bins",
        "group": "mapping",
        "size": "bins",
    }
    assert tables["band"].used_by == ("d", "few")
    assert tables["size"].used_by == ("by_band",) and tables["band"].findings == {"warning": 2}
    assert {one.name: one.is_summary for one in found.datasets} == {
        "d": False,
        "few": False,
        "by_band": True,
        "by_size": True,
    }
    out = run("list", cwd=folder)
    assert out.code == 0 and "by_size  of by_band" in out.out
    assert json.loads(run("list", "--json", cwd=folder).out)["tables"][0]["name"] == "band"


def test_uses_go_both_ways_and_across_datasets(book, folder, run):
    uses = {one.dataset: one for one in book.uses("x")}
    assert set(uses["d"].leads_to) == {"band", "twice"}
    assert uses["few"].read_by == ("table band", "where") and "summary by_band" in uses["d"].read_by
    (band,) = [one for one in book.uses("band") if one.dataset == "d"]
    assert band.made_by == "table band" and band.rests_on == ("x",) and band.read_by == ("summary by_band",)
    assert "did you mean 'band'" in run("list", "--uses", "bnd", cwd=folder).err


def test_a_row_is_explained_by_a_condition_or_a_key(folder, run):
    assert (
        "d row 2, the first of 2 such rows"
        in run("explain", "d", "--where", "band = 'middle'", cwd=folder).out
    )
    assert "d row 4\n" in run("explain", "d", "--only", "k=c", cwd=folder).out
    assert "left out 6" in run("explain", "d", "--only", "k=q", cwd=folder).err
    assert run("explain", "d", "--only", "k=c", "--row", 3, cwd=folder).code == 2


@pytest.mark.parametrize(
    ("form", "arguments"),
    [
        ("summary", ["summary", "d", "--by", "band", "--across", "k", "--share", "total"]),
        ("show", ["show", "d", "--why"]),
        ("list", ["list"]),
        ("uses", ["list", "--uses", "x"]),
        ("shares", ["shares", "band", "--on", "d", "--against", "d"]),
        ("apply", ["apply", "d"]),
        ("comparison", ["compare", "band"]),
        ("error", ["apply", "nothing"]),
        ("report", ["report", "--to", "r.html"]),
    ],
)
def test_what_is_printed_for_programs_fits_the_schema_that_ships(folder, run, form, arguments):
    run("apply", cwd=folder)
    assert fits_output(form, json.loads(run(*arguments, "--json", cwd=folder).out))


def test_a_run_says_what_changed_since_the_one_before(folder, run):
    assert "since" not in run("apply", "d", cwd=folder).out
    assert "no class gained or lost a row" in run("apply", "d", cwd=folder).out
    change(folder / "tables/band.toml", '"< 2"', '"< 3"')
    change(folder / "tables/band.toml", '"2 to <5"', '"3 to <5"')
    (folder / "d.csv").write_text((folder / "d.csv").read_text() + "7,a,1,\n")
    out = run("apply", "d", cwd=folder).out
    assert "1 row more; band: low +2, middle -1; group: A +1" in out


def test_reports_print_as_the_terminal_shows_them(book, folder, run, monkeypatch):
    assert str(book.overview()) == run("list", cwd=folder).out.rstrip("\n")
    assert str(book.rows("d", first=2)) == run("show", "d", "--first", 2, cwd=folder).out.rstrip("\n")
    monkeypatch.chdir(folder)
    report = kivvet.open_book(".").check()
    assert f"{report}" == run("check", cwd=folder).out.rstrip("\n") and repr(report).startswith("<Report")
    with pytest.raises(AssertionError, match="no row lists"):
        assert report.is_clean, report
