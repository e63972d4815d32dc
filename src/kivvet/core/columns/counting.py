"""Counting the distinct values of columns as batches come, within bounded memory, and what type they have."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.convert import FIELD_PATTERNS, are_numbers, convert_text, fitting_types, long_wholes
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import count

#: Distinct values of a column that are counted one by one, unless told otherwise.
MOST_DISTINCT = 100_000
_COMPACT_AT = 100_000
_MOST_SAMPLED = 1_000_000
_FINEST_DIGITS = 6
_FEW = 1_000  # numbers that are looked at before all
_LEADING_ZEROS = r"^[+-]?0[0-9]"

FloatArray = npt.NDArray[np.float64]


class ValueCounter:
    """Counts the distinct values of one column.

    Attributes
    ----------
    missing : int
    unread_type : pyarrow.DataType or None
        The type of a column that no table reads.
    tail : Tail or None
        Where there were more than `most` distinct values: what is known of the column without counting them.
    """

    def __init__(self, most: int = MOST_DISTINCT) -> None:
        self.most = most
        self.parts: list[pa.Table] = []
        self.n_waiting = 0
        self.n_merged = 0
        self.missing = 0
        self.tail: Tail | None = None
        self.unread_type: pa.DataType | None = None

    def add(self, array: pa.Array) -> None:
        """Count one batch; null and NaN are missing. Lists and the like are not counted."""
        if pa.types.is_nested(array.type) or pa.types.is_binary(array.type):
            self.unread_type = array.type
            self.missing += array.null_count
            return
        if pa.types.is_floating(array.type):
            array = pc.if_else(pc.is_nan(array), pa.scalar(None, array.type), array)
        self.missing += array.null_count
        present = array.drop_null() if array.null_count else array
        if self.tail is not None:
            self.tail.add(present)
            return
        counted = pc.value_counts(present)
        self.parts.append(pa.table({"value": counted.field("values"), "rows": counted.field("counts")}))
        self.n_waiting += len(counted)
        if self.n_waiting > max(_COMPACT_AT, self.n_merged):
            values, rows = self.merge()
            if self.n_merged > self.most:
                self.tail = Tail(values, rows)

    def merge(self) -> tuple[pa.Array, npt.NDArray[np.int64]]:
        """Return the distinct values counted and their rows."""
        if not self.parts:
            return pa.array([], pa.string()), np.zeros(0, np.int64)
        if len(self.parts) > 1:
            merged = (
                pa.concat_tables(self.parts).group_by("value", use_threads=False).aggregate([("rows", "sum")])
            )
            self.parts = [merged.select(["value", "rows_sum"]).rename_columns(["value", "rows"])]
        self.n_waiting, self.n_merged = 0, self.parts[0].num_rows
        values, rows = (_flat(self.parts[0].column(name).combine_chunks()) for name in ("value", "rows"))
        return values, rows.to_numpy(zero_copy_only=False)


def _flat(array: Any) -> pa.Array:
    if isinstance(array, pa.ChunkedArray):
        return array.chunk(0) if array.num_chunks else pa.array([], array.type)
    return array


class Tail:
    """What is kept of a column with too many distinct values: type, range, step, every n-th value.

    Attributes
    ----------
    kind : str
    reason : str
    hints : list of str
    type : pyarrow.DataType
        Of the typed values.
    lowest, highest : value or None
    step : float or None
    longest : int
        Characters of the longest text.
    """

    def __init__(self, values: pa.Array, rows: npt.NDArray[np.int64]) -> None:
        self.kind, self.reason, self.hints = type_of_values(values, rows)
        self.lowest: Any = None
        self.highest: Any = None
        self.longest = 0
        self.type = values.type
        self.step: float | None = None
        self._is_stepped = self.kind in ("integer", "number")
        self._every = 1
        self._kept: list[FloatArray] = []
        self._n_kept = 0
        self.add(values.take(pa.array(np.repeat(np.arange(len(values)), rows))) if rows.max() > 1 else values)

    def add(self, present: pa.Array) -> None:
        """Take in one batch without missing values."""
        if not len(present):
            return
        typed = present
        if is_text_type(present.type):
            if self.kind == "text":
                self.longest = max(self.longest, pc.max(pc.utf8_length(present)).as_py())
                return
            converted = convert_text(present, self.kind)
            if converted.bad is not None:
                example = present[int(np.flatnonzero(converted.bad)[0])].as_py()
                self.hints.append(f"nearly all fields can be read as {self.kind}, but not {example!r}")
                self.kind, self.reason = "text", f"not all fields are of type {self.kind}"
                return
            typed = converted.array.drop_null()
        elif pa.types.is_decimal(present.type):
            typed = present.cast(pa.float64())
        if self.kind in ("text", "boolean") or not len(typed):
            return
        self.type = typed.type
        ends = pc.min_max(typed)
        low, high = ends["min"].as_py(), ends["max"].as_py()
        self.lowest = low if self.lowest is None else min(low, self.lowest)
        self.highest = high if self.highest is None else max(high, self.highest)
        numbers = as_numbers(typed)
        if self._is_stepped:
            found = finest_step(numbers)
            self._is_stepped = found is not None
            self.step = found if self.step is None or found is None else _common_step(self.step, found)
        self._keep(numbers)

    def _keep(self, numbers: FloatArray) -> None:
        kept = numbers[:: self._every]
        self._kept.append(kept)
        self._n_kept += len(kept)
        if self._n_kept > _MOST_SAMPLED:
            self._kept = [np.concatenate(self._kept)[::2]]
            self._n_kept = len(self._kept[0])
            self._every *= 2

    def sample(self) -> FloatArray:
        """Return every n-th value, in order of size."""
        return np.sort(np.concatenate(self._kept))


def _common_step(first: float, second: float) -> float:
    scale = 10**_FINEST_DIGITS
    return float(np.gcd(round(first * scale), round(second * scale)) / scale)


def is_text_type(type_: pa.DataType) -> bool:
    """Whether an Arrow type is plain text."""
    return bool(
        pa.types.is_string(type_) or pa.types.is_large_string(type_) or pa.types.is_string_view(type_)
    )


def as_values(numbers: FloatArray, type_: pa.DataType) -> pa.Array:
    """Return what `as_numbers` made into numbers as values of their type again."""
    if pa.types.is_date(type_):
        return pa.array(numbers.astype(np.int32)).view(pa.date32())
    if pa.types.is_timestamp(type_):
        return pa.array(numbers.astype(np.int64)).view(type_)
    return pa.array(numbers.astype(np.int64)) if pa.types.is_integer(type_) else pa.array(numbers)


def type_of_values(values: pa.Array, counts: npt.NDArray[np.int64]) -> tuple[ValueType, str, list[str]]:
    """Return the type Kivvet reads a column as, why, and what is odd about that."""
    if not is_text_type(values.type):
        return _stored_type(values.type), f"stored as {values.type}", []
    fields = pc.utf8_trim_whitespace(values)
    fields = fields.filter(pc.not_equal(fields, ""))
    fitting = fitting_types(fields, list(FIELD_PATTERNS)) if len(fields) else []
    if fitting:
        names = {
            "integer": "whole numbers",
            "number": "numbers",
            "boolean": "true or false",
            "date": "dates",
            "datetime": "times",
        }
        return fitting[0], f"all fields are {names[fitting[0]]}", []
    if len(fields) and (long := long_wholes(fields)) and are_numbers(fields):
        return "text", f"whole numbers with more digits than 64 bits hold, such as {long[0]}", []
    zeros = pc.match_substring_regex(fields, _LEADING_ZEROS)
    is_number = pc.match_substring_regex(fields, FIELD_PATTERNS["number"])
    if pc.all(pc.or_(zeros, pc.or_(is_number, pc.equal(fields, "0")))).as_py():
        example = fields.filter(zeros)[0].as_py()
        return "text", f"leading zeros, such as {example}", []
    for kind, (one, many) in KINDS_OF_FIELDS.items():
        if kind == "integer":  # a number among them is no stray
            continue
        if not _may_be_mostly(fields, kind):
            continue
        odd = strays(values, counts, kind)
        n_odd = sum(n for _, n in odd)
        n_fit = int(counts.sum()) - n_odd
        if odd and n_fit >= n_odd:
            examples = ", ".join(repr(text) for text, _ in odd[:3])
            hint = f"mixed: {count(n_fit, 'field')} {f'is {one}' if n_fit == 1 else f'are {many}'}, {n_odd:,} {'is' if n_odd == 1 else 'are'} not, such as {examples}"
            return "text", f"not all fields are {many}", [hint]
    return "text", "words", []


#: Different fields that may be none of a type in a column of it, and how many others at least stand beside each.
MOST_STRAYS, FEWEST_BESIDE_A_STRAY = 3, 20
_FIRST_FIELDS = 1_000
#: What a field of a type is called, and several.
KINDS_OF_FIELDS: Mapping[ValueType, tuple[str, str]] = {
    "integer": ("a whole number", "whole numbers"),
    "number": ("a number", "numbers"),
    "date": ("a date", "dates"),
    "datetime": ("a time", "times"),
}


def _may_be_mostly(fields: pa.Array, kind: ValueType) -> bool:
    """Whether a quarter of the first fields is of a type: of other columns not every field need be looked at."""
    first = fields.slice(0, _FIRST_FIELDS)
    n_fit = pc.sum(pc.match_substring_regex(first, FIELD_PATTERNS[kind])).as_py() or 0
    return 4 * n_fit >= len(first) > 0


def strays(values: pa.Array, counts: npt.NDArray[np.int64], kind: ValueType) -> list[tuple[str, int]]:
    """Return the different fields that are not of a type, with their rows, as they stand and in the order of values."""
    fields = pc.utf8_trim_whitespace(values)
    is_odd = pc.invert(pc.match_substring_regex(fields, FIELD_PATTERNS[kind]))
    places = np.flatnonzero(is_odd.to_numpy(zero_copy_only=False))
    return [(values[int(place)].as_py(), int(counts[place])) for place in places]


def _stored_type(type_: pa.DataType) -> ValueType:
    if pa.types.is_integer(type_):
        return "integer"
    if pa.types.is_floating(type_) or pa.types.is_decimal(type_):
        return "number"
    if pa.types.is_boolean(type_):
        return "boolean"
    if pa.types.is_date(type_):
        return "date"
    return "datetime" if pa.types.is_timestamp(type_) else "text"


def as_numbers(typed: pa.Array) -> FloatArray:
    """Return numbers, dates (in days) or times (in ticks) as floats."""
    if pa.types.is_date(typed.type):
        typed = typed.cast(pa.date32()).cast(pa.int32())
    elif pa.types.is_timestamp(typed.type):
        typed = typed.cast(pa.int64())
    numbers: FloatArray = typed.cast(pa.float64(), safe=False).to_numpy(zero_copy_only=False)
    return numbers


def finest_step(numbers: FloatArray) -> float | None:
    """Return the largest step that all (finite) numbers are multiples of, None if they are finer than a
    millionth.
    """
    finite = numbers[np.isfinite(numbers)]
    if not len(finite) or np.abs(finite).max() >= 2.0**53 / 10**_FINEST_DIGITS:
        return None
    for digits in range(_FINEST_DIGITS + 1):
        # Of most columns a few numbers show that they are finer, or have no step but one.
        if _whole(finite[:_FEW], digits) is None or (whole := _whole(finite, digits)) is None:
            continue
        common = int(np.gcd.reduce(whole[:_FEW]))
        if common != 1:
            common = int(np.gcd.reduce(whole))
        return float((common or 1) / 10**digits)
    return None


def _whole(numbers: FloatArray, digits: int) -> npt.NDArray[np.int64] | None:
    """Return numbers in units of some digits after the point; None where one is finer."""
    scaled = numbers * 10.0**digits
    whole = np.rint(scaled)
    if (np.abs(scaled - whole) <= 1e-9 * np.maximum(1.0, np.abs(scaled))).all():
        return whole.astype(np.int64)
    return None
