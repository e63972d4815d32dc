"""A formula worked out for columns: windows first, common parts shared, chunk by chunk in threads where no
text is in it.
"""

from __future__ import annotations

import threading
from collections import Counter
from collections.abc import Callable, Container, Iterator, Mapping
from dataclasses import dataclass
from functools import partial

import numpy as np

from kivvet.core.calculate.casts import cast
from kivvet.core.calculate.evaluate import Evaluator
from kivvet.core.calculate.plain_floats import PlainTree, is_plain
from kivvet.core.calculate.vectors import DTYPES, Vector, as_kind, of_column
from kivvet.core.calculate.windows import WindowMaker, WindowNotes, is_first
from kivvet.core.columns.arrays import in_threads
from kivvet.core.columns.column import Column, NumericColumn, rows_of
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.tree import (
    Arithmetic,
    ColumnName,
    Comparison,
    Constant,
    Tree,
    Window,
    children,
    walk,
    windows_in,
    write_formula,
)
from kivvet.core.words.values import ValueType

_ROWS_AT_ONCE = 65_536


def _as_declared(vector: Vector, kind: ValueType, evaluator: Evaluator) -> Vector:
    """Return the values of a formula as its type; floats that are whole by form as whole numbers."""
    if vector.kind == "number" and kind == "integer":
        return cast(vector, "integer", evaluator.note)
    return as_kind(vector, kind)


@dataclass(frozen=True)
class Evaluated:
    """What a formula gave for some rows.

    Attributes
    ----------
    vector : Vector
    made_missing : Counter
        By cause, values that were there and have no result.
    first_missing : dict of str to int
        By cause, the first such row, from 0.
    notes : dict of Window to WindowNotes
    """

    vector: Vector
    made_missing: Counter[str]
    first_missing: dict[str, int]
    notes: dict[Window, WindowNotes]


def evaluate_formula(
    formula: Formula, column_named: Callable[[str], Column | Vector], n_rows: int, kind: ValueType
) -> Evaluated:
    """Return the values of a formula for rows; for one with windows these have to be all rows.

    Parameters
    ----------
    column_named : callable
        By the name the formula gives it.
    n_rows : int
    kind : str
        The type of its values, as the types of the columns decide it (see `Formula.type_given`).
    """
    return _Run(formula, {name: column_named(name) for name in formula.reads}, n_rows, kind).result()


