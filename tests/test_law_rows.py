"""Rows shown, counted, summed up and shared: all of them, over any condition, are those of one loop over the rows."""

from __future__ import annotations

import tempfile
from fractions import Fraction
from pathlib import Path
from typing import get_args

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.run.cross_table import TOTAL, Share
from tests.conftest import budget

BOOK = """\
[datasets.d]
source  = "d.parquet"
columns = ["band", "grp", "twice"]
"""
TABLES = {
    "tables/band.toml": 'inputs.x = "number"\noutputs.band = { type = "text", order = ["low", "mid", "high"] }\n'
    'rows = [["< 3", "low"], ["3 to <7", "mid"], [">= 7", "high"]]\n',
    "tables/grp.toml": 'severity.gap = "note"\ninputs.k = "text"\noutputs.grp = "text"\nrows = [["a", "one"], ["b", "two"]]\n',
    "formulas.toml": 'twice = "x * 2"\n',
    "book.toml": BOOK,
}
#: Conditions as they are typed, and what a loop says: true, false, or None where it is not known.
CONDITIONS = {
    "x > 4": lambda row: None if row["x"] is None else row["x"] > 4,
    "band = 'mid'": lambda row: None if row["band"] is None else row["band"] == "mid",
    "grp IS NULL": lambda row: row["grp"] is None,
    "NOT (x > 4)": lambda row: None if row["x"] is None else not row["x"] > 4,
    "x > 4 OR grp = 'one'": lambda row: either(
        None if row["x"] is None else row["x"] > 4, None if row["grp"] is None else row["grp"] == "one"
    ),
    "twice BETWEEN 4 AND 12": lambda row: None if row["x"] is None else 4 <= row["x"] * 2 <= 12,
    "k IN ('a', 'c')": lambda row: None if row["k"] is None else row["k"] in ("a", "c"),
    "MOD(n, 3) = 1": lambda row: row["n"] % 3 == 1,
    "x > 400": lambda row: None if row["x"] is None else False,
}
rows = st.lists(
    st.tuples(st.one_of(st.none(), st.integers(0, 9)), st.one_of(st.none(), st.sampled_from("abc"))),
    min_size=1,
    max_size=20,
)
conditions = st.one_of(st.none(), st.sampled_from(sorted(CONDITIONS)))


def either(one, other):
    return True if one or other else None if None in (one, other) else False


def loop(data):
    """The rows with all that is made of them."""
    made = []
    for n, (x, k) in enumerate(data):
        band = None if x is None else "low" if x < 3 else "mid" if x < 7 else "high"
        grp = {"a": "one", "b": "two"}.get(k)
        made.append({"n": n, "x": None if x is None else float(x), "k": k, "band": band, "grp": grp, "twice": None if x is None else x * 2.0})  # fmt: skip
    return made


def kept_of(data, where):
    return [row for row in loop(data) if where is None or CONDITIONS[where](row)]


def why(name, row):
    """What a row stands under: its class, or why it has none."""
    if row[name] is not None:
        return "value", row[name]
    has_input = row["k"] is not None if name == "grp" else row["x"] is not None if name == "band" else False
    return ("unmatched" if has_input else "missing"), None


def label_of(label):
    return label.kind, label.value


class Books:
    """A book whose rows are written anew for each case."""

    def __init__(self):
        self.home = tempfile.TemporaryDirectory()
        self.folder = Path(self.home.name)
        (self.folder / "tables").mkdir()
        for name, text in TABLES.items():
            (self.folder / name).write_text(text)

    def of(self, data):
        frame = {
            "n": pa.array(range(len(data)), pa.int64()),
            "x": pa.array([x for x, _ in data], pa.float64()),
            "k": pa.array([k for _, k in data], pa.string()),
        }
        pq.write_table(pa.table(frame), self.folder / "d.parquet", row_group_size=4)
        return kivvet.open_book(self.folder)


@pytest.fixture(scope="module")
def books():
    made = Books()
    yield made
    made.home.cleanup()


@settings(max_examples=budget(60), deadline=None)
@given(rows, conditions, st.integers(0, 7))
def test_rows_that_meet_a_condition_are_those_of_a_loop(books, data, where, first):
    book, kept = books.of(data), kept_of(data, where)
    shown = book.rows("d", where=where, first=first)
    assert shown.n_matching == len(kept)
    assert shown.table["row"].to_pylist() == [row["n"] + 1 for row in kept[:first]]
    names = ["x", "k", "band", "grp", "twice"]
    assert shown.table.select(names).to_pylist() == [
        {name: row[name] for name in names} for row in kept[:first]
    ]
    assert list(book.show("d", where=where, first=first).index) == [row["n"] + 1 for row in kept[:first]]


