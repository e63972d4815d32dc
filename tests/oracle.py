"""Naive answers, one value at a time, written from the definitions alone: the referee of the property tests.

Nothing here knows of regions, cells or thresholds.
"""

from __future__ import annotations

import datetime as dt
import itertools
import math
import re
from decimal import Decimal
from fractions import Fraction

from kivvet.core.formulas import tree as formula
from kivvet.core.tables.inputs import Input
from kivvet.core.words.conditions import (
    AnyOf,
    AnyValue,
    Between,
    CodeRange,
    Condition,
    Equals,
    IsMissing,
    IsPresent,
    Negation,
    StartsWith,
)
from kivvet.core.words.values import fold_text


def accepts(condition: Condition, value: object, about: Input) -> bool:
    """Whether a condition holds for one value (None: missing)."""
    match condition:
        case AnyValue():
            return value is not None or not about.required
        case IsMissing():
            return value is None and not about.required
        case AnyOf(parts):
            return any(accepts(part, value, about) for part in parts)
    if value is None:
        return False
    match condition:
        case IsPresent():
            return True
        case Negation(part):
            return not accepts(part, value, about)
        case Equals(bound):
            return compare(value, bound, about) == 0
        case Between(lower, lower_closed, upper, upper_closed):
            above = lower is None or (
                compare(value, lower, about) >= 0 if lower_closed else compare(value, lower, about) > 0
            )
            below = upper is None or (
                compare(value, upper, about) <= 0 if upper_closed else compare(value, upper, about) < 0
            )
            return above and below
        case StartsWith(prefix):
            return fold_text(str(value), about.fold).startswith(fold_text(prefix, about.fold))
        case CodeRange(lower, lower_closed, upper, upper_closed):
            text = fold_text(str(value), about.fold)
            low, high = fold_text(lower, about.fold), fold_text(upper, about.fold)
            head = text[: len(low)]
            if len(text) < len(low) or not has_shape(text, about):
                return False
            return (head >= low if lower_closed else head > low) and (
                head <= high if upper_closed else head < high
            )
    raise AssertionError(condition)


def has_shape(text: str, about: Input) -> bool:
    if not about.shape:
        return True
    shape = about.shape.casefold() if "case" in about.fold else about.shape
    pattern = "".join({"A": "[A-Z]", "a": "[a-z]", "9": "[0-9]"}.get(sign, re.escape(sign)) for sign in shape)
    return re.match(pattern, text) is not None


def compare(value: object, bound: object, about: Input) -> int:
    """Return -1, 0 or 1 as `value` (of the data) lies below, on or above `bound` (of the table)."""
    if isinstance(value, str):
        left, right = fold_text(value, about.fold), fold_text(str(bound), about.fold)
        return (left > right) - (left < right)
    if isinstance(value, dt.datetime):
        if isinstance(bound, dt.datetime):
            return (value > bound) - (value < bound)
        day = value.date()
        return (day > bound) - (day < bound)
    if isinstance(value, dt.date):
        return (value > bound) - (value < bound)
    if isinstance(value, float):
        if about.step is not None and math.isfinite(value):
            step, offset = Fraction(about.step), Fraction(about.step_offset)
            multiple = offset + round((Fraction(value) - offset) / step) * step
            if value == float(bound) and not (Fraction(bound) - offset) % step:
                return 0
            if abs(Fraction(value) - multiple) <= step / 1_000_000 or value == float(multiple):
                return (multiple > Fraction(bound)) - (multiple < Fraction(bound))
        nearest = float(bound)
        return (value > nearest) - (value < nearest)
    exact, limit = Fraction(value), Fraction(bound)
    return (exact > limit) - (exact < limit)


def winner(conditions: list[Condition], value: object, about: Input) -> int:
    """Return the number (from 0) of the first condition that accepts the value, or -1."""
    if isinstance(value, str) and not fold_text(value, about.fold):
        value = None  # text of no characters is missing wherever it arises
    return next((number for number, one in enumerate(conditions) if accepts(one, value, about)), -1)


