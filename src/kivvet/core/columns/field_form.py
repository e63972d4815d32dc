"""How the fields of a text column are written: marks of numbers, units, patterns of dates, words of booleans."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.date_pattern import date_pattern
from kivvet.core.words.values import Value, ValueType, write_decimal, write_value

BoolArray = npt.NDArray[np.bool_]
#: Pairs of words that files have for true and false.
WORDS_OF_BOOLEANS = (
    ("true", "false"),
    ("yes", "no"),
    ("y", "n"),
    ("t", "f"),
    ("on", "off"),
    ("ja", "nein"),
    ("j", "n"),
    ("oui", "non"),
    ("vrai", "faux"),
    ("wahr", "falsch"),
    ("si", "no"),
    ("sí", "no"),
)


@dataclass(frozen=True, slots=True)
class FieldForm:
    """How fields are written. What does not concern the type of a column has no effect.

    Attributes
    ----------
    decimal : str
        What stands before the decimals of a number.
    thousands : str
        What stands between groups of three digits; empty: nothing does.
    unit : str
        What stands before or after every number; blanks between do not count.
    is_share : bool
        Whether numbers are hundredths: ``12.5 %`` is 0.125.
    pattern : str
        Of dates and times, in the notation of POSIX `strptime`; empty: ISO 8601.
    is_zoned : bool
        Whether times in ISO 8601 say how far they are from UTC, with ``Z`` or an offset such as ``+02:00``.
    true_words, false_words : tuple of str
        Of booleans; case does not count. Empty: ``true`` and ``false``.
    """

    decimal: str = "."
    thousands: str = ""
    unit: str = ""
    is_share: bool = False
    pattern: str = ""
    true_words: tuple[str, ...] = ()
    false_words: tuple[str, ...] = ()
    is_zoned: bool = False

    def as_dict(self) -> dict[str, Any]:
        """Return the form as plain values, as JSON holds them."""
        return {
            name: list(value) if isinstance(value, tuple) else value for name, value in asdict(self).items()
        }

    def concerns(self, kind: ValueType) -> bool:
        """Whether fields of a type are written otherwise than Kivvet itself writes them."""
        if kind in ("integer", "number", "decimal"):
            return self.decimal != "." or bool(self.thousands or self.unit) or self.is_share
        if kind in ("date", "datetime"):
            return bool(self.pattern) or (kind == "datetime" and self.is_zoned)
        return kind == "boolean" and bool(self.true_words or self.false_words)


PLAIN = FieldForm()


def field_of(value: Value, form: FieldForm) -> str:
    """Return a value as a field of a form, which is read as that value again."""
    if isinstance(value, bool):
        words = form.true_words if value else form.false_words
        return words[0] if words else write_value(value)
    if isinstance(value, dt.date):
        return value.strftime(form.pattern) if form.pattern else write_value(value)
    if isinstance(value, str):
        return value
    number = write_value(Decimal(value).scaleb(2) if form.is_share else value).replace(".", form.decimal)
    return f"{number} {form.unit}" if form.unit else number


def plain_fields(fields: pa.Array, kind: ValueType, form: FieldForm) -> tuple[pa.Array, BoolArray | None]:
    """Return numbers or booleans as Kivvet writes them, null where a field does not fit, and which do not.

    Parameters
    ----------
    fields : pyarrow string array
        Trimmed, null where missing.
    """
    if kind == "boolean":
        return _plain_booleans(fields, form)
    return _plain_numbers(fields, form)


def dates_by_pattern(
    fields: pa.Array, type_: pa.DataType, form: FieldForm
) -> tuple[pa.Array, BoolArray | None]:
    """Return fields (trimmed, null where missing) as dates or times by the form, and which do not fit."""
    if not form.pattern:
        return _moments(fields)
    return date_pattern(form.pattern).convert(fields, type_)


_ZONED = re.compile(
    r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d(?:\.\d{1,6})?)?(?:Z|[+-]\d\d(?::?\d\d)?)", re.ASCII
)


def are_zoned(fields: Sequence[str]) -> bool:
    """Whether all of some fields are times that say how far they are from UTC."""
    return all(map(_ZONED.fullmatch, fields))


def _moments(fields: pa.Array) -> tuple[pa.Array, BoolArray | None]:
    """Return times with offsets as moments of UTC."""
    type_ = pa.timestamp("us", "UTC")
    encoded = pc.dictionary_encode(fields)
    distinct = pa.array([_moment(text) for text in encoded.dictionary.to_pylist()], type_)
    made = distinct.take(encoded.indices)
    if distinct.null_count == 0:
        return made, None
    bad = pc.and_(pc.is_null(made), pc.is_valid(fields))
    return made, np.asarray(bad.to_numpy(zero_copy_only=False))


def _moment(text: str) -> dt.datetime | None:
    if not _ZONED.fullmatch(text):
        return None
    try:
        return dt.datetime.fromisoformat(text).astimezone(dt.UTC)
    except (ValueError, OverflowError):
        return None


def has_time(pattern: str) -> bool:
    """Whether a pattern says more than a day."""
    return date_pattern(pattern).has_time


def _plain_numbers(fields: pa.Array, form: FieldForm) -> tuple[pa.Array, BoolArray | None]:
    bare = _without_unit(fields, form.unit) if form.unit else fields
    if bare is not None and not form.is_share and (quick := _with_mark_exchanged(bare, form)) is not None:
        return quick, None
    encoded = pc.dictionary_encode(fields)
    regex = _number_expression(form)
    texts = [_plain_number(text, regex, form) for text in encoded.dictionary.to_pylist()]
    distinct = pa.array(texts, pa.string())
    made = distinct.take(encoded.indices)
    if distinct.null_count == 0:
        return made, None
    bad = pc.and_(pc.is_null(made), pc.is_valid(fields))
    return made, np.asarray(bad.to_numpy(zero_copy_only=False))


def _without_unit(fields: pa.Array, unit: str) -> pa.Array | None:
    """Return fields without their unit, which stands before all of them or after all; None where it does not."""
    begins, ends = pc.starts_with(fields, unit), pc.ends_with(fields, unit)
    n_fields = len(fields) - fields.null_count
    before, after = pc.sum(begins).as_py() or 0, pc.sum(ends).as_py() or 0
    if (before, after) == (n_fields, 0):
        bare = pc.ascii_ltrim_whitespace(pc.utf8_slice_codeunits(fields, len(unit)))
    elif (before, after) == (0, n_fields):
        bare = pc.ascii_rtrim_whitespace(pc.utf8_slice_codeunits(fields, 0, -len(unit)))
    else:
        return None
    return None if pc.any(pc.equal(bare, "")).as_py() else bare


def _with_mark_exchanged(fields: pa.Array, form: FieldForm) -> pa.Array | None:
    """Return fields with a point for their decimal mark; None where one holds any other sign than digits, a minus and
    that mark: those are looked at one by one. Whether they are numbers is found as they are converted.
    """
    if len(form.decimal.encode()) != 1:
        return None
    valid, offsets, content = fields.buffers()
    if content is None:
        return fields
    ends = np.frombuffer(offsets, np.int32, len(fields) + 1, 4 * fields.offset)
    held = np.frombuffer(content, np.uint8)[ends[0] : ends[-1]]
    is_mark = held == ord(form.decimal)
    is_other = ~(((held >= ord("0")) & (held <= ord("9"))) | is_mark | (held == ord("-")))
    if is_other.any():
        return None
    exchanged = held.copy()
    exchanged[is_mark] = ord(".")
    if fields.offset and fields.null_count:
        return None  # the bits that say which are missing would have to be moved too
    shifted = pa.py_buffer(ends - ends[0])
    return pa.Array.from_buffers(pa.string(), len(fields), [valid, shifted, pa.py_buffer(exchanged)])


def _number_expression(form: FieldForm) -> re.Pattern[str]:
    grouped = rf"\d{{1,3}}(?:{re.escape(form.thousands)}\d{{3}})+|" if form.thousands else ""
    mark = re.escape(form.decimal)
    number = rf"(?P<sign>[+-]?)(?P<whole>{grouped}\d*)(?:{mark}(?P<part>\d*))?(?P<power>[eE][+-]?\d{{1,4}})?"
    if not form.unit:
        return re.compile(number, re.ASCII)
    unit = re.escape(form.unit)
    return re.compile(rf"(?:(?P<before>{unit})\s*)?{number}(?:\s*(?P<after>{unit}))?", re.ASCII)


def _plain_number(text: str, regex: re.Pattern[str], form: FieldForm) -> str | None:
    match = regex.fullmatch(text)
    if match is None or not (match["whole"] or match["part"]):
        return None
    if form.unit and bool(match["before"]) == bool(match["after"]):
        return None  # the unit is missing, or stands twice
    whole = match["whole"].replace(form.thousands, "") if form.thousands else match["whole"]
    plain = f"{match['sign'].replace('+', '')}{whole or '0'}"
    plain += f".{match['part']}" if match["part"] else ""
    plain += match["power"] or ""
    return write_decimal(Decimal(plain).scaleb(-2)) if form.is_share else plain


def _plain_booleans(fields: pa.Array, form: FieldForm) -> tuple[pa.Array, BoolArray | None]:
    words = {word.casefold(): "true" for word in form.true_words}
    words |= {word.casefold(): "false" for word in form.false_words}
    encoded = pc.dictionary_encode(fields)
    distinct = pa.array([words.get(text.casefold()) for text in encoded.dictionary.to_pylist()], pa.string())
    made = distinct.take(encoded.indices)
    if distinct.null_count == 0:
        return made, None
    bad = pc.and_(pc.is_null(made), pc.is_valid(fields))
    return made, np.asarray(bad.to_numpy(zero_copy_only=False))


def boolean_words(fields: Sequence[str]) -> tuple[str, str] | None:
    """Return the words for true and false that all of some fields are; None where there is no such pair."""
    found = {field.casefold() for field in fields}
    return next((pair for pair in WORDS_OF_BOOLEANS if found and found <= set(pair)), None)
