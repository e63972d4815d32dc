"""Aggregates: one value for each group of rows, as the SQL standard (ISO/IEC 9075) has them."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field
from decimal import Decimal

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.calculate.arithmetic import OVERFLOW
from kivvet.core.calculate.comparing import ranks_of
from kivvet.core.calculate.exact_spread import add_squares, variances
from kivvet.core.calculate.exact_sums import ExactSums, group_sums
from kivvet.core.calculate.groups import Groups, Order, numbers_of
from kivvet.core.calculate.percentiles import MANY_ROWS, ValuesInOrder
from kivvet.core.calculate.vectors import Vector, as_number, either, without_empty
from kivvet.core.calculate.window_totals import integer_totals, with_zeros
from kivvet.core.columns.arrays import Array
from kivvet.core.columns.column import BoolArray
from kivvet.core.formulas.functions import ORDERED_SETS
from kivvet.core.formulas.tree import Constant, Tree, Window

NO_NUMBER = "no number"
_MOST_PAIRS_MARKED = 1 << 26  # of groups and values: those that occur are marked one by one


@dataclass(frozen=True)
class GroupValues:
    """What an aggregate gives.

    Attributes
    ----------
    vector : Vector
        A value for each group; of groups without rows it may be any.
    no_result : dict of str to ndarray of bool, shape (n_groups,)
        By cause, the groups whose values are there and have no result.
    """

    vector: Vector
    no_result: dict[str, BoolArray] = field(default_factory=dict)


def aggregated(
    window: Window,
    groups: Groups,
    work: Callable[[Tree], Vector],
    truth: Callable[[Tree], BoolArray],
    n_rows: int,
) -> GroupValues:
    """Return the value of an aggregate for each group.

    Parameters
    ----------
    window : Window
        What stands in OVER is not looked at.
    groups : Groups
    work : callable
        Gives the values of an expression for the rows.
    truth : callable
        Gives the rows for which a condition is true.
    n_rows : int
    """
    name = window.name
    asked = window.within.part if window.within is not None else window.parts[0] if window.parts else None
    values = None if asked is None else work(asked).of_rows(n_rows)
    if values is not None and values.kind == "text":
        values = without_empty(values)
    if window.where is not None:
        left_out = ~truth(window.where)
        if values is None:
            values = Vector("boolean", np.zeros(n_rows, bool))
        values = Vector(
            values.kind, values.values, either(values.missing, left_out), values.distinct, values.tz
        )
    if values is None:
        return GroupValues(Vector("integer", groups.sizes))
    if window.is_distinct:
        return GroupValues(Vector("integer", _different(groups, values)))
    if name in ORDERED_SETS or name == "MEDIAN":
        share = Decimal("0.5") if name == "MEDIAN" else window.parts[0]
        if isinstance(share, Constant):
            assert isinstance(share.value, Decimal)
            share = share.value
        assert isinstance(share, Decimal)
        is_descending = window.within is not None and window.within.is_descending
        is_between = name != "PERCENTILE_DISC"
        if is_between and n_rows >= MANY_ROWS and values.kind in ("integer", "number"):
            return _between_of_many(groups, values, share, is_descending=is_descending)
        order = Order(groups, [(values, is_descending, False)], n_rows)
        return _percentile(groups, order, values, share, is_between=is_between)
    return _total(name, groups, values)


def _present(groups: Groups, missing: BoolArray | None) -> Array:
    """Return how many rows of each group have a value."""
    if missing is None:
        return groups.sizes
    return groups.sizes - np.bincount(groups.numbers[missing], minlength=groups.n_groups)


def _total(name: str, groups: Groups, values: Vector) -> GroupValues:
    missing = None if values.missing is None or not values.missing.any() else values.missing
    if values.kind == "number" and name == "SUM":
        return _sums(groups, values, missing)
    counts = _present(groups, missing)
    if name == "COUNT":
        return GroupValues(Vector("integer", counts))
    numbers, size = groups.numbers, groups.n_groups
    gone = None if missing is None else counts == 0
    held = numbers if missing is None else numbers[~missing]
    there = values.values if missing is None else values.values[~missing]
    if name in ("MIN", "MAX"):
        return GroupValues(_extreme(name, held, there, values, size, gone))
    if values.kind == "integer" and name == "SUM":
        whole, beyond = integer_totals(held, there, size)
        if not beyond.any():
            return GroupValues(Vector("integer", whole, gone))
        return GroupValues(Vector("integer", whole, either(gone, beyond)), {OVERFLOW: beyond})
    numeric = as_number(Vector(values.kind, there))
    if name == "AVG":
        return mean_of(group_sums(held, numeric, size), counts)
    totals, squares = ExactSums(size), ExactSums(size)
    totals.add(held, numeric)
    add_squares(squares, held, numeric)
    return spread_of(name, counts, totals, squares)


def mean_of(totals: Array, counts: Array) -> GroupValues:
    """Return means, of totals that were rounded once."""
    with np.errstate(invalid="ignore", divide="ignore"):
        return without_nan(totals / counts, counts == 0)


def spread_of(name: str, counts: Array, totals: ExactSums, squares: ExactSums) -> GroupValues:
    """Return variances, or their roots."""
    less = int(name.endswith("_SAMP"))
    made = variances(counts, totals, squares, less)
    return without_nan(np.sqrt(made) if name.startswith("STDDEV") else made, counts <= less)


def _sums(groups: Groups, values: Vector, missing: BoolArray | None) -> GroupValues:
    """Return the totals of floats by group; only a group whose total is 0 can be without any value."""
    weights = values.values if missing is None else with_zeros(values.values, missing)
    sums = group_sums(groups.numbers, weights, groups.n_groups)
    gone = None
    if missing is not None and (zero := sums == 0).any():
        doubtful = np.flatnonzero(zero[groups.numbers])
        has_value = np.zeros(groups.n_groups, bool)
        has_value[groups.numbers[doubtful[~missing[doubtful]]]] = True
        gone = zero & ~has_value
    return without_nan(sums, gone)


def without_nan(values: Array, gone: BoolArray | None) -> GroupValues:
    """Return values; those of opposite infinities are missing."""
    nan = np.isnan(values)
    if gone is not None:
        gone = gone if gone.any() else None
        values = values if gone is None else np.where(gone, 0.0, values)
        nan &= True if gone is None else ~gone
    if not nan.any():
        return GroupValues(Vector("number", values, gone))
    return GroupValues(Vector("number", values, either(gone, nan)), {NO_NUMBER: nan})


def _extreme(
    name: str, held: Array, there: Array, values: Vector, size: int, gone: BoolArray | None
) -> Vector:
    work = np.minimum if name == "MIN" else np.maximum
    if values.kind == "text":
        assert values.distinct is not None
        ranks = ranks_of(values.distinct)
        code_of = np.zeros(int(ranks.max(initial=0)) + 1, np.int64)
        code_of[ranks] = np.arange(len(ranks))
        best = np.zeros(size, np.int64) if name == "MAX" else np.full(size, len(code_of) - 1)
        work.at(best, held, ranks[there])
        return Vector("text", code_of[best], gone, values.distinct)
    kind = there.dtype if there.dtype != bool else np.dtype(np.int8)
    if kind.kind == "f":
        worst = np.inf if name == "MIN" else -np.inf
    else:
        worst = np.iinfo(kind).max if name == "MIN" else np.iinfo(kind).min
    best = np.full(size, worst, kind)
    work.at(best, held, there.astype(kind, copy=False))
    return Vector(values.kind, best.astype(bool) if values.kind == "boolean" else best, gone, tz=values.tz)


def _different(groups: Groups, values: Vector) -> Array:
    """Return how many different values each group has."""
    missing = values.missing
    codes, size = numbers_of(values)
    numbers: Array = groups.numbers.astype(np.int64, copy=False)
    if missing is not None:
        numbers, codes = numbers[~missing], codes[~missing]
    pairs = numbers * size + codes
    if groups.n_groups * size <= _MOST_PAIRS_MARKED:
        seen = np.zeros(groups.n_groups * size, bool)
        seen[pairs] = True
        found = np.flatnonzero(seen)
    else:
        found = pc.unique(pa.array(pairs)).to_numpy(zero_copy_only=False)
    return np.bincount(found // size, minlength=groups.n_groups)


def _percentile(
    groups: Groups, order: Order, values: Vector, share: Decimal, *, is_between: bool
) -> GroupValues:
    """Return the value at a share of each group, in order: between two rows in proportion, or the first that has it.

    The order has missing values last.
    """
    size = groups.n_groups
    counts = _present(groups, values.missing)
    starts = np.concatenate([[0], np.cumsum(groups.sizes)[:-1]]) if size else np.zeros(0, np.int64)
    gone = counts == 0
    if not is_between:
        # The place is worked out exactly: a share of 0.7 of ten rows is the seventh, not the eighth.
        top, bottom = share.as_integer_ratio()
        if top * int(counts.max(initial=0)) < 2**62:
            place = -(-counts * top // bottom) - 1
        else:
            place = np.array([math.ceil(share * n) - 1 for n in counts.tolist()], np.int64)
        rows = order.rows[_inside(starts + np.maximum(place, 0), order.n_rows)] if order.n_rows else starts
        if not order.n_rows:
            return GroupValues(
                Vector(values.kind, np.zeros(size, values.values.dtype), gone, values.distinct)
            )
        made = values.values[rows]
        return GroupValues(
            Vector(values.kind, made, gone if gone.any() else None, values.distinct, values.tz)
        )
    if not order.n_rows:
        return GroupValues(Vector("number", np.zeros(size), gone))
    numbers = as_number(values)

    def at(places: Array) -> Array:
        found: Array = numbers[order.rows[_inside(starts + places, order.n_rows)]] + 0.0
        return found

    return _between(share, counts, at)


def _between_of_many(groups: Groups, values: Vector, share: Decimal, *, is_descending: bool) -> GroupValues:
    """Return the same as `_percentile`, of numbers, without sorting rows."""
    counts = _present(groups, values.missing)
    there = slice(None) if values.missing is None else ~values.missing
    numbers, present = groups.numbers[there], as_number(values)[there]
    if not len(present):
        return GroupValues(Vector("number", np.zeros(groups.n_groups), counts == 0))
    in_order = ValuesInOrder(numbers, present, groups.n_groups)
    return _between(
        share,
        counts,
        lambda places: in_order.at(np.maximum(counts - 1 - places, 0) if is_descending else places),
    )


def _between(share: Decimal, counts: Array, at: Callable[[Array], Array]) -> GroupValues:
    """Return what lies between the two rows next to a share, in proportion; `at` gives the value at a place of each group."""
    gone = counts == 0
    position = float(share) * np.maximum(counts - 1, 0)
    low = np.floor(position).astype(np.int64)
    high = np.ceil(position).astype(np.int64)
    one, other = at(low), at(high)
    with np.errstate(invalid="ignore", over="ignore"):
        made = np.where(one == other, one, one + (other - one) * (position - low))
    return without_nan(made, gone if gone.any() else None)


def _inside(places: Array, n_rows: int) -> Array:
    """Return places; those of groups without rows, which stand for nothing, within bounds."""
    return np.minimum(places, n_rows - 1)
