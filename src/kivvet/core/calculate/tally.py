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
from kivvet.core.calculate.group_values import NO_NUMBER, GroupValues, aggregated
from kivvet.core.calculate.groups import Groups
from kivvet.core.calculate.vectors import Vector, as_number, of_column, to_arrow, without_empty
from kivvet.core.columns.arrays import Array, Places, in_threads
from kivvet.core.columns.column import BoolArray, column_from_arrow
from kivvet.core.formulas.tree import Tree, Window, windows_in

_SPREADS = ("VAR_POP", "VAR_SAMP", "STDDEV_POP", "STDDEV_SAMP")
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
    if window.is_distinct or window.within is not None or window.name == "MEDIAN":
        return _Whole(window)
    if window.name in ("MIN", "MAX"):
        return _Extreme(window)
    return _Moments(window)


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


def _sums(numbers: Places, weights: Array | None, n_groups: int) -> Array:
    """Return totals by group, or counts: of shares of the rows in threads, then of the shares."""
    parts: dict[int, Array] = {}

    def work(start: int, end: int) -> None:
        some = None if weights is None else weights[start:end]
        parts[start] = np.bincount(numbers[start:end], weights=some, minlength=n_groups)

    in_threads(work, len(numbers))
    total: Array = np.sum([parts[start] for start in sorted(parts)], axis=0)
    return total


def counts_of(numbers: Places, n_groups: int) -> Places:
    """Return how often each number occurs."""
    return _sums(numbers, None, n_groups)


def _grown(values: Array, size: int, fill: Any = 0) -> Array:
    if len(values) >= size:
        return values
    made = np.full(max(size, 2 * len(values)), fill, values.dtype)
    made[: len(values)] = values
    return made


