"""Formulas in books: one plan with the tables, all rows for windows, results of rows, findings, status,
errors.
"""

import itertools

import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.parser import parse_formula
from kivvet.core.run.entries import Entry
from kivvet.core.run.planner import make_plan
from kivvet.core.words.errors import DataError, TableError
from kivvet.rule_table import value_of
from tests.conftest import golden, write_book
from tests.conftest import kivvet as run

BOOK = {
    "book.toml": """
[datasets.d]
source = "d.csv"
target = "out.csv"
types = { place = "text" }
columns = [{ formula = "share", as = "part" }, "size", { formula = "load", write = false }, "visit", "turn"]
""",
    "formulas.toml": """
share = "load / SUM(load) OVER (PARTITION BY place)"
load  = "flow * rate"
visit = "RANK() OVER (PARTITION BY place ORDER BY day)"
rate  = { formula = "CASE WHEN class = 'high' THEN 2 ELSE 1 END", type = "integer" }
""",
    "tables/size.toml": 'inputs.load = "number"\noutputs.size = "text"\nrows = [["< 5", "small"], [">= 5", "large"]]\n',
    "tables/class.toml": 'inputs.flow = "number"\noutputs.class = "text"\nrows = [["< 3", "low"], [">= 3", "high"]]\n',
    "tables/turn.toml": 'inputs.visit = "integer"\noutputs.turn = "text"\nrows = [["1", "first"], ["> 1", "repeat"]]\n',
    "d.csv": "place,flow,day\na,1,2026-01-02\nb,4,2026-01-01\na,3,2026-01-01\n,2,2026-01-01\nb,,2026-01-03\n",
}


def test_tables_and_formulas_are_made_in_the_order_they_need_each_once(tmp_path):
    folder = write_book(tmp_path, BOOK)
    report = kivvet.open_book(folder).apply_dataset("d")
    assert (folder / "out.csv").read_text() == (
        "place,flow,day,part,size,visit,turn\n"
        "a,1,2026-01-02,0.14285714285714285,small,2,repeat\nb,4,2026-01-01,1,large,1,first\n"
        "a,3,2026-01-01,0.8571428571428571,large,1,first\n,2,2026-01-01,1,small,1,first\nb,,2026-01-03,,,2,repeat\n"
    )
    assert sorted(one.formula for one in report.formulas) == ["load", "rate", "share", "visit"]
    assert {one.formula: one.without_group for one in report.formulas} == {
        "load": 0,
        "rate": 0,
        "share": 1,
        "visit": 1,
    }
    shown = run("apply", cwd=folder).out
    assert "missing in 1 row\n" in shown and "1 row has no value in PARTITION BY" in shown
    assert run("status", cwd=folder).out.startswith("d  out.csv  current")


def test_windows_see_all_rows_of_a_source_that_is_read_in_batches(tmp_path, monkeypatch):
    from kivvet.io import csv_source

    monkeypatch.setattr(csv_source, "_BLOCK_BYTES", 4_000)
    n_rows = 5_000
    frame = pd.DataFrame(
        {
            "g": [f"g{number % 7}" for number in range(n_rows)],
            "x": [number * 13 % 1_009 for number in range(n_rows)],
        }
    )
    book = {
        "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "o.parquet"\ncolumns = ["total", "place", "before"]\n'
        '[datasets.p]\nsource = "d.parquet"\ntarget = "p.parquet"\ncolumns = ["total", "place", "before"]\n',
        "formulas.toml": 'total = "SUM(x) OVER (PARTITION BY g)"\nplace = "ROW_NUMBER() OVER (ORDER BY x)"\nbefore = "LAG(g) OVER (PARTITION BY x ORDER BY g)"\n',
        "d.csv": frame.to_csv(index=False),
    }
    folder = write_book(tmp_path, book)
    pq.write_table(pa.Table.from_pandas(frame), folder / "d.parquet", row_group_size=700)
    opened = kivvet.open_book(folder)
    wanted = frame.assign(
        total=frame.groupby("g")["x"].transform("sum"),
        place=frame["x"].rank(method="first").astype(int),
        before=frame.sort_values(["x", "g"], kind="stable").groupby("x")["g"].shift(),
    )
    for name, target in (("d", "o.parquet"), ("p", "p.parquet")):
        opened.apply_dataset(name)
        made = pq.read_table(folder / target).to_pandas()
        assert (
            made["total"].tolist() == wanted["total"].tolist()
            and made["place"].tolist() == wanted["place"].tolist()
        )
        before = [None if pd.isna(one) else one for one in wanted["before"]]
        assert [None if pd.isna(one) else one for one in made["before"]] == before
    chunked = pa.concat_tables([pa.Table.from_pandas(frame)[:10], pa.Table.from_pandas(frame)[10:]])
    assert opened.apply(chunked, ["place"])["place"].to_pylist() == wanted["place"].tolist()
    assert opened.explain("d", 4_321) == ()


