"""Searching boxes for what no row covers: boxes are halved until a row covers each half.

Every input is cut into cells; a row accepts a set of cells of each. The search begins with the whole space
and keeps, for each box under way, the rows alive: those that share a place with it. A box is done where
a row alive holds all of it, and uncovered where no row is alive; any other is cut in two at the place that
the fewest rows alive straddle, the most constrained input first. Inputs on which all rows alive agree no
longer count, so that different boxes become the same question, which is asked once. Nothing is sampled:
where the budget of steps ends, the question stays open.

The question is whether a union of boxes covers a box. It is as hard as deciding whether a formula in
disjunctive normal form always holds (co-NP-complete), so any exact method needs a budget; cutting where few
boxes are cut follows the divide-and-conquer methods for the measure of a union of boxes (Overmars and Yap
1991, Chan 2013).
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

#: Steps that one question may take, each a box and the rows alive in it.
DEFAULT_BUDGET = 200_000

Ranges = tuple[tuple[int, int], ...]


class BudgetSpentError(Exception):
    """The question is still open."""


class CoverSearch:
    """One space of cells and the rows over it.

    Parameters
    ----------
    masks : sequence of sequences of int
        For each dimension and each of its cells the rows that accept it, row k as bit k.
    rows : int
        The rows that count.
    budget : int
        Steps until `BudgetSpentError`.
    """

    def __init__(self, masks: Sequence[Sequence[int]], rows: int, budget: int = DEFAULT_BUDGET) -> None:
        self.rows = rows
        self.budget = budget
        self.n_steps = 0
        #: The rows that held a box; together they cover what was proven.
        self.used = 0
        self._masks: list[list[int]] = []
        self._cells: list[list[int]] = []  # for each different mask the first cell that has it
        for cells in masks:
            different, first = different_cells(cells, rows)
            self._masks.append(different)
            self._cells.append(first)

    def uncovered(self) -> list[int] | None:
        """Return a place that no row covers, one cell of each dimension; None: there is none.

        Raises
        ------
        BudgetSpentError
        """
        if any(not cells for cells in self._cells):
            return None  # a dimension without a cell has no places at all
        everywhere = self.rows
        for masks in self._masks:
            everywhere &= any_of(masks)
        waiting: list[tuple[int, Ranges]] = [(everywhere, tuple((0, len(cells)) for cells in self._cells))]
        asked: set[tuple[int, tuple[tuple[int, int] | None, ...]]] = set()
        while waiting:
            alive, ranges = waiting.pop()
            if not alive:
                return [cells[start] for cells, (start, _) in zip(self._cells, ranges, strict=True)]
            sure = alive
            free_by_dimension = []
            question: list[tuple[int, int] | None] = []
            for dimension, (start, end) in enumerate(ranges):
                free = alive
                for mask in self._masks[dimension][start:end]:
                    free &= mask
                    if not free:
                        break
                sure &= free
                question.append(None if free == alive else (start, end))
                if free != alive:
                    free_by_dimension.append((free.bit_count(), dimension))
            if sure:
                self.used |= sure & -sure
                continue
            key = (alive, tuple(question))
            if key in asked:
                continue
            asked.add(key)
            self.n_steps += 1
            if self.n_steps > self.budget:
                raise BudgetSpentError
            free_by_dimension.sort()
            dimension, at = best_cut(self._masks, alive, ranges, [number for _, number in free_by_dimension])
            halves = []
            start, end = ranges[dimension]
            for low, high in ((start, at), (at, end)):
                touching = alive & any_of(self._masks[dimension][low:high])
                halves.append((touching, (*ranges[:dimension], (low, high), *ranges[dimension + 1 :])))
            # What has fewer rows is looked at first: an uncovered place is likelier there.
            halves.sort(key=lambda half: -half[0].bit_count())
            waiting += halves
        return None


#: What a judge says of a box: it is done (True), it holds what is sought everywhere (False), or it is to be cut where these rows differ.
Verdict = bool | int


class Steps:
    """The steps that questions have taken together.

    Attributes
    ----------
    budget, taken : int
    """

    def __init__(self, budget: int) -> None:
        self.budget, self.taken = budget, 0

    def take(self, n: int = 1) -> None:
        """Take some; `BudgetSpentError` where there are no more."""
        self.taken += n
        if self.taken > self.budget:
            raise BudgetSpentError


def place_sought(
    masks_of: Sequence[Sequence[int]],
    within: Sequence[Sequence[int]],
    rows: int,
    judge: Callable[[int, int], Verdict],
    steps: Steps,
) -> list[int] | None:
    """Return a place that a judge seeks, one cell of each dimension; None: there is none.

    Parameters
    ----------
    masks_of : sequence of sequences of int
        For each dimension and each of the cells that count the rows that accept it, row k as bit k.
    within : sequence of sequences of int
        These cells.
    rows : int
        The rows that count.
    judge : callable
        Called with the rows that share a place with a box, and with those that hold all of it.

    Raises
    ------
    BudgetSpentError
    """
    masks, cells = [], []
    for own, of_dimension in zip(masks_of, within, strict=True):
        different, first = different_cells(own, rows)
        masks.append(different)
        cells.append([of_dimension[one] for one in first])
    if any(not cell for cell in cells):
        return None
    everywhere = rows
    for of_cells in masks:
        everywhere &= any_of(of_cells)
    waiting: list[tuple[int, Ranges]] = [(everywhere, tuple((0, len(cell)) for cell in cells))]
    asked: set[tuple[int, tuple[tuple[int, int] | None, ...]]] = set()
    while waiting:
        alive, ranges = waiting.pop()
        held = [_held(masks[number][start:end], alive) for number, (start, end) in enumerate(ranges)]
        sure = alive
        for one in held:
            sure &= one
        verdict = judge(alive, sure)
        if verdict is True:
            continue
        if verdict is False:
            return [of[start] for of, (start, _) in zip(cells, ranges, strict=True)]
        needed = int(verdict)
        question = tuple(None if not needed & ~one else pair for one, pair in zip(held, ranges, strict=True))
        if (needed, question) in asked:
            continue
        asked.add((needed, question))
        steps.take()
        order = sorted(
            ((needed & one).bit_count(), number) for number, one in enumerate(held) if needed & ~one
        )
        dimension, at = best_cut(masks, needed, ranges, [number for _, number in order])
        start, end = ranges[dimension]
        for half in ((at, end), (start, at)):
            touching = alive & any_of(masks[dimension][half[0] : half[1]])
            waiting.append((touching, (*ranges[:dimension], half, *ranges[dimension + 1 :])))
    return None


def _held(masks: Sequence[int], alive: int) -> int:
    """Return the rows alive that accept every one of some cells."""
    for mask in masks:
        alive &= mask
        if not alive:
            break
    return alive


def best_cut(
    masks_of: Sequence[Sequence[int]], alive: int, ranges: Ranges, dimensions: Sequence[int]
) -> tuple[int, int]:
    """Return the dimension and the place to cut a box at: where the fewest rows alive lie on both sides.

    Parameters
    ----------
    masks_of : sequence of sequences of int
        For each dimension and each of its cells the rows that accept it, row k as bit k.
    alive : int
    ranges : tuple of (int, int)
        For each dimension the cells of the box.
    dimensions : sequence of int
        Those that rows alive tell apart, the most constrained first.
    """
    best: tuple[int, int] | None = None
    chosen = (dimensions[0], ranges[dimensions[0]][0] + 1)
    for dimension in dimensions:
        start, end = ranges[dimension]
        masks = masks_of[dimension]
        before = masks[start] & alive
        for at in range(start + 1, end):
            after = masks[at] & alive
            if after != before:
                rank = ((before & after).bit_count(), abs(start + end - 2 * at))
                if best is None or rank < best:
                    best, chosen = rank, (dimension, at)
            before = after
        if best is not None and best[0] == 0:
            break
    return chosen


def different_cells(cells: Sequence[int], rows: int) -> tuple[list[int], list[int]]:
    """Return the different sets of rows among those that accept the cells of a dimension, and the first cell of each."""
    first_of: dict[int, int] = {}
    for cell, mask in enumerate(cells):
        first_of.setdefault(mask & rows, cell)
    return list(first_of), list(first_of.values())


def any_of(masks: Sequence[int]) -> int:
    """Return the rows that are in one of some sets."""
    union = 0
    for mask in masks:
        union |= mask
    return union