class _Moments(Tally):
    """Counts, totals, means and measures of spread: rows, total, and squares about the mean, group by group."""

    def __init__(self, window: Window) -> None:
        super().__init__(window)
        self.counts = np.zeros(0, np.int64)
        self.totals = np.zeros(0)
        self.squares = np.zeros(0)
        self.wholes = np.zeros(0, object)  # exact, of whole numbers
        self.is_whole = window.name == "SUM"
        self.kind = "integer"

    def add(self, groups: Groups, work: Work, truth: Truth) -> None:
        window, numbers, n_groups = self.window, groups.numbers, groups.n_groups
        n_rows = len(numbers)
        values, gone = _values(window, work, truth, n_rows)
        held = numbers if gone is None else numbers[~gone]
        self.counts = _grown(self.counts, n_groups)
        counts = groups.sizes if gone is None else np.bincount(held, minlength=n_groups)
        if values is None or window.name == "COUNT":
            self.counts[:n_groups] += counts
            return
        self.kind = values.kind
        there = values.values if gone is None else values.values[~gone]
        if window.name == "SUM" and values.kind == "integer":
            self.wholes = _grown(self.wholes, n_groups)
            # In two halves, each of which adds up exactly.
            low = np.bincount(held, weights=(there & 0xFFFFFFFF).astype(np.float64), minlength=n_groups)
            high = np.bincount(held, weights=(there >> 32).astype(np.float64), minlength=n_groups)
            self.wholes[:n_groups] += [int(a) * 2**32 + int(b) for a, b in zip(high, low, strict=True)]
            self.counts[:n_groups] += counts
            return
        self.is_whole = False
        self.totals = _grown(self.totals, n_groups)
        numeric = as_number(Vector(values.kind, there))
        with np.errstate(invalid="ignore", over="ignore", divide="ignore"):
            totals = _sums(held, numeric, n_groups)
            if window.name in _SPREADS:
                means = np.where(counts > 0, totals / np.maximum(counts, 1), 0.0)
                off = numeric - means[held]
                squares = np.bincount(held, weights=off * off, minlength=n_groups)
                self.squares = _merged_squares(
                    _grown(self.squares, n_groups),
                    self.counts[:n_groups],
                    self.totals[:n_groups],
                    squares,
                    counts,
                    totals,
                )
            self.totals[:n_groups] += totals
        self.counts[:n_groups] += counts

    def result(self, coarser: Places, n_coarse: int) -> GroupValues:
        name, n = self.window.name, len(coarser)
        fine = _grown(self.counts, n)[:n]
        counts = np.bincount(coarser, weights=fine, minlength=n_coarse).astype(np.int64)
        if name == "COUNT":
            return GroupValues(Vector("integer", counts))
        empty = counts == 0
        if name == "SUM" and self.is_whole:
            return self._whole(coarser, n_coarse, empty)
        totals = _grown(self.totals, n)[:n]
        with np.errstate(invalid="ignore", over="ignore", divide="ignore"):
            sums = np.bincount(coarser, weights=totals, minlength=n_coarse)
            if name == "SUM":
                return _without_nan(sums, empty)
            if name == "AVG":
                return _without_nan(sums / counts, empty)
            squares = np.zeros(n_coarse)
            so_far, total = np.zeros(n_coarse, np.int64), np.zeros(n_coarse)
            of_fine = _grown(self.squares, n)[:n]
            for group in range(n):  # few: groups, not rows
                place = slice(int(coarser[group]), int(coarser[group]) + 1)
                squares[place] = _merged_squares(
                    squares[place],
                    so_far[place],
                    total[place],
                    of_fine[group : group + 1],
                    fine[group : group + 1],
                    totals[group : group + 1],
                )
                so_far[place] += fine[group]
                total[place] += totals[group]
            less = int(name.endswith("_SAMP"))
            made = squares / (counts - less)
            if name.startswith("STDDEV"):
                made = np.sqrt(made)
        return _without_nan(made, counts <= less)

    def _whole(self, coarser: Places, n_coarse: int, empty: BoolArray) -> GroupValues:
        sums = [0] * n_coarse
        for group, value in zip(coarser.tolist(), _grown(self.wholes, len(coarser)).tolist(), strict=False):
            sums[group] += value
        beyond = np.array([not -(2**63) <= one < 2**63 for one in sums], bool)
        values = np.array([0 if bad else one for one, bad in zip(sums, beyond, strict=True)], np.int64)
        if not beyond.any():
            return GroupValues(Vector("integer", values, empty if empty.any() else None))
        return GroupValues(Vector("integer", values, empty | beyond), {OVERFLOW: beyond})


def _merged_squares(
    squares: Array, counts: Array, totals: Array, more: Array, more_counts: Array, more_totals: Array
) -> Array:
    """Return the squares about the mean of two parts together, by the update of Chan, Golub and LeVeque (1979)."""
    both = counts + more_counts
    gap = np.where(
        (counts > 0) & (more_counts > 0),
        more_totals / np.maximum(more_counts, 1) - totals / np.maximum(counts, 1),
        0.0,
    )
    made = squares.copy()
    size = len(more)
    made[:size] += more + gap * gap * counts * more_counts / np.maximum(both, 1)
    return made


def _without_nan(values: Array, empty: BoolArray) -> GroupValues:
    nan = np.isnan(values) & ~empty
    gone = empty | nan
    found = GroupValues(Vector("number", np.where(gone, 0.0, values), gone if gone.any() else None))
    return GroupValues(found.vector, {NO_NUMBER: nan}) if nan.any() else found


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


def _on_all(window: Window) -> Window:
    """Return an aggregate of rows that were chosen already."""
    return replace(window, where=None)


def _no_condition(_: Tree) -> BoolArray:
    raise AssertionError("the rows were chosen already")


def windows_of(trees: Sequence[Tree]) -> tuple[Window, ...]:
    """Return the aggregates that stand in trees, each once."""
    return tuple(dict.fromkeys(one for tree in trees for one in windows_in(tree)))
