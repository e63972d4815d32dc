"""Variances that depend on the values alone: of exact sums, and exact sums of squares."""

from __future__ import annotations

import numpy as np

from kivvet.core.calculate.exact_slices import BITS
from kivvet.core.calculate.exact_sums import ExactSums
from kivvet.core.columns.arrays import Array, Places

Two = tuple[Array, Array]  # numbers as two floats: the nearest, and the nearest to what is left


def _square(values: Array) -> Two:
    """Return squares and what rounding took from them, exactly (Dekker); for values from 2**-480 to 2**480."""
    product = values * values
    wide = 134217729.0 * values
    high = wide - (wide - values)
    low = values - high
    return product, ((high * high - product) + 2.0 * high * low) + low * low


def add_squares(state: ExactSums, numbers: Places, values: Array, longest: int | None = None) -> None:
    """Add the exact squares of the values that are finite."""
    there = np.isfinite(values)
    if not there.all():
        numbers, values = numbers[there], values[there]
    size = np.abs(values)
    for is_far, power in (((size > 2.0**400), -608), ((size < 2.0**-400) & (size > 0), 608)):
        if is_far.any():
            lower = ExactSums(state.n_groups)
            for one in _square(values[is_far] * 2.0**power):
                lower.add(numbers[is_far], one)
            state.merge(lower, up=-2 * power // BITS)
            values = np.where(is_far, 0.0, values)
    for start in range(0, len(values), 1 << 20):
        rows = slice(start, start + (1 << 20))
        for one in _square(values[rows]):
            state.add(numbers[rows], one, longest)


def variances(counts: Places, sums: ExactSums, squares: ExactSums, less: int) -> Array:
    """Return (squares - sums**2 / n) / (n - less), worked out in 106 bits, or exactly where they are too few; NaN where there
    are not more than `less` rows, or a value is not finite.
    """
    n = np.maximum(counts, 1).astype(float)
    (sum_, sum_low), (both, both_low) = _two(sums), _two(squares)
    with np.errstate(all="ignore"):
        top, error = _square(sum_)
        error = error + 2.0 * sum_ * sum_low
        part = top / n
        back, back_low = _product(part, n)
        part_low = (((top - back) - back_low) + error) / n
        gap, gap_low = _sum(both, -part)
        made: Array = gap + (gap_low + (both_low - part_low))
        sure = (made > both * 2.0**-40) & (both > 2.0**-900) & (both < 2.0**900) & (np.abs(sum_) < 2.0**450)
        made = made / (counts - less)
    made[counts == 1] = 0.0
    unsure = np.flatnonzero(~sure & (counts > max(less, 1)))
    made[unsure] = _one_by_one(unsure, counts, sums, squares, less)
    made[(counts <= less) | (sums.special != 0)] = np.nan
    return made


def _one_by_one(groups: Places, counts: Places, sums: ExactSums, squares: ExactSums, less: int) -> Array:
    """Return the variances of some groups by whole numbers: of groups of equal values, and where sums are too far apart."""
    made = np.zeros(len(groups))
    (sum_unit, totals), (unit, both) = sums.whole(groups), squares.whole(groups)
    low = min(2 * sum_unit, unit)
    for place, (count, total, square) in enumerate(zip(counts[groups].tolist(), totals, both, strict=True)):
        gap = count * (square << (unit - low)) - (total * total << (2 * sum_unit - low))
        if gap:
            below = count * (count - less)
            try:
                made[place] = (gap << low) / below if low >= 0 else gap / (below << -low)
            except OverflowError:
                made[place] = np.inf
    return made


def _two(state: ExactSums) -> Two:
    """Return sums as two floats: the nearest, and the nearest to what is left."""
    high = state.rounded()
    state.settle()
    rest = ExactSums(state.n_groups)
    rest.merge(state)
    rest.add(np.arange(state.n_groups), -np.where(np.isfinite(high), high, 0.0), longest=1)
    return high, rest.rounded()


def _sum(a: Array, b: Array) -> Two:
    total = a + b
    other = total - a
    return total, (a - (total - other)) + (b - other)


def _product(a: Array, b: Array) -> Two:
    product = a * b
    (a_high, a_low), (b_high, b_low) = _halves(a), _halves(b)
    return product, ((a_high * b_high - product) + a_high * b_low + a_low * b_high) + a_low * b_low


def _halves(a: Array) -> Two:
    wide = 134217729.0 * a
    high = wide - (wide - a)
    return high, a - high
