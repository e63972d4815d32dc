"""Drafts over several columns: combinations as rows, and few rows that give the classes that data holds."""

from __future__ import annotations

from collections import Counter
from itertools import pairwise

import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

import kivvet
from tests.conftest import budget, write_book

quick = settings(max_examples=budget(82), deadline=None)
numbers = st.sampled_from([None, -1.5, 0.0, 0.1, 2.0, 2.5, 1e6])
wholes = st.sampled_from([None, -3, 0, 1, 2, 7])
texts = st.sampled_from([None, "a", "b", "007", "c d", "missing", "> 5"])
days = st.sampled_from([None, *pd.date_range("2024-02-27", periods=4).date])
flags = st.sampled_from([None, True, False])
rows = st.lists(st.tuples(numbers, wholes, texts, days, flags, st.sampled_from(["x", "y", "z", None])), min_size=1, max_size=40)  # fmt: skip
TYPES = {"n": pa.float64(), "w": pa.int64(), "t": pa.string(), "d": pa.date32(), "f": pa.bool_(), "y": pa.string()}  # fmt: skip


def frame_of(rows):
    return pa.table(
        {name: pa.array(column, kind) for (name, kind), column in zip(TYPES.items(), zip(*rows, strict=True), strict=True)}
    )  # fmt: skip


@quick
@given(rows, st.lists(st.sampled_from("nwtdf"), min_size=2, max_size=5, unique=True))
def test_a_table_drafted_from_classes_gives_them_where_data_does_not_contradict_itself(rows, columns):
    frame = frame_of(rows)
    assume(any(label is not None for *_, label in rows))
    assume(all(any(one is not None for one in frame.column(name).to_pylist()) for name in columns))
    table = kivvet.draft(frame, columns, classes="y")
    by_case = {}
    for number, values in enumerate(zip(*(frame.column(name).to_pylist() for name in columns), strict=True)):
        by_case.setdefault(values, []).append(rows[number][-1])
    given = table.apply(frame.select(columns))["drafted"].to_pylist()
    n_right = n_classed = n_torn = 0
    for label, values, got in zip(
        [row[-1] for row in rows], zip(*(frame.column(n).to_pylist() for n in columns), strict=True), given, strict=True
    ):  # fmt: skip
        classes = Counter(one for one in by_case[values] if one is not None)
        if label is None:
            continue
        n_classed += 1
        n_right += label == got
        assert classes[got] == max(classes.values())
    n_torn = sum(len(set(one) - {None}) > 1 for one in by_case.values())
    report = table.drafted
    assert (report.rows, report.reproduced, len(report.contradictions)) == (n_classed, n_right, n_torn)
    assert not any(
        one.kind in ("overlap", "gap", "conflict", "impossible", "shadowed") for one in table.check()
    )
    noted = [int(row.note.split()[0].replace(",", "")) for row in table.rows]
    assert noted == list(table.apply_with_report(frame).report.tables[0].rows_by_row)
    assert table.n_rows <= len(by_case)


@quick
@given(st.data())
@example(None)
def test_a_random_table_is_drafted_back_from_what_it_gives(data):
    bounds = [1, 4] if data is None else sorted(data.draw(st.sets(st.integers(1, 8), min_size=1, max_size=3)))
    parts = [
        f"< {bounds[0]}",
        *(f"{a} to <{b}" for a, b in pairwise(bounds)),
        f">= {bounds[-1]}",
    ]
    draw = (lambda strategy: "p") if data is None else data.draw
    cells = [(part, text) for part in parts for text in ("a", "b", "c")]
    made = [[part, text, draw(st.sampled_from("pqr"))] for part, text in cells]
    table = kivvet.RuleTable("t", {"n": "number", "t": "text"}, {"y": "text"}, [["n", "t", "y"], *made])
    frame = pd.DataFrame([(n / 2, t) for n in range(20) for t in "abc"], columns=["n", "t"])
    again = kivvet.draft(table.apply(frame).astype({"y": "str"}), ["n", "t"], classes="y", output="y")
    assert list(again.apply(frame)["y"]) == list(table.apply(frame)["y"])
    assert again.n_rows <= table.simplified().n_rows + 2
    assert again.drafted.reproduced == len(frame) and not again.drafted.contradictions


@quick
@given(rows, st.lists(st.sampled_from("nwtdf"), min_size=2, max_size=3, unique=True))
def test_combinations_become_rows_with_their_counts(rows, columns):
    frame = frame_of(rows)
    assume(all(any(one is not None for one in frame.column(name).to_pylist()) for name in columns))
    table = kivvet.draft(frame, columns, by_value=True)
    counts = Counter(zip(*(frame.column(name).to_pylist() for name in columns), strict=True))
    assert [int(row.note.split()[0].replace(",", "")) for row in table.rows] == sorted(
        counts.values(), reverse=True
    )
    report = table.apply_with_report(frame).report.tables[0]
    assert sum(report.rows_by_row) == len(rows) and report.matched + report.unfinished == len(rows)
    assert {one.kind for one in table.check()} <= {"unfinished", "open", "gap"}


