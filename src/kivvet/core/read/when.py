"""From `when` cells to what they ask of each dimension of a table.

A condition is a conjunction of parts. A part about one column and plain values is a condition on that
column, one about the same two expressions a condition on the sign of their difference; any other part is
taken as a whole, as a computed input that is true, false or unknown. A row matches on true only.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from decimal import Decimal

from kivvet.core.formulas import tree as formula
from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.parser import parse_condition_formula
from kivvet.core.formulas.tree import ColumnName, Comparison, Constant, IsNull, columns_read, write_formula
from kivvet.core.formulas.types import type_of, type_of_constant
from kivvet.core.read.options import Faults, KeyPath
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import ComputedInput, Given
from kivvet.core.words.conditions import (
    AllOf,
    AnyOf,
    AnyValue,
    Between,
    Condition,
    Equals,
    IsMissing,
    IsPresent,
    Negation,
)
from kivvet.core.words.places import Place
from kivvet.core.words.values import Value, ValueType

_SIGNS = Between(-1, True, 1, True)
#: Nothing is that: what `= NULL` asks, which is never true.
NEVER = Negation(AnyValue())


class TypeMismatchError(FormulaError):
    """A condition that compares values of different types."""


@dataclass
class WhenReader:
    """Reads the `when` cells of one table, gathering the computed inputs that they need.

    Attributes
    ----------
    inputs : tuple of Input
        Those declared.
    computed_inputs : list of ComputedInput
        Found so far, each once.
    types : mapping of str to str
        By column that is no declared input, the type that the values it is compared with give it.
    pairs : mapping of str to Comparison
        By expression, as it is written, the first comparison of it with a constant: the expression is missing
        where the comparison is unknown.
    """

    inputs: tuple[Input, ...]
    computed_inputs: list[ComputedInput] = field(default_factory=list)
    types: dict[str, ValueType] = field(default_factory=dict)
    pairs: dict[str, Comparison] = field(default_factory=dict)

    def read(self, text: str) -> formula.Condition:
        """Return the tree of a cell; remember the types that it gives to columns.

        Raises
        ------
        FormulaError, TypeMismatchError
        """
        tree = parse_condition_formula(text)
        for comparison in _comparisons(tree):
            if not any(True for _ in columns_read(comparison)):
                raise FormulaError(
                    f"{write_formula(comparison)} names no column", 0, "compare a column with a value"
                )
            self._note_type(comparison)
            self._note_pair(comparison)
        plain = formula.without_not(tree)
        for part in plain.parts if isinstance(plain, formula.And) else (plain,):
            if not any(True for _ in columns_read(part)):
                raise FormulaError(
                    f"{write_formula(part)} names no column", 0, "compare a column with a value"
                )
        self._check_types(tree)
        return tree

    def _check_types(self, tree: formula.Condition) -> None:
        try:
            kind = type_of(tree, self.type_of)
        except FormulaError as error:
            raise TypeMismatchError(error.problem, error.offset, error.fix) from None
        if kind not in ("boolean", None):
            raise TypeMismatchError(
                f"{write_formula(tree)} is {kind}, and a condition is expected", 0, "compare it with a value"
            )

    def _note_type(self, comparison: Comparison) -> None:
        subject, _, value = _column_and_value(comparison)
        if subject is None:
            kinds = [self.type_of(side) for side in (comparison.left, comparison.right)]
            if None not in kinds and not _comparable(kinds[0], kinds[1]):
                raise TypeMismatchError(
                    f"{write_formula(comparison)} compares {kinds[0]} with {kinds[1]}",
                    0,
                    "compare values of the same type",
                )
            return
        if value is None:
            return
        kind = type_of_value(value)
        known = self.type_of(ColumnName(subject))
        if known is None:
            self.types[subject] = kind
        elif not _comparable(known, kind):
            raise TypeMismatchError(
                f"{write_formula(comparison)} compares {subject}, which is {known}, with {kind}",
                0,
                f"write a value of type {known}" if known != "text" else "write the text in 'single quotes'",
            )

    def _note_pair(self, comparison: Comparison) -> None:
        for side, other in (
            (comparison.left, comparison.right),
            (comparison.right, comparison.left),
        ):
            if (
                isinstance(other, Constant)
                and other.value is not None
                and not isinstance(side, (ColumnName, Constant))
            ):
                self.pairs.setdefault(write_formula(side), comparison)

    def type_of(self, side: formula.Expression) -> ValueType | None:
        """Return the type of an expression, None where it is a column nothing is known of."""
        if isinstance(side, Constant):
            return None if side.value is None else type_of_value(side.value)
        if isinstance(side, ColumnName):
            declared = next((input_.type for input_ in self.inputs if input_.name == side.name), None)
            return declared or self.types.get(side.name)
        try:
            return type_of(side, self.type_of)
        except FormulaError as error:
            raise TypeMismatchError(error.problem, error.offset, error.fix) from None

    def split(self, tree: formula.Condition) -> dict[int, Condition]:
        """Return what a condition asks, by the number of the dimension; all is asked at once."""
        plain = formula.without_not(tree)
        asked: dict[int, Condition] = {}
        for part in plain.parts if isinstance(plain, formula.And) else (plain,):
            dimension, condition = self._part(part)
            before = asked.get(dimension)
            asked[dimension] = condition if before is None else _both(before, condition)
        return asked

    def _part(self, part: formula.Condition) -> tuple[int, Condition]:
        subjects = set(self._subjects(part))
        if len(subjects) == 1 and (subject := subjects.pop()) is not None:
            number = self._dimension_of(subject, part)
            return number, self._condition(part)
        return self._whole(part)

    def _subjects(self, part: formula.Condition) -> Iterable[tuple[str, ...] | None]:
        """Yield what each single test is about: one column, two expressions, or None where it is neither."""
        match part:
            case formula.And(parts) | formula.Or(parts):
                for one in parts:
                    yield from self._subjects(one)
            case IsNull(ColumnName(name)):
                yield (name,) if self.type_of(ColumnName(name)) is not None else None
            case IsNull(expression) if write_formula(expression) in self.pairs:
                yield from self._subjects(self.pairs[write_formula(expression)])
            case Comparison(_, left, right):
                column, *_ = _column_and_value(part)
                if column is not None:
                    yield (column,) if self.type_of(ColumnName(column)) is not None else None
                else:
                    sides = sorted((write_formula(left), write_formula(right)))
                    reads_any = any(True for _ in columns_read(part))
                    yield (sides[0], sides[1]) if sides[0] != sides[1] and reads_any else None
            case _:
                yield None

    def _condition(self, part: formula.Condition) -> Condition:
        """Return a part about one subject as a condition on it."""
        match part:
            case formula.And(parts):
                whole = self._condition(parts[0])
                for one in parts[1:]:
                    whole = _both(whole, self._condition(one))
                return whole
            case formula.Or(parts):
                return AnyOf(tuple(self._condition(part) for part in parts))
            case IsNull(_, is_negated):
                return IsPresent() if is_negated else IsMissing()
            case Comparison(operator, left, right):
                column, mirrored, value = _column_and_value(part)
                if column is None:
                    if not self._is_as_first_written(left, right):
                        operator = formula.MIRRORED[operator]
                    signs = formula.SIGNS[operator]
                    return Equals(signs[0]) if len(signs) == 1 else AnyOf(tuple(map(Equals, signs)))
                if value is None:
                    return NEVER
                return _of_operator(mirrored, self._fitting(column, value))
        raise AssertionError(part)

    def _fitting(self, column: str, value: Value) -> Value:
        """Return a value as a bound of a column's type: on a datetime, a date is its first moment."""
        is_moment = self.type_of(ColumnName(column)) == "datetime"
        if is_moment and isinstance(value, dt.date) and not isinstance(value, dt.datetime):
            return dt.datetime.combine(value, dt.time())
        return value

    def _dimension_of(self, subject: tuple[str, ...], part: formula.Condition) -> int:
        if len(subject) == 1:
            (name,) = subject
            for number, input_ in enumerate(self.inputs):
                if input_.name == name:
                    return number
            return self._number_of(ComputedInput(Input(name, self.types[name]), reads=(name,)))
        comparison = next(iter(_comparisons(part)), None) or self._pair_in(part)
        about = Input(_pair_name(comparison.left, comparison.right), "integer", domain=_SIGNS)
        reads = tuple(dict.fromkeys(columns_read(comparison)))
        return self._number_of(
            ComputedInput(about, compared=(comparison.left, comparison.right), reads=reads)
        )

    def _pair_in(self, part: formula.Condition) -> Comparison:
        """Return the comparison that an `IS NULL` within a part is about."""
        found = (
            self.pairs.get(write_formula(node.part))
            for node in formula.walk(part)
            if isinstance(node, IsNull)
        )
        return next(one for one in found if one is not None)

    def _is_as_first_written(self, left: formula.Expression, right: formula.Expression) -> bool:
        """Whether two expressions stand in the order in which the table first compared them."""
        name = _pair_name(left, right)
        known = next((test.compared for test in self.computed_inputs if test.about.name == name), None)
        return known is None or known == (left, right)

    def _whole(self, part: formula.Condition) -> tuple[int, Condition]:
        holds = True
        if isinstance(part, IsNull) and part.is_negated:
            part, holds = IsNull(part.part), False
        elif isinstance(part, formula.Not):
            part, holds = part.part, False
        reads = tuple(dict.fromkeys(columns_read(part)))
        return self._number_of(
            ComputedInput(Input(write_formula(part), "boolean"), whole=part, reads=reads)
        ), Equals(holds)

    def _number_of(self, test: ComputedInput) -> int:
        for number, input_ in enumerate(self.computed_inputs):
            if input_.about == test.about:
                return len(self.inputs) + number
        self.computed_inputs.append(test)
        return len(self.inputs) + len(self.computed_inputs) - 1


