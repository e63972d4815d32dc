"""Conditions as values: what one cell of a rule table asks of one input."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from kivvet.core.words.values import Value, write_value


@dataclass(frozen=True, slots=True)
class AnyValue:
    """Every value, missing included; written as nothing or ``any``, which mean the same."""

    is_written: bool = field(default=False, compare=False)


@dataclass(frozen=True, slots=True)
class IsMissing:
    """Only missing."""


@dataclass(frozen=True, slots=True)
class IsPresent:
    """Anything but missing."""


@dataclass(frozen=True, slots=True)
class Equals:
    """One value; a date on a datetime input is the whole day."""

    value: Value


@dataclass(frozen=True, slots=True)
class Between:
    """A stretch of an ordered type, or of text by code point; a bound of None is open to that side."""

    lower: Value | None
    lower_closed: bool
    upper: Value | None
    upper_closed: bool


@dataclass(frozen=True, slots=True)
class StartsWith:
    """Text that begins with `prefix`, which is not empty."""

    prefix: str


@dataclass(frozen=True, slots=True)
class CodeRange:
    """Text of at least k characters, the first k of which lie between two prefixes of length k."""

    lower: str
    lower_closed: bool
    upper: str
    upper_closed: bool


@dataclass(frozen=True, slots=True)
class Negation:
    """Everything present that `part` does not accept."""

    part: Condition


@dataclass(frozen=True, slots=True)
class AnyOf:
    """Whatever one of the parts accepts; two parts or more."""

    parts: tuple[Condition, ...]


@dataclass(frozen=True, slots=True)
class AllOf:
    """What all of the parts accept: a cell and a `when` about the same input. Cells themselves have no such
    form.
    """

    parts: tuple[Condition, ...]


Condition = (
    AnyValue | IsMissing | IsPresent | Equals | Between | StartsWith | CodeRange | Negation | AnyOf | AllOf
)

KEYWORDS = frozenset({"any", "missing", "present"})
# A text value may stand without quotes if nothing in it could be read as an operator.
_BARE_TEXT = re.compile(r"""[^\s|()<>\[\]"*=]+( [^\s|()"*]+)*""")


def quote_text(text: str) -> str:
    """Return `text` in straight quotes, a quote within doubled."""
    return '"' + text.replace('"', '""') + '"'


def is_bare_text(text: str) -> bool:
    """Whether a text value can be written without quotes and means itself."""
    words = text.split(" ")
    return (
        bool(_BARE_TEXT.fullmatch(text))
        and text not in KEYWORDS
        and words[0] not in ("not", "to")
        and "to" not in words
    )


def write_literal(value: Value) -> str:
    """Return a value as it stands in a condition."""
    if isinstance(value, str):
        return value if is_bare_text(value) else quote_text(value)
    return write_value(value)


def write_bound(value: Value) -> str:
    """Return a value as the end of a range: text is always quoted there."""
    return quote_text(value) if isinstance(value, str) else write_value(value)


def write_condition(condition: Condition) -> str:
    """Return the condition in the condition syntax; parsing it gives an equal condition."""
    match condition:
        case AnyValue():
            return "any"
        case IsMissing():
            return "missing"
        case IsPresent():
            return "present"
        case Equals(value):
            return write_literal(value)
        case Between(lower, lower_closed, upper, upper_closed):
            return _write_between(lower, lower_closed, upper, upper_closed)
        case StartsWith(prefix):
            return _write_prefix(prefix)
        case CodeRange(low, low_closed, high, high_closed):
            lower_text = ("" if low_closed else ">") + _write_prefix(low)
            return f"{lower_text} to {'' if high_closed else '<'}{_write_prefix(high)}"
        case Negation(part):
            inner = write_condition(part)
            return f"not ({inner})" if isinstance(part, (AnyOf, AllOf)) else f"not {inner}"
        case AnyOf(parts):
            return " | ".join(
                f"({write_condition(part)})" if isinstance(part, AnyOf) else write_condition(part)
                for part in parts
            )
        case AllOf(parts):  # exact for present values, which is all such a part accepts
            return write_condition(Negation(AnyOf(tuple(Negation(part) for part in parts))))


def _write_between(lower: Value | None, lower_closed: bool, upper: Value | None, upper_closed: bool) -> str:
    if lower is None and upper is None:
        return "present"
    if lower is None:
        assert upper is not None
        return f"{'<=' if upper_closed else '<'} {write_bound(upper)}"
    if upper is None:
        return f"{'>=' if lower_closed else '>'} {write_bound(lower)}"
    lower_text = ("" if lower_closed else ">") + write_bound(lower)
    return f"{lower_text} to {'' if upper_closed else '<'}{write_bound(upper)}"


def _write_prefix(prefix: str) -> str:
    return f"{prefix if is_bare_text(prefix) else quote_text(prefix)}*"