@quick
@given(
    rows,
    st.lists(st.sampled_from("nwtdf"), min_size=2, max_size=3, unique=True),
    st.sampled_from([{}, {"propose": "width", "bins": 2}, {"propose": "round", "bins": 3}]),
)
def test_a_grid_of_bins_holds_each_combination_once_with_its_rows(rows, columns, wishes):
    assume(not wishes or set(columns) - set("tf"))
    frame = frame_of(rows)
    values = {name: frame.column(name).to_pylist() for name in columns}
    assume(all(any(one is not None for one in given) for given in values.values()))
    table = kivvet.draft(frame, columns, **wishes)
    assume(set(columns) & set("nd") or wishes)  # else combinations as they occur
    assert {one.kind for one in table.check()} <= {"unfinished", "open"}
    is_whole = [None not in one for one in zip(*values.values(), strict=True)]
    done = table.apply_with_report(frame).report.tables[0]
    noted = [int(row.note.split()[0].replace(",", "")) for row in table.rows]
    assert list(done.rows_by_row) == noted and sum(noted) == sum(is_whole)
    asked = [{str(row.conditions[place]) for row in table.rows} for place in range(len(columns))]
    assert table.n_rows == len(asked[0]) * len(asked[1]) * (len(asked[2]) if asked[2:] else 1)


CASES = "n,t,made,verdict\n1,a,x,low\n2,a,x,low\n2.0,a,x,high\n9,b,,high\n9,NA,y,high\n,b,y,none\n"


@pytest.fixture
def folder(tmp_path):
    book = '[datasets.d]\nsource = "d.csv"\ntarget = "out.csv"\nmissing = ["NA"]\ntypes = { n = "number" }\ncolumns = ["band"]\n'
    band = 'inputs.n = "number"\noutputs.band = "text"\nrows = [["< 5", "low"], [">= 5", "high"]]\n'
    return write_book(
        tmp_path / "b",
        {
            "book.toml": book,
            "d.csv": CASES,
            "tables/band.toml": band,
            "tables/ph_class.toml": None,
            "tables/station.toml": None,
            "tables/station.csv": None,
        },
    )


def test_a_file_and_a_dataset_are_drafted_from_with_what_they_make(folder, run):
    said = run(
        "draft", "old", "--on", "d", "--column", "n", "--column", "t", "--classes", "verdict", cwd=folder
    )
    assert "it gives 5 of 6 rows the class they have" in said.out
    assert "n = 2, t = a  low (1 row, first row 2), high (1 row, first row 3)" in said.out
    assert kivvet.open_book(folder).table("old").apply(pd.DataFrame({"n": [None], "t": ["b"]}))[
        "old"
    ].tolist() == ["none"]
    made = run("draft", "pairs", "--on", "d", "--column", "band", "--column", "t", cwd=folder)
    lines = [" ".join(line.split()) for line in made.out.split("\n")]
    assert '["low", "a", ""], # 3 rows' in lines and '["missing", "b", ""], # 1 row' in lines
    bare = run(
        "draft", "bare", "--on", "d.csv", "--column", "t", "--column", "made", "--rows-file", cwd=folder
    )
    assert bare.code == 0 and (folder / "tables/bare.csv").read_text().startswith(
        "t,made,bare,note\na,x,,3 rows\n"
    )


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["--column", "n", "--column", "zz"], "zz"),
        (
            ["--column", "n", "--column", "t", "--bounds", "1,2"],
            "--bounds has no meaning with several columns",
        ),
        (["--column", "n", "--column", "t", "--extend"], "--extend reads one column"),
        (["--column", "n", "--column", "t", "--classes", "made2"], "made2"),
        (["--column", "n", "--column", "t", "--key", "t"], "--column has no meaning with --key"),
    ],
)
def test_what_cannot_be_drafted_is_said(folder, run, arguments, says):
    ran = run("draft", "new", "--on", "d.csv", *arguments, cwd=folder)
    assert ran.code in (1, 2) and says in ran.err and not (folder / "tables/new.toml").exists()


def test_columns_that_tell_each_row_apart_are_refused():
    frame = pd.DataFrame({"id": [f"s{n}" for n in range(600)], "n": range(600), "y": ["p", "q"] * 300})
    with pytest.raises(kivvet.DataError, match="'id' has 600 different texts"):
        kivvet.draft(frame, ["id", "n"], classes="y")
    empty = pa.table(
        {"a": pa.array([], pa.string()), "b": pa.array([], pa.int64()), "y": pa.array([], pa.string())}
    )
    for columns, says in (
        (["a", "b"], "no rows|no values"),
        ([], "reads a column or more"),
        (["a", "zz"], "no column 'zz'"),
    ):
        with pytest.raises(kivvet.DataError, match=says):
            kivvet.draft(empty, columns)
    for wish, says in (
        ({"bounds": [1]}, "bounds has a meaning for one column only"),
        ({"fold": "case"}, "fold has a meaning for one column only"),
        ({"propose": "counts", "classes": "y"}, "propose has no meaning beside classes"),
        ({"bins": 1000, "propose": "width"}, "599 x 600 = 359,400 combinations"),
    ):
        with pytest.raises(kivvet.DataError, match=says):
            kivvet.draft(frame, ["n", "id"], **wish)
    with pytest.raises(kivvet.DataError, match="no numbers or dates"):
        kivvet.draft(frame, ["id", "y"], propose="counts")
