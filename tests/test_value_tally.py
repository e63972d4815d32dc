"""Values counted over batches are those of a loop over the rows, each first met where the loop meets it."""

from __future__ import annotations

from collections import Counter

import numpy as np
import pandas as pd
import pyarrow as pa
from hypothesis import given
from hypothesis import strategies as st

import kivvet
from kivvet.core.columns.column import column_from_arrow
from kivvet.core.run.value_tally import ValueTally

VALUES = {
    "text": (st.sampled_from(["a", "b", "ä", "a ", "007"]) | st.none(), pa.string()),
    "number": (st.sampled_from([0.0, 1.5, -2.0, 1e300]) | st.none(), pa.float64()),
    "integer": (st.integers(-2, 2) | st.none(), pa.int64()),
    "coded": (st.sampled_from(["x", "y", "z"]) | st.none(), pa.dictionary(pa.int8(), pa.string())),
}


@st.composite
def batches(draw):
    kinds = draw(st.lists(st.sampled_from(sorted(VALUES)), min_size=1, max_size=3, unique=True))
    row = st.tuples(*(VALUES[kind][0] for kind in kinds))
    return kinds, draw(st.lists(st.lists(st.tuples(row, st.booleans()), max_size=12), max_size=8))


@given(batches(), st.integers(1, 6))
def test_combinations_are_counted_as_a_loop_counts_them(drawn, most):
    kinds, parts = drawn
    tally = ValueTally(most)
    wanted: Counter[tuple[object, ...]] = Counter()
    firsts = {}
    before = 0
    for part in parts:
        arrays = [pa.array([row[n] for row, _ in part], VALUES[kind][1]) for n, kind in enumerate(kinds)]
        columns = {kind: column_from_arrow(array, kind) for kind, array in zip(kinds, arrays, strict=True)}
        tally.see(columns, np.flatnonzero([taken for _, taken in part]), before)
        for number, (row, taken) in enumerate(part, before + 1):
            if taken and (row in wanted or len(wanted) < most):
                wanted[row] += 1
                firsts.setdefault(row, number)
        before += len(part)
    assert list(tally.counts.values()) == list(wanted.values())
    assert list(tally.first_rows.values()) == list(firsts.values())


@given(
    st.lists(st.tuples(st.sampled_from(["p", "q", "r"]) | st.none(), st.sampled_from([1, 2, 3])), min_size=1)
)
def test_unmatched_rows_of_two_inputs_one_of_them_missing_are_told_apart(rows):
    table = kivvet.RuleTable(
        "t",
        {"g": "text", "n": "integer"},
        {"c": "text"},
        [["g", "n", "c"], ["p", "1", "one"], ["", "2", "two"]],
        severity={"gap": "note"},
    )
    frame = pd.DataFrame(rows, columns=["g", "n"]).astype({"g": pd.CategoricalDtype(["p", "q", "r"])})
    report = table.apply_with_report(frame).report
    wanted = Counter(f"g = {g}, n = {n}" for g, n in rows if g and n != 2 and (g, n) != ("p", 1))
    (found,) = report.tables
    assert dict(found.unmatched_values) == dict(wanted)
    assert found.unmatched == sum(wanted.values())
    assert found.missing == sum(not g and n != 2 for g, n in rows)
