"""From the columns of a lookup's keys and ranges to the row of the lookup that holds them.

Each key column becomes the number of its value, the numbers of all one combined number, and that the row; a
range becomes the number of cuts below the value, and with the key's group the row.
"""

from __future__ import annotations

import heapq
import itertools
from collections.abc import Mapping
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt

from kivvet.core.classify.box_classifier import write_lowest
from kivvet.core.classify.key_finders import KeyFinder, RangeFinder
from kivvet.core.classify.outcomes import Outcomes
from kivvet.core.columns.arrays import Array, in_threads, smallest_unsigned
from kivvet.core.columns.column import (
    Column,
)
from kivvet.core.space.lookup_index import index_of
from kivvet.core.tables.table import Table

_MOST_TABULATED = 1 << 24
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
            KeyFinder(one.about, codes)
            for one, codes in zip(self.index.rows.keys, self.index.keys, strict=True)
        ]
        self.ranges = [
            RangeFinder(one.about, cells)
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
            range_.find(columns[range_.about.name], names.get(range_.about.name, range_.about.name))
            for range_ in self.ranges
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
            finder.find(columns[finder.about.name], names.get(finder.about.name, finder.about.name))
            for finder in self.finders
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
