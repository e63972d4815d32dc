"""What no row covers among the cells of several inputs, as boxes that are as large as can be."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from kivvet.core.check.box_search import DEFAULT_BUDGET, BudgetSpentError, CoverSearch

Box = list[int]


@dataclass
class GapSearch:
    """The cells of several inputs and the rows over them.

    Attributes
    ----------
    masks : sequence of sequences of int
        For each input and each of its cells the rows that accept it, row k as bit k.
    sought : sequence of sequences of int
        For each input the cells where gaps are sought.
    n_rows : int
    is_ordered : sequence of bool
        For each input whether cells next to each other make a readable range.
    missing : sequence of int
        For each input the cell of missing values; -1 where there is none.
    budget : int
        Steps that one question may take.
    is_settled, has_more : bool
        After a search: whether all questions were settled, and whether more gaps remain than were wanted.
    """

    masks: Sequence[Sequence[int]]
    sought: Sequence[Sequence[int]]
    n_rows: int
    is_ordered: Sequence[bool]
    missing: Sequence[int]
    budget: int = DEFAULT_BUDGET
    is_settled: bool = field(default=True, init=False)
    has_more: bool = field(default=False, init=False)

    def boxes(self, most: int) -> list[tuple[Box, list[int]]]:
        """Return uncovered boxes, the cells of each input as bits, each with a place in it; boxes may share
        places.
        """
        found: list[tuple[Box, list[int]]] = []
        try:
            while (place := self.uncovered_place([box for box, _ in found])) is not None:
                if len(found) == most:
                    self.has_more = True
                    break
                found.append((self.widened(place), place))
        except BudgetSpentError:
            self.is_settled = False
        return found

    def uncovered_place(self, extra: Sequence[Box] = ()) -> list[int] | None:
        """Return a place that neither a row nor an extra box covers, one cell of each input.

        Raises
        ------
        BudgetSpentError
        """
        masks = [
            [
                of_cell[cell]
                | sum(1 << (self.n_rows + k) for k, box in enumerate(extra) if box[number] >> cell & 1)
                for cell in cells
            ]
            for number, (of_cell, cells) in enumerate(zip(self.masks, self.sought, strict=True))
        ]
        place = CoverSearch(masks, (1 << (self.n_rows + len(extra))) - 1, self.budget).uncovered()
        if place is None:
            return None
        return [cells[number] for number, cells in zip(place, self.sought, strict=True)]

    def widened(self, place: Sequence[int]) -> Box:
        """Return the box around a place, each input widened as far as no row is met, last to first."""
        box = [1 << cell for cell in place]
        hit = [of_cell[cell] for of_cell, cell in zip(self.masks, place, strict=True)]
        for number in reversed(range(len(box))):
            others = (1 << self.n_rows) - 1
            for other, rows in enumerate(hit):
                if other != number:
                    others &= rows
            free = [cell for cell in self.sought[number] if not self.masks[number][cell] & others]
            if self.is_ordered[number] and len(free) < len(self.sought[number]):
                free = _run_around(place[number], free, self.missing[number])
            box[number] = sum(1 << cell for cell in free)
            hit[number] = 0
            for cell in free:
                hit[number] |= self.masks[number][cell]
        return box


def _run_around(cell: int, free: Sequence[int], missing: int) -> list[int]:
    """Return the longest run of neighbouring cells around one."""
    if cell == missing:
        return [cell]
    available = set(free) - {missing}
    first = last = cell
    while first - 1 in available:
        first -= 1
    while last + 1 in available:
        last += 1
    return list(range(first, last + 1))