class _Run:
    def __init__(
        self, formula: Formula, columns: Mapping[str, Column | Vector], n_rows: int, kind: ValueType
    ) -> None:
        self.formula = formula
        self.columns = columns
        self._vectors: dict[str, Vector] = {}
        self.n_rows = n_rows
        self.kind = kind
        self.shared = _shared_parts(formula.tree)
        self.made_missing: Counter[str] = Counter()
        self.first_missing: dict[str, int] = {}
        self.lock = threading.Lock()
        self.notes: dict[Window, WindowNotes] = {}
        self.windows = self._windows() if formula.has_windows else {}

    def whole(self, name: str) -> Vector:
        """Return a column as a vector with all its rows."""
        if name not in self._vectors:
            given = self.columns[name]
            self._vectors[name] = given if isinstance(given, Vector) else of_column(given)
        return self._vectors[name]

    def rows_of(self, name: str, rows: slice) -> Vector:
        """Return some rows of a column as a vector."""
        known = self._vectors.get(name, self.columns[name])
        return known.take(rows) if isinstance(known, Vector) else of_column(rows_of(known, rows))

    def result(self) -> Evaluated:
        made = self.windows.get(self.formula.tree)
        if made is not None and made.kind == self.kind and not made.is_single:
            vector = made  # a window alone, or whether a row is the first of one
        else:
            vector = self._in_chunks() if self._is_plain() else self._at_once()
        if self.formula.among is not None and self.formula.has_windows:
            yes, _ = Evaluator(self.whole, self.n_rows).truth(self.formula.among)
            vector = vector.of_rows(self.n_rows)
            missing = vector.missing_rows(self.n_rows) | ~yes
            vector = Vector(vector.kind, vector.values, missing, vector.distinct, vector.tz)
        return Evaluated(vector, self.made_missing, self.first_missing, self.notes)

    def _windows(self) -> dict[Tree, Vector]:
        evaluator = Evaluator(self.whole, self.n_rows, shared=self.shared)
        among = None if self.formula.among is None else evaluator.truth(self.formula.among)[0]
        maker = WindowMaker(evaluator.vector, self.n_rows, among, evaluator.note)
        made: dict[Tree, Vector] = {}
        wanted = Counter(node for node in walk(self.formula.tree) if isinstance(node, Window))
        firsts = [
            (node, found)
            for node in walk(self.formula.tree)
            if isinstance(node, Comparison) and (found := is_first(node))
        ]
        for tree, (window, holds) in firsts:
            if sum(1 for _, (other, _) in firsts if other == window) == wanted[window]:
                first = maker.first(window)
                made[tree] = first if holds else Vector("boolean", ~first.values, first.missing)
        known = {window for tree, (window, _) in firsts if tree in made}
        for window in windows_in(self.formula.tree):
            if window not in known:
                made[window] = maker.made(window)
        self.notes = maker.notes
        self._take_notes(evaluator, 0)
        return made

    def _is_plain(self) -> bool:
        """Whether rows can be worked out in chunks: text is not, so that each different text is met once."""
        read = [self.columns[name] for name in _read_besides(self.formula.tree, self.windows)]
        has_text = self.kind == "text" or any(one.kind == "text" for one in (*read, *self.windows.values()))
        return not has_text and self.n_rows > _ROWS_AT_ONCE

    def _at_once(self) -> Vector:
        evaluator = Evaluator(self.whole, self.n_rows, windows=self.windows, shared=self.shared)
        vector = _as_declared(evaluator.vector(self.formula.tree), self.kind, evaluator)
        self._take_notes(evaluator, 0)
        return vector

    def _in_chunks(self) -> Vector:
        values = np.empty(self.n_rows, DTYPES[self.kind])
        missing = np.empty(self.n_rows, bool)
        zones: set[str | None] = set()
        tree = self.formula.tree
        is_quick = self.kind == "number" and isinstance(tree, Arithmetic) and is_plain(tree, self._leaf)
        plain = PlainTree(tree, self._float_leaf)

        def work(start: int, end: int) -> None:
            for first in range(start, end, _ROWS_AT_ONCE):
                last = min(first + _ROWS_AT_ONCE, end)
                rows = slice(first, last)
                there = plain.worked_out(rows, values[rows]) if is_quick else None
                if there is not None:
                    missing[rows] = np.unpackbits(~there, count=last - first, bitorder="little")
                    continue
                evaluator = Evaluator(
                    partial(self.rows_of, rows=rows),
                    last - first,
                    windows={window: made.take(rows) for window, made in self.windows.items()},
                    shared=self.shared,
                )
                vector = _as_declared(evaluator.vector(self.formula.tree), self.kind, evaluator)
                values[rows] = vector.values
                missing[rows] = False if vector.missing is None else vector.missing
                with self.lock:
                    zones.add(vector.tz)
                    self._take_notes(evaluator, first)

        in_threads(work, self.n_rows)
        zone = next((zone for zone in zones if zone is not None), None)
        return Vector(self.kind, values, missing if missing.any() else None, tz=zone)

    def _float_leaf(self, leaf: Tree) -> NumericColumn | Vector:
        found = self._leaf(leaf)
        assert isinstance(found, (NumericColumn, Vector))
        return found

    def _leaf(self, tree: Tree) -> Column | Vector:
        """Return the column or the window that a leaf of the tree stands for."""
        if isinstance(tree, ColumnName):
            return self._vectors.get(tree.name, self.columns[tree.name])
        return self.windows[tree]

    def _take_notes(self, evaluator: Evaluator, rows_before: int) -> None:
        for cause, number in evaluator.made_missing.items():
            self.made_missing[cause] += number
            first = rows_before + evaluator.first_missing[cause]
            self.first_missing[cause] = min(first, self.first_missing.get(cause, first))


def _read_besides(tree: Tree, known: Container[Tree]) -> Iterator[str]:
    """Yield the columns that a tree reads, but for those read in parts that are known."""
    if tree in known:
        return
    if isinstance(tree, ColumnName):
        yield tree.name
    for part in children(tree):
        yield from _read_besides(part, known)


def _shared_parts(tree: Tree) -> dict[int, str]:
    """Return by `id` the text of each part, larger than a name, that stands more than once in a tree."""
    texts = {
        id(node): write_formula(node)
        for node in walk(tree)
        if not isinstance(node, (ColumnName, Constant)) and children(node)
    }
    counted = Counter(texts[id(node)] for node in walk(tree) if id(node) in texts)
    return {number: text for number, text in texts.items() if counted[text] > 1}
