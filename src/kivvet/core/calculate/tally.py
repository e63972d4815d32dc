"""Aggregates over groups of rows that arrive in batches: totals are kept, not rows, where the aggregate allows it.

A tally is taken over the finest groups that are asked for; coarser ones, such as subtotals, are made of these, so that a
total is never the sum of rounded parts, and a median of all is the median of all.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import pyarrow as pa

from kivvet.core.calculate.arithmetic import OVERFLOW
from kivvet.core.calculate.exact_spread import add_squares
from kivvet.core.calculate.exact_sums import ExactSums
from kivvet.core.calculate.group_values import (
    GroupValues,
    aggregated,
    mean_of,
    spread_of,
    without_nan,
)
from kivvet.core.calculate.groups import Groups
from kivvet.core.calculate.vectors import Vector, as_number, of_column, to_arrow, without_empty
from kivvet.core.calculate.window_totals import halves_of_totals
from kivvet.core.columns.arrays import Array, Places, in_threads
from kivvet.core.columns.column import BoolArray, column_from_arrow
from kivvet.core.formulas.functions import ORDERED_SETS, SPREADS
from kivvet.core.formulas.tree import Tree, Window, windows_in

Work = Callable[[Tree], Vector]
Truth = Callable[[Tree], BoolArray]


class Tally(ABC):
    """One aggregate over groups whose rows arrive in batches.

    Parameters
    ----------
    window : Window
        The aggregate; what stands in OVER is not looked at.
    """

    def __init__(self, window: Window) -> None:
        self.window = window

    @abstractmethod
    def add(self, groups: Groups, work: Work, truth: Truth) -> None:
        """Add a batch.

        Parameters
        ----------
        groups : Groups
            The group of each row; there may be more groups than before.
        work, truth : callable
            As of `aggregated`.
        """

    @abstractmethod
    def merge(self, other: Any, places: Places, n_groups: int) -> None:
        """Add what another tally of the same aggregate holds, of rows elsewhere, which come after these.

        Parameters
        ----------
        other : Tally
        places : ndarray of integers, shape (groups of the other,)
            For each of its groups the one that it is here.
        n_groups : int
            How many groups there are here now.
        """

    @abstractmethod
    def result(self, coarser: Places, n_coarse: int) -> GroupValues:
        """Return the value of each coarser group.

        Parameters
        ----------
        coarser : ndarray of integers, shape (n_groups,)
            For each group the coarser one that it is part of.
        n_coarse : int
        """


def tally_of(window: Window) -> Tally:
    """Return what tallies an aggregate."""
    if window.is_distinct:
        return _Whole(window)
    return _TALLIES[window.name](window)


def _values(window: Window, work: Work, truth: Truth, n_rows: int) -> tuple[Vector | None, BoolArray | None]:
    """Return what an aggregate looks at, and the rows that do not count."""
    values = work(window.parts[0]).of_rows(n_rows) if window.parts else None
    if values is not None and values.kind == "text":
        values = without_empty(values)
    gone = None if values is None or values.missing is None else np.broadcast_to(values.missing, n_rows)
    if window.where is not None:
        left_out = ~truth(window.where)
        gone = left_out if gone is None else gone | left_out
    return values, gone


def counts_of(numbers: Places, n_groups: int) -> Places:
    """Return how often each number occurs."""
    parts: list[Array] = []
    in_threads(
        lambda start, end: parts.append(np.bincount(numbers[start:end], minlength=n_groups)), len(numbers)
    )
    total: Array = np.sum(parts, axis=0)
    return total


def _grown(values: Array, size: int, fill: Any = 0) -> Array:
    if len(values) >= size:
        return values
    made = np.full(max(size, 2 * len(values)), fill, values.dtype)
    made[: len(values)] = values
    return made


class _Totals(Tally):
    """Counts, totals, means and measures of spread: rows, exact totals and exact squares, group by group."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.counts = np.zeros(0, np.int64)
        self.totals, self.squares = ExactSums(0), ExactSums(0)
        self.wholes = np.zeros(0, object)  # exact, of whole numbers
        self.is_whole = window.name == "SUM"

    def add(self, groups: Groups, work: Work, truth: Truth) -> None:
        name, numbers, n_groups = self.window.name, groups.numbers, groups.n_groups
        values, gone = _values(self.window, work, truth, len(numbers))
        held = numbers if gone is None else numbers[~gone]
        self.counts = _grown(self.counts, n_groups)
        self.counts[:n_groups] += groups.sizes if gone is None else np.bincount(held, minlength=n_groups)
        if values is None or name == "COUNT":
            return
        there = values.values if gone is None else values.values[~gone]
        if name == "SUM" and values.kind == "integer":
            self.wholes = _grown(self.wholes, n_groups)
            low, high = halves_of_totals(held, there, n_groups)
            self.wholes[:n_groups] += [
                (a << 32) + b for a, b in zip(high.tolist(), low.tolist(), strict=True)
            ]
            return
        self.is_whole = False
        numeric = as_number(Vector(values.kind, there))
        self.totals.grow(n_groups)
        self.totals.add(held, numeric)
        if name in SPREADS:
            self.squares.grow(n_groups)
            add_squares(self.squares, held, numeric)

    def merge(self, other: _Totals, places: Places, n_groups: int) -> None:
        n = len(places)
        self.counts = _grown(self.counts, n_groups)
        np.add.at(self.counts, places, _grown(other.counts, n)[:n])
        self.wholes = _grown(self.wholes, n_groups)
        np.add.at(self.wholes, places, _grown(other.wholes, n)[:n])
        self.is_whole = self.is_whole and other.is_whole
        for mine, its in ((self.totals, other.totals), (self.squares, other.squares)):
            mine.grow(n_groups)
            its.grow(n)
            mine.merge(its, places)

    def result(self, coarser: Places, n_coarse: int) -> GroupValues:
        name, n = self.window.name, len(coarser)
        counts = np.bincount(coarser, weights=_grown(self.counts, n)[:n], minlength=n_coarse).astype(np.int64)
        if name == "COUNT":
            return GroupValues(Vector("integer", counts))
        if name == "SUM" and self.is_whole:
            return self._whole(coarser, n_coarse, counts == 0)
        totals = _of_coarser(self.totals, coarser, n_coarse)
        if name == "SUM":
            return without_nan(totals.rounded(), counts == 0)
        if name == "AVG":
            return mean_of(totals.rounded(), counts)
        return spread_of(name, counts, totals, _of_coarser(self.squares, coarser, n_coarse))

    def _whole(self, coarser: Places, n_coarse: int, empty: BoolArray) -> GroupValues:
        sums = [0] * n_coarse
        for group, value in zip(coarser.tolist(), _grown(self.wholes, len(coarser)).tolist(), strict=False):
            sums[group] += value
        beyond = np.array([not -(2**63) <= one < 2**63 for one in sums], bool)
        values = np.array([0 if bad else one for one, bad in zip(sums, beyond, strict=True)], np.int64)
        if not beyond.any():
            return GroupValues(Vector("integer", values, empty if empty.any() else None))
        return GroupValues(Vector("integer", values, empty | beyond), {OVERFLOW: beyond})


