"""Rows of data counted and summed up by classes, periods or values, batch by batch."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.calculate.evaluate import Evaluator
from kivvet.core.calculate.groups import Groups
from kivvet.core.calculate.tally import Tally, counts_of, tally_of, windows_of
from kivvet.core.calculate.vectors import Vector, of_column, to_arrow
from kivvet.core.classify.by_class import class_codes
from kivvet.core.classify.outcomes import WHY
from kivvet.core.columns.arrays import CHUNK, Array, Places, in_threads, taken
from kivvet.core.columns.column import CodedColumn, Column, arrow_from_column, column_from_arrow
from kivvet.core.formulas.tree import Tree, Window
from kivvet.core.run.cross_table import TOTAL, Cell, CrossTable, Label, LabelKind
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import Value

_MOST_DENSE = 1 << 20  # combinations that are numbered by their place
_MOST_GROUPS = 1_000_000


class KeyCodes:
    """Numbers the values of one key as they come.

    Parameters
    ----------
    name : str
    classes : sequence of Value
        The classes in order, where they are known; all of them are kept, those without rows too.
    is_open : bool
        Whether other values may come.
    """

    def __init__(self, name: str, classes: Sequence[Value] = (), *, is_open: bool = True) -> None:
        self.name = name
        self.classes = list(classes)
        self.is_open = is_open
        self.labels = [Label("value", one) for one in classes]
        self._places = {(Label("value", one).kind, one): place for place, one in enumerate(classes)}

    def place(self, label: Label) -> int:
        """Return the number of a label; one is added if need be."""
        key = (label.kind, label.value)
        if key not in self._places:
            self._places[key] = len(self.labels)
            self.labels.append(label)
        return self._places[key]

    def codes(self, column: Column, why: Array | None) -> Array:
        """Return the numbers of a batch.

        Parameters
        ----------
        column : Column
        why : ndarray of integers, or None
            For rows without a class, why they have none: the place in "unfinished", "unmatched", "missing".
        """
        if not self.is_open:
            found = class_codes(column, self.classes)
            if len(self.labels) + len(WHY) > 127 and found.dtype == np.int8:
                found = found.astype(np.int16)
        else:
            found = self._open_codes(column)
        if len(found) and found.min() < 0:
            gone, found = found < 0, found.copy()
            if why is None:
                found[gone] = self.place(Label("missing"))
            else:
                of_why = np.array([-1] * len(WHY))
                for number in np.unique(why[gone]).tolist():
                    of_why[number] = self.place(Label(WHY[number]))
                found[gone] = of_why[why[gone]]
        return found

    def _open_codes(self, column: Column) -> Array:
        """Return the number of each row's value, given on first sight; -1 where there is none."""
        if isinstance(column, CodedColumn):
            distinct = arrow_from_column(column.distinct)
            codes = column.codes if column.valid is None else np.where(column.valid, column.codes, -1)
        else:
            encoded = arrow_from_column(column).dictionary_encode()
            distinct = encoded.dictionary
            codes = pc.fill_null(encoded.indices, -1).to_numpy(zero_copy_only=False)
        values = [one if _is_value(one) else None for one in distinct.to_pylist()]
        if any(("value", value) not in self._places for value in values if value is not None):
            used = np.zeros(len(distinct) + 1, bool)
            used[codes] = True  # -1 is the last
            values = [one if is_used else None for one, is_used in zip(values, used, strict=False)]
        places = [-1 if value is None else self.place(Label("value", value)) for value in values]
        highest = len(self.labels) + len(WHY)
        of_code = np.array([*places, -1], np.int8 if highest <= 127 else np.int32)
        return taken(of_code, codes, mode="wrap")

    def order(self) -> list[int]:
        """Return the numbers of the labels in the order in which they are shown: classes, else values rising; then
        those without one.
        """
        n_classes = len(self.classes)
        others = list(range(n_classes, len(self.labels)))
        values = [place for place in others if self.labels[place].kind == "value"]
        values.sort(key=lambda place: self.labels[place].value)
        kinds: list[LabelKind] = [*WHY]
        rest = sorted(
            (place for place in others if self.labels[place].kind != "value"),
            key=lambda place: kinds.index(self.labels[place].kind),
        )
        return [*range(n_classes), *values, *rest]


