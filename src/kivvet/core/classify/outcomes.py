"""Outcomes: what the numbers stand for that a compiled table gives rows of data.

They are numbered by the table alone, but for sets of rows that decide together: those get theirs as they are
met. A table that was made ready for data numbers the sets that it could tell apart so far, for all who use it at once;
a run has numbers of its own, by the order in which its data meets them (`OutcomesOfRun`). So what a run makes depends on
its data alone. What is counted is told by the rows themselves, so that counts of several batches or workers can be added.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import Literal, TypeVar

import numpy as np
import numpy.typing as npt

from kivvet.core.columns.arrays import Array

#: How a row of data was decided; "several" by several rows of the table at once.
Decided = Literal["matched", "unmatched", "missing", "several", "no-period", "unfinished"]
End = TypeVar("End")

STATUSES: tuple[Decided, ...] = ("matched", "unmatched", "missing", "several", "no-period", "unfinished")

#: Why a row of data has no class, in the order of views: its row of the table is still to be filled in; no row holds it; it
#: has no value, or its row says that it has no class.
Why = Literal["unfinished", "unmatched", "missing"]
WHY: tuple[Why, ...] = ("unfinished", "unmatched", "missing")
_WHY_OF: dict[Decided, Why] = {
    "unfinished": "unfinished",
    "unmatched": "unmatched",
    "no-period": "unmatched",
}
#: For each of `STATUSES` the place in `WHY` of why there is no class, if there is none.
WHY_BY_STATUS = np.array([WHY.index(_WHY_OF.get(status, "missing")) for status in STATUSES], np.int8)


@dataclass(frozen=True)
class Outcomes:
    """The outcomes of a table.

    Attributes
    ----------
    n_rows : int
        Rows of the table. The outcome of a row that decides alone is its place, from 0.
    has_periods : bool
        Whether a key may be known, and none of its ranges hold the value.
    unfinished : ndarray of bool, shape (n_rows,)
        Which rows are still to be filled in.
    sets : list of tuple of int
        The sets of several rows that decided together, in the order in which they were met.
    """

    n_rows: int
    has_periods: bool
    unfinished: npt.NDArray[np.bool_] = field(repr=False)
    sets: list[tuple[int, ...]] = field(default_factory=list)

    @property
    def unmatched(self) -> int:
        """No row accepts the values."""
        return self.n_rows

    @property
    def missing(self) -> int:
        """No row accepts the values, and one that some row constrains is missing."""
        return self.n_rows + 1

    @property
    def no_period(self) -> int | None:
        """The key is known, but not at that time or value; None where there are no ranges."""
        return self.n_rows + 2 if self.has_periods else None

    @property
    def first_set(self) -> int:
        """The outcome of the first set of several rows."""
        return self.n_rows + 2 + self.has_periods

    @property
    def number(self) -> int:
        """How many outcomes there are by now."""
        return self.first_set + len(self.sets)

    def of_set(self, rows: tuple[int, ...]) -> int:
        """Return a new outcome for a set of several rows; one at a time is to call it."""
        self.sets.append(rows)
        return self.number - 1

    def of_run(self) -> OutcomesOfRun:
        """Return what numbers the outcomes for one run."""
        return OutcomesOfRun(self)

    def rows_of(self, outcome: int) -> tuple[int, ...]:
        """Return the rows that decide together; none where no row does."""
        if outcome < self.n_rows:
            return (outcome,)
        return self.sets[outcome - self.first_set] if outcome >= self.first_set else ()

    def decided(self, outcome: int) -> Decided:
        """Return how an outcome was decided."""
        if outcome == self.unmatched:
            return "unmatched"
        if outcome == self.missing:
            return "missing"
        if outcome == self.no_period:
            return "no-period"
        if self.is_unfinished[outcome]:
            return "unfinished"
        return "matched" if outcome < self.n_rows else "several"

    def status_codes(self) -> npt.NDArray[np.int8]:
        """Return for each outcome the place in `STATUSES` of how it was decided."""
        codes = np.zeros(self.number, np.int8)
        codes[self.first_set :] = STATUSES.index("several")
        codes[self.is_unfinished] = STATUSES.index("unfinished")
        codes[self.unmatched] = STATUSES.index("unmatched")
        codes[self.missing] = STATUSES.index("missing")
        if self.no_period is not None:
            codes[self.no_period] = STATUSES.index("no-period")
        return codes

    @property
    def is_unfinished(self) -> npt.NDArray[np.bool_]:
        """For each outcome whether just rows that are still to be filled in decide it."""
        made = np.zeros(self.number, bool)
        made[: self.n_rows] = self.unfinished
        for outcome, rows in enumerate(self.sets, self.first_set):
            made[outcome] = all(self.unfinished[row] for row in rows)
        return made

    def falls_through(self, outcomes: npt.NDArray[np.generic]) -> npt.NDArray[np.bool_]:
        """Return for rows of data whether their values are there and no row of the table holds them."""
        falls = outcomes == self.unmatched
        if self.no_period is not None:
            falls |= outcomes == self.no_period
        return np.asarray(falls)

    def by_row(self, counts: npt.NDArray[np.int64]) -> npt.NDArray[np.int64]:
        """Return from counts by outcome the rows of data that each row of the table decided, alone or with
        others.
        """
        of_rows = counts[: self.n_rows].copy()
        for rows, number in self.counted_sets(counts):
            of_rows[list(rows)] += number
        return of_rows

    def counted_sets(self, counts: npt.NDArray[np.int64]) -> Iterator[tuple[tuple[int, ...], int]]:
        """Yield from counts by outcome each set of several rows, with the rows of data that it decided."""
        yield from zip(self.sets, counts[self.first_set :].tolist(), strict=True)

    def ends(self, otherwise: End, missing: End) -> list[End]:
        """Return what stands where no row decides, in the order of these outcomes."""
        return [otherwise, missing, *([otherwise] if self.has_periods else [])]


class OutcomesOfRun:
    """The outcomes that one run meets: those of the table, and sets of rows in the order in which the data meets them.

    Attributes
    ----------
    outcomes : Outcomes
    """

    def __init__(self, of_table: Outcomes) -> None:
        self.outcomes = replace(of_table, sets=[])
        self._of_table = of_table
        self._own: dict[tuple[int, ...], int] = {}

    def renumbered(self, labels: Array) -> Array:
        """Return outcomes of the table as those of the run."""
        is_set = labels >= self.outcomes.first_set
        if not is_set.any():
            return labels
        met, first = np.unique(labels[is_set], return_index=True)
        own = np.empty(len(met), np.int64)
        for place in np.argsort(first).tolist():
            rows = self._of_table.rows_of(int(met[place]))
            if rows not in self._own:
                self._own[rows] = self.outcomes.of_set(rows)
            own[place] = self._own[rows]
        made = labels.astype(np.int64)
        made[is_set] = own[np.searchsorted(met, labels[is_set])]
        return made
