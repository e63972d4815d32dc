"""Cells of rows: a text, or a plain value, as the text of a condition or as a result."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal
from typing import Any

from kivvet.core.tables.table import UNFINISHED, Result
from kivvet.core.words.values import (
    LiteralError,
    ValueType,
    parse_value,
    write_value,
)


def parse_result(cell: Any, kind: ValueType) -> Result:
    """Return the result that a cell gives: a value, None for missing, UNFINISHED where it is blank.

    Raises
    ------
    LiteralError
        If it is not of the output's type.
    """
    if cell is None:
        return UNFINISHED
    text = cell_text(cell, kind)
    text = text.strip()
    if not text:
        return UNFINISHED
    if text == "missing":
        return None
    if kind == "text":
        is_quoted = len(text) >= 2 and text[0] == text[-1] == '"'
        return text[1:-1].replace('""', '"') if is_quoted else text
    try:
        value = parse_value(text, kind)
    except LiteralError as error:
        raise LiteralError(error.expected, error.fix) from error
    if kind == "datetime" and not isinstance(value, dt.datetime):
        assert isinstance(value, dt.date)
        return dt.datetime.combine(value, dt.time())
    if kind == "integer" and not -(2**63) <= int(value) < 2**63:  # type: ignore[arg-type]
        raise LiteralError("an integer of at most 64 bits")
    return value


def cell_text(cell: Any, kind: ValueType) -> str:
    """Return a cell given as text or as a plain value as the text that writes it."""
    if isinstance(cell, str):
        return cell
    if cell is None:
        return ""
    if isinstance(cell, float):
        cell = Decimal(repr(cell))
    if kind == "text":
        raise LiteralError(
            "text", f'write "{cell if not isinstance(cell, bool) else str(cell).lower()}" in quotes'
        )
    if not isinstance(cell, (bool, int, Decimal, dt.date)):
        raise LiteralError(f"a {kind}")
    return write_value(cell)
