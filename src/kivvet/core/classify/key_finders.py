"""The values of a column among the keys and the ranges of a lookup."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.classify.input_coder import count_texts_below, need_whole, reads_nothing
from kivvet.core.classify.thresholds import float_threshold, whole_threshold
from kivvet.core.columns.arrays import Array, in_threads, smallest_unsigned
from kivvet.core.columns.column import (
    CodedColumn,
    Column,
    NumericColumn,
    TextColumn,
    arrow_from_column,
    missing_mask,
)
from kivvet.core.columns.kernels import Thresholds, label_by_code, label_by_thresholds
from kivvet.core.columns.text_keys import TextKeys
from kivvet.core.space.lookup_index import KeyCodes, NumberCuts, RangeCells
from kivvet.core.tables.inputs import Input
from kivvet.core.words.values import fold_text

_MOST_DENSE = 1 << 22


class KeyFinder:
    """One key: from a column to the number of each value among the different keys; then all others, then
    missing.
    """

    def __init__(self, about: Input, codes: KeyCodes) -> None:
        self.about = about
        self.distinct = codes.distinct
        self.other, self.missing = len(codes.distinct), len(codes.distinct) + 1
        self.kind = smallest_unsigned(self.missing + 1)

    def find(self, column: Column, name: str) -> Array:
        """Return the numbers of a column's values."""
        if reads_nothing(self.about, column, name):
            return np.full(len(column), self.missing, self.kind)
        if isinstance(column, CodedColumn):
            of_distinct = np.append(self.find(column.distinct, name), self.kind(self.missing))
            codes = column.codes if column.valid is None else np.where(column.valid, column.codes, -1)
            return label_by_code(codes, of_distinct, with_counts=False)[0]
        if isinstance(column, TextColumn):
            return self._of_text(column.values)
        return self._of_numbers(column)

    @cached_property
    def _text_keys(self) -> tuple[TextKeys, Array]:
        keys = TextKeys(self.distinct.cast(pa.large_string()))
        return keys, np.append(np.arange(self.other), [self.missing, self.other]).astype(self.kind)

    def _of_text(self, values: pa.Array) -> Array:
        keys, numbers = self._text_keys
        if not self.about.fold:
            return keys.find(values, numbers)
        encoded = pc.dictionary_encode(values)
        distinct = pa.array(
            [fold_text(text, self.about.fold) for text in encoded.dictionary.to_pylist()], pa.large_string()
        )
        of_every = np.append(keys.find(distinct, numbers), self.kind(self.missing))
        codes = pc.fill_null(encoded.indices, -1).to_numpy(zero_copy_only=False)
        return label_by_code(codes, of_every, with_counts=False)[0]

    @cached_property
    def _dense(self) -> tuple[int, Array] | None:
        """For whole numbers close together the number of each; None where they are far apart."""
        if (
            not (pa.types.is_integer(self.distinct.type) or pa.types.is_date32(self.distinct.type))
            or not self.other
        ):
            return None
        keys = self.distinct.cast(pa.int32()) if pa.types.is_date32(self.distinct.type) else self.distinct
        numbers = keys.to_numpy(zero_copy_only=False).astype(np.int64)
        low, high = int(numbers.min()), int(numbers.max())
        if high - low > _MOST_DENSE:
            return None
        made = np.full(high - low + 3, self.other, self.kind)  # one place more on either side for all others
        made[numbers - low + 1] = np.arange(self.other)
        return low, made

    def _of_numbers(self, column: NumericColumn) -> Array:
        is_whole = column.kind in ("integer", "date") and column.values.dtype.kind == "i"
        if self._dense is not None and is_whole:
            low, numbers = self._dense
            out = np.empty(len(column), self.kind)

            def work(start: int, end: int) -> None:
                for first in range(start, end, 1 << 16):
                    last = min(first + (1 << 16), end)
                    place = np.clip(
                        column.values[first:last].astype(np.int64), low - 1, low + len(numbers) - 2
                    )
                    np.subtract(place, low - 1, out=place)
                    np.take(numbers, place, out=out[first:last], mode="clip")

            in_threads(work, len(out))
            if column.valid is not None:
                out[~column.valid] = self.missing
            return out
        gone = missing_mask(column)
        values, wanted = _comparable(arrow_from_column(column)), _comparable(self.distinct)
        numbers = np.arange(self.other).astype(self.kind)
        if values.type != wanted.type:
            values, wanted, kept = _aligned(values, wanted)
            numbers = numbers[kept]
        places = pc.fill_null(pc.index_in(values, value_set=wanted, skip_nulls=True), len(numbers))
        found: Array = np.append(numbers, self.kind(self.other))[places.to_numpy(zero_copy_only=False)]
        found[gone] = self.missing
        return found


