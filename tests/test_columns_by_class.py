"""Columns by class, one table over many columns, the rows that are kept, bounds that stay as they were drawn."""

from __future__ import annotations

import datetime as dt

import numpy as np
import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import given
from hypothesis import strategies as st

import kivvet
from tests.conftest import write_book

CLASSES = ["good", "watch", "poor, very"]
STATUS = {
    "inputs": {"x": "number"},
    "outputs": {"status": {"type": "text", "order": CLASSES}},
    "rows": [["< 3", "poor, very"], ["3 to <7", "watch"], ["7 to 12", "good"]],
    "severity": {"gap": "warning"},
}
NUMBERS = st.one_of(st.none(), st.sampled_from([-1.0, 0.0, 2.5, 3.0, 6.9, 7.0, 12.0, 12.5, float("inf")]))
AMOUNTS = st.one_of(st.none(), st.integers(-5, 5))


@pytest.fixture
def book(tmp_path):
    """A book with the table `status`, one of several matches, and a few formulas."""
    return kivvet.open_book(
        write_book(
            tmp_path / "book",
            {
                "tables/status.toml": """\
inputs.x = "number"
outputs.status = { type = "text", order = ["good", "watch", "poor, very"] }
severity = { gap = "warning" }
rows = [["< 3", "poor, very"], ["3 to <7", "watch"], ["7 to 12", "good"]]
""",
                "tables/marks.toml": """\
match = "every"
inputs.x = "number"
outputs.mark = "text"
rows = [["> 0", "positive"], ["> 5", "large"], ["12.5", "odd"]]
""",
                "tables/yes_no.toml": """\
inputs.answer = "text"
outputs.label = "text"
missing = { label = "nothing" }
rows = [["y", "yes"], ["n", "no"]]
""",
                "formulas.toml": """\
half = "NTILE(2) OVER (ORDER BY x)"
is_low = "x < 3"
size = "CASE WHEN x > 5 THEN 'big' WHEN x > 0 THEN 'small' END"
free = "s || '!'"
twice = "x * 2"
""",
            },
        )
    )


def status_of(x):
    if x is None or x > 12:
        return None
    return "poor, very" if x < 3 else "watch" if x < 7 else "good"


@given(
    st.lists(st.tuples(NUMBERS, AMOUNTS), max_size=20),
    st.booleans(),
    st.booleans(),
)
def test_indicators_and_amounts_stand_under_the_class_of_their_row(pairs, has_rest, elsewhere_missing):
    frame = pa.table(
        {
            "x": pa.array([x for x, _ in pairs], pa.float64()),
            "n": pa.array([n for _, n in pairs], pa.int64()),
        }
    )
    rules = kivvet.RuleTable("status", **STATUS)
    labels = rules.apply(frame)["status"].to_pylist()
    assert labels == [status_of(x) for x, _ in pairs]
    rest = {"rest": "other"} if has_rest else {}
    missing = {"otherwise": "missing"} if elsewhere_missing else {}
    made = (
        with_table(rules)
        .apply(
            frame,
            [
                "status",
                {"indicators": "status", "name": "is_{class}", **rest},
                {"indicators": "status", "name": "b{number}", "type": "boolean"},
                {
                    "indicators": "status",
                    "amount": "n",
                    **missing,
                    **({"rest": "n_other"} if has_rest else {}),
                },
            ],
        )
        .to_pydict()
    )
    for row, (label, (_, n)) in enumerate(zip(labels, pairs, strict=True)):
        is_in = [label == one for one in CLASSES]
        ones = [made[f"is_{name}"][row] for name in ("good", "watch", "poor_very")]
        amounts = [made[f"n_{name}"][row] for name in ("good", "watch", "poor_very")]
        if has_rest:
            ones, is_in = [*ones, made["other"][row]], [*is_in, label is None]
            amounts.append(made["n_other"][row])
            assert sum(ones) == 1
        if label is None and not has_rest:
            assert ones == [None] * 3 and [made[f"b{k}"][row] for k in (1, 2, 3)] == [None] * 3
            assert amounts == [None] * 3
            continue
        assert ones == [int(one) for one in is_in]
        assert amounts == [n if one else None if elsewhere_missing else 0 for one in is_in]


