"""The bins that a column of numbers or dates is divided into: by bounds that are given, or that are proposed."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass, replace
from decimal import Decimal

import numpy as np
import numpy.typing as npt

from kivvet.core.columns.counting import FloatArray, as_numbers
from kivvet.core.draft.breaks import (
    AT_VALUES,
    nearer_counts,
    propose_bounds,
    quantile_bounds,
    round_dates,
    sizes_of_bins,
)
from kivvet.core.draft.from_examples import bound_between
from kivvet.core.draft.look_hints import FEW_INTEGERS
from kivvet.core.draft.typed_values import TypedValues, half_open
from kivvet.core.draft.wishes import Wishes
from kivvet.core.words.conditions import Condition
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import LiteralError, Value, ValueType, parse_value, write_value
from kivvet.core.words.wording import count, listed

Rows = npt.NDArray[np.int64]
_MOST_BOUNDS_TOLD = 20


@dataclass(frozen=True)
class Bins:
    """Ranges without gap or overlap.

    Attributes
    ----------
    how : str
        The method by which the bounds were proposed; empty: they were given.
    remark : str
        What came out otherwise than asked for.
    """

    conditions: list[Condition]
    how: str = ""
    remark: str = ""


def is_divided(kind: ValueType, n_values: int, wishes: Wishes) -> bool:
    """Whether a column of so many different values is divided into ranges; one of few whole numbers is when that is asked for."""
    if kind in ("text", "boolean") or wishes.by_value:
        return False
    return wishes.wants_bins or not (kind == "integer" and n_values <= FEW_INTEGERS)


def bins_of(column: str, given: TypedValues, wishes: Wishes) -> Bins:
    """Return the bins of a column as they are wished for; as many as there are classes, where these are named and the bounds are
    left open.
    """
    made = _bins(column, given, wishes)
    if not isinstance(wishes.results, tuple) or wishes.method or wishes.bounds or wishes.quantiles:
        return made
    number = len(wishes.results)
    others = (one for away in range(1, number + 2) for one in (number + away, number - away) if one > 0)
    for n_bins in others:
        if len(made.conditions) == number:
            break
        made = _bins(column, given, replace(wishes, n_bins=n_bins))
    return made if len(made.conditions) == number else _bins(column, given, replace(wishes, method="width"))


def _bins(column: str, given: TypedValues, wishes: Wishes) -> Bins:
    if wishes.bounds:
        return Bins(half_open(_given_bounds(wishes.bounds, given.kind)))
    method = "quantiles" if wishes.quantiles else wishes.method or "round"
    numbers = as_numbers(given.values)
    finite = np.isfinite(numbers)
    numbers, rows = numbers[finite], given.rows[finite]
    step = Decimal(1) if given.kind == "integer" else given.step
    n_bins = wishes.number_of_bins
    is_dates = given.kind in ("date", "datetime")
    if is_dates and method == "round" and len(given.values):
        ends = round_dates(given.values[0].as_py(), given.values[-1].as_py(), n_bins)
        return Bins(half_open(list(ends), step), method)
    if method in AT_VALUES and len(numbers) < n_bins:
        raise DataError(
            f"column {column!r} has {count(len(numbers), 'different value')}, and {n_bins} bins are asked for",
            expected=f"at most {count(len(numbers), 'bin')}",
            fix=f"ask for {len(numbers)}, or for one row a value",
        )
    raw = (
        quantile_bounds(numbers, rows, wishes.quantiles)
        if wishes.quantiles
        else propose_bounds(numbers, rows, method, n_bins)  # type: ignore[arg-type]
    )
    bounds = _as_values(raw, given, numbers, is_at_values=method in AT_VALUES)
    remark = ""
    if method in AT_VALUES and len(bounds) + 1 < n_bins:
        remark = f"{len(bounds) + 1} instead of {n_bins}, since equal values stay together"
    elif method == "counts":
        remark = _of_ties(raw, given, numbers, rows, n_bins)
    return Bins(half_open(bounds, step), method, remark)


def _of_ties(raw: Sequence[float], given: TypedValues, numbers: FloatArray, rows: Rows, n_bins: int) -> str:
    """Return how far from equal the counts are, since equal values stay together, and which bounds would come nearer."""
    sizes = sizes_of_bins(raw, numbers, rows)
    if int(sizes.max() - sizes.min()) <= 1:
        return ""
    said = f"equal values stay together, so that a bin holds {sizes.min():,} to {sizes.max():,} rows"
    nearer = nearer_counts(numbers, rows, n_bins)
    better = sizes_of_bins(nearer, numbers, rows)
    if len(better) != len(sizes) or better.max() - better.min() >= sizes.max() - sizes.min():
        return said
    bounds = _as_values(nearer, given, numbers, is_at_values=True)
    if len(bounds) + 1 != len(better) or len(bounds) > _MOST_BOUNDS_TOLD:
        return said
    told = ",".join(map(write_value, bounds))
    return f"{said}; with the bounds {told} it would hold {better.min():,} to {better.max():,}"


def _given_bounds(texts: Sequence[str], kind: ValueType) -> list[Value]:
    bounds: list[Value] = []
    for text in texts:
        try:
            bounds.append(
                parse_value(
                    text.strip(), "number" if kind == "integer" else "date" if kind == "datetime" else kind
                )
            )
        except LiteralError as error:
            raise DataError(f"the bound {text!r} is not {error.expected}", fix=error.fix or None) from error
    if sorted(set(bounds)) != bounds:
        raise DataError(
            f"the bounds {listed(texts)} do not rise", expected="each bound once, from the lowest up"
        )
    return bounds


def _as_values(
    raw: Sequence[float], given: TypedValues, numbers: FloatArray, *, is_at_values: bool
) -> list[Value]:
    """Return proposed bounds as they are written, rising."""
    if given.kind in ("date", "datetime"):
        epoch = dt.date(1970, 1, 1)
        return sorted({epoch + dt.timedelta(days=round(bound)) for bound in raw})
    if not is_at_values:
        return sorted({_rounded(bound, given, numbers) for bound in raw})
    below = numbers[np.searchsorted(numbers, raw) - 1].tolist()
    # Values that differ by less than the step are one: no bound lies between them.
    return list(dict.fromkeys(_between(low, high, given) for low, high in zip(below, raw, strict=True)))


def _between(low: float, high: float, given: TypedValues) -> Value:
    """Return the roundest bound above one value and not above the next, so that no value changes its bin."""
    if given.kind == "integer":
        return Decimal(int(high))
    if given.step is not None:  # values are the multiples that they lie next to
        return Decimal(round(Decimal(repr(high)) / given.step) * given.step).normalize() + 0
    return bound_between(low, high, given)


def _rounded(bound: float, given: TypedValues, numbers: FloatArray) -> Decimal:
    """Return a bound as a multiple of the step, or with few digits."""
    if given.kind == "integer":
        return Decimal(round(bound))
    if given.step is not None:
        return (round(Decimal(repr(bound)) / given.step) * given.step).normalize() + 0
    span = float(numbers[-1] - numbers[0]) or 1.0
    return Decimal(repr(round(bound, 3 - int(np.floor(np.log10(span))))))
