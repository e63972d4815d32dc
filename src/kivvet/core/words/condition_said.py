"""A condition in words, for readers who do not know how conditions are written."""

from __future__ import annotations

import datetime as dt

from kivvet.core.words.conditions import (
    AllOf,
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
from kivvet.core.words.values import Value, ValueType, write_value


def said(condition: Condition, kind: ValueType) -> str:
    """Return what a condition on an input of some type accepts, in words."""
    match condition:
        case AnyValue():
            return "any value, or none"
        case IsMissing():
            return "no value"
        case IsPresent():
            return "any value, but not none"
        case Equals(value):
            is_day = kind == "datetime" and isinstance(value, dt.date) and not isinstance(value, dt.datetime)
            return f"any time of {write_value(value)}" if is_day else f"just {_shown(value)}"
        case Between(low, low_closed, high, high_closed):
            return _between(low, low_closed, high, high_closed, kind)
        case StartsWith(prefix):
            return f"texts that begin with {prefix}"
        case CodeRange(low, low_closed, high, high_closed):
            first = f"from {low}" if low_closed else f"after {low}"
            last = f"to {high}, all that begin so with it" if high_closed else f"to before {high}"
            return f"texts whose first {len(low)} signs lie {first} {last}"
        case Negation(part):
            return f"any value but this: {said(part, kind)}"
        case AnyOf(parts):
            values = [part.value for part in parts if isinstance(part, Equals)]
            if len(values) == len(parts):
                return f"one of {', '.join(map(_shown, values))}"
            return "; or ".join(said(part, kind) for part in parts)
        case AllOf(parts):
            return "; and ".join(said(part, kind) for part in parts)


def _between(
    low: Value | None, low_closed: bool, high: Value | None, high_closed: bool, kind: ValueType
) -> str:
    more, less = ("later", "before") if kind in ("date", "datetime") else ("more", "below")
    told = []
    if low is not None:
        told.append(f"{_shown(low)} or {more}" if low_closed else f"{more} than {_shown(low)}")
    if high is not None:
        told.append(f"at most {_shown(high)}" if high_closed else f"{less} {_shown(high)}")
    return ", and ".join(told) or "any value, but not none"


def _shown(value: Value) -> str:
    return repr(value) if isinstance(value, str) and value != value.strip() else write_value(value)