def with_table(rules):
    """A book in memory, as `Book.apply` has it, with one more table."""
    from kivvet.book import Book
    from kivvet.books.files.open_book import OpenBook
    from kivvet.rule_table import value_of

    opened = OpenBook.__new__(OpenBook)
    opened.tables, opened.formulas, opened.reading_findings = {rules.name: value_of(rules)}, {}, []
    opened.unusable_tables = opened.unusable_formulas = set()
    return Book(opened)


def test_amounts_of_a_long_column_sum_to_the_whole_in_every_form(book):
    rng = np.random.default_rng(4)
    x = rng.uniform(-2, 12, 500_000)
    frame = pa.table({"x": x, "load": rng.integers(0, 99, len(x))})
    entries = [{"indicators": "status", "amount": "load", "rest": "load_rest"}, {"indicators": "status"}]
    made = book.apply(frame, entries)
    columns = ["load_good", "load_watch", "load_poor_very", "load_rest"]
    assert sum(pa.compute.sum(made[name]).as_py() for name in columns) == int(frame["load"].to_numpy().sum())
    assert made["status_good"].type == pa.int8()
    pandas = book.apply(frame.to_pandas(), entries)
    assert (pandas[columns].to_numpy() == made.select(columns).to_pandas().to_numpy()).all()
    decimals = frame.set_column(1, "load", frame["load"].cast(pa.decimal128(22, 2)))
    assert book.apply(decimals, entries[:1])["load_watch"].cast(pa.int64()) == made["load_watch"]


@pytest.mark.parametrize(
    ("entry", "names", "rows"),
    [
        ({"indicators": "half"}, ["half_1", "half_2"], [[1, 0], [0, 1], [1, 0]]),
        ({"indicators": "is_low"}, ["is_low_true", "is_low_false"], [[1, 0], [0, 1], [None, None]]),
        ({"indicators": "size"}, ["size_big", "size_small"], [[0, 1], [1, 0], [None, None]]),
        (
            {"indicators": "mark"},
            ["mark_positive", "mark_large", "mark_odd"],
            [[1, 0, 0], [1, 1, 1], [0, 0, 0]],
        ),
        ({"indicators": "s", "classes": ["u", "w"]}, ["s_u", "s_w"], [[1, 0], [None, None], [0, 1]]),
    ],
)
def test_classes_come_from_what_a_column_can_be_not_from_the_data(book, entry, names, rows):
    frame = pd.DataFrame({"x": [1.0, 12.5, -1.0], "s": ["u", "v", "w"]})
    if entry["indicators"] in ("is_low", "size"):
        frame.loc[2, "x"] = None
    if entry["indicators"] == "half":
        rows = [rows[1 - (x > 0)] if x != 1.0 else [1, 0] for x in frame.x]
        rows = [[1, 0], [0, 1], [1, 0]]
    made = book.apply(frame, [entry])
    assert list(made.columns[2:]) == names
    assert [[None if pd.isna(one) else int(one) for one in row] for row in made[names].to_numpy()] == rows


@pytest.mark.parametrize(
    ("entries", "said"),
    [
        ([{"indicators": "free"}], "'free' may have any value"),
        ([{"indicators": "s"}], 'classes = ["...", "..."]'),
        ([{"indicators": "stauts"}], "did you mean 'status'?"),
        ([{"indicators": "status", "amount": "s"}], "amount = 's' is text"),
        ([{"indicators": "status", "amount": "lod"}], "amount names 'lod'"),
        ([{"indicators": "status", "name": "all"}], 'name = "all_{class}"'),
        ([{"indicators": "status", "name": "{clas}_{class}"}], "{clas} stands for nothing"),
        ([{"indicators": "status", "otherwise": 0}], "indicators have 0 there"),
        ([{"indicators": "status", "type": "text"}], 'type = "boolean"'),
        ([{"indicators": "status", "classes": ["good"]}], "its classes are known: good, watch, poor, very"),
        (
            [{"indicators": "s", "classes": ["a b", "a-b"]}],
            "'a b', 'a-b' of 's' would both be called 's_a_b'",
        ),
        ([{"indicators": "status"}, {"indicators": "status"}], "'status_good' is made twice"),
        ([{"indicators": "status", "name": "{class}", "rest": "x"}], "the source has a column of that name"),
        ([{"indicators": "status", "keep": ["a"]}], "'keep'"),
        ([{"amount": "x"}], '{ indicators = "status", name = "is_{class}" }'),
        ([{"table": "yes_no", "over": "q*"}], "over = 'q*' meets no column"),
        ([{"table": "yes_no", "over": []}], "over lists columns"),
        ([{"table": "yes_no", "over": ["s", "t"], "keep": {"label": "l"}}], '"{input}_l"'),
        ([{"table": "yes_no", "over": ["s"], "keep": {"label": "{in}"}}], "{in} stands for nothing"),
        ([{"table": "yes_no", "over": {"anser": "s"}}], "did you mean 'answer'?"),
        ([{"table": "yes_no", "over": "s", "input": {"answer": "t"}}], "input and over both say"),
        ([{"table": "yes_no", "over": ["s", "s"], "keep": {"label": "x"}}], "the source has a column"),
    ],
)
def test_what_cannot_be_is_told_with_what_can(book, entries, said):
    frame = pa.table({"x": [1.0], "s": ["u"], "t": ["y"]})
    with pytest.raises((kivvet.TableError, kivvet.DataError)) as error:
        book.apply(frame, entries)
    assert said in str(error.value)


