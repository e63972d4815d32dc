"""A table with one thing changed: a cell, a row more or less, an option. What a remedy says, done."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from kivvet.core.read.meaning import definition_of
from kivvet.core.read.table_parser import parse_table
from kivvet.core.tables.table import Table


def with_cell(table: Table, row: int, heading: str, text: str) -> Table | None:
    """Return the table with one cell of a row (from 0) written otherwise; None where it cannot be read then."""
    definition = definition_of(table)
    if definition is None or "rows" not in definition:
        return None
    rows = [list(one) for one in definition["rows"]]
    if heading not in rows[0]:
        rows = [[*row, heading if number == 0 else ""] for number, row in enumerate(rows)]
    rows[row + 1][rows[0].index(heading)] = text
    return _read(table, {**definition, "rows": rows})


def _read(table: Table, definition: dict[str, Any]) -> Table | None:
    parts, faults = parse_table(table.name, definition)
    if parts is None or faults or len(parts.rows) != table.n_rows:
        return None
    return replace(parts, inputs=table.inputs)
