"""The types of values, how they are written, and how they are placed on a line.

Every value a table mentions is one of: str (text), int (integer), Decimal (number, decimal),
bool (boolean), date (date), datetime (datetime, without a zone). Missing is None.
"""

from __future__ import annotations

import datetime as dt
import re
import unicodedata
from collections.abc import Callable, Collection
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, Literal

ValueType = Literal["text", "integer", "number", "decimal", "boolean", "date", "datetime"]
VALUE_TYPES: tuple[ValueType, ...] = (
    "text",
    "integer",
    "number",
    "decimal",
    "boolean",
    "date",
    "datetime",
)
#: A table's input has one of these; `decimal` is for outputs and for data.
INPUT_TYPES: tuple[ValueType, ...] = ("text", "integer", "number", "boolean", "date", "datetime")

Value = str | int | Decimal | bool | dt.date | dt.datetime

FOLDS = ("case", "space", "unicode")

_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d{1,4})?")
_HEXADECIMAL = re.compile(r"0[xX][0-9a-fA-F]+")
_DATE = re.compile(r"\d{4}-\d\d-\d\d")
_DATETIME = re.compile(r"(\d{4}-\d\d-\d\d)[T ](\d\d:\d\d(:\d\d(\.\d{1,6})?)?)")
_LARGEST_EXPONENT = 400  # beyond every 64-bit float, so nothing is lost
_EPOCH = dt.datetime(1970, 1, 1)
_EPOCH_DAY = _EPOCH.date().toordinal()
NANOSECONDS_A_DAY = 86_400_000_000_000


class LiteralError(ValueError):
    """A text that is no value of the type: what was expected, and how it may be mended."""

    def __init__(self, expected: str, fix: str = "") -> None:
        self.expected = expected
        self.fix = fix
        super().__init__(expected)


def parse_value(text: str, kind: ValueType) -> Value:
    """Return the value of type `kind` that `text` (trimmed) writes.

    A datetime may be written as a date; it is then returned as a date, the whole day.

    Raises
    ------
    LiteralError
        If `text` writes no such value.
    """
    return _PARSERS[kind](text)


def _parse_text(text: str) -> str:
    return text


def parse_decimal(text: str) -> Decimal:
    """Return the exact number that `text` writes, in decimal or hexadecimal digits."""
    if _HEXADECIMAL.fullmatch(text):
        return Decimal(int(text, 16))
    if not _NUMBER.fullmatch(text):
        raise LiteralError("a number such as 12, -3.5 or 1e-3", _mended_number(text))
    value = Decimal(text)
    if value and abs(value.adjusted()) > _LARGEST_EXPONENT:
        raise LiteralError(f"a number between 1e-{_LARGEST_EXPONENT} and 1e{_LARGEST_EXPONENT}")
    return value if value else Decimal(0)


def _mended_number(text: str) -> str:
    plain = text.replace("\N{MINUS SIGN}", "-").replace("\N{EN DASH}", "-")
    is_grouped = re.fullmatch(r"[+-]?\d{1,3}([, ]\d{3})+(\.\d+)?", plain)
    grouped = re.sub("[, ]", "", plain) if is_grouped else ""
    for candidate in (plain, grouped, plain.replace(",", ".", 1)):
        if candidate != text and _NUMBER.fullmatch(candidate):
            return f"write {candidate}"
    return ""


def _parse_integer(text: str) -> int:
    try:
        value = parse_decimal(text)
    except LiteralError as error:
        raise LiteralError("a whole number such as 12", error.fix) from error
    if value != value.to_integral_value():
        raise LiteralError("a whole number such as 12")
    return int(value)


def _parse_boolean(text: str) -> bool:
    if text not in ("true", "false"):
        fix = f"write {text.casefold()}" if text.casefold() in ("true", "false") else ""
        raise LiteralError("true or false", fix)
    return text == "true"


def _parse_date(text: str) -> dt.date:
    if not _DATE.fullmatch(text):
        raise LiteralError("a date such as 2026-04-01")
    try:
        return dt.date.fromisoformat(text)
    except ValueError as error:
        raise LiteralError("a day of the calendar") from error