def telling_values(conditions: list[Condition], about: Input) -> list[object]:
    """Return values of which at least one lies in every part of the line that conditions can tell apart.

    Texts of another shape than declared are among them.
    """
    found = {bound for condition in conditions for bound in bounds_of(condition)}
    if about.type == "datetime":
        return _telling_moments(found)
    bounds = sorted(found, key=_order)
    if about.type == "boolean":
        return [False, True]
    if about.type == "text":
        return _telling_texts([str(bound) for bound in bounds], about)
    if about.type == "integer":
        numbers = {n for bound in bounds for n in range(math.floor(bound) - 2, math.ceil(bound) + 3)} or {0}
        return sorted(numbers)
    if about.type == "date":
        return [
            day
            for bound in bounds or [dt.date(2026, 1, 1)]
            for n in (-2, -1, 0, 1, 2)
            if (day := bound + dt.timedelta(n))
        ]
    if about.step is not None:
        step, offset = Fraction(about.step), Fraction(about.step_offset)
        first = {
            math.floor((Fraction(bound) - offset) / step) + n for bound in bounds for n in (-1, 0, 1, 2)
        } or {0}
        return [offset + n * step for n in sorted(first)]
    middles = [(Fraction(a) + Fraction(b)) / 2 for a, b in itertools.pairwise(bounds)]
    ends = [Fraction(bounds[0]) - 1, Fraction(bounds[-1]) + 1] if bounds else [Fraction(0)]
    return [Fraction(bound) for bound in bounds] + middles + ends


def _order(bound: object) -> object:
    return Fraction(bound) if isinstance(bound, (int, Decimal)) else bound


def _telling_moments(bounds: set[object]) -> list[object]:
    tick = dt.timedelta(microseconds=1)
    made = {dt.datetime(2026, 1, 1)}
    for bound in bounds:
        ends = (
            [bound]
            if isinstance(bound, dt.datetime)
            else [dt.datetime.combine(bound + dt.timedelta(n), dt.time()) for n in (0, 1)]
        )
        made |= {end + n * tick for end in ends for n in (-1, 0, 1)}
    return sorted(made)


def _telling_texts(bounds: list[str], about: Input) -> list[str]:
    bounds = [fold_text(bound, about.fold) for bound in bounds] or ["m"]
    longest = max(map(len, bounds)) + 1
    signs = sorted({"!", "0", "9", "A", "B", "a", "z", "~", *"".join(bounds)})
    signs += [chr(ord(sign) + 1) for sign in signs]
    made = {*bounds, *signs}
    for bound in bounds:
        for cut in range(len(bound) + 1):
            made |= {bound[:cut] + sign for sign in signs}
            made |= {(bound[:cut] + sign).ljust(longest, "5") for sign in signs}
    made |= {text + tail for text in list(made) for tail in ("0", "99")}
    return sorted(text for text in made if text)


def bounds_of(condition: Condition) -> list[object]:
    match condition:
        case Equals(value):
            return [value]
        case Between(lower, _, upper, _):
            return [bound for bound in (lower, upper) if bound is not None]
        case StartsWith(prefix):
            return [prefix]
        case CodeRange(lower, _, upper, _):
            return [lower, upper]
        case Negation(part):
            return bounds_of(part)
        case AnyOf(parts):
            return [bound for part in parts for bound in bounds_of(part)]
    return []


def holds(tree, values):
    """Whether a condition formula is true, false or (None) unknown for values by column, the logic being
    three-valued.
    """
    match tree:
        case formula.Comparison(operator, left, right):
            a, b = number_of(left, values), number_of(right, values)
            if a is None or b is None:
                return None
            return {"<": a < b, "<=": a <= b, "=": a == b, "<>": a != b, ">=": a >= b, ">": a > b}[operator]
        case formula.IsNull(part, is_negated):
            return (number_of(part, values) is None) is not is_negated
        case formula.Not(part):
            inner = holds(part, values)
            return None if inner is None else not inner
        case formula.And(parts):
            inner = [holds(part, values) for part in parts]
            return False if False in inner else None if None in inner else True
        case formula.Or(parts):
            inner = [holds(part, values) for part in parts]
            return True if True in inner else None if None in inner else False
    raise AssertionError(tree)


def number_of(tree, values):
    match tree:
        case formula.ColumnName(name):
            return values[name]
        case formula.Constant(value):
            return value
        case formula.Arithmetic(sign, left, right):
            a, b = number_of(left, values), number_of(right, values)
            if a is None or b is None:
                return None
            return a + b if sign == "+" else a - b if sign == "-" else a * b
    raise AssertionError(tree)