def test_two_classes_of_one_name_are_cured_by_numbering_them(book):
    frame = pa.table({"s": ["a b", "a-b"]})
    entry = {"indicators": "s", "classes": ["a b", "a-b"], "name": "{column}_{number}_{class}"}
    assert book.apply(frame, [entry]).column_names == ["s", "s_1_a_b", "s_2_a_b"]


@given(st.lists(st.lists(st.sampled_from(["y", "n", "", "?", None]), min_size=6, max_size=6), max_size=8))
def test_over_gives_what_single_applications_give(rows):
    rules = kivvet.RuleTable(
        "yes_no",
        {"answer": "text"},
        {"label": "text"},
        [["y", "yes"], ["n", "no"]],
        missing={"label": "nothing"},
    )
    names = [f"q{k}" for k in range(6)]
    frame = pa.table({name: pa.array([row[k] for row in rows], pa.string()) for k, name in enumerate(names)})
    many = with_table(rules).apply(
        frame, [{"table": "yes_no", "over": "q?", "keep": {"label": "{input}_is"}}]
    )
    for name in names:
        one = rules.apply(frame.select([name]).rename_columns(["answer"]))
        assert many[f"{name}_is"].to_pylist() == one["label"].to_pylist()


def test_formulas_go_over_columns_too_and_every_misfit_is_told(book):
    frame = pa.table({"a1": [1.0, 2.0], "a2": [3, 4], "b": ["u", "v"]})
    made = book.apply(frame, [{"formula": "twice", "over": "a*"}])
    assert made.to_pydict() | {} == {**frame.to_pydict(), "a1_twice": [2.0, 4.0], "a2_twice": [6, 8]}
    with pytest.raises(kivvet.KivvetError, match="b"):
        book.apply(frame, [{"formula": "twice", "over": ["a1", "b"]}])


# Rows that are kept


@given(st.lists(st.tuples(NUMBERS, AMOUNTS), max_size=16), st.sampled_from(["pandas", "arrow"]))
def test_where_keeps_the_rows_of_which_it_is_true_and_accounts_for_all(pairs, kind):
    frame = pa.table(
        {"x": pa.array([x for x, _ in pairs], pa.float64()), "n": pa.array([n for _, n in pairs], pa.int64())}
    )
    if kind == "pandas":
        frame = frame.to_pandas()
    made = with_table(kivvet.RuleTable("status", **STATUS)).apply_with_report(
        frame, ["status"], where="status = 'watch' OR n > 2"
    )
    truth = [
        True
        if status_of(x) == "watch" or (n is not None and n > 2)
        else None
        if status_of(x) is None or n is None
        else False
        for x, n in pairs
    ]
    report = made.report
    assert len(made.frame) == truth.count(True) == report.written
    assert (report.left_out, report.undecided) == (len(pairs) - truth.count(True), truth.count(None))
    table = report.tables[0]
    assert table.matched + table.missing + table.unmatched == report.rows == len(pairs)


