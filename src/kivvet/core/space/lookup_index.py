"""The rows of a lookup put in order: rows of one key as a group, their ranges as stretches between cuts."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from functools import cached_property
from typing import Any, overload

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import Places
from kivvet.core.space.axes import Axis
from kivvet.core.space.make_axis import make_axis
from kivvet.core.tables.lookup_rows import KeyColumn, LookupRows, RangeColumn
from kivvet.core.tables.table import Table
from kivvet.core.words.kept import kept
from kivvet.core.words.regions import HIGH, LOW, Cut


@dataclass(frozen=True)
class KeyCodes:
    """One key column: its different values, and for each row the number of its value (-1: blank)."""

    distinct: pa.Array
    codes: Places

    @classmethod
    def of(cls, key: KeyColumn) -> KeyCodes:
        """Return the codes of a key column; NaN counts as blank."""
        encoded = pc.dictionary_encode(key.values)
        codes = pc.fill_null(encoded.indices, -1).to_numpy(zero_copy_only=False).astype(np.int64)
        if pa.types.is_floating(key.values.type):
            codes[pc.is_null(key.values, nan_is_null=True).to_numpy(zero_copy_only=False)] = -1
        return cls(encoded.dictionary, codes)


@dataclass(frozen=True)
class NumberCuts(Sequence[Cut]):
    """Cuts of numbers or days, in order, as arrays; one is made when it is asked for.

    Attributes
    ----------
    values : ndarray of int64 or float64
    sides : ndarray of int8
        0 just before a value, 1 just after it.
    """

    values: npt.NDArray[Any]
    sides: npt.NDArray[np.int8]

    def __len__(self) -> int:
        return len(self.values)

    @overload
    def __getitem__(self, index: int) -> Cut: ...
    @overload
    def __getitem__(self, index: slice) -> list[Cut]: ...
    def __getitem__(self, index: int | slice) -> Cut | list[Cut]:
        if isinstance(index, slice):
            return [self[one] for one in range(*index.indices(len(self)))]
        value = self.values[index].item()
        return (0, Decimal(repr(value)) if isinstance(value, float) else value, int(self.sides[index]))


@dataclass(frozen=True)
class RangeCells:
    """One range column: the cuts of all its ends, and for each row the half-open run of cells it holds.

    Cell c lies beyond just c of the cuts.
    """

    axis: Axis
    cuts: Sequence[Cut]
    starts: Places
    ends: Places

    @property
    def n_cells(self) -> int:
        return len(self.cuts) + 1

    @classmethod
    def of(cls, column: RangeColumn, groups: Places) -> RangeCells:
        """Return the cells of a range column; `groups` say which rows follow each other where there is no
        end.
        """
        axis = make_axis(column.about)
        if (made := _number_cells(axis, column, groups)) is not None:
            return made
        lows = [
            _cut(axis, value, column.is_closed(row, at_start=True), at_start=True)
            for row, value in enumerate(column.start.to_pylist())
        ]
        if column.end is not None:
            highs = [
                _cut(axis, value, column.is_closed(row, at_start=False), at_start=False)
                for row, value in enumerate(column.end.to_pylist())
            ]
        else:
            highs = _next_starts(lows, groups)
        cuts = tuple(sorted({cut for cut in (*lows, *highs) if cut not in (LOW, HIGH)}))
        place = {LOW: 0, HIGH: len(cuts) + 1, **{cut: index + 1 for index, cut in enumerate(cuts)}}
        return cls(
            axis,
            cuts,
            np.array([place[cut] for cut in lows], np.int64),
            np.array([place[cut] for cut in highs], np.int64),
        )

    def write(self, start: int, end: int) -> str:
        """Return a run of cells as a condition."""
        low = LOW if start == 0 else self.cuts[start - 1]
        high = HIGH if end > len(self.cuts) else self.cuts[end - 1]
        return self.axis.write_interval(low, high)

    def has_value(self, start: int, end: int) -> bool:
        """Whether a value lies in a run of cells."""
        low = LOW if start == 0 else self.cuts[start - 1]
        high = HIGH if end > len(self.cuts) else self.cuts[end - 1]
        return low < high and any(
            self.axis.witness(band, low, high) is not None for band in range(self.axis.n_bands)
        )


def _number_cells(axis: Axis, column: RangeColumn, groups: Places) -> RangeCells | None:
    """Return the cells of a range of numbers or days, all rows at once; None for other types."""
    kind = column.about.type
    if kind not in ("number", "integer", "date"):
        return None
    lows, low_sides, low_open = _ends(column.start, column.start_closed, kind, at_start=True)
    if column.end is None:
        values, sides, (starts,) = _ranked([(lows, low_sides, low_open)])
        starts = np.where(low_open, 0, starts)
        ends = _ranks_after(starts, groups, len(values) + 1)
    else:
        highs, high_sides, high_open = _ends(column.end, column.end_closed, kind, at_start=False)
        values, sides, (starts, ends) = _ranked([(lows, low_sides, low_open), (highs, high_sides, high_open)])
        starts, ends = np.where(low_open, 0, starts), np.where(high_open, len(values) + 1, ends)
    return RangeCells(axis, NumberCuts(values, sides), starts, ends)


_Ends = tuple[npt.NDArray[Any], npt.NDArray[np.int8], npt.NDArray[np.bool_]]


def _ends(array: pa.Array, closed: bool | pa.Array, kind: str, *, at_start: bool) -> _Ends:
    """Return one end of each range as value and side, and which are open."""
    is_open = pc.is_null(array, nan_is_null=True).to_numpy(zero_copy_only=False)
    plain = array.cast(pa.int32()) if pa.types.is_date32(array.type) else array
    values = pc.fill_null(plain, 0).to_numpy(zero_copy_only=False)
    values = np.where(is_open, 0, values).astype(np.float64 if kind == "number" else np.int64)
    is_closed: npt.NDArray[np.bool_] = (
        np.full(len(array), closed)
        if isinstance(closed, bool)
        else pc.fill_null(closed, True).to_numpy(zero_copy_only=False)
    )
    is_after = ~is_closed if at_start else is_closed
    if kind == "number":
        return values + 0.0, is_after.astype(np.int8), is_open
    return (
        values + is_after,
        np.zeros(len(values), np.int8),
        is_open,
    )  # whole numbers: just before the next one


def _ranked(many: Sequence[_Ends]) -> tuple[npt.NDArray[Any], npt.NDArray[np.int8], list[Places]]:
    """Return the different cuts in order, and for each end its place among them, counted from 1."""
    values, sides = (np.concatenate([one[part] for one in many]) for part in (0, 1))
    is_open = np.concatenate([one[2] for one in many])
    held = np.flatnonzero(~is_open)
    order = held[np.lexsort((sides[held], values[held]))]
    is_new = np.ones(len(order), bool)
    is_new[1:] = (values[order][1:] != values[order][:-1]) | (sides[order][1:] != sides[order][:-1])
    ranks = np.zeros(len(values), np.int64)
    ranks[order] = np.cumsum(is_new)
    first = order[is_new]
    return (
        values[first],
        sides[first].astype(np.int8),
        np.split(ranks, np.cumsum([len(one[0]) for one in many])[:-1]),
    )


def _ranks_after(starts: Places, groups: Places, end: int) -> Places:
    """Return for each row the next start of its group, `end` for the last."""
    order = np.lexsort((starts, groups))
    group, start = groups[order], starts[order]
    is_new = np.ones(len(order), bool)
    is_new[1:] = (group[1:] != group[:-1]) | (start[1:] != start[:-1])
    firsts = np.append(np.flatnonzero(is_new), len(order))
    following = firsts[np.cumsum(is_new)]  # for each place the first place of the next run
    last = len(order) - 1
    here = np.minimum(following, max(last, 0))
    inside = (following <= last) & (group[here] == group) if len(order) else np.zeros(0, bool)
    made = np.empty(len(order), np.int64)
    made[order] = np.where(inside, start[here], end) if len(order) else made
    return made


def _cut(axis: Axis, value: Any, closed: bool, *, at_start: bool) -> Cut:
    if value is None or value != value:  # noqa: PLR0124 - NaN is blank too
        return LOW if at_start else HIGH
    exact = Decimal(repr(value)) if isinstance(value, float) else value
    return axis.lower_cut(exact, closed) if at_start else axis.upper_cut(exact, closed)


def _next_starts(lows: Sequence[Cut], groups: Places) -> list[Cut]:
    """Return for each row the next start of its group, the end of the line for the last."""
    highs: list[Cut] = [HIGH] * len(lows)
    order = sorted(range(len(lows)), key=lambda row: (groups[row], lows[row]))
    following = HIGH
    for place in range(len(order) - 1, -1, -1):
        row = order[place]
        is_last = place + 1 == len(order) or groups[order[place + 1]] != groups[row]
        if is_last:
            following = HIGH
        elif lows[order[place + 1]] != lows[row]:
            following = lows[order[place + 1]]
        highs[row] = following
    return highs


class LookupIndex:
    """A lookup's rows by key and range.

    Attributes
    ----------
    keys : tuple of KeyCodes
    groups : ndarray of int64, shape (n_rows,)
        The number of each row's key; -1 where a key is blank.
    n_groups : int
    """

    def __init__(self, rows: LookupRows) -> None:
        self.rows = rows
        self.keys = tuple(KeyCodes.of(key) for key in rows.keys)
        self.sizes = tuple(len(key.distinct) + 2 for key in self.keys)
        self.combined = self._combined([key.codes for key in self.keys])
        self.distinct, groups = np.unique(self.combined, return_inverse=True)
        blank = np.logical_or.reduce([np.zeros(rows.n_rows, bool), *(key.codes < 0 for key in self.keys)])
        self.groups: Places = np.where(blank, -1, groups.reshape(-1))
        self.n_groups = len(self.distinct)

    def _combined(self, codes: Sequence[Places]) -> Places:
        """Return one number for each combination of key codes; -1 counts as the last code."""
        made = np.zeros(self.rows.n_rows, np.int64)
        for size, one in zip(self.sizes, codes, strict=True):
            made = made * size + np.where(one < 0, size - 1, one)
        return made

    @cached_property
    def ranges(self) -> tuple[RangeCells, ...]:
        """The range columns in cells."""
        return tuple(RangeCells.of(range_, self.groups) for range_ in self.rows.ranges)

    @cached_property
    def by_group(self) -> Places:
        """The rows with a key, by group, within a group by start and then in their own order."""
        keys = [
            np.arange(self.rows.n_rows),
            *(range_.starts for range_ in reversed(self.ranges)),
            self.groups,
        ]
        order = np.lexsort(keys)
        return order[self.groups[order] >= 0]

    def rows_of_groups(self, groups: Sequence[int]) -> Iterator[Places]:
        """Yield the rows of some groups."""
        numbers = self.groups[self.by_group]
        for group in groups:
            first, end = np.searchsorted(numbers, [group, group + 1])
            yield self.by_group[first:end]


@kept
def index_of(table: Table) -> LookupIndex:
    """Return the rows of a lookup by key and range."""
    assert table.lookup is not None
    return LookupIndex(table.lookup)


def parts_of_row(table: Table, row: int, *, with_names: bool = False) -> tuple[str, ...]:
    """Return the key and the ranges of a row of a lookup, from 0, as they read.

    Parameters
    ----------
    with_names : bool
        Whether the name of the one key stands before it, as those of several do.
    """
    assert table.lookup is not None
    keys = table.lookup.keys
    parts = [table.lookup.shown_key(row)] if keys else []
    if with_names and len(keys) == 1:
        parts = [f"{keys[0].about.name} = {parts[0]}"]
    for column, cells in zip(table.lookup.ranges, index_of(table).ranges, strict=True):
        if cells.starts[row] < cells.ends[row]:
            parts.append(f"{column.about.name} {cells.write(int(cells.starts[row]), int(cells.ends[row]))}")
    return tuple(parts)