def _pair_name(left: formula.Expression, right: formula.Expression) -> str:
    """Return the name of the comparison of two expressions, whichever stands first."""
    first, second = sorted((write_formula(left), write_formula(right)))
    return f"{first} against {second}"


def read_given(text: str, place: Place | None) -> Given:
    """Return the statement that a text of `given` writes; `FormulaError` if it is none."""
    tree = parse_condition_formula(text)
    return Given(write_formula(tree), tree, tuple(dict.fromkeys(columns_read(tree))), place)


def spread(asked: dict[int, Condition], n_dimensions: int) -> tuple[Condition, ...]:
    """Return one condition for each dimension, `any` where nothing is asked."""
    return tuple(asked.get(number, AnyValue()) for number in range(n_dimensions)) if asked else ()


def type_of_value(value: Value) -> ValueType:
    """Return the type that a literal gives to what it is compared with; whole numbers are compared with any
    number.
    """
    kind = type_of_constant(value)
    return "number" if kind in ("integer", None) else kind


def _comparable(one: ValueType | None, other: ValueType | None) -> bool:
    groups: Sequence[set[ValueType | None]] = ({"integer", "number", "decimal"}, {"date", "datetime"})
    return one == other or any(one in group and other in group for group in groups)


def _comparisons(tree: formula.Condition) -> Iterable[Comparison]:
    match tree:
        case Comparison():
            yield tree
        case _:
            for part in formula.children(tree):
                yield from _comparisons(part)


