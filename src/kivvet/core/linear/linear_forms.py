"""Formulas as linear forms of columns: sums of columns times numbers, plus a number.

Dates count in days, moments in nanoseconds. What is no such sum (a product of two columns, a text, a function) has no form.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from typing import Literal

from kivvet.core.formulas.tree import (
    And,
    Arithmetic,
    ColumnName,
    Comparison,
    Constant,
    Tree,
    columns_read,
    without_not,
)
from kivvet.core.words.values import ValueType, days_since_epoch, microseconds_since_epoch

#: What a form counts in; None of a column that nothing is known of.
Kind = Literal["number", "date", "datetime"] | None
Cut = tuple[Fraction, int]  # (value, 0) lies just before a value, (value, 1) just after it
Interval = tuple[Cut | None, Cut | None]
_ZERO = Fraction(0)
_HELD: dict[str, tuple[Interval, ...]] = {
    "<": ((None, (_ZERO, 0)),),
    "<=": ((None, (_ZERO, 1)),),
    "=": (((_ZERO, 0), (_ZERO, 1)),),
    "<>": ((None, (_ZERO, 0)), ((_ZERO, 1), None)),
    ">=": (((_ZERO, 0), None),),
    ">": (((_ZERO, 1), None),),
}
#: Where the difference of two sides lies, by its sign.
OF_SIGN: dict[int, Interval] = {-1: _HELD["<"][0], 0: _HELD["="][0], 1: _HELD[">"][0]}


@dataclass(frozen=True)
class Linear:
    """A linear form of columns.

    Attributes
    ----------
    coefficients : mapping of str to Fraction
        By column; none is zero.
    constant : Fraction
    kind : {"number", "date", "datetime"} or None
    """

    coefficients: Mapping[str, Fraction]
    constant: Fraction = _ZERO
    kind: Kind = "number"

    def plus(self, other: Linear, times: int, kind: Kind) -> Linear:
        """Return it with another times 1 or -1 added."""
        added = dict(self.coefficients)
        for name, value in other.coefficients.items():
            added[name] = added.get(name, _ZERO) + times * value
        return Linear(
            {name: value for name, value in added.items() if value},
            self.constant + times * other.constant,
            kind,
        )

    def by(self, factor: Fraction) -> Linear:
        """Return it times a number."""
        if not factor:
            return Linear({}, _ZERO)
        return Linear(
            {name: value * factor for name, value in self.coefficients.items()},
            self.constant * factor,
            self.kind,
        )


@dataclass(frozen=True)
class Statement:
    """A linear form that lies in one of some intervals."""

    form: Linear
    intervals: tuple[Interval, ...]


def kind_of(type_: ValueType | None) -> Kind | Literal["other"]:
    """Return what values of a type count in; "other" where they do not."""
    if type_ is None:
        return None
    if type_ in ("number", "integer", "decimal"):
        return "number"
    return "date" if type_ == "date" else "datetime" if type_ == "datetime" else "other"


def linear_of(tree: Tree, types: Mapping[str, ValueType | None]) -> Linear | None:
    """Return a formula as a linear form; None where it is none."""
    match tree:
        case Constant(value):
            return _of_constant(value)
        case ColumnName(name):
            kind = kind_of(types.get(name))
            return None if kind == "other" else Linear({name: Fraction(1)}, _ZERO, kind)
        case Arithmetic(sign, left, right):
            first, second = linear_of(left, types), linear_of(right, types)
            return None if first is None or second is None else _arithmetic(sign, first, second)
    return None


def _of_constant(value: object) -> Linear | None:
    if isinstance(value, bool):
        return None
    if isinstance(value, (int, Decimal)):
        return Linear({}, Fraction(value))
    if isinstance(value, dt.datetime):
        return Linear({}, Fraction(microseconds_since_epoch(value) * 1_000), "datetime")
    return Linear({}, Fraction(days_since_epoch(value)), "date") if isinstance(value, dt.date) else None


def _arithmetic(sign: str, left: Linear, right: Linear) -> Linear | None:
    if "datetime" in (left.kind, right.kind):
        return None
    kinds = left.kind or "number", right.kind or "number"
    if sign in "+-":
        if kinds == ("date", "date") and sign == "-":
            return left.plus(right, -1, "number")
        if kinds == ("date", "date") or (kinds[1] == "date" and sign == "-"):
            return None
        kind: Kind = "date" if "date" in kinds else "number"
        return left.plus(right, 1 if sign == "+" else -1, kind)
    if "date" in kinds:
        return None
    if sign == "*":
        if not left.coefficients:
            return right.by(left.constant)
        return left.by(right.constant) if not right.coefficients else None
    return left.by(1 / right.constant) if not right.coefficients and right.constant else None


def difference_of(left: Tree, right: Tree, types: Mapping[str, ValueType | None]) -> Linear | None:
    """Return the difference of the two sides of a comparison; None where it is not linear, or a column falls out of it: where
    that is missing the comparison is unknown, which no form of the others says.
    """
    first, second = linear_of(left, types), linear_of(right, types)
    if first is None or second is None:
        return None
    kinds = {one.kind for one in (first, second)} - {None}
    if len(kinds) > 1:
        return None
    made = first.plus(second, -1, "number")
    return made if set(made.coefficients) == {*columns_read(left), *columns_read(right)} else None


def statements_of(
    condition: Tree, types: Mapping[str, ValueType | None]
) -> tuple[list[Statement], list[Tree]]:
    """Return the linear statements whose conjunction a condition is, and the parts of it that are not linear."""
    plain = without_not(condition)
    linear, others = [], []
    for part in plain.parts if isinstance(plain, And) else (plain,):
        form = (
            difference_of(part.left, part.right, types)
            if isinstance(part, Comparison) and part.operator in _HELD
            else None
        )
        if form is None or not isinstance(part, Comparison):
            others.append(part)
        else:
            linear.append(Statement(form, _HELD[part.operator]))
    return linear, others
