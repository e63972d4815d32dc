"""Text fields become typed Arrow arrays; what does not convert is pointed at, never coerced."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

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

#: Whole numbers so long that a float may not hold them.
_LONG_WHOLE = r"^[+-]?[0-9]{16,}(\.0*)?$"

BoolArray = npt.NDArray[np.bool_]


@dataclass(frozen=True, slots=True)
class Converted:
    """The typed array, null where a field is missing or bad, and which fields are bad (None: none)."""

    array: pa.Array
    bad: BoolArray | None = None


def arrow_type(kind: ValueType) -> pa.DataType:
    """Return the Arrow type that holds values of `kind`; decimals have one a column."""
    return _ARROW_TYPES[kind]


def is_text_type(kind: pa.DataType) -> bool:
    """Whether columns of a type hold texts."""
    return bool(pa.types.is_string(kind) or pa.types.is_large_string(kind) or pa.types.is_string_view(kind))


def null_where(array: pa.Array, mask: pa.Array) -> pa.Array:
    """Return `array` with null where `mask` is true."""
    return pc.if_else(mask, pa.scalar(None, array.type), array)


def blank_to_null(texts: pa.Array, missing_words: Sequence[str] = ()) -> pa.Array:
    """Return text with no characters, and the words that mean missing, as null."""
    if missing_words:
        return null_where(texts, pc.is_in(texts, pa.array(["", *missing_words], texts.type)))
    if pc.any(pc.equal(texts, "")).as_py():
        return null_where(texts, pc.equal(texts, ""))
    return texts


def bytes_of_texts(texts: pa.Array) -> memoryview:
    """Return the UTF-8 bytes of all texts of a large-string array, one after the other, without copying."""
    _, offsets, content = texts.buffers()
    ends = (
        np.frombuffer(offsets, np.int64, len(texts) + 1, 8 * texts.offset)
        if len(texts)
        else np.zeros(1, np.int64)
    )
    return memoryview(content or b"")[ends[0] : ends[-1]]


def convert_text(texts: pa.Array, kind: ValueType, missing_words: Sequence[str] = ()) -> Converted:
    """Return text fields as values of `kind`.

    Parameters
    ----------
    texts : pyarrow string array
    kind : str
        For all types but text, outer blanks do not count and blanks alone are missing.
    missing_words : sequence of str
        Fields that mean missing; case counts.
    """
    if kind == "text":
        return Converted(blank_to_null(texts, missing_words))
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
        return _convert_one_by_one(fields, target)


def _convert_one_by_one(fields: pa.Array, target: pa.DataType) -> Converted:
    """Return what converts, finding the fields that do not by trying each distinct one."""
    distinct = pc.unique(fields)
    bad_fields = [text for text in distinct.to_pylist() if text is not None and not _casts(text, target)]
    bad = pc.is_in(fields, pa.array(bad_fields, fields.type))
    return Converted(null_where(fields, bad).cast(target), bad.to_numpy(zero_copy_only=False))


def _casts(text: str, target: pa.DataType) -> bool:
    try:
        pa.scalar(text).cast(target)
    except pa.ArrowInvalid:
        return False
    return True


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


def fitting_types(fields: pa.Array, candidates: Sequence[ValueType]) -> list[ValueType]:
    """Return those of the candidate types that every field (trimmed, none missing) can be read as, exactly.

    Whole numbers are integers if 64 bits hold them, and numbers if floats do; others stay text.
    """
    return [kind for kind in candidates if _fits(fields, kind)]


def _fits(fields: pa.Array, kind: ValueType) -> bool:
    if not pc.all(pc.match_substring_regex(fields, FIELD_PATTERNS[kind]), min_count=0).as_py():
        return False
    if kind == "number":
        return not long_wholes(fields)
    if kind == "integer":
        try:
            pc.replace_substring_regex(fields, r"^\+", "").cast(pa.int64())
        except pa.ArrowInvalid:
            return False
        return True
    return kind not in ("date", "datetime") or convert_text(fields, kind).bad is None


def are_numbers(fields: pa.Array) -> bool:
    """Whether every field (trimmed, none missing) writes a number, whatever its size."""
    return bool(pc.all(pc.match_substring_regex(fields, FIELD_PATTERNS["number"]), min_count=0).as_py())


def long_wholes(fields: pa.Array) -> list[str]:
    """Return the whole numbers among fields that no 64-bit float is equal to."""
    is_long = pc.match_substring_regex(fields, _LONG_WHOLE)
    found = fields.filter(is_long).to_pylist() if pc.any(is_long).as_py() else []
    return [text for text in found if text is not None and Decimal(text) != Decimal(float(text))]