@st.composite
def webs(draw):
    """Formulas that add up columns and each other; who reads whom is drawn, circles too."""
    names = [f"f{number}" for number in range(draw(st.integers(1, 7)))]
    order = draw(st.permutations(names))
    reads = {name: draw(st.lists(st.sampled_from([*names, "x", "y"]), max_size=3)) for name in names}
    return {name: reads[name] for name in order}


@settings(deadline=None)
@given(webs(), st.data())
def test_any_order_works_and_every_circle_is_told(web, data):
    formulas = {
        name: Formula(name, text, parse_formula(text))
        for name, text in ((n, " + ".join(["1", *r])) for n, r in web.items())
    }
    listed = data.draw(st.permutations(list(web)))[: data.draw(st.integers(1, len(web)))]

    def value(name, above=()):
        if name in above:
            return None
        if name not in web:
            return {"x": 10, "y": 100}[name]
        parts = [value(one, (*above, name)) for one in web[name]]
        return None if None in parts else 1 + sum(parts)

    wanted = {name: value(name) for name in listed}
    plan, faults = make_plan([Entry(name) for name in listed], {}, ["x", "y"], formulas=formulas)
    if None in wanted.values():
        told = [one for one in faults if one.kind == "cycle"]
        assert told
        for one in told:
            path = one.message.removeprefix("columns depend on themselves: ").split(" -> ")
            assert path[0] == path[-1] and all(b in web[a] for a, b in itertools.pairwise(path))
        return
    assert not faults and plan.written == tuple(listed)
    frame = pd.DataFrame({"x": [10], "y": [100]})
    made = (
        kivvet.with_formulas(frame, {name: formula.text for name, formula in formulas.items()})
        if not any(value(name) is None for name in web)
        else None
    )
    if made is not None:
        assert {name: made[name][0] for name in listed} == wanted


def test_a_circle_through_tables_shows_the_way_and_the_places(tmp_path):
    folder = write_book(
        tmp_path,
        BOOK
        | {
            "formulas.toml": BOOK["formulas.toml"].replace(
                'load  = "flow * rate"', "load  = \"CASE WHEN size = 'large' THEN flow END\""
            )
        },
    )
    ran = run("apply", cwd=folder)
    assert ran.code == 1 and not (folder / "out.csv").exists()
    golden("formula_circle.txt", ran.err)


def test_faults_of_formulas_point_at_the_place(tmp_path):
    folder = write_book(
        tmp_path,
        BOOK
        | {
            "formulas.toml": 'share = "load / SUM(lod) OVER (PARTITION BY place)"\nload = "flow * FOO(rate"\nvisit = { formula = "flow || place", tpye = "text" }\n'
            'rate = "1"\nclass = "2"\nodd = 5\nlate = { formula = "flow", type = "numbr", among = "1 +" }\nday_after = "day + place"\n',
            "book.toml": BOOK["book.toml"].replace(
                '"turn"]',
                '"turn", "day_after", { formula = "rate", keep = ["x"] }, { table = "size", as = "y" }, "lod"]',
            ),
        },
    )
    golden("formula_faults.txt", run("check", "--no-data", cwd=folder).out + run("apply", cwd=folder).err)


