"""Searching boxes for what no row covers: a depth-first search over the sets of rows still alive.

Every input is cut into cells; a row accepts a set of cells of each. The rows that accept the cells chosen
so far are alive. A branch ends at a row alive that accepts all that is left, and fails where no row is
alive: that is an uncovered place. The most constrained input is asked first, inputs that no live row
constrains are dropped, cells that leave the same rows alive are one branch, and what was proven of a set
of rows is remembered. Nothing is sampled: where the budget of steps ends, the question stays open.

The question is whether a union of boxes covers a box, which is as hard as deciding whether a formula in
disjunctive normal form holds always (co-NP-complete); so any exact method needs a budget.
"""

from __future__ import annotations

from collections.abc import Sequence

#: Steps that one question may take, each a set of rows and the inputs left.
DEFAULT_BUDGET = 200_000


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
        #: The rows that ended a branch; together they cover what was proven.
        self.used = 0
        self._covered: set[tuple[int, int]] = set()
        self._branches: list[list[tuple[int, int]]] = []
        self._whole: list[int] = []
        for cells in masks:
            first_of: dict[int, int] = {}
            whole = rows
            for cell, mask in enumerate(cells):
                first_of.setdefault(mask & rows, cell)
                whole &= mask
            self._branches.append(list(first_of.items()))
            self._whole.append(whole)

    def uncovered(self) -> dict[int, int] | None:
        """Return a place that no row covers, as a cell by dimension (any cell where none is named); None: there is none.

        Raises
        ------
        BudgetSpentError
        """
        if any(not cells for cells in self._branches):
            return None  # a dimension without a cell has no places at all
        return self._uncovered(self.rows, (1 << len(self._branches)) - 1)

    def _uncovered(self, alive: int, left: int) -> dict[int, int] | None:
        if not alive:
            return {}
        sure = alive
        chosen, fewest_free = -1, -1
        for dimension, whole in enumerate(self._whole):
            if left >> dimension & 1:
                free = alive & whole
                sure &= free
                if free == alive:
                    left &= ~(1 << dimension)
                    continue
                n_free = free.bit_count()
                if chosen < 0 or n_free < fewest_free:
                    chosen, fewest_free = dimension, n_free
        if sure:
            self.used |= sure & -sure
            return None
        if (alive, left) in self._covered:
            return None
        self.n_steps += 1
        if self.n_steps > self.budget:
            raise BudgetSpentError
        branches: dict[int, int] = {}
        for mask, cell in self._branches[chosen]:
            branches.setdefault(alive & mask, cell)
        rest = left & ~(1 << chosen)
        for remaining, cell in sorted(branches.items(), key=lambda pair: pair[0].bit_count()):
            found = self._uncovered(remaining, rest)
            if found is not None:
                found[chosen] = cell
                return found
        self._covered.add((alive, left))
        return None
