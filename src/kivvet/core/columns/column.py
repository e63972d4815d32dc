"""One column of data inside the core, whatever frame it came from; values are shared, not copied."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import ROWS_FOR_THREADS, in_threads, taken
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import ValueType

BoolArray = npt.NDArray[np.bool_]

TICKS_A_DAY = {"s": 86_400, "ms": 86_400_000, "us": 86_400_000_000, "ns": 86_400_000_000_000}


class Bitmap:
    """Which rows are there, as Arrow holds it: one bit each, from the lowest of a byte on; unpacked where it is asked for.

    Parameters
    ----------
    packed : ndarray of uint8
    skipped : int
        Bits before the first row, 0 to 7.
    n_rows : int
    """

    def __init__(self, packed: npt.NDArray[np.uint8], skipped: int, n_rows: int) -> None:
        self.packed, self.skipped, self.n_rows = packed, skipped, n_rows

    @classmethod
    def of(cls, array: pa.Array) -> Bitmap | None:
        """Return that of an array; None where all of its values are there."""
        if not array.null_count:
            return None
        first, skipped = divmod(array.offset, 8)
        bits = np.frombuffer(array.buffers()[0], np.uint8)
        return cls(bits[first : (array.offset + len(array) + 7) // 8], skipped, len(array))

    def __getitem__(self, rows: slice | BoolArray | npt.NDArray[np.integer[Any]]) -> BoolArray:
        """Return which of some rows are there; of a stretch of them, without looking at others."""
        if not isinstance(rows, slice):
            return self.unpacked[rows]
        start, stop, _ = rows.indices(self.n_rows)
        first, skipped = divmod(start + self.skipped, 8)
        bits = np.unpackbits(self.packed[first : (stop + self.skipped + 7) // 8], bitorder="little")
        return bits[skipped : skipped + stop - start].view(np.bool_)

    def bits(self, rows: slice) -> npt.NDArray[np.uint8]:
        """Return that of a stretch of rows, from the lowest bit of the first byte on."""
        start, stop, _ = rows.indices(self.n_rows)
        first, skipped = divmod(start + self.skipped, 8)
        if skipped:
            return np.packbits(self[rows], bitorder="little")
        return self.packed[first : first + (stop - start + 7) // 8]

    @cached_property
    def unpacked(self) -> BoolArray:
        """Which rows are there, shape (n_rows,)."""
        bits = np.empty(8 * len(self.packed), np.uint8)

        def work(start: int, end: int) -> None:  # shares no byte with another
            bits[8 * start : 8 * end] = np.unpackbits(self.packed[start:end], bitorder="little")

        in_threads(work, len(self.packed), ROWS_FOR_THREADS // 8)
        return bits[self.skipped : self.skipped + self.n_rows].view(np.bool_)


@dataclass(frozen=True, slots=True)
class NumericColumn:
    """Values that are numbers in memory.

    Attributes
    ----------
    kind : str
        "integer", "number", "decimal", "boolean", "date" or "datetime".
    values : ndarray, shape (n_rows,)
        Integers or floats; days for dates, ticks since 1970 for datetimes, unscaled integers for
        decimals, 0 and 1 for booleans. NaN is missing.
    validity : ndarray of bool, shape (n_rows,), Bitmap, or None
        Which values are there; None: all.
    scale : int
        Digits after the point of a decimal.
    unit : str
        The unit of a datetime: "s", "ms", "us" or "ns".
    tz : str or None
        The time zone of a datetime that has one; its ticks are then in UTC.
    """

    kind: ValueType
    values: npt.NDArray[Any]
    validity: BoolArray | Bitmap | None = None
    scale: int = 0
    unit: str = "us"
    tz: str | None = None

    @property
    def valid(self) -> BoolArray | None:
        """Which values are there, unpacked."""
        return _unpacked(self.validity)

    def __len__(self) -> int:
        return len(self.values)


@dataclass(frozen=True, slots=True)
class TextColumn:
    """Text as an Arrow string array; null and text of no characters are missing."""

    values: pa.Array
    kind: ValueType = "text"

    def __len__(self) -> int:
        return len(self.values)


@dataclass(frozen=True, slots=True)
class CodedColumn:
    """Codes into distinct values.

    Attributes
    ----------
    codes : ndarray of signed or unsigned integers, shape (n_rows,)
        -1 is missing.
    distinct : NumericColumn or TextColumn
        May itself hold missing values.
    validity : ndarray of bool, shape (n_rows,), Bitmap, or None
    """

    codes: npt.NDArray[Any]
    distinct: NumericColumn | TextColumn
    validity: BoolArray | Bitmap | None = None

    @property
    def valid(self) -> BoolArray | None:
        """Which codes are there, unpacked."""
        return _unpacked(self.validity)

    @property
    def kind(self) -> ValueType:
        return self.distinct.kind

    def __len__(self) -> int:
        return len(self.codes)


Column = NumericColumn | TextColumn | CodedColumn


def _unpacked(validity: BoolArray | Bitmap | None) -> BoolArray | None:
    return validity.unpacked if isinstance(validity, Bitmap) else validity


def rows_of(column: Column, rows: slice | BoolArray | npt.NDArray[np.integer[Any]]) -> Column:
    """Return some rows of a column."""
    if isinstance(column, TextColumn):
        if isinstance(rows, slice):
            start, stop, _ = rows.indices(len(column))
            return TextColumn(column.values.slice(start, stop - start), column.kind)
        return TextColumn(column.values.take(pa.array(rows if rows.dtype != bool else np.flatnonzero(rows))))
    validity = None if column.validity is None else column.validity[rows]
    if isinstance(column, CodedColumn):
        return replace(column, codes=column.codes[rows], validity=validity)
    return replace(column, values=column.values[rows], validity=validity)


def column_from_arrow(array: pa.Array, name: str = "") -> Column:
    """Return a column that shares the memory of an Arrow array, where its type allows.

    Raises
    ------
    DataError
        If the type is one that no table reads.
    """
    type_ = array.type
    if pa.types.is_dictionary(type_):
        distinct = column_from_arrow(array.dictionary, name)
        if isinstance(distinct, CodedColumn):
            raise _unreadable(name, type_)
        return CodedColumn(_buffer_values(array.indices), distinct, Bitmap.of(array))
    if pa.types.is_string(type_) or pa.types.is_large_string(type_):
        return TextColumn(array)
    if pa.types.is_string_view(type_):
        return TextColumn(array.cast(pa.large_string()))
    if pa.types.is_null(type_):
        return NumericColumn("number", np.full(len(array), np.nan))
    validity = Bitmap.of(array)
    if pa.types.is_boolean(type_):
        return NumericColumn("boolean", _buffer_values(array.cast(pa.uint8())), validity)
    if pa.types.is_integer(type_):
        return NumericColumn("integer", _buffer_values(array), validity)
    if pa.types.is_floating(type_):
        if pa.types.is_float16(type_):
            array = array.cast(pa.float32())
        return NumericColumn("number", _buffer_values(array), validity)
    if pa.types.is_date32(type_):
        return NumericColumn("date", _buffer_values(array.view(pa.int32())), validity)
    if pa.types.is_date64(type_):
        return NumericColumn("date", _buffer_values(array.cast(pa.date32()).view(pa.int32())), validity)
    if pa.types.is_timestamp(type_):
        return NumericColumn(
            "datetime", _buffer_values(array.view(pa.int64())), validity, unit=type_.unit, tz=type_.tz
        )
    if pa.types.is_decimal(type_):
        return NumericColumn("decimal", _unscaled(array), validity, scale=type_.scale)
    raise _unreadable(name, type_)


def _unreadable(name: str, type_: pa.DataType) -> DataError:
    return DataError(
        f"column {name!r} is of type {type_}, which no table reads",
        expected="text, numbers, booleans, dates or times",
        fix="convert the column first",
    )


def _buffer_values(array: pa.Array) -> npt.NDArray[Any]:
    """Return the values of a fixed-width array without copying; what nulls hold is arbitrary."""
    dtype = np.dtype(array.type.to_pandas_dtype())
    buffer = array.buffers()[1]
    if buffer is None or not len(array):
        return np.empty(len(array), dtype)
    return np.frombuffer(buffer, dtype, count=len(array), offset=array.offset * dtype.itemsize)


def _unscaled(array: pa.Array) -> npt.NDArray[Any]:
    """Return decimals as the integers they are without their point: int64 where all fit, else Python's."""
    array = (
        array.cast(pa.decimal128(array.type.precision, array.type.scale))
        if array.type.bit_width != 128 and array.type.precision <= 38
        else array
    )
    if array.type.bit_width == 128 and len(array):
        words = np.frombuffer(array.buffers()[1], np.int64, 2 * len(array), array.offset * 16).reshape(-1, 2)
        low, high = words[:, 0], words[:, 1]
        if array.type.precision <= 18 or bool((high == (low >> 63)).all()):
            return low
    factor = 10**array.type.scale
    unscaled = np.zeros(len(array), object)
    for index, value in enumerate(array.to_pylist()):
        if value is not None:
            sign, digits, exponent = value.as_tuple()
            unscaled[index] = (
                (-1) ** sign * int("".join(map(str, digits))) * 10**exponent * factor
                if exponent >= 0
                else (-1) ** sign * int("".join(map(str, digits))) * factor // 10**-exponent
            )
    return unscaled


