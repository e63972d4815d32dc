"""Checking a table by itself, exactly; how it is done depends on its shape."""

from __future__ import annotations

from kivvet.core.box_search import DEFAULT_BUDGET
from kivvet.core.check_boxes import BoxCheck
from kivvet.core.check_line import LineCheck
from kivvet.core.check_lookup import check_lookup
from kivvet.core.findings import Finding, with_severity
from kivvet.core.tables import RuleTable


def check_table(table: RuleTable, budget: int = DEFAULT_BUDGET) -> list[Finding]:
    """Return every finding about a table alone, with the severities it has chosen.

    Parameters
    ----------
    table : RuleTable
    budget : int
        How many steps a question over several inputs may take; beyond, it is `not-proven`.
    """
    if table.lookup is not None:
        found = check_lookup(table)
    elif len(table.dimensions) == 1:
        found = LineCheck(table).findings()
    else:
        found = BoxCheck(table, budget).findings()
    return with_severity(found, table.parts.severity)
