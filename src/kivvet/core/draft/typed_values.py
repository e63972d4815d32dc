"""The values of a column that a table is drafted from, as its type, in order, with their rows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.convert import convert_text
from kivvet.core.columns.counting import ValueCounter, as_numbers, finest_step
from kivvet.core.draft.look import ColumnLook
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.conditions import Between, Condition
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import Value, ValueType
from kivvet.core.words.wording import count

MOST_DRAFTED_ROWS = 100_000


@dataclass(frozen=True)
class TypedValues:
    """The distinct values of a column, typed and in order, with their rows."""

    kind: ValueType
    values: pa.Array
    rows: npt.NDArray[np.int64]
    step: Decimal | None


def drafted_table(name: str, about: Input, output: Output, rows: Sequence[Row], **more: Any) -> Table:
    """Return a table of one input and one output."""
    return Table(name, (about,), (output,), tuple(rows), **more)


def typed_values(seen: ColumnLook, counter: ValueCounter) -> TypedValues:
    """Return the values of a column as its type, with their rows; `DataError` where there are none."""
    if not seen.rows:
        raise DataError(f"column {seen.name!r} has no rows", expected="data to draft from")
    if not seen.distinct:
        raise DataError(
            f"column {seen.name!r} has no values: all {count(seen.rows, 'row')} are missing",
            fix="choose another column",
        )
    values, rows = counter.merge()
    if seen.type == "other":
        raise DataError(f"column {seen.name!r} is {seen.reason}", fix="choose another column")
    kind: ValueType = seen.type
    if not seen.is_counted and kind in ("text", "boolean"):
        raise too_many(seen)
    if pa.types.is_string(values.type):
        values = convert_text(values, kind).array
    elif pa.types.is_decimal(values.type):
        values = values.cast(pa.float64())
    kept = pc.is_valid(values)
    values, rows = values.filter(kept), rows[kept.to_numpy(zero_copy_only=False)]
    if pa.types.is_timestamp(values.type):
        values = values.cast(pa.date32(), safe=False)
    summed = (
        pa.table({"value": values, "rows": rows})
        .group_by("value", use_threads=False)
        .aggregate([("rows", "sum")])
        .sort_by("value")
    )
    values = summed.column("value").combine_chunks()
    values = values.chunk(0) if isinstance(values, pa.ChunkedArray) else values
    step = None
    if kind == "number":
        finest = finest_step(as_numbers(values))
        step = Decimal(f"{finest:.10g}") if finest is not None else None
    return TypedValues(kind, values, summed.column("rows_sum").to_numpy(), step)


def input_of(column: str, given: TypedValues, *, is_bins: bool) -> Input:
    """Return the input that reads a column."""
    return Input(column, given.kind, step=given.step if is_bins else None)


def too_many(seen: ColumnLook) -> DataError:
    """Return the error for a column of too many different values."""
    return DataError(
        f"column {seen.name!r} has {'more than ' if not seen.is_counted else ''}{seen.distinct:,} distinct values",
        expected=f"at most {MOST_DRAFTED_ROWS:,} for a mapping with a row each",
        fix="for numbers and dates propose bounds; for codes write prefixes (C3*) or code ranges (C30* to C39*); for attributes of each key use a lookup",
    )


def exact_value(value: Any) -> Value:
    """Return a plain value as it is written: floats and whole numbers as decimals."""
    return (
        Decimal(repr(value))
        if isinstance(value, float)
        else Decimal(value)
        if isinstance(value, int) and not isinstance(value, bool)
        else value
    )


def half_open(bounds: Sequence[Value], step: Decimal | None = None) -> list[Condition]:
    """Return the ranges between bounds, each holding its lower bound: nothing lies between, nothing in two.

    Where all values are multiples of a step, a bound may be written as the value before it, which the lower range then holds: as
    it reads shorter, ``<= 25`` rather than ``< 25.1``.
    """
    if not bounds:
        return [Between(None, False, None, False)]
    ends = [shorter_bound(bound, step) for bound in bounds]
    inner = [
        Between(low, not low_is_below, high, high_is_below)
        for (low, low_is_below), (high, high_is_below) in pairwise(ends)
    ]
    (first, is_below_first), (last, is_below_last) = ends[0], ends[-1]
    return [
        Between(None, False, first, is_below_first),
        *inner,
        Between(last, not is_below_last, None, False),
    ]


def shorter_bound(bound: Value, step: Decimal | None) -> tuple[Value, bool]:
    """Return a bound as it reads shorter, and whether it then is the last value of the lower range."""
    if step is None or not isinstance(bound, (int, Decimal)) or isinstance(bound, bool):
        return bound, False
    before = Decimal(bound) - step
    n_digits, n_before = (len(one.normalize().as_tuple().digits) for one in (Decimal(bound), before))
    return (before.normalize() + 0, True) if n_before < n_digits else (bound, False)
