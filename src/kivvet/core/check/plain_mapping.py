"""Checking a long mapping, whose rows are known to be apart: only what each says by itself is left to ask."""

from __future__ import annotations

from kivvet.core.check.row_findings import RowFindings
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import IsMissing
from kivvet.core.words.findings import Finding


def check_plain_mapping(table: Table) -> list[Finding]:
    """Return the findings of a plain mapping, the same as a walk over its cells finds."""
    about = RowFindings(table)
    found = [*about.unfinished_rows()]
    holder = next((n for n, row in enumerate(table.rows) if isinstance(row.conditions[0], IsMissing)), None)
    if table.is_complete:
        found.append(about.open_input(table.inputs[0]))
    if table.missing and holder is not None:
        found.append(about.idle_missing_result(holder))
    return found