@pytest.mark.parametrize("target", ["out/d.csv", "out/d.parquet", "out/d.arrow", "out/d.jsonl"])
def test_a_target_holds_the_rows_kept_and_is_stale_when_the_condition_changes(tmp_path, run, target):
    entry = f'[datasets.d]\nsource = "d.csv"\ntarget = "{target}"\ncolumns = ["place"]\nwhere = "place = 1"\n'
    folder = write_book(
        tmp_path,
        {
            "book.toml": entry,
            "d.csv": "g,v\na,5\na,6\nb,7\nb,\n",
            "formulas.toml": 'place = "RANK() OVER (PARTITION BY g ORDER BY v DESC)"\n',
        },
    )
    out = run("apply", "d", cwd=folder)
    assert out.code == 0 and "place = 1 keeps 2 of 4 rows" in out.out
    assert read(folder / target)["v"].astype(float).tolist() == [6.0, 7.0]
    assert "current" in run("status", cwd=folder).out
    assert "nothing to do" in run("refresh", cwd=folder).out or run("refresh", cwd=folder).code == 0
    (folder / "book.toml").write_text(entry.replace("place = 1", "place = 9"))
    assert "the rows that are kept changed" in run("status", cwd=folder).out
    assert "keeps 0 of 4 rows" in run("refresh", cwd=folder).out
    assert target.endswith("jsonl") or len(read(folder / target)) == 0
    (folder / "book.toml").write_text(entry.replace('where = "place = 1"\n', ""))
    assert "the rows that are kept are all now" in run("status", cwd=folder).out
    assert run("refresh", cwd=folder).code == 0 and len(read(folder / target)) == 4


def read(path):
    if path.suffix == ".csv":
        return pd.read_csv(path)
    if path.suffix == ".jsonl":
        return pd.read_json(path, lines=True)
    return (
        pd.read_parquet(path) if path.suffix == ".parquet" else pa.ipc.open_file(path).read_all().to_pandas()
    )


@pytest.mark.parametrize(
    ("where", "said"),
    [
        ("plac = 1", "did you mean 'place'?"),
        ("place", "where is a condition; place is integer"),
        ("place =", "ends too soon"),
        ("place = 'x'", "are compared"),
        ("", "where is a condition"),
    ],
)
def test_a_condition_that_cannot_be_is_told_before_anything_is_written(tmp_path, run, where, said):
    folder = write_book(
        tmp_path,
        {
            "book.toml": f'[datasets.d]\nsource = "d.csv"\ntarget = "out/d.csv"\ncolumns = ["place"]\nwhere = "{where}"\n',
            "d.csv": "g,v\na,5\n",
            "formulas.toml": 'place = "RANK() OVER (PARTITION BY g ORDER BY v DESC)"\n',
        },
    )
    for command in ("apply", "check"):
        done = run(command, cwd=folder)
        assert done.code == 1 and said in done.all
    assert not (folder / "out").exists()


# Bounds that stay


@given(
    st.lists(st.sampled_from([0.1, 0.25, 1.0, 1.5, 2.0, 3.7, 12.0, 99.9]), min_size=1, max_size=40),
    st.integers(2, 6),
)
def test_bounds_of_equal_counts_class_their_data_as_ntile_does_but_for_ties(values, n_bins):
    """Equal values stay together: in the lowest of the parts that NTILE puts them into."""
    frame = pa.table({"x": values})
    if len(set(values)) < n_bins:
        with pytest.raises(kivvet.DataError, match=f"at most {len(set(values))} bin"):
            kivvet.draft(frame, "x", propose="counts", bins=n_bins)
        return
    drafted = kivvet.draft(frame, "x", propose="counts", bins=n_bins, results="{number}")
    bins = drafted.apply(frame)["x_class"].to_pylist()
    parts = kivvet.with_formulas(frame, {"p": f"NTILE({n_bins}) OVER (ORDER BY x)"})["p"].to_pylist()
    lowest = {x: min(p for y, p in zip(values, parts, strict=True) if y == x) for x in values}
    rank = {part: str(place) for place, part in enumerate(sorted(set(lowest.values())), 1)}
    assert bins == [rank[lowest[x]] for x in values]


