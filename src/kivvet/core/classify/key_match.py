"""From the columns of a lookup's keys and ranges to the row of the lookup that holds them.

Each key column becomes the number of its value, the numbers of all one combined number, and that the row; a
range becomes the number of cuts below the value, and with the key's group the row.
"""

from __future__ import annotations

import heapq
import itertools
from collections.abc import Callable, Mapping
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.classify.box_classifier import write_lowest
from kivvet.core.classify.input_coder import count_texts_below, need_whole, reads_nothing
from kivvet.core.classify.outcomes import Outcomes
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
from kivvet.core.space.lookup_index import KeyCodes, NumberCuts, RangeCells, index_of
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import Table
from kivvet.core.words.values import fold_text

_MOST_TABULATED = 1 << 24
_MOST_DENSE = 1 << 22
_ROWS_AT_ONCE = 4_096


class KeyMatch:
    """The keys and ranges of a lookup made ready for columns.

    The outcome is the row that holds the values; else unmatched where the key is unknown, missing where a key
    or a range's value is, no-period where the key is known but no range of it holds the value.
    """

    def __init__(self, table: Table, outcomes: Outcomes) -> None:
        self.index = index_of(table)
        self.unmatched, self.missing = outcomes.unmatched, outcomes.missing
        self.no_period = outcomes.unmatched if outcomes.no_period is None else outcomes.no_period
        self.n_outcomes = outcomes.number
        self.finders = [
            _KeyFinder(one.about, codes)
            for one, codes in zip(self.index.rows.keys, self.index.keys, strict=True)
        ]
        self.ranges = [
            _RangeFinder(one.about, cells)
            for one, cells in zip(self.index.rows.ranges, self.index.ranges, strict=True)
        ]

    def outcomes(self, columns: Mapping[str, Column], names: Mapping[str, str]) -> npt.NDArray[Any]:
        """Return the outcome of each row of data, by the columns of the inputs.

        Raises
        ------
        DataError
            If an input does not read columns of its column's type.
        """
        if not self.finders and len(self.ranges) == 1 and self._outcome_of_cell is not None:
            (one,) = self.ranges
            return one.find(
                columns[one.about.name], names.get(one.about.name, one.about.name), self._outcome_of_cell
            )
        groups = self._groups(columns, names)
        if not self.ranges:
            return self._outcome_of_group[groups]
        cells = [
            one.find(columns[one.about.name], names.get(one.about.name, one.about.name))
            for one in self.ranges
        ]
        if len(self.ranges) == 1:
            return self._by_segment(groups, cells[0])
        return self._by_masks(groups, cells)

    # Groups: n_groups is an unknown key, n_groups + 1 a missing one

    def _groups(self, columns: Mapping[str, Column], names: Mapping[str, str]) -> Array:
        index = self.index
        if not self.finders:
            n_data = len(next(iter(columns.values())))
            return np.zeros(n_data, np.uint8)
        codes = [
            one.find(columns[one.about.name], names.get(one.about.name, one.about.name))
            for one in self.finders
        ]
        if len(codes) == 1:
            return self._group_of_code[codes[0]]
        n_combinations = int(np.prod([float(size) for size in index.sizes]))
        is_tabulated = n_combinations <= _MOST_TABULATED
        groups = np.empty(len(codes[0]), smallest_unsigned(index.n_groups + 2))

        def work(start: int, end: int) -> None:
            for first in range(start, end, 1 << 16):
                last = min(first + (1 << 16), end)
                combined = codes[0][first:last].astype(np.int64)
                for size, code in zip(index.sizes[1:], codes[1:], strict=True):
                    np.multiply(combined, size, out=combined)
                    np.add(combined, code[first:last], out=combined)
                if is_tabulated:
                    np.take(self._group_table, combined, out=groups[first:last], mode="clip")
                    continue
                place = np.searchsorted(index.distinct, combined)
                known = np.append(index.distinct, -1)
                found = np.where(known[place] == combined, place, index.n_groups)
                gone = np.zeros(last - first, bool)
                for size, code in zip(index.sizes, codes, strict=True):
                    gone |= code[first:last] == size - 1
                groups[first:last] = np.where(gone, index.n_groups + 1, found)

        in_threads(work, len(groups))
        return groups

    @cached_property
    def _group_of_code(self) -> Array:
        """With one key column: the group of each code."""
        (codes,) = self.index.keys
        made = np.full(
            len(codes.distinct) + 2, self.index.n_groups, smallest_unsigned(self.index.n_groups + 2)
        )
        held = codes.codes >= 0
        made[codes.codes[held]] = self.index.groups[held]
        made[-1] = self.index.n_groups + 1
        return made

    @cached_property
    def _group_table(self) -> Array:
        """The group of each combination of codes."""
        index = self.index
        made = np.full(index.sizes, index.n_groups, smallest_unsigned(index.n_groups + 2))
        flat = made.reshape(-1)
        flat[index.distinct] = np.arange(index.n_groups)
        for dimension in range(len(index.sizes)):
            np.moveaxis(made, dimension, 0)[-1] = index.n_groups + 1
        return flat

    @cached_property
    def _outcome_of_group(self) -> Array:
        """The first row of each group, then the outcomes of unknown and of missing keys."""
        index = self.index
        made = np.full(index.n_groups + 2, self.unmatched, smallest_unsigned(self.n_outcomes))
        held = np.flatnonzero(index.groups >= 0)
        made[index.groups[held[::-1]]] = held[::-1]
        made[-1] = self.missing
        return made

    # Ranges

    @cached_property
    def _segments(self) -> tuple[Array, Array, Array, Array]:
        """Disjoint stretches of cells in order: group, first cell, end, row; the lowest row wins where some
        meet.
        """
        (cells,) = self.index.ranges
        order = self.index.by_group
        order = order[cells.starts[order] < cells.ends[order]]
        groups, starts, ends = self.index.groups[order], cells.starts[order], cells.ends[order]
        meets = (groups[1:] == groups[:-1]) & (starts[1:] < ends[:-1])
        if not meets.any():
            return groups, starts, ends, order
        made: list[tuple[int, int, int, int]] = []
        crowded = set(groups[1:][meets].tolist())
        firsts = np.flatnonzero(np.diff(groups, prepend=-1))
        for first, last in zip(firsts, [*firsts[1:], len(groups)], strict=True):
            rows = order[first:last]
            group = int(groups[first])
            if group not in crowded:
                made += [(group, int(cells.starts[row]), int(cells.ends[row]), int(row)) for row in rows]
                continue
            made += [(group, *one) for one in _lowest_rows(rows, cells.starts[rows], cells.ends[rows])]
        return tuple(np.array(part, np.int64) for part in zip(*made, strict=True))  # type: ignore[return-value]

    @cached_property
    def _segment_table(self) -> Array | None:
        """The outcome by group and cell, where that is small; the last cell is missing."""
        (cells,) = self.index.ranges
        n_groups, width = self.index.n_groups, cells.n_cells + 1
        if (n_groups + 2) * width > _MOST_TABULATED:
            return None
        made = np.full((n_groups + 2, width), self.no_period, smallest_unsigned(self.n_outcomes))
        for group, start, end, row in zip(*(part.tolist() for part in self._segments), strict=True):
            made[group, start:end] = row
        made[n_groups] = self.unmatched
        made[n_groups + 1] = self.missing
        made[:, -1] = self.missing
        return made.reshape(-1)

    @cached_property
    def _outcome_of_cell(self) -> Array | None:
        """Where the range is all there is: the outcome of each cell, the last of a missing value."""
        table, width = self._segment_table, self.index.ranges[0].n_cells + 1
        return None if table is None else table[:width].astype(smallest_unsigned(self.n_outcomes))

    def _by_segment(self, groups: Array, cells: Array) -> Array:
        width = self.index.ranges[0].n_cells + 1
        out = np.empty(len(groups), smallest_unsigned(self.n_outcomes))
        table = self._segment_table
        segment_groups, starts, ends, rows = self._segments if table is None else (np.empty(0),) * 4
        keys = segment_groups * width + starts

        def work(start: int, end: int) -> None:
            for first in range(start, end, 1 << 16):
                last = min(first + (1 << 16), end)
                group, cell = groups[first:last].astype(np.int64), cells[first:last]
                wanted = group * width + cell
                if table is not None:
                    np.take(table, wanted, out=out[first:last], mode="clip")
                    continue
                made = np.full(last - first, self.no_period, out.dtype)
                place = np.searchsorted(keys, wanted, side="right") - 1
                place[place < 0] = 0
                if len(keys):
                    holds = (segment_groups[place] == group) & (cell >= starts[place]) & (cell < ends[place])
                    made[holds] = rows[place[holds]]
                made[group == self.index.n_groups] = self.unmatched
                made[(group > self.index.n_groups) | (cell == width - 1)] = self.missing
                out[first:last] = made

        in_threads(work, len(out))
        return out

    @cached_property
    def _mask_words(self) -> list[npt.NDArray[np.uint64]]:
        """For the group and for each range the rows that hold each of its numbers, 64 a word."""
        n_rows = self.index.rows.n_rows
        held = [np.zeros((self.index.n_groups + 2, (n_rows + 63) // 64 * 64), bool)]
        keyed = np.flatnonzero(self.index.groups >= 0)
        held[0][self.index.groups[keyed], keyed] = True
        for cells in self.index.ranges:
            of_cell = np.zeros((cells.n_cells + 1, held[0].shape[1]), bool)
            for row in range(n_rows):
                of_cell[cells.starts[row] : cells.ends[row], row] = True
            held.append(of_cell)
        return [np.packbits(one, axis=1, bitorder="little").view("<u8").astype(np.uint64) for one in held]

    def _by_masks(self, groups: Array, cells: list[Array]) -> Array:
        n_groups = self.index.n_groups
        out = np.full(len(groups), self.no_period, np.int64)
        words = self._mask_words
        for first in range(0, len(out), _ROWS_AT_ONCE):
            last = min(first + _ROWS_AT_ONCE, len(out))
            alive = words[0][groups[first:last]]
            for of_cell, cell in zip(words[1:], cells, strict=True):
                alive &= of_cell[cell[first:last]]
            write_lowest(alive, out[first:last])
        out[groups == n_groups] = self.unmatched
        gone = groups == n_groups + 1
        for finder, cell in zip(self.ranges, cells, strict=True):
            gone |= cell == finder.cells.n_cells
        out[gone] = self.missing
        return out


def _lowest_rows(rows: Array, starts: Array, ends: Array) -> list[tuple[int, int, int]]:
    """Return disjoint stretches of cells in order, each with the lowest of the rows that hold it."""
    begins: dict[int, list[int]] = {}
    last_cell: dict[int, int] = {}
    for row, start, end in zip(rows.tolist(), starts.tolist(), ends.tolist(), strict=True):
        begins.setdefault(start, []).append(row)
        last_cell[row] = end
    made: list[tuple[int, int, int]] = []
    alive: list[int] = []  # a heap; rows that have ended are taken out once they are the lowest
    bounds = sorted({*begins, *last_cell.values()})
    for low, high in itertools.pairwise(bounds):
        for row in begins.get(low, ()):
            heapq.heappush(alive, row)
        while alive and last_cell[alive[0]] <= low:
            heapq.heappop(alive)
        if alive:
            made.append((low, high, alive[0]))
    return made


class _KeyFinder:
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


class _RangeFinder:
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
                wide = [max(int(limits.min), one) for one in places]
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
            texts = [str(Decimal(one).normalize()) for one in encoded.dictionary.to_pylist()]
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