def test_a_strict_formula_stops_and_a_lax_one_is_counted(tmp_path):
    book = BOOK | {"formulas.toml": BOOK["formulas.toml"].replace("flow * rate", "flow / (rate - 1)")}
    folder = write_book(tmp_path, book)
    report = kivvet.open_book(folder).apply_dataset("d")
    (load,) = [one for one in report.formulas if one.formula == "load"]
    assert dict(load.made_missing) == {"division by zero": (2, 1)} and load.missing == 3
    (found,) = kivvet.open_book(folder).check().of_kind("no-result")
    assert (
        found.message == "2 rows of d have no result: division by zero; the first is row 1"
        and found.table == "load"
    )
    strict = book["formulas.toml"].replace(
        'load  = "flow / (rate - 1)"', 'load = { formula = "flow / (rate - 1)", strict = true }'
    )
    with pytest.raises(DataError, match="2 values have no result: division by zero; the first is in row 1"):
        kivvet.open_book(write_book(tmp_path, book | {"formulas.toml": strict})).apply_dataset("d")


def test_check_tells_rows_without_a_group_or_an_order_and_parted_equals(tmp_path):
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ncolumns = ["part", "turn", "kept"]\n',
            "formulas.toml": 'part = "NTILE(2) OVER (ORDER BY x)"\nturn = "RANK() OVER (PARTITION BY g ORDER BY x)"\n'
            'kept = { formula = "RANK() OVER (PARTITION BY g ORDER BY x)", among = "g IS NOT NULL AND x > 0" }\n',
            "d.csv": "g,x\na,1\n,1\nb,1\na,\n,2\nb,0\n",
        },
    )
    book = kivvet.open_book(folder)
    assert [(one.table, one.kind, one.count) for one in book.check()] == [
        ("part", "no-order", 1),
        ("part", "split-ties", 3),
        ("turn", "no-group", 2),
        ("turn", "no-order", 1),
    ]
    assert book.check(["kept"]).is_clean and not book.check(["turn"]).is_clean
    made = book.apply(pd.DataFrame({"g": ["a", None, "b", "a"], "x": [1.0, 1, 1, 0]}), ["kept"])
    assert made["kept"].tolist() == [1, pd.NA, 1, pd.NA]


def test_what_datasets_feed_limits_an_input_unless_one_reads_a_source(tmp_path):
    folder = write_book(tmp_path, BOOK)
    assert not kivvet.open_book(folder).check(["turn"]).of_kind("gap")
    more = '\n[datasets.e]\nsource = "e.csv"\ncolumns = ["turn"]\n'
    write_book(tmp_path, BOOK | {"book.toml": BOOK["book.toml"] + more, "e.csv": "visit\n3\n"})
    (gap,) = kivvet.open_book(folder).check(["turn"]).of_kind("gap")
    assert gap.region == {"visit": "< 1"}
    months = {
        "tables/turn.toml": BOOK["tables/turn.toml"].replace('"1"', '"1 to 3"').replace('"> 1"', '"5 to 12"')
    }
    formulas = {
        "formulas.toml": BOOK["formulas.toml"].replace(
            "RANK() OVER (PARTITION BY place ORDER BY day)", "MOD(EXTRACT(MONTH FROM day) + 2, 12) + 1"
        )
    }
    (gap,) = kivvet.open_book(write_book(tmp_path, BOOK | months | formulas)).check(["turn"]).of_kind("gap")
    assert gap.region == {"visit": "4"}


