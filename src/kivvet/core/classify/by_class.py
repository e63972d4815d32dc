"""One column for each class: 1 or an amount where a row is of the class, else 0 or nothing."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import CHUNK, Array, in_threads
from kivvet.core.columns.column import (
    BoolArray,
    CodedColumn,
    Column,
    NumericColumn,
    TextColumn,
    arrow_from_column,
    missing_mask,
)
from kivvet.core.words.values import Value, ValueType, days_since_epoch

#: The class of a row without a value, and of one whose value is none of the classes.
NO_CLASS, OUTSIDE = -1, -2


def class_codes(column: Column, classes: Sequence[Value]) -> Array:
    """Return for each row the place of its class, `NO_CLASS` or `OUTSIDE`.

    Parameters
    ----------
    column : Column
    classes : sequence of str, Decimal, bool or date
    """
    dtype = np.int8 if len(classes) <= 127 else np.int16
    if isinstance(column, CodedColumn):
        of_distinct = np.append(_codes_of_values(column.distinct, classes), NO_CLASS).astype(dtype)
        codes = column.codes if column.valid is None else np.where(column.valid, column.codes, -1)
        if codes.dtype == dtype and (of_distinct[:-1] == np.arange(len(of_distinct) - 1)).all():
            as_they_are: Array = codes
            return as_they_are
        if codes.dtype.kind == "u":
            taken: Array = of_distinct[codes]
            return taken
        made = np.empty(len(codes), dtype)

        def work(start: int, end: int) -> None:
            for first in range(start, end, CHUNK):
                rows = slice(first, min(first + CHUNK, end))
                np.take(of_distinct, codes[rows], out=made[rows], mode="wrap")  # -1 is the last

        in_threads(work, len(codes))
        return made
    return _codes_of_values(column, classes).astype(dtype)


def _codes_of_values(column: NumericColumn | TextColumn, classes: Sequence[Value]) -> Array:
    gone = missing_mask(column)
    if isinstance(column, TextColumn):
        texts = pa.array([str(one) for one in classes], column.values.type)
        found = pc.fill_null(pc.index_in(column.values, value_set=texts, skip_nulls=True), OUTSIDE)
        codes = found.to_numpy(zero_copy_only=False)
        return np.where(gone, NO_CLASS, codes)
    raw = _raw(classes, column.kind)
    order = np.argsort(raw, kind="stable")
    places = np.searchsorted(raw, column.values, sorter=order)
    candidates = order[np.minimum(places, len(raw) - 1)]
    return np.where(gone, NO_CLASS, np.where(raw[candidates] == column.values, candidates, OUTSIDE))


def _raw(classes: Sequence[Any], kind: ValueType) -> Array:
    """Return classes as a column of their type holds them."""
    if kind == "date":
        return np.array([days_since_epoch(one) for one in classes], np.int64)
    return np.array([float(one) if kind == "number" else int(one) for one in classes])


class ClassColumns:
    """Makes one column for each class from the classes of the rows.

    Parameters
    ----------
    held : sequence of ndarray of bool, shape (n_rows,), or ndarray of integers, shape (n_rows,)
        By class which rows are of it, where a row may be of several; else the place of each row's class.
    classless : ndarray of bool, shape (n_rows,), or None
        The rows of which no class is known; None: there are none.
    n_columns : int
        The columns to make; of one more than there are classes, the last is for the rows without a class.
    """

    def __init__(
        self,
        held: Array | Sequence[BoolArray],
        classless: BoolArray | None,
        n_columns: int,
        *,
        has_rest: bool,
    ) -> None:
        self.held = held
        self.n_columns = n_columns
        self.rest = n_columns - 1 if has_rest else None
        self.classless = classless
        self.n_rows = len(held[0]) if isinstance(held, (list, tuple)) else len(held)
        self._known: BoolArray | None = None if classless is None or has_rest else ~classless

    def rows_of(self, number: int, rows: slice, out: BoolArray) -> BoolArray:
        """Return which rows belong into a column."""
        if number == self.rest:
            out[:] = False if self.classless is None else self.classless[rows]
        elif isinstance(self.held, np.ndarray):
            np.equal(self.held[rows], number, out=out)
        else:
            out[:] = self.held[number][rows]
        return out

    def indicators(self, *, is_boolean: bool) -> list[pa.Array]:
        """Return columns of 1 and 0, or true and false; a row without a class is missing in all, unless it has a column
        of its own.
        """
        n_rows = self.n_rows
        size = (n_rows + 7) // 8 if is_boolean else n_rows
        buffers = [pa.allocate_buffer(size) for _ in range(self.n_columns)]
        made = [np.frombuffer(buffer, np.uint8) for buffer in buffers]

        def work(start: int, end: int) -> None:
            start, end = self._aligned(start, end)
            mask = np.empty(CHUNK, bool)
            for first in range(start, end, CHUNK):
                rows = slice(first, min(first + CHUNK, end))
                for number, values in enumerate(made):
                    if is_boolean:
                        held = self.rows_of(number, rows, mask[: rows.stop - first])
                        values[first // 8 : (rows.stop + 7) // 8] = np.packbits(held, bitorder="little")
                    else:
                        self.rows_of(number, rows, values[rows].view(np.bool_))

        in_threads(work, n_rows)
        bitmap, n_gone = _bitmap(self._known)
        type_ = pa.bool_() if is_boolean else pa.int8()
        return [pa.Array.from_buffers(type_, n_rows, [bitmap, buffer], n_gone) for buffer in buffers]

    def amounts(self, amount: Column, *, elsewhere_missing: bool) -> list[pa.Array]:
        """Return columns of amounts, each where its class is, and 0 or nothing elsewhere."""
        gone = missing_mask(amount)
        missing = gone if gone.any() else None
        if not isinstance(amount, NumericColumn) or amount.kind not in ("integer", "number"):
            return self._any_amounts(arrow_from_column(amount), elsewhere_missing=elsewhere_missing)
        values = amount.values
        # The bits of a value times 1 or 0 are the value or nothing, quicker than a choice, and never -0.
        bits_of = values.view(f"i{values.itemsize}")
        buffers = [pa.allocate_buffer(values.nbytes) for _ in range(self.n_columns)]
        made = [np.frombuffer(buffer, bits_of.dtype) for buffer in buffers]
        has_gaps = elsewhere_missing or missing is not None or self._known is not None
        bits = [np.empty((self.n_rows + 7) // 8, np.uint8) for _ in made] if has_gaps else []

        def work(start: int, end: int) -> None:
            start, end = self._aligned(start, end)
            mask, there = np.empty(CHUNK, bool), np.empty(CHUNK, bool)
            for first in range(start, end, CHUNK):
                rows = slice(first, min(first + CHUNK, end))
                n = rows.stop - first
                for number, out in enumerate(made):
                    held = self.rows_of(number, rows, mask[:n])
                    np.multiply(bits_of[rows], held.view(np.int8), out=out[rows])
                    if has_gaps:
                        valid = self._valid(
                            held, rows, missing, there[:n], elsewhere_missing=elsewhere_missing
                        )
                        bits[number][first // 8 : (rows.stop + 7) // 8] = np.packbits(
                            valid, bitorder="little"
                        )

        in_threads(work, self.n_rows)
        type_ = pa.from_numpy_dtype(values.dtype)
        return [
            pa.Array.from_buffers(
                type_, self.n_rows, [pa.py_buffer(bits[number]) if has_gaps else None, values_of]
            )
            for number, values_of in enumerate(buffers)
        ]

    def _valid(
        self,
        held: BoolArray,
        rows: slice,
        missing: BoolArray | None,
        out: BoolArray,
        *,
        elsewhere_missing: bool,
    ) -> BoolArray:
        """Return where a column of amounts has a value."""
        if elsewhere_missing:
            out[:] = held
            if missing is not None:
                out &= ~missing[rows]
            return out
        out[:] = True if self._known is None else self._known[rows]
        if missing is not None:
            out &= ~(held & missing[rows])
        return out

    def _any_amounts(self, amounts: pa.Array, *, elsewhere_missing: bool) -> list[pa.Array]:
        """Return columns of amounts of a type that is exact: decimals."""
        zero = pa.scalar(None if elsewhere_missing else 0, amounts.type)
        everything = slice(0, self.n_rows)
        found = []
        for number in range(self.n_columns):
            held = self.rows_of(number, everything, np.empty(self.n_rows, bool))
            made = pc.if_else(pa.array(held), amounts, zero)
            if self._known is not None and not elsewhere_missing:
                made = pc.if_else(pa.array(self._known), made, pa.scalar(None, amounts.type))
            found.append(made)
        return found

    def _aligned(self, start: int, end: int) -> tuple[int, int]:
        """Return a thread's share of the rows from one multiple of eight to another: threads share no byte."""
        return start // 8 * 8, self.n_rows if end == self.n_rows else end // 8 * 8


def _bitmap(valid: npt.NDArray[np.bool_] | None) -> tuple[pa.Buffer | None, int]:
    if valid is None:
        return None, 0
    return pa.py_buffer(np.packbits(valid, bitorder="little")), len(valid) - int(np.count_nonzero(valid))