def _column_and_value(comparison: Comparison) -> tuple[str | None, formula.Operator, Value | None]:
    """Return the column, the operator as it stands with the column left, and the value; no column if it is
    none.
    """
    match comparison:
        case Comparison(operator, ColumnName(name), Constant(value)):
            return name, operator, value
        case Comparison(operator, Constant(value), ColumnName(name)):
            return name, formula.MIRRORED[operator], value
    return None, comparison.operator, None


def _of_operator(operator: formula.Operator, value: Value) -> Condition:
    if isinstance(value, Decimal) and value == value.to_integral_value() and abs(value) < 10**18:
        value = Decimal(int(value))
    match operator:
        case "=":
            return Equals(value)
        case "<>":
            return Negation(Equals(value))
        case "<" | "<=":
            return Between(None, False, value, operator == "<=")
        case ">" | ">=":
            return Between(value, operator == ">=", None, False)


def _both(one: Condition, other: Condition) -> Condition:
    """Return what both accept: one range where two open ones make it."""
    match one, other:
        case (Between(low, low_closed, None, _), Between(None, _, high, high_closed)) | (
            Between(None, _, high, high_closed),
            Between(low, low_closed, None, _),
        ):
            return Between(low, low_closed, high, high_closed)
    return AllOf((one, other))


def formula_fault(
    faults: Faults, error: FormulaError, text: str, path: KeyPath, where: str, row: int | None = None
) -> None:
    """Tell what is wrong with a formula in a definition."""
    kind = "type" if isinstance(error, TypeMismatchError) else "syntax"
    faults.add(
        f"{where}, {text.strip()!r}: {error.problem}",
        path,
        fix=error.fix,
        row=row,
        offset=error.offset,
        kind=kind,
    )
