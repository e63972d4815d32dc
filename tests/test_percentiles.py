"""Quick ways to medians and first rows, held against sorting all rows."""

from __future__ import annotations

import math

import numpy as np
import pyarrow as pa
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.calculate import group_values
from kivvet.core.calculate.percentiles import ValuesInOrder
from tests.conftest import budget

#: Values that are alike in their first bits, the largest and the least, zeros of both signs.
ONE = 1.0
NEAR = [ONE, math.nextafter(ONE, 2), math.nextafter(ONE, 0), ONE + 2**-40, ONE - 2**-40]
ODD = [0.0, -0.0, math.inf, -math.inf, 5e-324, -5e-324, 1.7e308, -1.7e308]
VALUE = st.one_of(
    st.sampled_from(NEAR), st.sampled_from(ODD), st.integers(-3, 3).map(float), st.floats(allow_nan=False)
)
ROWS = st.lists(st.tuples(st.integers(0, 6), VALUE), min_size=1, max_size=40)


@settings(max_examples=budget(200))
@given(ROWS, st.sampled_from([7, 64, 5_000]), st.data())
@example([(0, 1.0), (0, math.nextafter(1.0, 2)), (1, -0.0), (1, 0.0)], 2, None)
def test_the_value_at_a_place_of_a_group_is_what_sorting_it_gives(rows, n_groups, data):
    numbers = np.array([number for number, _ in rows])
    values = np.array([value for _, value in rows])
    n_groups = max(n_groups, int(numbers.max()) + 1)
    counts = np.bincount(numbers, minlength=n_groups)
    drawn = (lambda n: 0) if data is None else (lambda n: data.draw(st.integers(0, n - 1)))
    places = np.array([drawn(n) if n else 0 for n in counts.tolist()])
    found = ValuesInOrder(numbers, values, n_groups).at(places)
    for group in np.flatnonzero(counts):
        assert found[group] == np.sort(values[numbers == group])[places[group]]


FORMULAS = [
    "MEDIAN(x) OVER (PARTITION BY k)",
    "MEDIAN(x) OVER ()",
    "MEDIAN(x) FILTER (WHERE n > 2) OVER (PARTITION BY k)",
    "PERCENTILE_CONT(0.3) WITHIN GROUP (ORDER BY x) OVER (PARTITION BY k)",
    "PERCENTILE_CONT(0.3) WITHIN GROUP (ORDER BY x DESC) OVER (PARTITION BY k)",
    "PERCENTILE_CONT(0) WITHIN GROUP (ORDER BY n) OVER (PARTITION BY k)",
    "PERCENTILE_CONT(1) WITHIN GROUP (ORDER BY n DESC) OVER (PARTITION BY k, n)",
]
CELLS = st.lists(
    st.tuples(st.sampled_from(["a", "b", "", None]), st.one_of(st.none(), st.just(math.nan), VALUE), st.integers(-5, 5)),
    min_size=1,
    max_size=30,
)  # fmt: skip


@pytest.mark.parametrize("formula", FORMULAS)
@settings(max_examples=budget(30))
@given(CELLS)
def test_medians_of_many_rows_are_those_of_few(formula, cells):
    frame = pa.table({"k": [k for k, _, _ in cells], "x": pa.array([x for _, x, _ in cells], pa.float64()), "n": [n for _, _, n in cells]})  # fmt: skip
    made = []
    for many in (10**9, 0):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(group_values, "MANY_ROWS", many)
            made.append(kivvet.with_formulas(frame, {"made": formula})["made"].to_pylist())
    assert made[0] == made[1]


FIRSTS = [
    "ROW_NUMBER() OVER (PARTITION BY k)",
    "ROW_NUMBER() OVER ()",
    "ROW_NUMBER() OVER (PARTITION BY k, n)",
    "ROW_NUMBER() OVER (PARTITION BY k ORDER BY n)",
    "RANK() OVER (PARTITION BY k ORDER BY n)",
]


@pytest.mark.parametrize("window", FIRSTS)
@settings(max_examples=budget(30))
@given(CELLS)
def test_first_rows_are_found_without_numbering_all(window, cells):
    frame = pa.table({"k": [k for k, _, _ in cells], "n": [n for _, _, n in cells]})
    asked = {
        "one": f"{window} = 1",
        "other": f"{window} <= 1",
        "more": f"{window} > 1",
        "not": f"{window} <> 1",
    }
    made = kivvet.with_formulas(frame, asked)
    # An operation on the number keeps it from being asked as the question that it is.
    wanted = [n == 1 for n in kivvet.with_formulas(frame, {"n_at": f"{window} + 0"})["n_at"].to_pylist()]
    assert made["one"].to_pylist() == made["other"].to_pylist() == wanted
    assert made["more"].to_pylist() == made["not"].to_pylist() == [not one for one in wanted]
    alone = [kivvet.with_formulas(frame, {"made": text})["made"].to_pylist() for text in asked.values()]
    assert alone == [made[name].to_pylist() for name in asked]
