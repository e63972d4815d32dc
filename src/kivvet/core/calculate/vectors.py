"""What formulas work on: the values of an expression for the rows of a batch, or one value for all of them."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import CHUNK, Array, converted, in_threads, taken
from kivvet.core.columns.column import BoolArray, CodedColumn, Column, NumericColumn, TextColumn, missing_mask
from kivvet.core.columns.encoding import encoded
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.words.values import Value, ValueType, days_since_epoch, microseconds_since_epoch

_MICROSECONDS = {"s": 1_000_000, "ms": 1_000, "us": 1}


@dataclass(frozen=True, slots=True)
class Vector:
    """Values of one type.

    Attributes
    ----------
    kind : str
        "integer" (int64), "number" (float64), "boolean" (bool), "date" (days since 1970, int64), "datetime"
        (microseconds, int64; in UTC where `tz` is set) or "text".
    values : ndarray, shape (n_rows,) or () for one value for all rows
        For text: numbers into `distinct`. What stands in missing rows is arbitrary.
    missing : ndarray of bool, shape (n_rows,) or (), or None
        None: nothing is missing.
    distinct : pyarrow.Array or None
        Of text: large strings, without null.
    tz : str or None
        The time zone of datetimes that have one.
    """

    kind: ValueType
    values: Array
    missing: BoolArray | None = None
    distinct: pa.Array | None = None
    tz: str | None = None

    @property
    def is_single(self) -> bool:
        """Whether it is one value for all rows."""
        return self.values.ndim == 0

    def missing_rows(self, n_rows: int) -> BoolArray:
        """Return which rows are missing, shape (n_rows,)."""
        if self.missing is None:
            return np.zeros(n_rows, bool)
        return np.broadcast_to(self.missing, n_rows)

    def of_rows(self, n_rows: int) -> Vector:
        """Return it with a value for each row."""
        missing = None if self.missing is None else np.broadcast_to(self.missing, n_rows)
        if not self.is_single:
            return self if self.missing is None or self.missing.ndim else replace(self, missing=missing)
        return replace(self, values=np.broadcast_to(self.values, n_rows), missing=missing)

    def take(self, rows: npt.NDArray[np.intp] | BoolArray | slice) -> Vector:
        """Return the values of some rows."""
        missing = self.missing if self.missing is None or self.missing.ndim == 0 else self.missing[rows]
        return replace(self, values=self.values if self.is_single else self.values[rows], missing=missing)

    def texts(self) -> list[str]:
        """Return the different texts."""
        assert self.distinct is not None
        found: list[str] = self.distinct.to_pylist()
        return found


def nothing(kind: ValueType = "number") -> Vector:
    """Return NULL."""
    missing = np.array(True)
    if kind == "text":
        return Vector("text", np.array(0, np.int32), missing, pa.array([""], pa.large_string()))
    return Vector(kind, np.array(0, DTYPES[kind]), missing)


DTYPES: dict[ValueType, type[Any]] = {
    "integer": np.int64,
    "number": np.float64,
    "boolean": np.bool_,
    "date": np.int64,
    "datetime": np.int64,
}


def of_constant(value: Value | None) -> Vector:
    """Return a constant. The text of no characters stays one: where it is compared it is missing."""
    if value is None:
        return nothing()
    if isinstance(value, bool):
        return Vector("boolean", np.array(value))
    if isinstance(value, str):
        return Vector("text", np.array(0, np.int32), None, pa.array([value], pa.large_string()))
    if isinstance(value, dt.datetime):
        return Vector("datetime", np.array(microseconds_since_epoch(value)))
    if isinstance(value, dt.date):
        return Vector("date", np.array(days_since_epoch(value)))
    exact = Decimal(value)
    if exact == exact.to_integral_value() and abs(exact) < 2**63:
        return Vector("integer", np.array(int(exact), np.int64))
    return Vector("number", np.array(float(exact)))


def of_column(column: Column) -> Vector:
    """Return a column of data; decimals become floats, nanoseconds microseconds."""
    if isinstance(column, NumericColumn) and column.kind == "number" and column.values.dtype == np.float64:
        return _of_floats(column.values, column.valid)
    if isinstance(column, NumericColumn) and column.validity is None and column.values.dtype.kind != "f":
        return of_numbers(column, None)
    missing = missing_mask(column)
    gone = missing if missing.any() else None
    if isinstance(column, CodedColumn):
        inner = of_column(column.distinct)
        if not len(inner.values):
            return Vector(
                inner.kind, np.zeros(len(column), inner.values.dtype), missing, inner.distinct, inner.tz
            )
        return replace(inner, values=taken(inner.values, column.codes), missing=gone)
    if isinstance(column, TextColumn):
        return of_text(column.values, gone)
    return of_numbers(column, gone)


def _of_floats(values: Array, valid: BoolArray | None) -> Vector:
    """Return floats, not a number where one is missing: sums of it are too, so that little is left to look at
    after each.
    """
    missing = np.empty(len(values), bool)
    is_nan = np.ones(1, bool)  # whether every missing value is not a number already
    n_missing = []

    def work(start: int, end: int) -> None:
        for first in range(start, end, CHUNK):
            rows = slice(first, min(first + CHUNK, end))
            np.isnan(values[rows], out=missing[rows])
            if valid is not None:
                gone = ~valid[rows]
                if (gone & ~missing[rows]).any():
                    is_nan[0] = False
                    np.logical_or(missing[rows], gone, out=missing[rows])
            n_missing.append(int(np.count_nonzero(missing[rows])))

    in_threads(work, len(values))
    if not sum(n_missing):
        return Vector("number", values)
    return Vector("number", values if is_nan[0] else np.where(missing, np.nan, values), missing)


def of_text(values: pa.Array, missing: BoolArray | None) -> Vector:
    """Return texts as numbers into the different ones."""
    codes, distinct = encoded(values)
    return Vector("text", codes, missing, distinct)


def of_numbers(column: NumericColumn, missing: BoolArray | None) -> Vector:
    """Return numbers, dates or times, without copying where that can be."""
    values = column.values
    if column.kind == "boolean":
        return Vector(
            "boolean", values.view(np.bool_) if values.dtype == np.uint8 else values.astype(bool), missing
        )
    if column.kind == "date":
        return Vector("date", converted(values, np.int64), missing)
    if column.kind == "datetime":
        ticks = values.astype(np.int64, copy=False)
        factor = _MICROSECONDS.get(column.unit)
        return Vector(
            "datetime",
            ticks // 1_000 if factor is None else ticks * factor if factor > 1 else ticks,
            missing,
            tz=column.tz,
        )
    if column.kind == "decimal":
        if column.scale == 0 and values.dtype != object:
            return Vector("number", values.astype(np.float64), missing)
        scale = 10**column.scale
        if (
            values.dtype != object
            and len(values)
            and max(abs(int(values.min())), abs(int(values.max()))) < 2**53
            and column.scale <= 22
        ):
            return Vector(
                "number", values / float(scale), missing
            )  # both exact, so the quotient is rounded once
        return Vector("number", np.array([float(Fraction(int(value), scale)) for value in values]), missing)
    if values.dtype.kind == "f":
        # Not a number where nothing is: sums of it are too, so that little is left to look at after each.
        floats = (
            values.astype(np.float64, copy=False) if missing is None else np.where(missing, np.nan, values)
        )
        return Vector("number", floats.astype(np.float64, copy=False), missing)
    if values.dtype == np.uint64:
        beyond = values > np.uint64(2**63 - 1)
        if beyond.any():  # no whole number of 64 bits with a sign holds them
            return Vector("number", values.astype(np.float64), missing)
    return Vector("integer", converted(values, np.int64), missing)


def as_number(vector: Vector) -> Array:
    """Return the values as floats."""
    return vector.values.astype(np.float64, copy=False)


def either(*missing: BoolArray | None) -> BoolArray | None:
    """Return what is missing in one of several."""
    given = [one for one in missing if one is not None]
    if not given:
        return None
    made = given[0]
    for one in given[1:]:
        made = made | one
    return np.asarray(made)


def as_kind(vector: Vector, kind: ValueType | None) -> Vector:
    """Return a vector as a type that holds all its values: whole numbers as numbers, dates as times, NULL as
    anything.
    """
    if kind is None or vector.kind == kind:
        return vector
    if vector.missing is not None and vector.missing.all():
        made = nothing(kind)
        return made if vector.is_single else made.of_rows(len(vector.values))
    if kind == "number" and vector.kind == "integer":
        return replace(vector, kind="number", values=as_number(vector))
    if kind == "datetime" and vector.kind == "date":
        return replace(vector, kind="datetime", values=vector.values * np.int64(86_400_000_000))
    raise AssertionError(f"{vector.kind} is no {kind}")


def joined(vectors: list[Vector], lengths: list[int]) -> Vector:
    """Return vectors of one type, one after the other."""
    rows = [one.of_rows(n) for one, n in zip(vectors, lengths, strict=True)]
    if len(rows) == 1:
        return rows[0]
    missing = None
    if any(row.missing is not None for row in rows):
        missing = np.concatenate([one.missing_rows(n) for one, n in zip(rows, lengths, strict=True)])
    if rows[0].kind != "text":
        return replace(rows[0], values=np.concatenate([row.values for row in rows]), missing=missing)
    array = pa.concat_arrays([_distinct_of(row).take(pa.array(row.values)) for row in rows])
    return of_text(array, missing)


def to_arrow(vector: Vector, n_rows: int) -> pa.Array:
    """Return a vector as an Arrow array: text as a dictionary; text of no characters is missing."""
    made = vector.of_rows(n_rows)
    missing = made.missing
    if made.kind == "text":
        made = without_empty(made)
        codes = pa.array(made.values.astype(np.int32, copy=False), mask=made.missing)
        assert made.distinct is not None
        return pa.DictionaryArray.from_arrays(codes, made.distinct.cast(pa.string()))
    values = np.ascontiguousarray(made.values)
    bitmap, n_missing = None, 0
    if missing is not None and (n_missing := int(np.count_nonzero(missing))):
        bitmap = pa.py_buffer(_bits(missing, are=False))
    if made.kind == "date":
        values = values.astype(np.int32)
    if made.kind == "boolean":
        values = _bits(values.astype(bool, copy=False))
    type_ = {
        "boolean": pa.bool_(),
        "integer": pa.int64(),
        "number": pa.float64(),
        "date": pa.date32(),
        "datetime": pa.timestamp("us", made.tz),
    }[made.kind]
    return pa.Array.from_buffers(type_, n_rows, [bitmap, pa.py_buffer(values)], n_missing)


def _bits(flags: BoolArray, *, are: bool = True) -> npt.NDArray[np.uint8]:
    """Return a bitmap as Arrow has it: of the rows where a flag is set, or where it is not."""
    made = np.empty((len(flags) + 7) // 8, np.uint8)

    def work(start: int, end: int) -> None:  # shares no byte with another
        for first in range(start, end, CHUNK):
            last = min(first + CHUNK, end)
            some = flags[first:last] if are else ~flags[first:last]
            made[first // 8 : (last + 7) // 8] = np.packbits(some, bitorder="little")

    in_threads(work, len(flags))
    return made


def _distinct_of(vector: Vector) -> pa.Array:
    assert vector.distinct is not None
    return vector.distinct


def without_empty(vector: Vector) -> Vector:
    """Return a text vector in which text of no characters is missing."""
    assert vector.distinct is not None
    empty = pc.equal(vector.distinct, "").to_numpy(zero_copy_only=False)
    if not empty.any():
        return vector
    gone = np.asarray(empty[vector.values])
    return replace(vector, missing=gone if vector.missing is None else gone | vector.missing)


def made_of_vector(name: str, vector: Vector, n_rows: int) -> MadeColumn:
    """Return what a formula gave as a column; different texts become classes, in the order in which they are
    met.
    """
    array = to_arrow(vector, n_rows)
    if vector.kind != "text":
        return MadeColumn(name, values=array)
    codes = pc.fill_null(array.indices, -1).to_numpy(zero_copy_only=False)
    used = pc.unique(array.indices).drop_null().to_numpy(zero_copy_only=False)
    place = np.full(len(array.dictionary) + 1, -1, np.int32)
    place[used] = np.arange(len(used))
    return MadeColumn(name, array.dictionary.take(pa.array(used)), place[codes])