def _of_coarser(sums: ExactSums, coarser: Places, n_coarse: int) -> ExactSums:
    """Return the sums of coarser groups; those of fine ones stay as they are."""
    made = ExactSums(n_coarse)
    sums.grow(len(coarser))
    made.merge(sums, coarser)
    return made


class _Extreme(Tally):
    """The least or the greatest value of each group."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.best: list[Any] = []
        self.like: Vector | None = None

    def add(self, groups: Groups, work: Work, truth: Truth) -> None:
        numbers, n_groups = groups.numbers, groups.n_groups
        here = np.flatnonzero(groups.sizes)
        found = aggregated(self.window, groups, work, truth, len(numbers)).vector.take(here)
        self.like = found
        self.best += [None] * (n_groups - len(self.best))
        values = _plain(found, len(here))
        for group, value in zip(here.tolist(), values, strict=True):
            self.best[group] = self._better(self.best[group], value)

    def merge(self, other: _Extreme, places: Places, n_groups: int) -> None:
        self.like = other.like if self.like is None else self.like
        self.best += [None] * (n_groups - len(self.best))
        for group, value in zip(places.tolist(), other.best, strict=False):
            self.best[group] = self._better(self.best[group], value)

    def _better(self, one: Any, other: Any) -> Any:
        if one is None or other is None:
            return other if one is None else one
        return min(one, other) if self.window.name == "MIN" else max(one, other)

    def result(self, coarser: Places, n_coarse: int) -> GroupValues:
        best: list[Any] = [None] * n_coarse
        for group, value in zip(coarser.tolist(), self.best, strict=False):
            best[group] = self._better(best[group], value)
        gone = np.array([one is None for one in best], bool)
        missing = gone if gone.any() else None
        like = self.like
        if like is None:
            return GroupValues(Vector("number", np.zeros(n_coarse), np.ones(n_coarse, bool)))
        if like.kind == "text":
            texts = pa.array(["" if one is None else one for one in best], pa.large_string())
            return GroupValues(Vector("text", np.arange(n_coarse), missing, texts))
        values = np.array([0 if one is None else one for one in best], like.values.dtype)
        return GroupValues(Vector(like.kind, values, missing, tz=like.tz))


def _plain(vector: Vector, n: int) -> list[Any]:
    """Return the values as they can be compared: texts, or numbers as they are held."""
    missing = vector.missing_rows(n)
    if vector.kind == "text":
        assert vector.distinct is not None
        texts = vector.texts()
        return [None if gone else texts[code] for code, gone in zip(vector.values, missing, strict=True)]
    return [
        None if gone else value for value, gone in zip(vector.values.tolist(), missing.tolist(), strict=True)
    ]


class _Whole(Tally):
    """An aggregate that needs all values at once: medians, shares of the way, different values."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.numbers: list[Places] = []
        self.parts: list[pa.Array] = []
        self.tz: str | None = None
        self.kind = ""

    def add(self, groups: Groups, work: Work, truth: Truth) -> None:
        window, numbers = self.window, groups.numbers
        n_rows = len(numbers)
        asked = window.within.part if window.within is not None else window.parts[0]
        values = work(asked).of_rows(n_rows)
        if values.kind == "text":
            values = without_empty(values)
        kept = ~values.missing_rows(n_rows)
        if window.where is not None:
            kept &= truth(window.where)
        rows = np.flatnonzero(kept)
        self.numbers.append(numbers[rows])
        self.parts.append(to_arrow(values.take(rows), len(rows)))

    def merge(self, other: _Whole, places: Places, n_groups: int) -> None:
        self.numbers += [places[number] for number in other.numbers]
        self.parts += other.parts

    def result(self, coarser: Places, n_coarse: int) -> GroupValues:
        if not self.parts:
            kind = "integer" if self.window.is_distinct else "number"
            gone = None if self.window.is_distinct else np.ones(n_coarse, bool)
            return GroupValues(Vector(kind, np.zeros(n_coarse, np.int64), gone))  # type: ignore[arg-type]
        array = pa.chunked_array(self.parts).unify_dictionaries().combine_chunks()
        array = array.chunk(0) if isinstance(array, pa.ChunkedArray) else array
        numbers = coarser[np.concatenate(self.numbers)]
        vector = of_column(column_from_arrow(array))
        return aggregated(
            _on_all(self.window), Groups(numbers, n_coarse), lambda _: vector, _no_condition, len(array)
        )


#: By aggregate what tallies it; `AGGREGATES` has no other.
_TALLIES: dict[str, type[Tally]] = {
    **dict.fromkeys(("COUNT", "SUM", "AVG", *SPREADS), _Totals),
    **dict.fromkeys(("MIN", "MAX"), _Extreme),
    **dict.fromkeys(("MEDIAN", *ORDERED_SETS), _Whole),
}


def _on_all(window: Window) -> Window:
    """Return an aggregate of rows that were chosen already."""
    return replace(window, where=None)


def _no_condition(_: Tree) -> BoolArray:
    raise AssertionError("the rows were chosen already")


def windows_of(trees: Sequence[Tree]) -> tuple[Window, ...]:
    """Return the aggregates that stand in trees, each once."""
    return tuple(dict.fromkeys(one for tree in trees for one in windows_in(tree)))
