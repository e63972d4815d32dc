"""What one test of a branch asks of one column, as the condition of a cell; two of them together; and what nothing is."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from decimal import Decimal

from kivvet.core.formulas.tree import (
    MIRRORED,
    And,
    Call,
    ColumnName,
    Comparison,
    Constant,
    IsNull,
    Not,
    Or,
    Tree,
)
from kivvet.core.words.conditions import (
    AnyOf,
    Between,
    Condition,
    Equals,
    IsMissing,
    IsPresent,
    Negation,
    StartsWith,
)
from kivvet.core.words.values import Value, ValueType

#: What a test asks that is never true.
NEVER = object()


def without_empty_texts(tree: Tree) -> Tree:
    """Return a condition without the text of no characters, which is missing here: nothing is it, all that is present is another
    and more.
    """
    match tree:
        case And(parts):
            made = tuple(map(without_empty_texts, parts))
            return Constant(False) if Constant(False) in made else And(made)
        case Or(parts):
            made = tuple(one for one in map(without_empty_texts, parts) if one != Constant(False))
            return Constant(False) if not made else made[0] if len(made) == 1 else Or(made)
        case Comparison(operator, Constant(""), right, at):
            return without_empty_texts(Comparison(MIRRORED[operator], right, Constant(""), at))
        case Comparison(operator, left, Constant("")):
            return IsNull(left, True) if operator in ("<>", ">", ">=") else Constant(False)
    return tree


def cell_of(test: Tree, kinds: Mapping[str, ValueType]) -> object:
    """Return the column that a test is about, and the condition of its cell; `NEVER` where it is never true, None where it is more
    than a cell can say.
    """
    match test:
        case Constant(False):
            return NEVER
        case Comparison(operator, Constant(value), ColumnName() as column, at):
            return cell_of(Comparison(MIRRORED[operator], column, Constant(value), at), kinds)
        case Comparison(operator, ColumnName(name), Constant(value)):
            if value is None:
                return NEVER
            fitting = _fitting(value, kinds.get(name))
            return None if fitting is None else (name, _compared(operator, fitting))
        case IsNull(ColumnName(name), is_negated):
            return (name, IsPresent() if is_negated else IsMissing()) if name in kinds else None
        case Call("LIKE", (ColumnName(name), Constant(str(pattern)))):
            condition = _liked(pattern)
            return None if condition is None or kinds.get(name) != "text" else (name, condition)
        case Not(Call("LIKE", (ColumnName(name), Constant(str(pattern))))):
            condition = _liked(pattern)
            return None if condition is None or kinds.get(name) != "text" else (name, Negation(condition))
        case Or(parts):
            found = [one for one in (cell_of(part, kinds) for part in parts) if one is not NEVER]
            if not found:
                return NEVER
            if not all(isinstance(one, tuple) for one in found) or len({one[0] for one in found}) > 1:  # type: ignore[index]
                return None
            return found[0][0], any_of([one[1] for one in found])  # type: ignore[index]
        case And(parts):
            made: object = None
            for part in parts:
                one = cell_of(part, kinds)
                if one is NEVER:
                    return NEVER
                if not isinstance(one, tuple) or (made is not None and made[0] != one[0]):  # type: ignore[index]
                    return None
                both = one[1] if made is None else both_of(made[1], one[1])  # type: ignore[index]
                if both is None or both is NEVER:
                    return both
                made = (one[0], both)
            return made
    return None


def _fitting(value: Value, kind: ValueType | None) -> Value | None:
    """Return a constant as a value of the type of a column; None where it is none."""
    if kind == "text":
        return value if isinstance(value, str) else None
    if kind in ("integer", "number", "decimal"):
        return value if isinstance(value, (Decimal, int)) and not isinstance(value, bool) else None
    if kind == "boolean":
        return value if isinstance(value, bool) else None
    if kind == "date":
        return value if isinstance(value, dt.date) and not isinstance(value, dt.datetime) else None
    if kind == "datetime":
        return value if isinstance(value, dt.date) else None
    return None


def _compared(operator: str, value: Value) -> Condition:
    match operator:
        case "=":
            return Equals(value)
        case "<>":
            return Negation(Equals(value))
        case "<":
            return Between(None, False, value, False)
        case "<=":
            return Between(None, False, value, True)
        case ">":
            return Between(value, False, None, False)
    return Between(value, True, None, False)


def _liked(pattern: str) -> Condition | None:
    """Return the condition of a pattern that is a text, or the beginning of one."""
    body = pattern.removesuffix("%")
    if any(sign in body for sign in "%_"):
        return None
    if body == pattern:
        return Equals(pattern)
    return StartsWith(body) if body else IsPresent()


def any_of(parts: Sequence[Condition]) -> Condition:
    """Return what one of some conditions asks, each named once."""
    flat = [inner for part in parts for inner in (part.parts if isinstance(part, AnyOf) else (part,))]
    flat = list(dict.fromkeys(flat))
    return flat[0] if len(flat) == 1 else AnyOf(tuple(flat))


def both_of(one: Condition, other: Condition) -> object:
    """Return the condition that asks two; `NEVER` where nothing is both, None where no cell says it."""
    if isinstance(one, AnyOf) or isinstance(other, AnyOf):
        parts, rest = (one.parts, other) if isinstance(one, AnyOf) else (other.parts, one)  # type: ignore[union-attr]
        made = [both for both in (both_of(part, rest) for part in parts) if both is not NEVER]
        if any(both is None for both in made):
            return None
        return any_of(made) if made else NEVER  # type: ignore[arg-type]
    if one == other or (isinstance(other, IsPresent) and not isinstance(one, (IsMissing, AnyOf))):
        return one
    if isinstance(one, IsPresent) and not isinstance(other, (IsMissing, AnyOf)):
        return other
    if isinstance(one, IsMissing) or isinstance(other, IsMissing):
        return None if isinstance(one, AnyOf) or isinstance(other, AnyOf) else NEVER
    if isinstance(one, Equals) and isinstance(other, Equals):
        return NEVER
    if isinstance(one, Negation) and isinstance(other, Negation):
        return Negation(any_of([one.part, other.part]))
    if isinstance(one, Between) and isinstance(other, Between):
        lower = _tighter(one.lower, one.lower_closed, other.lower, other.lower_closed, -1)
        upper = _tighter(one.upper, one.upper_closed, other.upper, other.upper_closed, 1)
        if lower[0] is not None and upper[0] is not None:
            if lower[0] > upper[0]:  # type: ignore[operator]
                return NEVER
            if lower[0] == upper[0]:
                return Equals(lower[0]) if lower[1] and upper[1] else NEVER
        return Between(*lower, *upper)
    return None


def _tighter(
    one: Value | None, one_closed: bool, other: Value | None, other_closed: bool, side: int
) -> tuple[Value | None, bool]:
    """Return the end that leaves less."""
    if one is None or other is None:
        return (other, other_closed) if one is None else (one, one_closed)
    if one == other:
        return one, one_closed and other_closed
    is_one = (one > other) == (side < 0)  # type: ignore[operator]
    return (one, one_closed) if is_one else (other, other_closed)
