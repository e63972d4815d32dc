"""Lookups with one key: one match, any columns, nothing silent; a plain dictionary is the referee."""

import datetime as dt

import pandas as pd
import pyarrow as pa
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.words.errors import TableError

keys = st.one_of(
    st.sampled_from(["007", "7", "NA", "a", "A", "a ", "é", "e\u0301", "0"]),
    st.text("ab0", min_size=1, max_size=2),
)


@settings(deadline=None)
@given(
    st.lists(st.tuples(keys, st.one_of(st.none(), st.integers(-5, 5))), max_size=8),
    st.lists(st.one_of(st.none(), keys), max_size=12),
    st.booleans(),
)
def test_each_row_gets_what_a_dictionary_would_give(pairs, values, is_coded):
    rows = [{"key": key, "n": n, "t": None if n is None else f"t{n}"} for key, n in pairs]
    table = kivvet.RuleTable(
        "t",
        {"key": "text"},
        {"n": "integer", "t": "text"},
        lookup=rows
        or pa.table(
            {"key": pa.array([], pa.string()), "n": pa.array([], pa.int64()), "t": pa.array([], pa.string())}
        ),
        match="first",
        otherwise={"t": "other"},
        missing={"t": "none"},
    )
    known = {}
    for row in rows:
        known.setdefault(row["key"], row)
    wanted = [
        {"n": None, "t": "none"}
        if v is None
        else {"n": known[v]["n"], "t": known[v]["t"]}
        if v in known and known[v]["t"] is not None  # a row without results is still to be filled in
        else {"n": None, "t": "other"}
        for v in values
    ]
    array = pa.array(values, pa.string())
    made = table.apply_with_report(pa.table({"key": array.dictionary_encode() if is_coded else array}))
    assert made.frame.select(["n", "t"]).to_pylist() == wanted
    (report,) = made.report.tables
    assert (report.missing, report.unmatched) == (
        values.count(None),
        sum(v is not None and v not in known for v in values),
    )


@pytest.mark.parametrize(
    ("kind", "known", "data", "wanted"),
    [
        ("integer", [1, 2**60 + 1], pa.array([2**60 + 1, 2**60, 1, None]), ["b", None, "a", None]),
        ("integer", [1, 2], pa.array([1, 2], pa.uint8()), ["a", "b"]),
        ("integer", [1, 2], pa.array([2.0, 1.0, 1.5, float("nan")]), ["b", "a", None, None]),
        ("number", [0.5, 0.0], pa.array([0.5, -0.0, 3.0]), ["a", "b", None]),
        ("number", [1.0, 2.5], pa.array([1, 2]), ["a", None]),
        (
            "date",
            [dt.date(2026, 4, 1), dt.date(2026, 4, 2)],
            pa.array([dt.datetime(2026, 4, 2), dt.datetime(2026, 4, 2, 1)]),
            ["b", None],
        ),
        ("boolean", [True, False], pa.array([False, None, True]), ["b", None, "a"]),
    ],
)
def test_keys_of_other_types_match_exactly(kind, known, data, wanted):
    table = kivvet.RuleTable(
        "t", {"key": kind}, {"r": "text"}, lookup=pa.table({"key": known, "r": ["a", "b"]})
    )
    assert table.apply(pa.table({"key": data}))["r"].to_pylist() == wanted


def test_folded_keys_meet_and_a_key_that_two_rows_share_folded_is_a_conflict():
    fold = {"type": "text", "fold": ["case", "space", "unicode"]}
    table = kivvet.RuleTable(
        "t", {"key": fold}, {"r": "text"}, lookup=[{"key": "North  Vale", "r": "x"}, {"key": "é", "r": "y"}]
    )
    data = pd.DataFrame({"key": [" north vale", "NORTH VALE ", "E\u0301", "south"]})
    assert table.apply(data)["r"].tolist()[:3] == ["x", "x", "y"]
    twice = kivvet.RuleTable(
        "t", {"key": fold}, {"r": "text"}, lookup=[{"key": "a", "r": "x"}, {"key": "A ", "r": "y"}]
    )
    (finding,) = twice.check().of_kind("conflict")
    assert "written 'A ', 'a'" in finding.message


def test_duplicates_conflicts_blank_keys_and_unfinished_rows_are_found_with_their_rows():
    rows = [("a", "x"), ("b", "y"), ("a", "x"), ("b", "z"), (None, "w"), ("c", None)]
    table = kivvet.RuleTable(
        "t", {"key": "text"}, {"r": "text"}, lookup=[{"key": k, "r": r} for k, r in rows]
    )
    found = {one.kind: (one.rows, one.severity) for one in table.check()}
    assert found == {
        "duplicate": ((1, 3), "warning"),
        "conflict": ((2, 4), "error"),
        "blank-key": ((5,), "error"),
        "unfinished": ((6,), "warning"),
    }
    with pytest.raises(TableError, match="differs in r"):
        table.apply(pd.DataFrame({"key": ["a"]}))


def test_columns_are_found_by_name_and_others_left_alone():
    data = pa.table({"key": ["b", "a"]})
    for order in (["key", "r", "extra"], ["extra", "r", "key"]):
        frame = pa.table({"key": ["a", "b"], "r": ["x", "y"], "extra": [1, 2]}).select(order)
        made = kivvet.RuleTable("t", {"key": "text"}, {"r": "text"}, lookup=frame).apply(data)
        assert made.to_pylist() == [{"key": "b", "r": "y"}, {"key": "a", "r": "x"}]


def test_a_number_key_never_meets_a_text_key():
    with pytest.raises(TableError, match="holds int64; text is declared"):
        kivvet.RuleTable("t", {"key": "text"}, {"r": "text"}, lookup=pa.table({"key": [7], "r": ["x"]}))


def test_any_frame_that_gives_an_arrow_stream_comes_back_as_its_kind():
    class Stream:
        def __init__(self, table):
            self.table = pa.table(table)

        def __len__(self):
            return len(self.table)

        def __arrow_c_stream__(self, requested_schema=None):
            return self.table.__arrow_c_stream__(requested_schema)

    table = kivvet.RuleTable("size", {"x": "number"}, {"size": "text"}, [("< 5", "low"), (">= 5", "high")])
    frame = pa.table({"x": [1.0, None, 7.0]})
    made = table.apply(Stream(frame))
    assert isinstance(made, Stream) and made.table["size"].to_pylist() == ["low", None, "high"]
    once = pa.RecordBatchReader.from_batches(frame.schema, frame.to_batches())
    assert table.apply(once)["size"].to_pylist() == ["low", None, "high"]
    assert isinstance(table.apply(frame.to_batches()[0]), pa.RecordBatch)
