"""Searching boxes for places where two versions give different results.

The search is that of `box_search`, with two versions at once: a box is done where only rows that both share can decide in
it, or where both give one result; any other is cut in two where the fewest rows straddle. It begins in the boxes of the
rows that came, went, changed or moved: nowhere else can results differ. What is found is widened to the largest box
around it in which both results stay what they are, taken as known, and the search goes on.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field

from kivvet.core.check.box_search import BudgetSpentError, Steps, Verdict, place_sought
from kivvet.core.compare.versions import Given, PriorityRow, Version
from kivvet.core.space.boxes import Space, bits_of

Box = list[int]
Pair = tuple[Given, Given]
#: Boxes that are listed; beyond, it is said that there are more.
MOST_BOXES = 100


@dataclass
class Side:
    """One version among rows that are numbered for both: what it gives where some of them are alive.

    Attributes
    ----------
    version : Version
    row_of : mapping of int to PriorityRow
        Its rows by their bits.
    real, ends : int
        Its rows as bits; and what it gives where none of them matches.
    """

    version: Version
    row_of: dict[int, PriorityRow]
    real: int = field(init=False)
    ends: int = field(init=False)

    def __post_init__(self) -> None:
        self.real = sum(1 << bit for bit, row in self.row_of.items() if row.number)
        self.ends = sum(1 << bit for bit, row in self.row_of.items() if not row.number)
        self._alike: dict[object, int] = {}
        for bit, row in self.row_of.items():
            self._alike[row.results] = self._alike.get(row.results, 0) | 1 << bit
        self._made: dict[int, Given] = {}

    def deciding(self, alive: int, sure: int) -> int:
        """Return the rows that may decide in a box: of those alive, which share a place with it, and some hold all of it."""
        if self.version.match == "first":
            return _down_to_first(alive & (self.real | self.ends), sure)
        rows = alive & self.real
        return rows if sure & rows else rows | _down_to_first(alive & self.ends, sure)

    def settled(self, deciding: int, sure: int) -> Given | None:
        """Return what it gives everywhere in a box; None where that is not one thing."""
        lowest = deciding & -deciding
        rows = deciding & self.real
        if self.version.match == "every" and rows:
            return self.of(deciding) if deciding == deciding & sure else None
        if not deciding & ~self._alike[self.row_of[lowest.bit_length() - 1].results]:
            return self.of(lowest if self.version.match == "first" else rows or lowest)
        agreed = sure & rows
        lowest = agreed & -agreed
        if agreed and agreed & ~self._alike[self.row_of[lowest.bit_length() - 1].results]:
            return self.of(agreed)  # rows that disagree do so whichever others hold a place too
        return None

    def of(self, deciding: int) -> Given:
        """Return what rows give that all hold a place."""
        if deciding not in self._made:
            self._made[deciding] = self._of(deciding)
        return self._made[deciding]

    def _of(self, deciding: int) -> Given:
        rows = [self.row_of[bit] for bit in bits_of(deciding & self.real)]
        match = self.version.match
        if not rows or match == "first":
            row = rows[0] if rows else self.row_of[next(bits_of(deciding))]
            return Given(row.results, row.how, (row.number,) if row.number else ())
        numbers = tuple(row.number for row in rows)
        if match == "every":
            return Given(self.version.together(rows), "rows" if len(rows) > 1 else "row", numbers)
        different = {row.results for row in rows}
        if len(different) == 1:
            return Given(rows[0].results, "row", numbers[:1])
        together = tuple(frozenset(each) for each in zip(*different, strict=True))
        return Given((), "disagree", numbers, together)

    def at(self, alive: int) -> Given:
        """Return what it gives at a place, from the rows that hold it."""
        return self.of(self.deciding(alive, alive))


def _down_to_first(rows: int, sure: int) -> int:
    """Return the rows down to the first that holds everything."""
    first = rows & sure & -(rows & sure)
    return rows & ((first << 1) - 1) if first else rows


class DifferenceSearch:
    """Two versions over the cells of one space.

    Parameters
    ----------
    space : Space
        Its rows are those of both that may decide, each once, in an order that is right for both.
    old, new : Side
    budget : int
        Steps that all questions together may take.
    """

    def __init__(self, space: Space, old: Side, new: Side, budget: int) -> None:
        self.space = space
        self.masks = [dimension.masks for dimension in space.dimensions]
        self.n_rows = len(space.table.rows)
        self.old, self.new = old, new
        self.is_alike = old.version.match == new.version.match
        self.steps = Steps(budget)
        self.is_settled, self.has_more = True, False

    def boxes(self, changed: Sequence[int], most: int = MOST_BOXES) -> Iterator[tuple[Box, list[int], Pair]]:
        """Yield boxes in which both give one result each, and these differ: cells as bits, a place, and the results.

        Parameters
        ----------
        changed : sequence of int
            The rows that the two do not share.
        """
        found: list[Box] = []
        try:
            for row in changed:
                within = [
                    list(bits_of(dimension.cells_of_row[row] & dimension.possible))
                    for dimension in self.space.dimensions
                ]
                while (place := self.place(within, found)) is not None:
                    if len(found) == most:
                        self.has_more = True
                        return
                    box = self.widened(place, self.pair_at(place))
                    found.append(box)
                    shown = self.shown_place(box)
                    yield box, shown, self.pair_at(shown)
        except BudgetSpentError:
            self.is_settled = False

    def pair_at(self, place: Sequence[int]) -> Pair:
        """Return what both give at a place, one cell of each dimension."""
        alive = -1
        for masks, cell in zip(self.masks, place, strict=True):
            alive &= masks[cell]
        return self.old.at(alive), self.new.at(alive)

    def shown_place(self, box: Sequence[int]) -> list[int]:
        """Return one cell of each dimension of a box: of the domain, and present, where there is one."""
        return [
            next(bits_of(cells & dimension.inside or cells & dimension.possible or cells))
            for dimension, cells in zip(self.space.dimensions, box, strict=True)
        ]

    def place(
        self, within: Sequence[Sequence[int]], found: Sequence[Box] = (), unlike: Pair | None = None
    ) -> list[int] | None:
        """Return a place outside the boxes found where the two differ, or where what both give is not one pair of
        results; None where there is none.

        Parameters
        ----------
        within : sequence of sequences of int
            For each dimension the cells that count.
        unlike : pair of Given, optional
            The pair that the place is not to give; any other will do.

        Raises
        ------
        BudgetSpentError
        """
        known = ((1 << len(found)) - 1) << self.n_rows
        masks = [
            [
                self.masks[number][cell]
                | sum(1 << (self.n_rows + k) for k, box in enumerate(found) if box[number] >> cell & 1)
                for cell in of_dimension
            ]
            for number, of_dimension in enumerate(within)
        ]

        def judge(alive: int, sure: int) -> Verdict:
            if sure & known:
                return True
            deciding = self.old.deciding(alive, sure), self.new.deciding(alive, sure)
            if self.is_alike and deciding[0] == deciding[1]:
                return unlike is None
            before, after = self.old.settled(deciding[0], sure), self.new.settled(deciding[1], sure)
            if before is not None and after is not None and not alive & known:
                return before == after if unlike is None else (before, after) == unlike
            return deciding[0] | deciding[1] | alive & known

        return place_sought(masks, within, (1 << (self.n_rows + len(found))) - 1, judge, self.steps)

    def widened(self, place: Sequence[int], pair: Pair) -> Box:
        """Return the largest box around a place in which both results stay as they are, each input widened in turn, the
        last one first.
        """
        within = [[cell] for cell in place]
        for number in reversed(range(len(within))):
            dimension = self.space.dimensions[number]
            here = place[number]

            def is_alike(cell: int, number: int = number) -> bool:
                return self.place([*within[:number], [cell], *within[number + 1 :]], unlike=pair) is None

            present = range(dimension.missing)
            if here == dimension.missing:
                cells = [*present, here] if all(map(is_alike, present)) else [here]
            elif dimension.is_ordered:
                cells = _run(here, present, is_alike)
            else:
                cells = [cell for cell in present if cell == here or is_alike(cell)]
            if len(cells) == len(present) and here != dimension.missing and is_alike(dimension.missing):
                cells = [*cells, dimension.missing]
            within[number] = cells
        return [sum(1 << cell for cell in cells) for cells in within]


def _run(here: int, present: range, is_alike: Callable[[int], bool]) -> list[int]:
    """Return the longest run of neighbouring cells around one that are like it."""
    first = last = here
    while first - 1 in present and is_alike(first - 1):
        first -= 1
    while last + 1 in present and is_alike(last + 1):
        last += 1
    return list(range(first, last + 1))