def _is_value(one: object) -> bool:
    """Whether something is a value: not nothing, no text without characters, no NaN."""
    return one is not None and one != "" and not (isinstance(one, float) and math.isnan(one))


class Crossing:
    """Rows being counted and summed up, batch by batch.

    Parameters
    ----------
    by : sequence of KeyCodes
    across : KeyCodes or None
    values : mapping of str to Tree
        Aggregates, and what is worked out of them and of the keys.
    """

    def __init__(self, by: Sequence[KeyCodes], across: KeyCodes | None, values: Mapping[str, Tree]) -> None:
        self.by, self.across, self.values = by, across, values
        self.keys = [*by, *([] if across is None else [across])]
        self.rows = RowCounts()
        self.tallies: dict[Window, Tally] = {
            window: tally_of(window) for window in windows_of(list(values.values()))
        }
        self.groups: dict[tuple[int, ...], int] = {}
        self.n_rows = 0

    def add(
        self,
        columns: Sequence[tuple[Column, Array | None]],
        evaluator: Evaluator,
        n_rows: int,
        rows: Places | None = None,
    ) -> None:
        """Add a batch.

        Parameters
        ----------
        columns : sequence of (Column, ndarray or None)
            Of each key, with why rows have no class.
        evaluator : Evaluator
            Of the columns that aggregates read.
        rows : ndarray of integers, optional
            The rows that count; all without it.
        """
        codes = [key.codes(column, why) for key, (column, why) in zip(self.keys, columns, strict=True)]
        if rows is not None:
            codes = [code[rows] for code in codes]
            n_rows, evaluator = len(rows), evaluator.on_rows(rows)
        self.n_rows += n_rows
        groups = self._grouped(codes, n_rows)
        self.rows.add(groups)
        for tally in self.tallies.values():
            tally.add(groups, evaluator.vector, lambda tree: evaluator.truth(tree)[0])

    def _grouped(self, codes: Sequence[Array], n_rows: int) -> Groups:
        """Return the group of each row; groups are numbered as they come."""
        sizes = [len(key.labels) for key in self.keys]
        size = 1
        for one in sizes:
            size *= one
        local = _combined(codes, sizes, n_rows)
        if size <= _MOST_DENSE:
            counts = counts_of(local, size)
            present = np.flatnonzero(counts)
            places = np.zeros(size, np.int64)
        else:
            encoded = pa.array(local).dictionary_encode()
            present = encoded.dictionary.to_numpy(zero_copy_only=False)
            local = encoded.indices.to_numpy(zero_copy_only=False).astype(np.int64)
            counts = counts_of(local, len(present))
            places = np.zeros(len(present), np.int64)
        rest = present
        parts = []
        for one in reversed(sizes):
            parts.append(rest % one)
            rest = rest // one
        combos = (
            list(zip(*(part.tolist() for part in reversed(parts)), strict=True))
            if parts
            else [()] * len(present)
        )
        numbers = self._numbered(combos)
        at = present if size <= _MOST_DENSE else np.arange(len(present))
        places[at] = numbers
        of_groups = np.zeros(max(len(self.groups), 1), np.int64)
        of_groups[numbers] = counts[at]
        is_as_it_is = len(numbers) == len(places) and numbers == list(range(len(numbers)))
        groups = Groups(local if is_as_it_is else taken(places, local), len(of_groups))
        groups.__dict__["sizes"] = of_groups  # known already
        return groups

    def _numbered(self, combos: Sequence[tuple[int, ...]]) -> list[int]:
        """Return the groups of combinations of keys; those that are new are numbered as they come."""
        numbers = [self.groups.setdefault(combo, len(self.groups)) for combo in combos]
        if len(self.groups) > _MOST_GROUPS:
            raise DataError(
                f"there are more than {_MOST_GROUPS:,} different combinations of {', '.join(key.name for key in self.keys)}",
                fix="sum up by fewer or coarser columns, such as EXTRACT(YEAR FROM day)",
            )
        return numbers

    def merge(self, other: Crossing) -> None:
        """Add what was counted elsewhere, by the same keys, of rows that come after these."""
        labels = [
            [mine.place(label) for label in its.labels]
            for mine, its in zip(self.keys, other.keys, strict=True)
        ]
        combos = [
            tuple(places[place] for places, place in zip(labels, combo, strict=True))
            for combo in other.groups
        ]
        places = np.array(self._numbered(combos), np.int64)
        self.rows.merge(other.rows, places, len(self.groups))
        for window, tally in self.tallies.items():
            tally.merge(other.tallies[window], places, len(self.groups))
        self.n_rows += other.n_rows

    def result(
        self, kinds: Mapping[str, str], *, most_across: int | None = None, left_out: int = 0
    ) -> CrossTable:
        """Return what came of all batches.

        Parameters
        ----------
        kinds : mapping of str to str
            The type of each value.
        most_across : int, optional
            So many columns at most; beyond, the smallest are joined as the rest.
        """
        joined = self._joined(most_across)
        cells: list[Cell] = []
        n_by = len(self.by)
        combos = list(self.groups)
        for depth in range(n_by, -1, -1):
            for has_across in [True, False] if self.across is not None else [False]:
                cells += self._level(combos, depth, joined, has_across=has_across)
        if n_by == 1:
            cells += self._without_rows(cells, joined)
        lines = self._lines(cells)
        columns: tuple[Label, ...] = ()
        if self.across is not None:
            present = {cell.across for cell in cells if cell.across is not None}
            places = [self.across.labels[place] for place in self.across.order() if place not in joined]
            kept = [
                place
                for place in places
                if place in present or (place.kind == "value" and place.value in self.across.classes)
            ]
            columns = (*kept, *([Label("rest")] if joined else []), TOTAL)
        return CrossTable(
            tuple(key.name for key in self.by),
            None if self.across is None else self.across.name,
            tuple(self.values),
            tuple(kinds[name] for name in self.values),
            tuple(cells),
            lines,
            columns,
            self.n_rows,
            left_out,
            len(joined),
            tuple(is_additive(tree) for tree in self.values.values()),
            tuple(tuple(key.labels[place] for place in key.order()) for key in self.by),
        )

    def _joined(self, most: int | None) -> frozenset[int]:
        """Return the columns that are joined: all but the largest."""
        if self.across is None or most is None or len(self.across.labels) <= most:
            return frozenset()
        rows: dict[int, int] = dict.fromkeys(range(len(self.across.labels)), 0)
        counts = self.rows.counts.tolist()
        for combo, number in self.groups.items():
            rows[combo[-1]] += counts[number]
        ranked = sorted(rows, key=lambda place: (-rows[place], place))
        return frozenset(ranked[most - 1 :])

    def _level(
        self,
        combos: Sequence[tuple[int, ...]],
        depth: int,
        joined: frozenset[int],
        *,
        has_across: bool,
    ) -> list[Cell]:
        """Return the cells of some keys, the others taken together."""
        numbers: dict[tuple[int, ...], int] = {}
        coarser = np.zeros(len(combos), np.int64)
        for place, combo in enumerate(combos):
            across = (-1 if combo[-1] in joined else combo[-1],) if has_across else ()
            coarser[place] = numbers.setdefault((*combo[:depth], *across), len(numbers))
        n_coarse = len(numbers)
        if depth == 0 and not has_across and not numbers:  # the total of no rows
            numbers, n_coarse = {(): 0}, 1
        if not n_coarse:
            return []
        counts = np.bincount(coarser, weights=self.rows.counts[: len(combos)], minlength=n_coarse)
        found: dict[Tree, Vector] = {
            window: tally.result(coarser, n_coarse).vector for window, tally in self.tallies.items()
        }
        labels = [
            [self._label(key, combo[place]) for combo in numbers]
            for place, key in enumerate([*self.by[:depth], *([self.across] if has_across else [])])
            if key is not None
        ]
        columns = self._key_vectors(depth, labels, n_coarse, has_across=has_across)
        evaluator = Evaluator(columns.__getitem__, n_coarse, windows=found)
        arrays = [to_arrow(evaluator.vector(tree), n_coarse).to_pylist() for tree in self.values.values()]
        totals = (TOTAL,) * (len(self.by) - depth)
        return [
            Cell(
                (*(labels[place][row] for place in range(depth)), *totals),
                labels[-1][row] if has_across else (TOTAL if self.across is not None else None),
                int(counts[row]),
                tuple(array[row] for array in arrays),
            )
            for row in range(n_coarse)
        ]

    def _label(self, key: KeyCodes, place: int) -> Label:
        return Label("rest") if place < 0 else key.labels[place]

    def _key_vectors(
        self, depth: int, labels: Sequence[Sequence[Label]], n: int, *, has_across: bool
    ) -> dict[str, Vector]:
        """Return the keys as columns, for values that are worked out of them; missing where they are totals."""
        made: dict[str, Vector] = {}
        names = [
            *(key.name for key in self.by[:depth]),
            *([self.across.name] if has_across and self.across else []),
        ]
        for name, given in zip(names, labels, strict=True):
            array = pa.array([one.value if one.kind == "value" else None for one in given])
            if pa.types.is_null(array.type):
                array = array.cast(pa.float64())
            made[name] = of_column(column_from_arrow(array))
        for key in self.keys:
            made.setdefault(key.name, Vector("number", np.zeros(n), np.ones(n, bool)))
        return made

    def _without_rows(self, cells: Sequence[Cell], joined: frozenset[int]) -> list[Cell]:
        """Return cells for the classes of a single key that no row has."""
        (key,) = self.by
        present = {cell.by[0] for cell in cells}
        empty = self._empty_values()
        across = TOTAL if self.across is not None else None
        return [
            Cell((label,), across, 0, empty)
            for one in key.classes
            if (label := Label("value", one)) not in present
        ]

    def _empty_values(self) -> tuple[Any, ...]:
        """Return the values of no rows: 0 for counts, else none."""
        nothing = np.zeros(0, np.int64)
        found: dict[Tree, Vector] = {
            window: tally_of(window).result(nothing, 1).vector for window in self.tallies
        }
        gone = {key.name: Vector("number", np.zeros(1), np.ones(1, bool)) for key in self.keys}
        evaluator = Evaluator(gone.__getitem__, 1, windows=found)
        return tuple(to_arrow(evaluator.vector(tree), 1).to_pylist()[0] for tree in self.values.values())

    def _lines(self, cells: Sequence[Cell]) -> tuple[tuple[Label, ...], ...]:
        """Return what the lines stand for: in the order of the keys, each group followed by its total."""
        ranks = [{key.labels[place]: rank for rank, place in enumerate(key.order())} for key in self.by]
        last = 1 << 40

        def rank(line: tuple[Label, ...]) -> tuple[int, ...]:
            return tuple(
                last if label.kind == "total" else ranks[place].get(label, last - 1)
                for place, label in enumerate(line)
            )

        return tuple(sorted({cell.by for cell in cells}, key=rank))