@settings(max_examples=budget(50), deadline=None)
@given(rows, conditions, st.sampled_from(("grp", "band")), st.sampled_from((None, "band", "k")))
def test_counts_and_totals_are_those_of_a_loop(books, data, where, by, across):
    if across == by:
        across = None
    book, kept = books.of(data), kept_of(data, where)
    values = {
        "rows": "COUNT(*)",
        "there": "COUNT(x)",
        "total": "SUM(x)",
        "least": "MIN(x)",
        "kinds": "COUNT(DISTINCT k)",
    }
    table = book.cross_table("d", by=[by], across=across, value=values, where=where)

    def wanted(some):
        there = [Fraction(row["x"]) for row in some if row["x"] is not None]
        kinds = {row["k"] for row in some} - {None}
        total = float(sum(there)) if there else None
        return len(some), len(there), total, float(min(there)) if there else None, len(kinds)

    lines = [line for line in table.lines if line and line[0].kind != "total"]
    assert {why(by, row) for row in kept} <= {label_of(line[0]) for line in lines}
    all_across = None if across is None else TOTAL
    for line in lines:
        its = [row for row in kept if why(by, row) == label_of(line[0])]
        cell = table.cell(line, all_across)
        assert cell.values == wanted(its) or (not its and cell.values[0] == 0), line
        for column in table.columns if across is not None else ():
            if column.kind != "total" and (
                some := [row for row in its if why(across, row) == label_of(column)]
            ):
                assert table.cell(line, column).values == wanted(some), (line, column)
    if kept:
        assert table.cell((TOTAL,), all_across).values == wanted(kept)
    assert sum(table.cell(line, all_across).values[0] for line in lines) == len(kept)


@settings(max_examples=budget(40), deadline=None)
@given(rows, conditions, st.integers(1, 3))
def test_some_rows_of_each_class_are_the_first_of_each(books, data, where, first):
    book, kept = books.of(data), kept_of(data, where)
    shown = book.rows("d", where=where, each="band", first=first, columns=["n", "band"])
    found = {}
    for row in shown.table.to_pylist():
        found.setdefault(row["band"], []).append(row["n"])
    wanted = {}
    for row in kept:
        wanted.setdefault(row["band"], []).append(row["n"])
    assert found == {band: numbers[:first] for band, numbers in wanted.items()}
    order = [band for band in ("low", "mid", "high", None) if band in wanted]
    assert list(found) == order


@settings(max_examples=budget(40), deadline=None)
@given(
    rows,
    st.sampled_from(("x", "x DESC", "band", "band DESC", "k", "twice DESC", "n DESC")),
    st.integers(1, 25),
)
def test_sorted_rows_are_those_of_a_loop(books, data, sort, first):
    book, made = books.of(data), loop(data)
    key, _, is_down = sort.partition(" ")
    order = {"low": 0, "mid": 1, "high": 2} if key == "band" else None

    def place(row):
        value = row[key] if order is None else order[row[key]]
        return (
            value
            if not is_down
            else tuple(-ord(sign) for sign in value)
            if isinstance(value, str)
            else -value
        )

    there = sorted((row for row in made if row[key] is not None), key=place)
    wanted = [row["n"] for row in (*there, *(row for row in made if row[key] is None))][:first]
    assert book.rows("d", sort=[sort], first=first, columns=["n"]).table["n"].to_pylist() == wanted


@settings(max_examples=budget(40), deadline=None)
@given(rows, st.sampled_from(get_args(Share)))
def test_shares_are_of_what_they_are_said_to_be_of(books, data, share):
    book, made = books.of(data), loop(data)
    table = book.cross_table("d", by=["grp"], across="band")
    n_seen = 0
    for line in table.lines:
        for column in table.columns:
            if line and "total" not in (line[0].kind, column.kind):
                in_line = [row for row in made if why("grp", row) == label_of(line[0])]
                in_column = [row for row in made if why("band", row) == label_of(column)]
                both = [row for row in in_line if row in in_column]
                of = {"total": made, "row": in_line, "column": in_column}[share]
                cell = table.cell(line, column)
                assert (cell is None or cell.values[0] == 0) if not both else cell.values[0] == len(both)
                if both:
                    n_seen += len(both)
                    assert table.share(cell, 0, share) == pytest.approx(len(both) / len(of))
    assert n_seen == len(made)


def test_one_order_of_classes_wherever_they_are_listed(books):
    data = [(8, "a"), (1, "b"), (5, "a"), (None, "c"), (4, "b"), (9, None)]
    book = books.of(data)
    order = ["low", "mid", "high"]
    table = book.cross_table("d", by=["band"], across="grp")
    assert [line[0].value for line in table.lines if line and line[0].kind == "value"] == order
    for sort, wanted in (("band", order), ("band DESC", order[::-1])):
        shown = book.rows("d", sort=[sort], columns=["band"]).table["band"].to_pylist()
        assert list(dict.fromkeys(shown)) == [*wanted, None]
    each = book.rows("d", each="band", columns=["band"]).table["band"].to_pylist()
    assert list(dict.fromkeys(each)) == [*order, None]
    assert list(book.table("band").classes("band")) == order
    frame = book.apply(pa.table({"x": [1.0, 8.0], "k": ["a", "b"]}), ["band"])
    assert frame["band"].combine_chunks().dictionary.to_pylist() == order
    drawn = book.chart("d", by=["band"]).as_dict()
    assert [bar for bar in drawn["bars"] if bar in order] == order
    assert [
        part["label"]
        for part in book.chart("d", by=["grp"], across="band").as_dict()["parts"]
        if part["label"] in order
    ] == order