def test_quantiles_and_deviations_draw_bounds_at_the_values_they_name():
    frame = pa.table({"x": list(range(1, 101))})
    assert [str(row.note) for row in kivvet.draft(frame, "x", quantiles=[0.1, "0.5", 0.95]).rows] == [
        "10 rows",
        "40 rows",
        "45 rows",
        "5 rows",
    ]
    spread = kivvet.draft(frame, "x", propose="deviations", bins=4)
    mean, sd = 50.5, np.arange(1, 101).std()
    assert spread.rows[0].conditions[0].upper == round(mean - sd)
    for wrong, said in (([0.5, 0.1], "do not rise"), ([1.5], "between 0 and 1"), (["x"], "no quantile")):
        with pytest.raises(kivvet.DataError, match=said):
            kivvet.draft(frame, "x", quantiles=wrong)


def test_later_data_is_held_against_bounds_that_were_drafted(tmp_path, run):
    folder = write_book(tmp_path, {"now.csv": "load\n" + "\n".join(f"{n}.5" for n in range(1, 41)) + "\n"})
    (folder / "later.csv").write_text("load\n0.5\n5\n15\n15.5\n50\n60\n\n")
    made = run(
        "draft",
        "band",
        "--on",
        "now.csv",
        "--column",
        "load",
        "--propose",
        "counts",
        "--bins",
        4,
        "--results",
        "{number} of 4",
        cwd=folder,
    )
    today = dt.date.today().isoformat()
    assert (
        made.code == 0
        and f'note = "bins of equal counts, from 40 values of load in now.csv on {today}"' in made.out
    )
    (folder / "later.csv").write_text("load,id\n0.5,a\n5,b\n15,c\n15.5,d\n50,e\n60,f\n,g\n")
    shares = kivvet.open_book(folder).shares("band", folder / "later.csv")
    assert shares.now.counts == (2, 2, 0, 2) and shares.then.counts == (10, 10, 10, 10)
    assert (shares.now.missing, shares.below, shares.above) == (1, 1, 2)
    assert shares.moved == pytest.approx(0.25)
    assert list(shares.to_frame().now_share) == pytest.approx([1 / 3, 1 / 3, 0, 1 / 3])
    out = run("shares", "band", "--on", "later.csv", cwd=folder)
    assert (
        out.code == 0
        and "1 value below 1.5 and 2 values above 40.5" in out.out
        and "25.0 % of the values" in out.out
    )
    assert (
        "beside  now.csv, 40 values"
        in run("shares", "band", "--on", "later.csv", "--against", "now.csv", cwd=folder).out
    )
    assert run("draft", "band", "--extend", "--on", "later.csv", cwd=folder).code == 2
    path = folder / "tables/band.toml"
    path.write_text(path.read_text().replace("<= 11", "<= 12").replace(">11 to", ">12 to"))
    alone = run("shares", "band", "--on", "later.csv", cwd=folder)
    assert (
        "its bounds were changed since they were drafted" in alone.out
        and "then" not in alone.out.split("\n")[3]
    )
    path.write_text(path.read_text().replace("counts = [10", "counts = [-10"))
    assert "rows, missing and counts are whole numbers" in run("check", "--no-data", cwd=folder).out
    lookup = run("shares", "station", "--on", "later.csv", cwd=folder)
    assert lookup.code == 2 and "is a lookup" in lookup.err


def test_over_columns_of_another_type_names_all_of_them(book):
    frame = pa.table({"q1": ["y"], "q2": [1], "q3": [1.5]})
    with pytest.raises(
        kivvet.DataError, match="2 columns have another type than what reads them: q2 integer, q3 number"
    ):
        book.apply(frame, [{"table": "yes_no", "over": "q*"}])


def test_shares_of_a_table_that_is_applied_to_several_columns_need_a_column(tmp_path, run):
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ncolumns = [{ table = "yn", over = "q*" }]\n',
            "d.csv": "q1,q2\ny,n\ny,?\n",
            "tables/yn.toml": 'inputs.a = "text"\noutputs.b = "text"\nrows = [["y", "yes"], ["n", "no"]]\n',
        },
    )
    assert "applies table 'yn' to q1, q2" in run("shares", "yn", "--on", "d", cwd=folder).err
    assert "did you mean 'q" in run("shares", "yn", "--on", "d", "--column", "q", cwd=folder).err
    assert "in no row  '?' (1)" in run("shares", "yn", "--on", "d", "--column", "q2", cwd=folder).out
    assert "--column COLUMN" in run("shares", "yn", "--on", "d.csv", cwd=folder).err
    assert run("shares", "yn", "--on", "d", "--column", "q1", "--json", cwd=folder).code == 0