def test_a_changed_formula_makes_its_columns_stale_and_says_how(tmp_path):
    folder = write_book(tmp_path, BOOK)
    run("apply", cwd=folder)
    path = folder / "formulas.toml"
    path.write_text(
        path.read_text().replace(
            'load  = "flow * rate"', 'load  = { formula = "flow*rate", note = "the same" }'
        )
    )
    assert run("status", cwd=folder).code == 0
    path.write_text(path.read_text().replace("flow*rate", "flow * rate * 2"))
    assert "formula load changed" not in run("status", cwd=folder).out  # load itself is not written
    assert (
        "part          what it reads changed" in (said := run("status", cwd=folder).out)
        or "what it reads changed" in said
    )
    path.write_text(path.read_text().replace("RANK()", "DENSE_RANK()"))
    assert (
        "formula: RANK() OVER (PARTITION BY place ORDER BY day) -> DENSE_RANK()"
        in run("status", cwd=folder).out
    )
    run("refresh", cwd=folder)
    assert run("status", cwd=folder).code == 0


def pay(*rows, kind="number", **options):
    return kivvet.RuleTable("pay", {"hours": "number"}, {"due": kind}, list(rows), **options)


def test_a_result_that_is_a_formula_is_worked_out_for_its_rows_only():
    table = pay(
        ["< 1", "0"], ["1 to 8", "= hours * rate"], ["> 8", "= 8 * rate / (rate - 3)"], missing={"due": -1}
    )
    frame = pd.DataFrame({"hours": [0.5, 2, 9, None, 10], "rate": [3.0, 3, 5, 10, 3]})
    applied = table.apply_with_report(frame)
    assert applied.frame["due"].fillna(-9).tolist() == [0, 6, 20, -1, -9]
    (report,) = applied.report.tables
    assert dict(report.made_missing) == {"division by zero": (1, 5)} and report.matched == 4
    assert table.check().is_clean
    assert table.explain({"hours": 9, "rate": 5.0}).results == {"due": 20.0}
    text = pay(["< 1", "= 'under ' || note"], [">= 1", "over"], kind="text")
    assert text.apply(pd.DataFrame({"hours": [0, 2, 0], "note": ["a", "b", None]}))["due"].astype(
        object
    ).fillna("-").tolist() == ["under a", "over", "-"]
    assert (
        kivvet.RuleTable(
            "pay", {"hours": "number"}, {"due": "text"}, [["< 1", '"= x"'], [">= 1", "y"]]
        ).apply(pd.DataFrame({"hours": [0]}))["due"][0]
        == "= x"
    )


@pytest.mark.parametrize(
    ("row", "options", "says"),
    [
        (["< 1", "= rate +"], {}, "ends too soon"),
        (["< 1", "= SUM(rate) OVER ()"], {}, "looks at other rows"),
        (["< 1", "= LOWER(hours)"], {}, "hours is number"),
        (["< 1", "= hours > 2"], {}, "it gives boolean, and due is number"),
        (["< 1", "= hours"], {"match": "every"}, "every row that matches"),
        (["< 1", "= hours"], {"kind": "decimal"}, "no exact decimal"),
        (["< 1", "1"], {"otherwise": {"due": "= hours"}}, "result of rows only"),
    ],
)
def test_results_that_are_no_formulas_are_told(row, options, says):
    with pytest.raises(TableError, match=says):
        pay(row, [">= 1", "2"], **options).apply(pd.DataFrame({"hours": [1.0], "rate": [1.0]}))


def test_trying_a_formula_reads_what_the_book_makes_and_stops_early(tmp_path):
    folder = write_book(tmp_path, BOOK)
    trial = kivvet.open_book(folder).formula("load * 100 / (rate - 1)", "d", first=2)
    assert (trial.type, dict(trial.reads), trial.is_whole) == (
        "number",
        {"load": "number", "rate": "integer"},
        False,
    )
    assert trial.report.rows == 2 and dict(trial.report.made_missing) == {"division by zero": (1, 1)}
    assert [values["result"] for _, values in trial.rows] == [None, 800.0]
    whole = kivvet.open_book(folder).formula("COUNT(*) OVER ()", "d", first=2)
    assert whole.report.rows == 5 and whole.rows[0][1]["result"] == 5
    said = run("formula", "flow + plase", "--on", "d", cwd=folder)
    assert (
        said.code == 1
        and "'plase' is neither in the source nor made\n" in said.err
        and "did you mean 'place'" in said.err
    )
    assert run("formula", "UPPER(place)", "--on", "d.csv", cwd=folder).code == 0
    assert run("formula", "flow", "--on", "nowhere.csv", cwd=folder).code == 2