def is_additive(tree: Tree) -> bool:
    """Whether a value of all rows is the sum of those of its parts."""
    return isinstance(tree, Window) and (
        tree.name == "SUM" or (tree.name == "COUNT" and not tree.is_distinct)
    )


def _combined(codes: Sequence[Array], sizes: Sequence[int], n_rows: int) -> Places:
    """Return the place of each combination of codes among all there can be, in threads."""
    made: Places = np.zeros(n_rows, np.int64)

    def work(start: int, end: int) -> None:
        for first in range(start, end, CHUNK):
            rows = slice(first, min(first + CHUNK, end))
            for code, size in zip(codes, sizes, strict=True):
                np.multiply(made[rows], size, out=made[rows])
                np.add(made[rows], code[rows], out=made[rows])

    in_threads(work, n_rows)
    return made


class RowCounts:
    """How many rows each group has."""

    def __init__(self) -> None:
        self.counts: Places = np.zeros(0, np.int64)

    def add(self, groups: Groups) -> None:
        """Count the rows of a batch."""
        sizes = groups.sizes
        if len(sizes) > len(self.counts):
            self.counts = np.pad(self.counts, (0, len(sizes) - len(self.counts)))
        self.counts[: len(sizes)] += sizes

    def merge(self, other: RowCounts, places: Places, n_groups: int) -> None:
        """Add the counts of groups elsewhere, which are those of `places` here."""
        self.counts = np.pad(self.counts, (0, max(0, n_groups - len(self.counts))))
        np.add.at(self.counts, places, other.counts[: len(places)])
