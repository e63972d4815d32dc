"""Thresholds are the least values of a column's own type that lie beyond a bound: checked against exact
fractions.
"""

import math
from decimal import Decimal
from fractions import Fraction

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from kivvet.core.classify.thresholds import STEP_TOLERANCE, float_threshold, whole_threshold
from kivvet.core.columns.column import NumericColumn
from kivvet.core.tables.inputs import Input
from kivvet.core.words.regions import after, before
from kivvet.core.words.values import parse_decimal, write_decimal
from tests.conftest import budget

decimals = st.one_of(
    st.integers(-10_000, 10_000).map(lambda n: Decimal(n) / 100),
    st.decimals(-1000, 1000, places=6, allow_nan=False),
    st.sampled_from([Decimal("0.1"), Decimal("0.3"), Decimal("1e-12"), Decimal("1e15")]),
)


@given(decimals, st.sampled_from([np.float64, np.float32]))
def test_without_a_step_a_bound_is_the_nearest_float(bound, kind):
    about, dtype = Input("x", "number"), np.dtype(kind)
    at, beyond = float_threshold(before(bound), about, dtype), float_threshold(after(bound), about, dtype)
    assert at == kind(float(bound))
    assert beyond == np.nextafter(kind(float(bound)), kind(np.inf))


@settings(max_examples=budget(165))
@given(
    st.integers(-500, 500),
    st.sampled_from(["0.1", "0.5", "1", "0.01", "2.5"]),
    st.sampled_from(["0", "0.05", "1"]),
    st.integers(-3, 3),
    st.booleans(),
)
def test_with_a_step_the_threshold_is_the_least_float_taken_for_the_multiple_or_above(
    n, step, offset, nudge, is_after
):
    about = Input("x", "number", step=Decimal(step), step_offset=Decimal(offset))
    bound = about.step_offset + n * about.step
    threshold = float_threshold((after if is_after else before)(bound), about, np.dtype(np.float64))
    value = threshold
    for _ in range(abs(nudge)):
        value = np.nextafter(value, np.inf if nudge > 0 else -np.inf)
    distance = Fraction(float(value)) - Fraction(bound)
    reach = Fraction(about.step) * STEP_TOLERANCE
    is_multiple = abs(distance) <= reach
    lies_beyond = (distance > 0 and not is_multiple) if is_after else (distance > 0 or is_multiple)
    assert (value >= threshold) == lies_beyond


@given(
    decimals,
    st.sampled_from([("integer", 0), ("decimal", 2), ("decimal", 0)]),
    st.booleans(),
    st.integers(-2, 2),
)
def test_on_integers_and_decimals_the_threshold_is_exact(bound, storage, is_after, nudge):
    kind, scale = storage
    column = NumericColumn(kind, np.zeros(0, np.int64), scale=scale)
    threshold = whole_threshold((after if is_after else before)(bound), Input("x", "number"), column)
    value = Fraction(threshold + nudge, 10**scale)
    assert (threshold + nudge >= threshold) == (
        value > Fraction(bound) if is_after else value >= Fraction(bound)
    )


@given(
    st.decimals(allow_nan=False, allow_infinity=False, min_value=Decimal("-1e30"), max_value=Decimal("1e30"))
)
def test_a_written_number_reads_as_itself(value):
    text = write_decimal(value)
    assert parse_decimal(text) == value
    assert len(text) <= max(24, len(str(value)) + 4)


@pytest.mark.parametrize(
    ("text", "value"),
    [
        ("1e400", "1e400"),
        ("1e-400", "1e-400"),
        (".5", "0.5"),
        ("5.", "5"),
        ("+3", "3"),
        ("-0.0", "0"),
        ("0x10", "16"),
    ],
)
def test_numbers_are_read_in_every_form(text, value):
    assert parse_decimal(text) == Decimal(value)


def test_tolerances_are_far_below_a_step_and_above_rounding():
    assert math.isclose(float(STEP_TOLERANCE), 1e-6)
    about = Input("x", "number", step=Decimal("0.1"))
    assert float_threshold(before(Decimal("0.3")), about, np.dtype(np.float64)) <= 0.1 * 3
    assert float_threshold(after(Decimal("0.3")), about, np.dtype(np.float64)) > 0.1 + 0.2
