"""Columns of a table that statements and comparisons tie to each other: which places among their cells exist.

Every condition bounds a linear form of columns, an input being the form with one coefficient. The bounds that rows and statements
name cut each form into cells, and a row is a box of them, as if the forms were independent; whether a box holds a point is decided
by a simplex in whole numbers. Strictness needs no symbol: bounds are whole numbers of 1/unit, an open end lies one such unit
inside, and the unit is so fine (by Hadamard's bound on determinants) that this closed system has a point exactly if the open one has.

Where a column is missing, the forms that read it are unknown: statements about it are off, and comparisons lie in the cell of
missing values.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from fractions import Fraction
from functools import cached_property

from kivvet.core.formulas.tree import Tree
from kivvet.core.linear.form_lines import Line, ends_in_units, holds, line_of, moved, stretches_of
from kivvet.core.linear.lattices import Lattice, Limits, Step, lattice_of
from kivvet.core.linear.linear_forms import (
    Interval,
    Linear,
    Statement,
    difference_of,
    kind_of,
    statements_of,
)
from kivvet.core.linear.simplex import Form, dot
from kivvet.core.linear.substitution import Substitution, primitive
from kivvet.core.space.boxes import Dimension, Space
from kivvet.core.tables.table import Given, Table
from kivvet.core.words.kept import kept
from kivvet.core.words.values import ValueType

_ZERO = Fraction(0)


@kept
def types_of(table: Table) -> dict[str, ValueType | None]:
    """Return the type of each column that a table reads; None where nothing is known of it."""
    return {name: None if about is None else about.type for name, about in table.reads.items()}


@kept
def stated(table: Table) -> tuple[tuple[tuple[Statement, Given], ...], tuple[tuple[Tree, Given], ...]]:
    """Return the linear statements of a table, and the parts of `given` that are not linear, each with what it is of."""
    linear: list[tuple[Statement, Given]] = []
    others: list[tuple[Tree, Given]] = []
    types = types_of(table)
    for given in table.given:
        of_given, rest = statements_of(given.condition, types)
        linear += [(one, given) for one in of_given]
        others += [(one, given) for one in rest]
    return tuple(linear), tuple(others)


def form_of(table: Table, dimension: Dimension) -> Linear | None:
    """Return the form whose value, or whose sign, a dimension is about; None where it is about none."""
    types = types_of(table)
    if dimension.is_plain:
        kind = kind_of(types.get(dimension.about.name) or dimension.about.type)
        return None if kind in ("other", None) else Linear({dimension.about.name: Fraction(1)})
    assert dimension.test is not None
    return None if dimension.test.compared is None else difference_of(*dimension.test.compared, types)


@dataclass
class TiedColumns:
    """The columns that are tied, and what ties them.

    Attributes
    ----------
    space : Space
    statements : tuple of Statement
        Those of `given` that are linear.
    forms : tuple of (Linear or None)
        By dimension; None where it has nothing to do with them.
    names : tuple of str
    """

    space: Space
    statements: tuple[Statement, ...]
    forms: tuple[Linear | None, ...]
    names: tuple[str, ...]
    _known: dict[frozenset[str], TiedForms | None] = field(default_factory=dict)

    @classmethod
    def of(cls, space: Space) -> TiedColumns | None:
        """Return the columns of a space that are tied; None where there are none."""
        table = space.table
        statements = tuple(statement for statement, _ in stated(table)[0])
        forms = [form_of(table, dimension) for dimension in space.dimensions]
        names = {name for statement in statements for name in statement.form.coefficients}
        for form, dimension in zip(forms, space.dimensions, strict=True):
            if form is not None and not dimension.is_plain:
                names |= form.coefficients.keys()
        if not names and not statements:
            return None
        own = [
            None if form is None or (one.is_plain and one.about.name not in names) else form
            for form, one in zip(forms, space.dimensions, strict=True)
        ]
        return cls(space, statements, tuple(own), tuple(sorted(names)))

    @cached_property
    def steps(self) -> dict[str, Step]:
        """By column that is tied the step its values lie on."""
        table = self.space.table
        types = types_of(table)
        found: dict[str, Step] = {}
        for name in self.names:
            if name in table.steps:
                size, offset = table.steps[name]
                found[name] = Fraction(size), Fraction(offset)
            elif types.get(name) in ("integer", "date", "datetime"):
                found[name] = Fraction(1), _ZERO
        return found

    def forms_where(self, missing: frozenset[str]) -> TiedForms | None:
        """Return the forms where some columns are missing; None where statements leave no value at all."""
        if missing not in self._known:
            self._known[missing] = TiedForms.of(self, missing)
        return self._known[missing]

    @cached_property
    def names_in_rows(self) -> frozenset[str]:
        """The tied columns that rows may ask something of."""
        return frozenset(name for form in self.forms if form is not None for name in form.coefficients)

    @cached_property
    def names_stated(self) -> frozenset[str]:
        """The columns that statements read."""
        return frozenset(name for statement in self.statements for name in statement.form.coefficients)

    def missing_in(
        self, within: Sequence[int], may_miss: Collection[str], *, only_ends: bool = False
    ) -> Iterator[frozenset[str]]:
        """Yield the columns that may be missing together in a box of cells, few first.

        Parameters
        ----------
        within : sequence of int
            For each dimension its cells, as bits.
        may_miss : collection of str
            The columns that may be missing where they need not be.
        only_ends : bool
            Whether the fewest and the most are enough: what exists where few are missing exists where more are, no row being asked.
        """
        must: set[str] = set()
        may: set[str] = set()
        kept_present: set[str] = set()
        for form, dimension, cells in zip(self.forms, self.space.dimensions, within, strict=True):
            if form is None:
                continue
            names = set(form.coefficients)
            if not cells >> dimension.missing & 1:
                kept_present |= names
            elif cells & dimension.present:
                may |= names
            elif dimension.is_plain:
                must |= names
            else:
                may |= names
        if must & kept_present:
            return
        only_missing = [
            form.coefficients.keys()
            for form, dimension, cells in zip(self.forms, self.space.dimensions, within, strict=True)
            if form is not None and not cells & dimension.present
        ]
        optional = sorted((may - kept_present - must) & {*may_miss})
        sizes = range(len(optional) + 1)
        for size in dict.fromkeys((0, len(optional))) if only_ends else sizes:
            for some in itertools.combinations(optional, size):
                missing = frozenset(must.union(some))
                if all(names & missing for names in only_missing):
                    yield missing


@dataclass
class TiedForms:
    """The forms of tied columns none of which is missing but for some: what the simplex is asked about.

    Attributes
    ----------
    tied : TiedColumns
    missing : frozenset of str
    substitution : Substitution
    forms : list of tuple of int
        By the columns that are left; these themselves come first.
    lines : list of Line
        One for each form.
    fixed : dict of int to int
        The cell of each dimension that has just one here.
    base : Limits
        What statements leave of each form.
    steps, lattices, unit
    """

    tied: TiedColumns
    missing: frozenset[str]
    substitution: Substitution
    forms: list[Form]
    lines: list[Line]
    fixed: dict[int, int]
    base: Limits
    steps: list[Step]
    lattices: list[Lattice]
    unit: int

    @cached_property
    def on_lines(self) -> frozenset[int]:
        """The dimensions that are about one of the forms."""
        return frozenset(number for line in self.lines for number in line.cells_of)

    @property
    def n(self) -> int:
        """How many columns are left."""
        return len(self.substitution.free)

    @classmethod
    def of(cls, tied: TiedColumns, missing: frozenset[str]) -> TiedForms | None:
        """Return the forms; None where statements without any column are false."""
        names = [name for name in tied.names if name not in missing]
        statements = [
            statement for statement in tied.statements if not missing & statement.form.coefficients.keys()
        ]
        substitution = Substitution.of(names, statements, tied.steps)
        numbers: dict[Form, int] = {
            tuple(int(i == j) for i in range(len(substitution.free))): j
            for j in range(len(substitution.free))
        }
        cut = _Cuts(len(numbers))
        fixed: dict[int, int] = {}
        for number, (form, dimension) in enumerate(zip(tied.forms, tied.space.dimensions, strict=True)):
            if form is None:
                continue
            if missing & form.coefficients.keys():
                fixed[number] = dimension.missing
                continue
            stretches = list(stretches_of(dimension))
            coefficients, constant = substitution.reduced(form)
            if not any(coefficients):
                at = next((cell for cell, pair in stretches if holds(pair, constant)), None)
                if at is None:
                    return None  # a fixed value that its step, or its domain, has not
                fixed[number] = at
                continue
            whole, factor = primitive(coefficients)
            line = cut.line(numbers.setdefault(whole, len(numbers)))
            for cell, pair in stretches:
                line.append((number, cell, moved(pair, constant, factor)))
        for statement in substitution.left:
            coefficients, constant = substitution.reduced(statement.form)
            if not any(coefficients):
                if not any(holds(pair, constant) for pair in statement.intervals):
                    return None
                continue
            whole, factor = primitive(coefficients)
            number = numbers.setdefault(whole, len(numbers))
            cut.line(number)
            cut.states(number, [moved(pair, constant, factor) for pair in statement.intervals])
        forms = list(numbers)
        steps = [tied.steps.get(name) for name in substitution.free]
        return cut.made(tied, missing, substitution, forms, fixed, steps)

    def limits(self, ranges: Mapping[int, tuple[int, int]]) -> Limits:
        """Return what ranges of cells, by form, and statements leave of each form."""
        low, high = dict(self.base[0]), dict(self.base[1])
        for form, (start, end) in ranges.items():
            cells = self.lines[form].cells
            first, last = cells[start][0], cells[end - 1][1]
            if first is not None:
                low[form] = max(low.get(form, first), first)
            if last is not None:
                high[form] = min(high.get(form, last), last)
        return low, high

    def cells_at(self, point: Sequence[Fraction]) -> dict[int, int]:
        """Return the cell of each dimension that a point of the columns left lies in."""
        found = dict(self.fixed)
        scaled = [value * self.unit for value in point]
        for form, line in zip(self.forms, self.lines, strict=True):
            value = sum((a * x for a, x in zip(form, scaled, strict=True)), _ZERO)
            for at, (first, last) in enumerate(line.cells):
                if (first is None or first <= value) and (last is None or value <= last):
                    found.update({number: cells[at] for number, cells in line.cells_of.items()})
                    break
        return found


class _Cuts:
    """Gathers, by form, the stretches of dimensions and of statements, and cuts the forms at all their ends."""

    def __init__(self, n: int) -> None:
        self.lines: list[list[tuple[int, int, Interval]]] = [[] for _ in range(n)]
        self.stated: dict[int, list[list[Interval]]] = {}

    def line(self, number: int) -> list[tuple[int, int, Interval]]:
        while len(self.lines) <= number:
            self.lines.append([])
        return self.lines[number]

    def states(self, number: int, intervals: list[Interval]) -> None:
        self.stated.setdefault(number, []).append(intervals)

    def made(
        self,
        tied: TiedColumns,
        missing: frozenset[str],
        substitution: Substitution,
        forms: list[Form],
        fixed: dict[int, int],
        steps: list[Step],
    ) -> TiedForms:
        ends = [cut for line in self.lines for *_, pair in line for cut in pair if cut is not None]
        ends += [
            cut for several in self.stated.values() for one in several for pair in one for cut in pair if cut
        ]
        parts = [cut[0] for cut in ends] + [part for step in steps for part in step or ()]
        norm = max((dot(form, form) for form in forms), default=0) + 1
        determinant = math.isqrt(norm ** (len(substitution.free) + 1)) + 1
        unit = math.lcm(*(part.denominator for part in parts)) * 10 ** len(str(determinant))
        lattices = [lattice_of(form, steps, unit) for form in forms]
        base: Limits = ({}, {})
        lines = []
        for number, (stretches, lattice) in enumerate(zip(self.lines, lattices, strict=True)):
            several = self.stated.get(number, [])
            for intervals in several:
                if len(intervals) == 1:
                    first, last = ends_in_units(*intervals[0], unit)
                    if first is not None:
                        base[0][number] = max(base[0].get(number, first), first)
                    if last is not None:
                        base[1][number] = min(base[1].get(number, last), last)
            holes = [intervals for intervals in several if len(intervals) > 1]
            lines.append(line_of(stretches, holes, lattice, unit))
        return TiedForms(tied, missing, substitution, forms, lines, fixed, base, steps, lattices, unit)