def missing_mask(column: Column) -> BoolArray:
    """Return which rows are missing, shape (n_rows,)."""
    if isinstance(column, TextColumn):
        blank: BoolArray = pc.fill_null(pc.equal(column.values, ""), True).to_numpy(zero_copy_only=False)
        return blank
    if isinstance(column, CodedColumn):
        of_distinct = missing_mask(column.distinct)
        gone = np.asarray(column.codes < 0) if column.valid is None else ~column.valid
        return gone | taken(of_distinct, column.codes) if of_distinct.any() else gone
    mask = np.isnan(column.values) if column.values.dtype.kind == "f" else np.zeros(len(column), bool)
    return mask if column.valid is None else mask | ~column.valid


def arrow_from_column(column: Column) -> pa.Array:
    """Return the column as a plain Arrow array, for counting and showing values."""
    mask = missing_mask(column)
    if isinstance(column, TextColumn):
        return column.values
    if isinstance(column, CodedColumn):
        codes = np.where(mask, 0, column.codes)
        return arrow_from_column(column.distinct).take(pa.array(codes, mask=mask))
    if column.kind == "boolean":
        return pa.array(column.values.astype(bool), mask=mask)
    if column.kind == "date":
        return pa.array(column.values.astype(np.int32), mask=mask).view(pa.date32())
    if column.kind == "datetime":
        return pa.array(column.values.astype(np.int64), mask=mask).view(pa.timestamp(column.unit, column.tz))
    if column.kind == "decimal":
        from decimal import Decimal

        values = [
            None if gone else Decimal(int(v)).scaleb(-column.scale)
            for v, gone in zip(column.values, mask, strict=True)
        ]
        return pa.array(values) if not mask.all() else pa.nulls(len(values))
    return pa.array(column.values, mask=mask)


def type_of_arrow(kind: pa.DataType) -> ValueType | None:
    """Return the type of a column of Arrow; None where it can hold nothing but nulls, or no table reads it."""
    if pa.types.is_dictionary(kind):
        kind = kind.value_type
    tests: list[tuple[ValueType, Callable[[pa.DataType], bool]]] = [
        ("boolean", pa.types.is_boolean),
        ("integer", pa.types.is_integer),
        ("number", pa.types.is_floating),
        ("decimal", pa.types.is_decimal),
        ("date", pa.types.is_date),
        ("datetime", pa.types.is_timestamp),
        ("text", pa.types.is_string),
        ("text", pa.types.is_large_string),
        ("text", pa.types.is_string_view),
    ]
    return next((name for name, is_kind in tests if is_kind(kind)), None)