def _parse_datetime(text: str) -> dt.date | dt.datetime:
    if _DATE.fullmatch(text):
        return _parse_date(text)
    match = _DATETIME.fullmatch(text)
    if not match:
        raise LiteralError("a time such as 2026-04-01 13:30, or a date")
    try:
        return dt.datetime.fromisoformat(f"{match[1]} {match[2]}")
    except ValueError as error:
        raise LiteralError("a time of the calendar") from error


_PARSERS: dict[ValueType, Callable[[str], Value]] = {
    "text": _parse_text,
    "integer": _parse_integer,
    "number": parse_decimal,
    "decimal": parse_decimal,
    "boolean": _parse_boolean,
    "date": _parse_date,
    "datetime": _parse_datetime,
}


def write_value(value: Value) -> str:
    """Return the shortest text that `parse_value` reads as `value`."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, Decimal):
        return write_decimal(value)
    if isinstance(value, dt.datetime):
        return value.isoformat(" ", "auto" if value.microsecond or value.second else "minutes")
    if isinstance(value, dt.date):
        return value.isoformat()
    return str(value)


def write_plain(value: Any) -> str:
    """Return a plain value, as frames hold it, as text: floats as short as they read back, lists with semicolons,
    and None as ``missing``.
    """
    if value is None:
        return "missing"
    if isinstance(value, list):
        return "; ".join(map(write_plain, value))
    return repr(value).removesuffix(".0") if isinstance(value, float) else write_value(value)


def write_decimal(value: Decimal) -> str:
    """Return the plain digits of `value` where they are few, else the exponent form."""
    if not value:
        return "0"
    sign, digits, exponent = value.as_tuple()
    figures = "".join(map(str, digits)).lstrip("0")
    stripped = figures.rstrip("0")
    assert isinstance(exponent, int)
    exponent += len(figures) - len(stripped)
    if -12 <= exponent <= 0 or 0 < exponent + len(stripped) <= 21:
        return format(Decimal((sign, tuple(map(int, stripped)), exponent)), "f")
    return f"{'-' if sign else ''}{stripped}e{exponent}"


def days_since_epoch(day: dt.date) -> int:
    """Return the number of the day, 1970-01-01 being 0."""
    return day.toordinal() - _EPOCH_DAY


@dataclass(frozen=True, slots=True, order=True)
class Instant:
    """A moment between two microseconds, which a datetime cannot say: nanoseconds since 1970-01-01 00:00."""

    nanoseconds: int

    def __str__(self) -> str:
        whole, rest = divmod(self.nanoseconds, 1_000)
        moment = datetime_of_microseconds(whole)
        if moment is None:
            return str(self.nanoseconds)
        return f"{moment.isoformat(' ', 'microseconds')}{rest:03}"


def moment_of_nanoseconds(nanoseconds: int) -> dt.datetime | Instant | None:
    """Return the moment of a count of nanoseconds; None outside the years 1 to 9999."""
    whole, rest = divmod(nanoseconds, 1_000)
    moment = datetime_of_microseconds(whole)
    return moment if moment is None or not rest else Instant(nanoseconds)


def microseconds_since_epoch(moment: dt.datetime) -> int:
    """Return the microseconds from 1970-01-01 00:00 to `moment`."""
    return (moment - _EPOCH) // dt.timedelta(microseconds=1)


def date_of_days(days: int) -> dt.date | None:
    """Return the date of a day number; None outside the years 1 to 9999."""
    ordinal = days + _EPOCH_DAY
    return dt.date.fromordinal(ordinal) if 1 <= ordinal <= dt.date.max.toordinal() else None


def datetime_of_microseconds(microseconds: int) -> dt.datetime | None:
    """Return the moment of a count of microseconds; None outside the years 1 to 9999."""
    try:
        return _EPOCH + dt.timedelta(microseconds=microseconds)
    except OverflowError:
        return None


def fold_text(text: str, folds: Collection[str]) -> str:
    """Return `text` as it compares when the differences named in `folds` do not count."""
    if "unicode" in folds:
        text = unicodedata.normalize("NFC", text)
    if "case" in folds:
        text = text.casefold()
        if "unicode" in folds:
            text = unicodedata.normalize("NFC", text)
    if "space" in folds:
        text = " ".join(text.split())
    return text
