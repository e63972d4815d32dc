"""Unary tests and literals of the OMG's Decision Model and Notation, as conditions and values, and back.

``-`` is any value, null is a missing one. A test of a null value is not true; ``not(...)`` is true for null unless null is among what
it names, so that ``not "a"`` here, which asks for something present, is ``not("a", null)`` there.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Sequence
from decimal import Decimal

from kivvet.core.words.conditions import (
    AnyOf,
    AnyValue,
    Between,
    Condition,
    Equals,
    IsMissing,
    IsPresent,
    Negation,
    StartsWith,
)
from kivvet.core.words.values import Value, ValueType, write_decimal


class FeelError(ValueError):
    """A text that is no test or literal that is taken over."""


_NUMBER = re.compile(r"-?(?:\d+(?:\.\d+)?|\.\d+)(?:[eE][+-]?\d+)?")
_CALL = re.compile(r'(date and time|date|number|string)\(\s*"([^"]*)"\s*\)')
_STARTS = re.compile(r'starts with\(\s*\?\s*,\s*("(?:[^"\\]|\\.)*")\s*\)')
_RANGE = re.compile(r"([\[\](])\s*(.+?)\s*\.\.\s*(.+?)\s*([\[\])])", re.DOTALL)


def condition_of(text: str, kind: ValueType) -> Condition:
    """Return the condition of unary tests; `FeelError` where they are not taken over."""
    body = text.strip()
    if body in ("-", ""):
        return AnyValue()
    negated = re.fullmatch(r"not\s*\((.*)\)", body, re.DOTALL)
    if negated:
        parts = [_test(one, kind) for one in _by_commas(negated[1])]
        others = [part for part in parts if not isinstance(part, IsMissing)]
        if not others:
            return IsPresent()
        inside = _together(others)
        return Negation(inside) if len(others) < len(parts) else AnyOf((Negation(inside), IsMissing()))
    return _together([_test(one, kind) for one in _by_commas(body)])


def _together(parts: Sequence[Condition]) -> Condition:
    return parts[0] if len(parts) == 1 else AnyOf(tuple(parts))


def _by_commas(text: str) -> list[str]:
    made, depth, start, is_text = [], 0, 0, False
    for at, sign in enumerate(text):
        if sign == '"' and (at == 0 or text[at - 1] != "\\"):
            is_text = not is_text
        elif not is_text:
            # A bracket of a call, not one that says that the end of a range is out.
            depth += sign == "(" and at > 0 and text[at - 1].isalpha()
            depth -= sign == ")" and depth > 0
            if sign == "," and not depth:
                made.append(text[start:at])
                start = at + 1
    return [*made, text[start:]]


def _test(text: str, kind: ValueType) -> Condition:
    body = text.strip()
    if body == "null":
        return IsMissing()
    if match := _STARTS.fullmatch(body):
        prefix = literal_of(match[1], "text")
        assert isinstance(prefix, str)
        return StartsWith(prefix) if prefix else IsPresent()
    if match := re.match(r"(<=|>=|<|>)(.*)", body, re.DOTALL):
        value = literal_of(match[2], kind)
        if match[1][0] == "<":
            return Between(None, False, value, match[1] == "<=")
        return Between(value, match[1] == ">=", None, False)
    if match := _RANGE.fullmatch(body):
        return Between(
            literal_of(match[2], kind), match[1] == "[", literal_of(match[3], kind), match[4] == "]"
        )
    value = literal_of(body, kind)
    return IsMissing() if value is None else Equals(value)


def literal_of(text: str, kind: ValueType) -> Value | None:
    """Return the value of a literal; `FeelError` where it is none of the type."""
    body = text.strip()
    if body == "null":
        return None
    found: Value | None = None
    if re.fullmatch(r'"(?:[^"\\]|\\.)*"', body, re.DOTALL):
        found = re.sub(
            r"\\(.)", lambda match: {"n": "\n", "t": "\t", "r": "\r"}.get(match[1], match[1]), body[1:-1]
        )
    elif body in ("true", "false"):
        found = body == "true"
    elif _NUMBER.fullmatch(body):
        found = Decimal(body)
    elif match := _CALL.fullmatch(body):
        try:
            found = (
                dt.date.fromisoformat(match[2])
                if match[1] == "date"
                else dt.datetime.fromisoformat(match[2].replace("Z", "+00:00")).replace(tzinfo=None)
                if match[1] == "date and time"
                else Decimal(match[2])
                if match[1] == "number"
                else match[2]
            )
        except (ValueError, ArithmeticError) as error:
            raise FeelError(f"{body} is no {match[1]}") from error
    if found is None:
        raise FeelError(f"{body[:60]!r} is no literal that is taken over")
    fits = {
        "text": isinstance(found, str),
        "boolean": isinstance(found, bool),
        "date": isinstance(found, dt.date) and not isinstance(found, dt.datetime),
        "datetime": isinstance(found, dt.date),
    }.get(kind, isinstance(found, Decimal))
    if not fits:
        raise FeelError(f"{body[:60]} is no {kind}")
    if kind == "integer" and isinstance(found, Decimal):
        if found != found.to_integral_value():
            raise FeelError(f"{body} is not whole")
        return int(found)
    return found


# And back.


def unary_tests(condition: Condition) -> str:
    """Return a condition as unary tests; `FeelError` where there are none that say it."""
    match condition:
        case AnyValue():
            return "-"
        case IsPresent():
            return "not(null)"
        case Negation(part):
            return f"not({', '.join(dict.fromkeys([*_tests(part), 'null']))})"
        case AnyOf(parts) if any(isinstance(part, Negation) for part in parts):
            if len(parts) == 2 and IsMissing() in parts:
                (inner,) = (part for part in parts if isinstance(part, Negation))
                return f"not({', '.join(_tests(inner.part))})"
            raise FeelError("tests one of which is negated cannot be joined")
    return ", ".join(_tests(condition))


def _tests(condition: Condition) -> list[str]:
    match condition:
        case IsMissing():
            return ["null"]
        case Equals(value):
            return [literal_text(value)]
        case StartsWith(prefix):
            return [f"starts with(?, {literal_text(prefix)})"]
        case Between(None, _, upper, closed):
            return [f"{'<=' if closed else '<'} {literal_text(upper)}"]
        case Between(lower, closed, None, _):
            return [f"{'>=' if closed else '>'} {literal_text(lower)}"]
        case Between(lower, low_in, upper, high_in):
            return [
                f"{'[' if low_in else '('}{literal_text(lower)}..{literal_text(upper)}{']' if high_in else ')'}"
            ]
        case AnyOf(parts):
            return [text for part in parts for text in _tests(part)]
    raise FeelError("the standard has no test of that form")


def literal_text(value: Value | None) -> str:
    """Return a value as a literal."""
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, str):
        escaped = (
            value.replace("\\", "\\\\")
            .replace('"', '\\"')
            .replace("\n", "\\n")
            .replace("\t", "\\t")
            .replace("\r", "\\r")
        )
        return f'"{escaped}"'
    if isinstance(value, dt.datetime):
        return f'date and time("{value.isoformat()}")'
    if isinstance(value, dt.date):
        return f'date("{value.isoformat()}")'
    return write_decimal(value) if isinstance(value, Decimal) else str(value)
