"""Values made into another type; what cannot be is missing and counted."""

from __future__ import annotations

from dataclasses import replace
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.calculate.arithmetic import NUMERIC, Note
from kivvet.core.calculate.moments import days_of, local
from kivvet.core.calculate.texts import mapped
from kivvet.core.calculate.vectors import Vector, as_kind, of_column, of_numbers
from kivvet.core.columns.column import NumericColumn, column_from_arrow
from kivvet.core.columns.convert import convert_text
from kivvet.core.words.values import (
    ValueType,
    date_of_days,
    datetime_of_microseconds,
    write_decimal,
    write_value,
)


def cast(
    vector: Vector,
    kind: ValueType,
    note: Note,
    *,
    length: int | None = None,
    digits: tuple[int, int] | None = None,
) -> Vector:
    """Return a vector as another type.

    Numbers become whole numbers only where they are whole: nothing is rounded in silence. Text is read as
    fields of files are: blanks around it do not count.

    Parameters
    ----------
    length : int, optional
        The most characters of a text; a longer one is missing, since nothing is cut.
    digits : tuple of (int, int), optional
        How many digits a number has, and how many of them after the point: it is rounded to these, half away from
        zero; a larger number is missing.
    """
    if digits is not None:
        return _of_digits(vector, kind, digits, note)
    made = _cast(vector, kind, note)
    return made if length is None else _no_longer(made, length, note)


def _of_digits(vector: Vector, kind: ValueType, digits: tuple[int, int], note: Note) -> Vector:
    """Return numbers of so many digits; those without a fraction are whole numbers."""
    precision, scale = digits
    whole: Vector | None = None
    if kind == "integer" and vector.kind == "text":  # whole numbers that no float holds are read as they are
        whole = _cast(vector, "integer", lambda *_: None)
    made = vector if vector.kind in ("integer", "number") else _cast(vector, "number", note)
    if scale or made.kind == "number":
        rounded = NUMERIC["ROUND"](made, Vector("integer", np.array(scale)), note)
        made = as_kind(rounded, "number") if scale else _cast(rounded, "integer", note)
    if whole is not None:
        read = ~whole.missing_rows(len(made.values)) if made.values.ndim else ~np.asarray(whole.missing)
        made = Vector("integer", np.where(read, whole.values, made.values), made.missing)
    largest = 10 ** (precision - scale)
    if made.kind == "integer":
        fits = (
            np.ones(made.values.shape, bool)
            if largest > 2**63
            else (made.values > -largest) & (made.values < largest)
        )
    else:
        fits = np.abs(made.values) < float(largest)
    return _checked(
        made, fits, made.values, made.kind, note, f"more than {precision - scale} digits before the point"
    )


def _no_longer(vector: Vector, length: int, note: Note) -> Vector:
    """Return texts; those of more characters are missing."""
    if vector.distinct is None:
        return vector
    lengths = pc.fill_null(pc.utf8_length(vector.distinct), 0).to_numpy(zero_copy_only=False)
    if not (lengths > length).any():
        return vector
    fits = lengths[vector.values] <= length
    found = _checked(vector, fits, vector.values, "text", note, f"longer than {length} characters")
    return replace(vector, missing=found.missing)


def _cast(vector: Vector, kind: ValueType, note: Note) -> Vector:
    """Return a vector as another type, without a limit."""
    if vector.kind == kind:
        return vector
    if vector.missing is not None and vector.missing.all():
        return as_kind(vector, kind)
    cause = f"not to be read as {kind}" if vector.kind == "text" else f"no {kind}"
    if vector.kind == "text":
        return _read(vector, kind, note, cause)
    if kind == "text":
        return _written(vector, note)
    if kind in ("number", "datetime") and vector.kind in ("integer", "date"):
        return as_kind(vector, kind)
    if kind == "date":
        return Vector("date", days_of(vector), vector.missing)
    if vector.kind == "boolean":
        return Vector("integer", vector.values.astype(np.int64), vector.missing)
    if kind == "boolean":
        return _checked(vector, np.isin(vector.values, (0, 1)), vector.values == 1, "boolean", note, cause)
    fits = (np.trunc(vector.values) == vector.values) & (np.abs(vector.values) < 2.0**63)
    with np.errstate(invalid="ignore"):
        whole = np.where(fits, vector.values, 0).astype(np.int64)
    return _checked(vector, fits, whole, "integer", note, cause)


def _checked(vector: Vector, fits: Any, values: Any, kind: ValueType, note: Note, cause: str) -> Vector:
    bad = ~np.asarray(fits)
    missing = vector.missing
    if bad.any():
        new = bad if missing is None else bad & ~missing
        if new.any():
            note(cause, np.broadcast_to(new, np.shape(values)))
        missing = bad if missing is None else bad | missing
    return Vector(kind, np.asarray(values), missing)


def _read(vector: Vector, kind: ValueType, note: Note, cause: str) -> Vector:
    """Return text read as another type, each different text once."""
    assert vector.distinct is not None
    converted = convert_text(vector.distinct.cast(pa.string()), kind, ())
    column = column_from_arrow(converted.array)
    made = of_numbers(column, None) if isinstance(column, NumericColumn) else of_column(column)
    bad = np.zeros(len(vector.distinct), bool) if converted.bad is None else converted.bad
    gone = pc.is_null(converted.array, nan_is_null=True).to_numpy(zero_copy_only=False) | bad
    missing = np.asarray(gone[vector.values])
    new = np.asarray(bad[vector.values])
    if vector.missing is not None:
        missing, new = missing | vector.missing, new & ~vector.missing
    if new.any():
        note(cause, new)
    return Vector(kind, np.asarray(made.values[vector.values]), missing if missing.any() else None)


def _written(vector: Vector, note: Note) -> Vector:
    """Return values as text, each different one once."""
    shown = local(vector)

    def write(value: object) -> str | None:
        if shown.kind == "number":
            assert isinstance(value, float)
            return (
                write_decimal(Decimal(repr(value)))
                if np.isfinite(value)
                else repr(value).replace("inf", "Infinity")
            )
        if shown.kind == "date":
            day = date_of_days(int(value))  # type: ignore[call-overload]
            return None if day is None else write_value(day)
        if shown.kind == "datetime":
            moment = datetime_of_microseconds(int(value))  # type: ignore[call-overload]
            return None if moment is None else write_value(moment)
        return write_value(value)  # type: ignore[arg-type]

    return mapped(write, [shown], "text", note, "beyond the calendar")