def test_formulas_on_a_frame_name_each_other_and_keep_its_kind():
    frame = pa.table({"x": [1, 2, 3], "in": ["a", None, "c"]})
    made = kivvet.with_formulas(
        frame, {"y": "z + 1", "z": "x * 2", "w": "\"in\" || '!'", "n": "COUNT(*) OVER ()", "one": "1"}
    )
    assert made.column_names == ["x", "in", "y", "z", "w", "n", "one"]
    assert [made[name].to_pylist() for name in ("y", "w", "n", "one")] == [
        [3, 5, 7],
        ["a!", None, "c!"],
        [3, 3, 3],
        [1, 1, 1],
    ]
    assert kivvet.with_formulas(frame[:0], {"y": "x / 2", "t": 'UPPER("in")'}).num_rows == 0
    with pytest.raises(TableError, match="y: error syntax: a formula is a text; found 5"):
        kivvet.with_formulas(frame, {"y": 5})
    with pytest.raises(
        TableError, match="x: error unknown-column: formula 'x' makes 'x', and the source has"
    ):
        kivvet.with_formulas(frame, {"x": "x + 1"})
    with pytest.raises(TableError, match="no function 'FOO'"):
        kivvet.with_formulas(frame, {"y": "FOO(x)", "z": "x +"})
    with pytest.raises(TableError, match="depend on themselves: z -> y -> z"):
        kivvet.with_formulas(frame, {"y": "z", "z": "y"})
    with pytest.raises(DataError, match="x is integer, and a text is expected"):
        kivvet.with_formulas(frame, {"y": "UPPER(x)"})


def test_explain_knows_the_place_of_a_row_and_not_that_of_values_typed_in(tmp_path):
    book = kivvet.open_book(write_book(tmp_path, BOOK))
    by_table = {one.table: one for one in book.explain("d", 1)}
    assert by_table["turn"].results == {"turn": "repeat"} and by_table["size"].results == {"size": "small"}
    typed = {one.table: one for one in book.explain("d", {"place": "a", "flow": "4", "day": "2026-01-01"})}
    assert typed["size"].results == {"size": "large"} and typed["turn"].decided == "missing"


def test_a_table_with_formulas_is_the_same_when_read_from_its_meaning_or_its_text():
    from kivvet.core.read.meaning import definition_of, fingerprint, meaning_of, table_of

    table = pay(
        ["< 1", "= hours*2 + rate"], ["1 to 8", "missing"], ["> 8", "= CASE WHEN rate > 2 THEN 1 END"]
    )
    again = table_of("pay", definition_of(value_of(table)))
    assert meaning_of(again) == meaning_of(value_of(table)) and again.rows[0].results == table.rows[0].results
    spaced = pay(
        ["< 1", "=   hours * 2+rate"], ["1 to 8", "missing"], ["> 8", "= case when rate>2 then 1 end"]
    )
    assert fingerprint(meaning_of(value_of(spaced))) == fingerprint(meaning_of(value_of(table)))
    assert fingerprint(
        meaning_of(value_of(pay(["< 1", "= hours*3 + rate"], ["1 to 8", "missing"], ["> 8", "= 1"])))
    ) != fingerprint(meaning_of(value_of(table)))
    overlapping = pay(["< 2", "= hours"], ["1 to 8", "= hours * 1"], ["> 8", "0"])
    (found,) = overlapping.check().of_kind("overlap")
    assert "= hours" in found.message
    same = pay(["< 2", "= hours"], ["1 to 8", "=hours"], ["> 8", "0"]).check()
    assert not same.of_kind("overlap") and same.is_clean
