"""Cutting an input into cells: the finitely many parts of it on which no condition changes.

The regions of all rows and of the domain are cut at all their ends. What lies between two
neighbouring cuts is a cell if a value lies there, which the axis decides exactly; parts without a
value (between 39 and 40 for whole numbers) are left out, so whatever two rows share is real.
"""

from __future__ import annotations

import heapq
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from kivvet.core.space.axes import Axis
from kivvet.core.words.regions import HIGH, LOW, Cut, Intervals, Region, union
from kivvet.core.words.values import Value

NO_ROW = -1


@dataclass(frozen=True, slots=True)
class Cell:
    """A stretch of one band that no condition divides, with a value that lies in it."""

    band: int
    low: Cut
    high: Cut
    witness: Value
    in_domain: bool


@dataclass(frozen=True)
class CellCut:
    """An input cut into cells.

    Attributes
    ----------
    cells : tuple of Cell
        By band, then in order.
    spans : tuple of tuple of (int, int)
        For each row the half-open ranges of cells it accepts.
    accepts_missing : tuple of bool
        For each row.
    """

    cells: tuple[Cell, ...]
    spans: tuple[tuple[tuple[int, int], ...], ...]
    accepts_missing: tuple[bool, ...]

    @classmethod
    def of(cls, axis: Axis, regions: Sequence[Region], domain: Region) -> CellCut:
        """Return the cells that the regions and the domain cut the axis into."""
        cells: list[Cell] = []
        spans: list[list[tuple[int, int]]] = [[] for _ in regions]
        for band in range(axis.n_bands):
            first_cell = len(cells)
            cuts = band_cuts([*(region.bands[band] for region in regions), domain.bands[band]])
            positions = {cut: index for index, cut in enumerate(cuts)}
            in_domain = [False] * len(cuts)
            for low, high in domain.bands[band]:
                for index in range(positions[low], positions[high]):
                    in_domain[index] = True
            cell_of_cut = []  # for each cut the number of the first cell at or after it
            for index, low in enumerate(cuts):
                cell_of_cut.append(len(cells))
                if index + 1 == len(cuts):
                    break
                high = cuts[index + 1]
                witness = axis.witness(band, low, high)
                if witness is not None:
                    cells.append(Cell(band, low, high, witness, in_domain[index]))
            if len(cells) == first_cell:
                continue
            for row, region in enumerate(regions):
                for low, high in region.bands[band]:
                    span = cell_of_cut[positions[low]], cell_of_cut[positions[high]]
                    if span[0] < span[1]:
                        spans[row].append(span)
        return cls(tuple(cells), tuple(map(tuple, spans)), tuple(region.missing for region in regions))

    def live_rows(self) -> Iterator[tuple[int, list[int], dict[int, None], int]]:
        """Walk the cells in order, giving for each ``(cell, rows that begin, rows alive, lowest row)``.

        The dict of rows alive is one object, changed from cell to cell; the lowest row is NO_ROW where none
        is.
        """
        begins: dict[int, list[int]] = {}
        ends: dict[int, list[int]] = {}
        for row, ranges in enumerate(self.spans):
            for start, end in ranges:
                begins.setdefault(start, []).append(row)
                ends.setdefault(end, []).append(row)
        alive: dict[int, None] = {}
        lowest: list[int] = []
        for cell in range(len(self.cells)):
            for row in ends.get(cell, ()):
                del alive[row]
            begun = begins.get(cell, [])
            for row in begun:
                alive[row] = None
                heapq.heappush(lowest, row)
            while lowest and lowest[0] not in alive:
                heapq.heappop(lowest)
            yield cell, begun, alive, lowest[0] if lowest else NO_ROW


def joined_spans(spans: Sequence[tuple[int, int]]) -> tuple[tuple[int, int], ...]:
    """Return ranges of cells in order, those that touch as one."""
    made: list[tuple[int, int]] = []
    for start, end in sorted(spans):
        if made and start <= made[-1][1]:
            made[-1] = made[-1][0], max(end, made[-1][1])
        else:
            made.append((start, end))
    return tuple(made)


def covers(outer: Sequence[tuple[int, int]], inner: Sequence[tuple[int, int]]) -> bool:
    """Whether joined ranges of cells hold all of other joined ranges."""
    at = 0
    for start, end in inner:
        while at < len(outer) and outer[at][1] < end:
            at += 1
        if at == len(outer) or outer[at][0] > start:
            return False
    return True


def band_cuts(many: Sequence[Intervals]) -> list[Cut]:
    """Return all ends of the intervals in order, with both ends of the line."""
    return sorted({LOW, HIGH, *(cut for intervals in many for interval in intervals for cut in interval)})


Spans = tuple[tuple[tuple[int, int], ...], ...]
LabelStretches = Callable[[Spans, int], list[int]]


def lowest_rows(spans: Spans, n_stretches: int) -> list[int]:
    """Return the lowest row that holds each stretch, NO_ROW where none does."""
    if all(len(ranges) <= 1 and all(end == start + 1 for start, end in ranges) for ranges in spans):
        found = [NO_ROW] * n_stretches
        for row in range(len(spans) - 1, -1, -1):  # long mappings: a row a stretch
            for start, _ in spans[row]:
                found[start] = row
        return found
    stretches = CellCut((_STRETCH,) * n_stretches, spans, ())
    return [lowest for *_, lowest in stretches.live_rows()]


def row_masks(spans: Spans, n_stretches: int) -> list[int]:
    """Return for each stretch the set of rows that hold it, row k as bit k."""
    changes = [0] * (n_stretches + 1)
    for row, ranges in enumerate(spans):
        for start, end in ranges:
            changes[start] ^= 1 << row
            changes[end] ^= 1 << row
    masks, held = [], 0
    for change in changes[:-1]:
        held ^= change
        masks.append(held)
    return masks


def labels_by_stretch(
    regions: Sequence[Region],
    band: int,
    label: LabelStretches,
    place: Callable[[Cut], Any] = lambda cut: cut,
) -> tuple[list[Any], list[int]]:
    """Return the cuts of one band and the label of each stretch between neighbouring cuts.

    Unlike the cells of a check, stretches without a value are kept: data may have any value.

    Parameters
    ----------
    label : callable
        Gives the labels from the half-open ranges of stretches that each row holds, and their number.
    place : callable
        Moves each cut, for columns in whose type two bounds may be one value.
    """
    moved = [union((place(low), place(high)) for low, high in region.bands[band]) for region in regions]
    cuts = sorted(
        {place(LOW), place(HIGH), *(cut for intervals in moved for interval in intervals for cut in interval)}
    )
    positions = {cut: index for index, cut in enumerate(cuts)}
    spans = tuple(tuple((positions[low], positions[high]) for low, high in intervals) for intervals in moved)
    return cuts, label(spans, len(cuts) - 1)


_STRETCH = Cell(0, LOW, HIGH, 0, False)
