"""Formulas as values: expressions over columns, and conditions on them in the logic of true, false and unknown."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal
from typing import Literal

from kivvet.core.values import Value, write_value

Operator = Literal["<", "<=", "=", "<>", ">=", ">"]
#: What an operator becomes when its sides change places, and when it is negated.
MIRRORED: dict[Operator, Operator] = {"<": ">", "<=": ">=", "=": "=", "<>": "<>", ">=": "<=", ">": "<"}
OPPOSITE: dict[Operator, Operator] = {"<": ">=", "<=": ">", "=": "<>", "<>": "=", ">=": "<", ">": "<="}
#: The signs of left minus right for which an operator holds.
SIGNS: dict[Operator, tuple[int, ...]] = {
    "<": (-1,), "<=": (-1, 0), "=": (0,), "<>": (-1, 1), ">=": (0, 1), ">": (1,),
}  # fmt: skip

RESERVED = frozenset(
    ("and", "or", "not", "in", "is", "null", "between", "true", "false", "date", "timestamp")
)


@dataclass(frozen=True, slots=True)
class ColumnName:
    """The value of a column."""

    name: str


@dataclass(frozen=True, slots=True)
class Constant:
    """A value; None is NULL."""

    value: Value | None


@dataclass(frozen=True, slots=True)
class Arithmetic:
    """Sum, difference or product of two numbers."""

    sign: Literal["+", "-", "*"]
    left: Expression
    right: Expression


Expression = ColumnName | Constant | Arithmetic


@dataclass(frozen=True, slots=True)
class Comparison:
    """Two expressions compared; unknown where one of them is missing."""

    operator: Operator
    left: Expression
    right: Expression


@dataclass(frozen=True, slots=True)
class IsNull:
    """Whether an expression is missing; never unknown."""

    part: Expression
    is_negated: bool = False


@dataclass(frozen=True, slots=True)
class And:
    """True where all parts are, false where one is."""

    parts: tuple[Condition, ...]


@dataclass(frozen=True, slots=True)
class Or:
    """True where one part is, false where all are."""

    parts: tuple[Condition, ...]


@dataclass(frozen=True, slots=True)
class Not:
    """True where its part is false."""

    part: Condition


Condition = Comparison | IsNull | And | Or | Not


def without_not(condition: Condition, *, negated: bool = False) -> Condition:
    """Return an equal condition in which nothing is negated but single tests, by De Morgan's laws."""
    match condition:
        case Not(part):
            return without_not(part, negated=not negated)
        case And(parts) | Or(parts):
            made = tuple(without_not(part, negated=negated) for part in parts)
            return And(made) if isinstance(condition, And) is not negated else Or(made)
        case Comparison(operator, left, right):
            return Comparison(OPPOSITE[operator], left, right) if negated else condition
        case IsNull(part, is_negated):
            return IsNull(part, is_negated is not negated)


def columns_read(tree: Condition | Expression) -> Iterator[str]:
    """Yield the names of the columns a tree reads, in order, with repetitions."""
    match tree:
        case ColumnName(name):
            yield name
        case Arithmetic(_, left, right) | Comparison(_, left, right):
            yield from columns_read(left)
            yield from columns_read(right)
        case IsNull(part) | Not(part):
            yield from columns_read(part)
        case And(parts) | Or(parts):
            for part in parts:
                yield from columns_read(part)


def write_name(name: str) -> str:
    """Return a column name as a formula writes it."""
    is_plain = re.fullmatch(r"[^\W\d]\w*", name) and name.lower() not in RESERVED
    return name if is_plain else '"' + name.replace('"', '""') + '"'


def write_formula(tree: Condition | Expression) -> str:
    """Return a tree as text; parsing it gives an equal tree."""
    match tree:
        case ColumnName(name):
            return write_name(name)
        case Constant(value):
            return _write_literal(value)
        case Arithmetic(sign, left, right):
            return f"{_operand(left, sign, is_right=False)} {sign} {_operand(right, sign, is_right=True)}"
        case Comparison(operator, left, right):
            return f"{write_formula(left)} {operator} {write_formula(right)}"
        case IsNull(part, is_negated):
            inner = f"({write_formula(part)})" if isinstance(part, Arithmetic) else write_formula(part)
            return f"{inner} IS {'NOT ' if is_negated else ''}NULL"
        case And(parts):
            return " AND ".join(_bracketed(part, (And, Or)) for part in parts)
        case Or(parts):
            return " OR ".join(_bracketed(part, (Or,)) for part in parts)
        case Not(part):
            return f"NOT {_bracketed(part, (And, Or, Comparison))}"


def _bracketed(part: Condition, kinds: tuple[type, ...]) -> str:
    return f"({write_formula(part)})" if isinstance(part, kinds) else write_formula(part)


def _operand(part: Expression, sign: str, *, is_right: bool) -> str:
    text = write_formula(part)
    if isinstance(part, Arithmetic):
        needs = (sign == "*" and part.sign != "*") or (is_right and not (sign == "+" and part.sign == "*"))
        return f"({text})" if needs and not (sign == "-" and part.sign == "*") else text
    return f"({text})" if text.startswith("-") else text


def _write_literal(value: Value | None) -> str:
    if value is None:
        return "NULL"
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    if isinstance(value, str):
        return "'" + value.replace("'", "''") + "'"
    if isinstance(value, dt.datetime):
        return f"TIMESTAMP '{write_value(value)}'"
    if isinstance(value, dt.date):
        return f"DATE '{write_value(value)}'"
    return write_value(Decimal(value))