class RangeFinder:
    """One range: from a column to the cell of each value; the last number is missing."""

    def __init__(self, about: Input, cells: RangeCells) -> None:
        self.about = about
        self.cells = cells
        self._thresholds: dict[object, Thresholds] = {}

    def find(self, column: Column, name: str, labels: Array | None = None) -> Array:
        """Return the label of the cell of each of a column's values: of cell c ``labels[c]``, or c itself.

        Parameters
        ----------
        column : Column
        name : str
        labels : ndarray, shape (n_cells + 1,), optional
            The last is the label of missing values.
        """
        if labels is None:
            labels = np.arange(self.cells.n_cells + 1).astype(smallest_unsigned(self.cells.n_cells + 1))
        missing = labels[-1]
        if reads_nothing(self.about, column, name):
            return np.full(len(column), missing, labels.dtype)
        if isinstance(column, CodedColumn):
            of_distinct = np.append(self.find(column.distinct, name, labels), missing)
            codes = column.codes if column.valid is None else np.where(column.valid, column.codes, -1)
            return label_by_code(codes, of_distinct, with_counts=False)[0]
        if isinstance(column, TextColumn):
            encoded = pc.dictionary_encode(column.values)
            distinct = encoded.dictionary.cast(pa.large_string())
            if self.about.fold:
                distinct = pa.array(
                    [fold_text(text, self.about.fold) for text in distinct.to_pylist()], pa.large_string()
                )
            found = labels[count_texts_below(distinct, self.cells.cuts)]
            found[pc.equal(distinct, "").to_numpy(zero_copy_only=False)] = missing
            codes = pc.fill_null(encoded.indices, -1).to_numpy(zero_copy_only=False)
            return label_by_code(codes, np.append(found, missing), with_counts=False)[0]
        if self.about.type == "integer" and column.values.dtype.kind == "f":
            need_whole(column, self.about)
        of_cell = labels[:-1]
        if column.values.dtype.kind == "f":
            of_cell = np.append(missing, of_cell)  # what lies below -infinity is NaN
        made, _ = label_by_thresholds(column.values, self._thresholds_for(column), of_cell, with_counts=False)
        if column.valid is not None:
            made[~column.valid] = missing
        return made

    def _places_at_once(self, column: NumericColumn) -> list[Any] | None:
        """Return the thresholds where they are the bounds themselves, or next to them; None where they are
        not.
        """
        cuts, dtype = self.cells.cuts, column.values.dtype
        if not isinstance(cuts, NumberCuts) or self.about.step is not None:
            return None
        if self.about.type == "number" and dtype == np.float64:
            beyond = np.nextafter(cuts.values, np.inf)
            return list(np.where(cuts.sides == 1, beyond, cuts.values))
        if self.about.type == column.kind and column.kind in ("integer", "date") and dtype.kind == "i":
            found: list[Any] = cuts.values.tolist()
            return found
        return None

    def _thresholds_for(self, column: NumericColumn) -> Thresholds:
        """Return the cuts in the column's own type; bounds that are one value there leave no cell between
        them.
        """
        key = (column.values.dtype, column.kind, column.scale, column.unit, column.tz)
        if key not in self._thresholds:
            dtype = column.values.dtype
            place: Callable[[Any], Any] = (
                (lambda cut: float_threshold(cut, self.about, dtype))
                if dtype.kind == "f"
                else (lambda cut: whole_threshold(cut, self.about, column))
            )
            places = self._places_at_once(column)
            if places is None:
                places = [place(cut) for cut in self.cells.cuts]
            if dtype.kind in "iu":
                limits = np.iinfo(dtype)
                wide = [max(int(limits.min), place) for place in places]
                # What no value of the type reaches lies beyond all of them.
                places = [one for one in wide if one <= limits.max]
            if dtype.kind == "f":
                places = [-np.inf, *places]
            made = np.array(places, dtype)
            self._thresholds[key] = Thresholds(np.maximum.accumulate(made) if len(made) else made)
        return self._thresholds[key]


def _comparable(array: pa.Array) -> pa.Array:
    """Return keys or data in a type that hashes equal values alike: -0 as 0, NaN as null."""
    if pa.types.is_floating(array.type):
        array = array.cast(pa.float64())
        return pc.if_else(pc.is_nan(array), pa.scalar(None, pa.float64()), pc.add(array, 0.0))
    if pa.types.is_integer(array.type) and not pa.types.is_uint64(array.type):
        return array.cast(pa.int64())
    return array


def _aligned(values: pa.Array, keys: pa.Array) -> tuple[pa.Array, pa.Array, Array]:
    """Return data and keys of two types in one that both fit exactly, and which keys were kept."""
    everything = np.arange(len(keys))
    if pa.types.is_decimal(values.type) or pa.types.is_decimal(keys.type) or pa.types.is_uint64(values.type):
        # Exact, whatever the digits: both sides in one canonical writing.
        from decimal import Decimal

        def written(array: pa.Array) -> pa.Array:
            encoded = pc.dictionary_encode(array)
            texts = [str(Decimal(value).normalize()) for value in encoded.dictionary.to_pylist()]
            return pa.array(texts, pa.string()).take(encoded.indices)

        return written(values), written(keys), everything
    if pa.types.is_integer(values.type) and pa.types.is_floating(keys.type):
        numbers = keys.to_numpy(zero_copy_only=False)
        whole = np.flatnonzero((numbers == np.trunc(numbers)) & (np.abs(numbers) < 2.0**63))
        return values, pa.array(numbers[whole].astype(np.int64)), whole
    if pa.types.is_floating(values.type) and pa.types.is_integer(keys.type):
        numbers = keys.to_numpy(zero_copy_only=False)
        floats = numbers.astype(np.float64)
        exact = np.flatnonzero(floats.astype(object) == numbers.astype(object))
        return values, pa.array(floats[exact]), exact
    return values, keys.cast(values.type), everything
