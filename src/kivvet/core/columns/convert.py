"""Text fields become typed Arrow arrays; what does not convert is pointed at, never coerced."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.field_form import (
    PLAIN,
    FieldForm,
    are_zoned,
    dates_by_pattern,
    has_time,
    plain_fields,
)
from kivvet.core.words.values import LiteralError, ValueType, parse_value

_ARROW_TYPES = {
    "text": pa.string(),
    "integer": pa.int64(),
    "number": pa.float64(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "datetime": pa.timestamp("us"),
}
#: What each type is called in a message, with an example of how it is written.
EXPECTED = {
    "integer": "a whole number such as 12",
    "number": "a number such as 12.5",
    "decimal": "a number such as 12.50",
    "boolean": "true or false",
    "date": "a date such as 2026-04-01",
    "datetime": "a time such as 2026-04-01 13:30",
}
#: How fields of each type are written; tried in this order, and every field of a column has to fit.
FIELD_PATTERNS: Mapping[ValueType, str] = {
    "integer": r"^[+-]?(0|[1-9][0-9]*)$",
    "number": r"^[+-]?((0|[1-9][0-9]*)(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]+)?$",
    "boolean": r"^(true|false)$",
    "date": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$",
    "datetime": r"^[0-9]{4}-[0-9]{2}-[0-9]{2}[T ][0-9]{2}:[0-9]{2}(:[0-9]{2}(\.[0-9]{1,6})?)?$",
}

_ZONED_FORM = FieldForm(is_zoned=True)
_WHOLE_OTHERWISE = re.compile(r"[+-]?(?:0|[1-9]\d*)(?:\.\d*)?(?:[eE][+-]?\d{1,3})?", re.ASCII)
#: Whole numbers so long that a float may not hold them.
_LONG_WHOLE = r"^[+-]?[0-9]{16,}(\.0*)?$"

BoolArray = npt.NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Converted:
    """The typed array, null where a field is missing or bad, and which fields are bad (None: none)."""

    array: pa.Array
    bad: BoolArray | None = None


def expected(kind: ValueType, form: FieldForm = PLAIN) -> str:
    """Return what a type is called in a message, with an example of how it is written."""
    if not form.concerns(kind):
        return EXPECTED.get(kind, "text")
    if form.pattern and kind in ("date", "datetime"):
        example = dt.datetime(2026, 4, 23, 13, 30).strftime(form.pattern)
        return f"{'a time' if kind == 'datetime' else 'a date'} written {form.pattern}, such as {example}"
    if kind == "boolean":
        return f"{' or '.join(form.true_words)} for true, {' or '.join(form.false_words)} for false"
    number = f"1{form.thousands}234" + ("" if kind == "integer" else f"{form.decimal}5")
    what = "a whole number" if kind == "integer" else "a number"
    return f"{what} such as {number}{' ' + form.unit if form.unit else ''}"


def arrow_type(kind: ValueType) -> pa.DataType:
    """Return the Arrow type that holds values of `kind`; decimals have one a column."""
    return _ARROW_TYPES[kind]


def is_text_type(kind: pa.DataType) -> bool:
    """Whether columns of a type hold texts."""
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind) or pa.types.is_string_view(kind))


def holds_texts(kind: pa.DataType) -> bool:
    """Whether columns of a type hold texts, or codes into texts."""
    return is_text_type(kind.value_type if pa.types.is_dictionary(kind) else kind)


def coded_blank_to_null(codes: pa.DictionaryArray) -> pa.DictionaryArray:
    """Return codes into texts, those into a text with no characters as null."""
    blank = pc.fill_null(pc.equal(codes.dictionary, ""), False)
    if not pc.any(blank).as_py():
        return codes
    indices = null_where(codes.indices, pc.fill_null(blank.take(codes.indices), False))
    return pa.DictionaryArray.from_arrays(indices, codes.dictionary, ordered=codes.type.ordered)


def holds_empty_text(column: pa.Array) -> bool:
    """Whether a column of texts, or of codes into texts, holds one without characters; it counts as missing."""
    if pa.types.is_dictionary(column.type):
        return holds_empty_text(column.dictionary)
    if not is_text_type(column.type) or not len(column):
        return False
    return bool(pc.min(pc.binary_length(column)).as_py() == 0)


def null_where(array: pa.Array, mask: pa.Array) -> pa.Array:
    """Return `array` with null where `mask` is true."""
    return pc.if_else(mask, pa.scalar(None, array.type), array)


def blank_to_null(texts: pa.Array, missing_words: Sequence[str] = ()) -> pa.Array:
    """Return text with no characters, and the words that mean missing, as null."""
    if missing_words:
        return null_where(texts, pc.is_in(texts, pa.array(["", *missing_words], texts.type)))
    if texts.null_count or pa.types.is_string_view(texts.type):
        return null_where(texts, pc.equal(texts, ""))
    width = np.int64 if pa.types.is_large_string(texts.type) else np.int32
    _, offsets, content = texts.buffers()
    if not len(texts):
        return texts
    ends = np.frombuffer(offsets, width, len(texts) + 1, texts.offset * np.dtype(width).itemsize)
    is_some = ends[1:] != ends[:-1]
    if is_some.all():
        return texts
    # A null takes no characters either: only the bits that tell them are new.
    valid = pa.py_buffer(np.packbits(is_some, bitorder="little"))
    return pa.Array.from_buffers(texts.type, len(texts), [valid, pa.py_buffer(ends), content])


def bytes_of_texts(texts: pa.Array) -> memoryview:
    """Return the UTF-8 bytes of all texts of a large-string array, one after the other, without copying."""
    _, offsets, content = texts.buffers()
    ends = (
        np.frombuffer(offsets, np.int64, len(texts) + 1, 8 * texts.offset)
        if len(texts)
        else np.zeros(1, np.int64)
    )
    return memoryview(content or b"")[ends[0] : ends[-1]]


def convert_text(
    texts: pa.Array, kind: ValueType, missing_words: Sequence[str] = (), form: FieldForm = PLAIN
) -> Converted:
    """Return text fields as values of `kind`.

    Parameters
    ----------
    texts : pyarrow string array
    kind : str
        For all types but text, outer blanks do not count and blanks alone are missing.
    missing_words : sequence of str
        Fields that mean missing; case counts.
    form : FieldForm
        How values are written.
    """
    if kind == "text":
        return Converted(blank_to_null(texts, missing_words))
    if form.concerns(kind):
        fields = blank_to_null(pc.utf8_trim_whitespace(texts), missing_words)
        if kind in ("date", "datetime"):
            return Converted(*dates_by_pattern(fields, _ARROW_TYPES[kind], form))
        fields, odd = plain_fields(fields, kind, form)
        made = convert_text(fields, kind)
        if odd is None:
            return made
        return Converted(made.array, odd if made.bad is None else odd | made.bad)
    if kind in ("integer", "number"):
        try:  # most files hold no blanks around numbers; no field with any converts
            return Converted(blank_to_null(texts, missing_words).cast(_ARROW_TYPES[kind]))
        except pa.ArrowInvalid:
            pass
    fields = blank_to_null(pc.utf8_trim_whitespace(texts), missing_words)
    if kind == "decimal":
        return _convert_decimals(fields)
    if kind == "boolean":
        bad = pc.invert(pc.is_in(fields, pa.array(["true", "false"], fields.type)))
        bad = pc.and_(pc.is_valid(fields), bad)
        if pc.any(bad).as_py():
            return Converted(null_where(fields, bad).cast(pa.bool_()), bad.to_numpy(zero_copy_only=False))
        return Converted(fields.cast(pa.bool_()))
    target = _ARROW_TYPES[kind]
    if kind == "integer" and pc.any(pc.starts_with(fields, "+")).as_py():
        fields = pc.replace_substring_regex(fields, r"^\+([0-9])", r"\1")
    try:
        return Converted(fields.cast(target))
    except pa.ArrowInvalid:
        pass
    if kind == "datetime" and are_zoned(pc.unique(fields.drop_null()).to_pylist()):
        return convert_text(texts, kind, missing_words, _ZONED_FORM)
    return _convert_one_by_one(fields, target)


def as_written_here(
    texts: pa.Array, kind: ValueType, missing_words: Sequence[str], form: FieldForm
) -> tuple[pa.Array, BoolArray | None]:
    """Return fields as Kivvet itself writes values of a type, and which could not be read (None: all could); those
    stay as they are.
    """
    if not form.concerns(kind):
        return texts, None
    converted = convert_text(texts, kind, missing_words, form)
    if pa.types.is_floating(converted.array.type):  # the digits as they stand, not those of the nearest float
        fields, _ = plain_fields(blank_to_null(pc.utf8_trim_whitespace(texts), missing_words), kind, form)
    else:
        fields = converted.array.cast(pa.string())
    if converted.bad is None:
        return pc.fill_null(fields, ""), None
    return pc.if_else(pa.array(converted.bad), texts, pc.fill_null(fields, "")), converted.bad


def _convert_one_by_one(fields: pa.Array, target: pa.DataType) -> Converted:
    """Return what converts, finding the fields that do not by trying each distinct one."""
    encoded = pc.dictionary_encode(fields)
    texts = [_as_cast(text, target) for text in encoded.dictionary.to_pylist()]
    distinct = pa.array(texts, fields.type)
    made = distinct.cast(target).take(encoded.indices)
    if distinct.null_count == 0:
        return Converted(made)
    bad = pc.and_(pc.is_null(made), pc.is_valid(fields))
    return Converted(made, bad.to_numpy(zero_copy_only=False))


def _as_cast(text: str, target: pa.DataType) -> str | None:
    """Return a field in a form that casts, None where there is none: of whole numbers 12 for 12.0 and 1.2e1."""
    try:
        pa.scalar(text).cast(target)
    except pa.ArrowInvalid:
        return _plain_whole(text) if pa.types.is_integer(target) else None
    return text


def _plain_whole(text: str) -> str | None:
    """Return the digits of a whole number of 64 bits that is written with a point or an exponent; None for others."""
    if not _WHOLE_OTHERWISE.fullmatch(text):
        return None
    number = Decimal(text)
    if number.adjusted() > 18 or number != number.to_integral_value() or not -(2**63) <= number < 2**63:
        return None
    return str(int(number))


def _convert_decimals(fields: pa.Array) -> Converted:
    values, bad = [], []
    for text in fields.to_pylist():
        value = None
        if text is not None:
            try:
                value = parse_value(text, "decimal")
            except LiteralError:
                value = None
        values.append(value)
        bad.append(text is not None and value is None)
    array = (
        pa.array(values)
        if any(value is not None for value in values)
        else pa.nulls(len(values), pa.decimal128(1, 0))
    )
    return Converted(array, np.array(bad, bool) if any(bad) else None)


def fitting_types(
    fields: pa.Array, candidates: Sequence[ValueType], form: FieldForm = PLAIN
) -> list[ValueType]:
    """Return those of the candidate types that every field (trimmed, none missing) can be read as, exactly.

    Whole numbers are integers if 64 bits hold them, and numbers if floats do; others stay text.
    """
    return [kind for kind in candidates if _fits(fields, kind, form)]


def _fits(fields: pa.Array, kind: ValueType, form: FieldForm = PLAIN) -> bool:
    if form.concerns(kind):
        if kind in ("date", "datetime"):
            return (
                has_time(form.pattern) == (kind == "datetime")
                and convert_text(fields, kind, (), form).bad is None
            )
        plain, odd = plain_fields(fields, kind, form)
        return odd is None and _fits(plain, kind)
    if not pc.all(pc.match_substring_regex(fields, FIELD_PATTERNS[kind]), min_count=0).as_py():
        return kind == "datetime" and are_zoned(fields.to_pylist()) and convert_text(fields, kind).bad is None
    if kind == "number":
        return not long_wholes(fields)
    if kind == "integer":
        try:
            pc.replace_substring_regex(fields, r"^\+", "").cast(pa.int64())
        except pa.ArrowInvalid:
            return False
        return True
    return kind not in ("date", "datetime") or convert_text(fields, kind).bad is None


def are_numbers(fields: pa.Array, form: FieldForm = PLAIN) -> bool:
    """Whether every field (trimmed, none missing) writes a number, whatever its size."""
    if form.concerns("number"):
        fields, odd = plain_fields(fields, "number", form)
        if odd is not None:
            return False
    return bool(pc.all(pc.match_substring_regex(fields, FIELD_PATTERNS["number"]), min_count=0).as_py())


def long_wholes(fields: pa.Array, form: FieldForm = PLAIN) -> list[str]:
    """Return the whole numbers among fields that no 64-bit float is equal to, as Kivvet writes them."""
    if form.concerns("number"):
        fields, _ = plain_fields(fields, "number", form)
    is_long = pc.match_substring_regex(fields, _LONG_WHOLE)
    found = fields.filter(is_long).to_pylist() if pc.any(is_long).as_py() else []
    return [text for text in found if text is not None and Decimal(text) != Decimal(float(text))]
