"""Values for a place among the cells of several inputs, computed ones too: an example that can be tried.

A place says of each declared input in which stretch its value lies, and of each computed input (the
comparison of two expressions, or a condition taken as a whole) how it comes out. Values for the columns are
tried: bounds, constants of the formulas, what lies beside them, and where an expression goes straight in a
column the value at which it meets the other. What is returned has been worked out and found to lie there;
where nothing is found, nothing is said.
"""

from __future__ import annotations

import datetime as dt
import itertools
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa

from kivvet.core.calculate.computed_inputs import computed_column
from kivvet.core.calculate.evaluate import Evaluator
from kivvet.core.calculate.vectors import Vector, of_column
from kivvet.core.columns.column import Column, column_from_arrow
from kivvet.core.formulas.tree import Constant, walk
from kivvet.core.space.boxes import bits_of
from kivvet.core.space.region_text import write_witness
from kivvet.core.tables.table import WHEN
from kivvet.core.words.errors import DataError
from kivvet.core.words.regions import HIGH, LOW
from kivvet.core.words.values import Value, ValueType

if TYPE_CHECKING:
    from kivvet.core.space.boxes import Dimension, Space
    from kivvet.core.tables.table import ComputedInput, Given

_MOST_TRIED = 40_000
_MOST_PLACES = 24  # of a box that are tried for an example
_MOST_OF_A_COLUMN = 60
_ROUNDS = 2
_TYPES: dict[ValueType, pa.DataType] = {
    "text": pa.string(),
    "integer": pa.int64(),
    "number": pa.float64(),
    "decimal": pa.float64(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "datetime": pa.timestamp("us"),
}


def witness_in(
    space: Space,
    cells: Sequence[int],
    box: Sequence[int] | None = None,
    is_free: Sequence[bool] | None = None,
) -> dict[str, str]:
    """Return a place, one cell of each dimension, as values by column that lie there, or elsewhere in a box.

    Where none are found for what computed inputs read, these columns are left out, and `when` says what
    holds.

    Parameters
    ----------
    space : Space
    cells : sequence of int
    box : sequence of int, optional
        Cells of each dimension, as bits, that would do as well.
    is_free : sequence of bool, optional
        The dimensions that are of no account; without it those of which the place says nothing.
    """
    decided = [
        dimension
        for number, (dimension, cell) in enumerate(zip(space.dimensions, cells, strict=True))
        if (
            _is_decided(dimension, cell)
            if is_free is None
            else not is_free[number] and not dimension.is_plain
        )
    ]
    values = None
    if decided or space.table.given:
        search = _Search(space, cells, is_free or [False] * len(space.dimensions))
        values = search.found()
        if box is not None and (values is None or search.is_broken):
            values = _elsewhere(space, cells, box, is_free, stated=search.is_broken) or values
    if values is not None:
        return {name: write_witness(value) for name, value in values.items()}
    unknown = {name for dimension in decided if dimension.test is not None for name in dimension.test.reads}
    made: dict[str, str] = {}
    whens = []
    for dimension, cell in zip(space.dimensions, cells, strict=True):
        if dimension in decided:
            whens.append(dimension.write(1 << cell))
        elif dimension.is_plain and dimension.about.name not in unknown:
            made[dimension.about.name] = write_witness(dimension.witness(cell))
    return {**made, WHEN: " AND ".join(whens)} if whens else made


def _elsewhere(
    space: Space, cells: Sequence[int], box: Sequence[int], is_free: Sequence[bool] | None, *, stated: bool
) -> Mapping[str, Value | None] | None:
    """Return values at another place of a box that breaks no statement of `given`; None where none is found."""
    choices = [
        [cell]
        if dimension.is_plain and not stated
        else [one for one in bits_of(bits) if one != dimension.missing] or [cell]
        for dimension, cell, bits in zip(space.dimensions, cells, box, strict=True)
    ]
    for place in itertools.islice(itertools.product(*choices), _MOST_PLACES):
        search = _Search(space, place, is_free or [False] * len(space.dimensions))
        if (values := search.found()) is not None and not search.is_broken:
            return values
    return None


def _is_decided(dimension: Dimension, cell: int) -> bool:
    """Whether a place says something of a computed input."""
    if dimension.is_plain:
        return False
    return dimension.masks[cell] != dimension.free_rows or cell != dimension.missing


def values_at(
    space: Space, place: Sequence[int], is_free: Sequence[bool] | None = None
) -> Mapping[str, Value | None] | None:
    """Return a value for each column that computed inputs read, and for each declared input; None if none is
    found.

    Parameters
    ----------
    space : Space
    place : sequence of int
        One cell of each dimension.
    is_free : sequence of bool, optional
        The dimensions that are of no account.
    """
    return _Search(space, place, is_free or [False] * len(space.dimensions)).found()


class _Search:
    def __init__(self, space: Space, place: Sequence[int], is_free: Sequence[bool]) -> None:
        self.place = place
        self.is_broken = False  # whether what was found breaks a statement of `given`
        self.dimensions = space.dimensions
        self.table = space.table
        self.tests = [
            (one, cell)
            for one, cell, free in zip(space.dimensions, place, is_free, strict=True)
            if not one.is_plain and not free
        ]
        self.kinds: dict[str, ValueType] = {}
        self.candidates: dict[str, list[Value | None]] = {}
        for dimension, cell, free in zip(space.dimensions, place, is_free, strict=True):
            if dimension.is_plain:
                self.kinds[dimension.about.name] = dimension.about.type
                self.candidates[dimension.about.name] = [
                    *_in_cell(dimension, cell),
                    *([None] if free else []),
                ]
        for dimension, cell in self.tests:
            assert dimension.test is not None
            for name in dimension.test.reads:
                about = self.table.reads.get(name)
                self.kinds.setdefault(name, about.type if about is not None else self._kind_of(name))
                self.candidates.setdefault(name, [])
            self._add_constants(dimension.test, may_be_missing=cell == dimension.missing)
        self.stated = [one for one in self.table.given if all(name in self.candidates for name in one.reads)]
        for given in self.stated:
            self._add_stated(given)

    def _add_stated(self, given: Given) -> None:
        """Add to numeric inputs the constants of a statement, the values of its other inputs, and what lies beside these, as
        far as their cells hold them.
        """
        constants = [node.value for node in walk(given.condition) if isinstance(node, Constant)]
        held = [value for name in given.reads for value in self.candidates[name][:2]]
        numbers = [
            Decimal(one)
            for one in (*constants, *held)
            if isinstance(one, (int, Decimal)) and not isinstance(one, bool)
        ]
        for name in given.reads:
            if self.kinds[name] in ("number", "integer", "decimal"):
                near = [number + d for number in numbers for d in (0, 1, -1)]
                self.candidates[name] += [one for one in near if self._may_be(name, one)]

    def _kind_of(self, name: str) -> ValueType:
        """Return the type of a column that is nowhere declared: that of what it is compared with, else a
        number.
        """
        for dimension, _ in self.tests:
            test = dimension.test
            assert test is not None
            trees = test.compared or (() if test.whole is None else (test.whole,))
            for tree in trees:
                for node in walk(tree):
                    if isinstance(node, Constant) and name in test.reads and node.value is not None:
                        if isinstance(node.value, str):
                            return "text"
                        if isinstance(node.value, dt.datetime):
                            return "datetime"
                        if isinstance(node.value, dt.date):
                            return "date"
        return "number"

    def _add_constants(self, test: ComputedInput, *, may_be_missing: bool) -> None:
        trees = test.compared or (test.whole,)
        constants = [
            node.value
            for tree in trees
            if tree is not None
            for node in walk(tree)
            if isinstance(node, Constant)
        ]
        for name in test.reads:
            if any(dimension.about.name == name for dimension in self.dimensions):
                continue  # its cell says what it may be
            kind, found = self.kinds[name], self.candidates[name]
            if kind in ("number", "integer", "decimal"):
                numbers = [
                    Decimal(constant)
                    for constant in constants
                    if isinstance(constant, (int, Decimal)) and not isinstance(constant, bool)
                ]
                found += [Decimal(0), Decimal(1), Decimal(-1), *(n + d for n in numbers for d in (0, 1, -1))]
            elif kind == "text":
                texts = [constant for constant in constants if isinstance(constant, str)]
                found += [*texts, *(text.strip("%_") or "x" for text in texts), "x"]
            elif kind == "boolean":
                found += [True, False]
            else:
                days = [constant for constant in constants if isinstance(constant, dt.date)] or [
                    dt.date(2026, 1, 1)
                ]
                found += [day + dt.timedelta(days=n) for day in days for n in (0, 1, -1)]
            if may_be_missing:
                found.append(None)

    def found(self) -> Mapping[str, Value | None] | None:
        if not self.tests and not self.stated:
            return {name: values[0] for name, values in self.candidates.items()}
        try:
            for _ in range(_ROUNDS):
                if (values := self._tried()) is not None:
                    return values
                if not self._add_roots():
                    return None
            return self._tried()
        except (DataError, pa.ArrowInvalid, pa.ArrowTypeError, OverflowError, ValueError):
            return None  # types that are only known once there is data

    def _tried(self) -> Mapping[str, Value | None] | None:
        """Return the first combination of candidates that lies at the place."""
        names = [
            name for dimension, _ in self.tests for name in (dimension.test.reads if dimension.test else ())
        ]
        names += [name for given in self.stated for name in given.reads]
        names = list(dict.fromkeys(names))
        lists = [list(dict.fromkeys(self.candidates[name]))[:_MOST_OF_A_COLUMN] for name in names]
        if not all(lists):
            return None
        while np.prod([float(len(one)) for one in lists]) > _MOST_TRIED:
            longest = max(lists, key=len)
            del longest[len(longest) // 2 :]
        combinations = list(itertools.product(*lists))
        columns = {
            name: self._column(name, [combination[place] for combination in combinations])
            for place, name in enumerate(names)
        }
        holds = np.ones(len(combinations), bool)
        for dimension, cell in self.tests:
            assert dimension.test is not None
            made = of_column(computed_column(dimension.test, columns, self.table.steps))
            missing = made.missing_rows(len(combinations))
            if cell == dimension.missing:
                holds &= missing
                continue
            wanted = dimension.witness(cell)
            holds &= ~missing & (made.values == wanted)
        rows = np.flatnonzero(holds)
        if not len(rows):
            return None
        chosen = combinations[self._best(rows, columns, len(combinations))]
        others = {name: values[0] for name, values in self.candidates.items() if name not in names}
        return {**others, **dict(zip(names, chosen, strict=True))}

    def _best(self, rows: Any, columns: Mapping[str, Column], n_rows: int) -> int:
        """Return the first row that breaks no statement of `given`, else the first."""
        allowed = np.ones(n_rows, bool)
        for given in self.stated:
            evaluator = Evaluator(columns.__getitem__, n_rows, is_near_equal=True, steps=self.table.steps)
            allowed &= ~evaluator.truth(given.condition)[1]
        good = rows[allowed[rows]]
        self.is_broken = not len(good)
        return int(good[0] if len(good) else rows[0])

    def _column(self, name: str, values: Sequence[Value | None]) -> Column:
        kind = self.kinds[name]
        if kind in ("number", "decimal"):
            return column_from_arrow(pa.array([_float(v) for v in values], pa.float64()))
        if kind == "integer":
            return column_from_arrow(pa.array([None if v is None else int(v) for v in values], pa.int64()))  # type: ignore[arg-type]
        if kind == "datetime":
            moments = [
                dt.datetime.combine(v, dt.time())
                if isinstance(v, dt.date) and not isinstance(v, dt.datetime)
                else v
                for v in values
            ]
            return column_from_arrow(pa.array(moments, pa.timestamp("us")))
        return column_from_arrow(pa.array(list(values), _TYPES[kind]))

    def _add_roots(self) -> bool:
        """Add to numeric columns the values at which the two sides of a comparison meet; return whether there
        are any.
        """
        added = False
        for dimension, _ in self.tests:
            test = dimension.test
            if test is None or test.compared is None:
                continue
            for name in test.reads:
                if self.kinds[name] not in ("number", "integer", "decimal"):
                    continue
                others = [read for read in test.reads if read != name]
                if not all(self.candidates[other] for other in others):
                    continue
                for given in itertools.islice(
                    itertools.product(*(self.candidates[other][:6] for other in others)), 40
                ):
                    root = self._root(test, name, dict(zip(others, given, strict=True)))
                    if root is not None:
                        new = [one for d in (0, 1, -1) if self._may_be(name, one := root + d)]
                        self.candidates[name] += new
                        added = added or bool(new)
        return added

    def _root(self, test: ComputedInput, name: str, given: Mapping[str, Value | None]) -> Decimal | None:
        """Return where two sides meet as one column changes, if their difference goes straight in it."""
        assert test.compared is not None
        columns = {one: self._column(one, [value] * 2) for one, value in given.items()}
        columns[name] = column_from_arrow(pa.array([0.0, 1.0]))
        evaluator = Evaluator(columns.__getitem__, 2)
        sides: list[Vector] = [evaluator.vector(side).of_rows(2) for side in test.compared]
        if any(side.kind not in ("integer", "number") or side.missing_rows(2).any() for side in sides):
            return None
        differences = sides[0].values.astype(np.float64) - sides[1].values.astype(np.float64)
        slope = differences[1] - differences[0]
        root = -differences[0] / slope if slope else np.nan
        return Decimal(repr(round(float(root), 9))) if np.isfinite(root) else None

    def _may_be(self, name: str, value: Decimal) -> bool:
        """Whether a number may stand for a column at the place."""
        if self.kinds[name] == "integer" and value != value.to_integral_value():
            return False
        for dimension, cell in zip(self.dimensions, self.place, strict=True):
            if dimension.about.name != name or (
                dimension.test is not None and name not in dimension.test.reads
            ):
                continue
            if cell == dimension.missing:
                return False
            one = dimension.cut.cells[cell]
            place = value if dimension.about.type != "integer" else int(value)
            held = one.low < (0, place, 1) and (0, place, 0) < one.high
            return held and dimension.axis.witness(0, (0, place, 0), (0, place, 1)) is not None
        return True


def _float(value: Value | None) -> float | None:
    return None if value is None else float(value)  # type: ignore[arg-type]


def _in_cell(dimension: Dimension, cell: int) -> list[Value | None]:
    """Return some values of a cell, the one that is shown first."""
    if cell == dimension.missing:
        return [None]
    one = dimension.cut.cells[cell]
    found: list[Value | None] = [one.witness]
    axis = dimension.axis
    if one.low != LOW and one.high != HIGH and dimension.about.type != "text":
        found.append(axis.witness(one.band, one.low, one.high))
    if dimension.about.type in ("number", "integer") and isinstance(one.witness, (int, Decimal)):
        for step in (1, -1, 10, -10, 100, -100, 1000, -1000):
            near = Decimal(one.witness) + step
            place = near if dimension.about.type == "number" else int(near)
            if one.low < (0, place, 1) and (0, place, 0) < one.high:
                value = axis.witness(one.band, (0, place, 0), (0, place, 1))
                if value is not None:
                    found.append(value)
    return list(dict.fromkeys(found))
