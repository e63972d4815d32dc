"""All that is found about a table by itself: about its rows, its examples and its promises."""

from __future__ import annotations

from kivvet.core.check.check import check_table, findings_of
from kivvet.core.promises.decide import check_promises, promise_findings
from kivvet.core.run.examples import example_findings
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding, with_severity


def own_findings(table: Table, budget: int | None = None, checked: Table | None = None) -> list[Finding]:
    """Return the findings about a table by itself, with the severities it has chosen.

    Parameters
    ----------
    budget : int, optional
        How many steps each question over several inputs may take.
    checked : Table, optional
        Instead of itself, whose rows are looked at: the same with other domains.
    """
    of_rows = checked or table
    found = findings_of(of_rows) if budget is None else check_table(of_rows, budget)
    return [*found, *of_cases(table, budget)]


def of_cases(table: Table, budget: int | None = None) -> list[Finding]:
    """Return the findings about the examples and promises of a table, with the severities it has chosen."""
    promised = promise_findings(table) if budget is None else check_promises(table, budget)
    return with_severity([*example_findings(table), *promised], table.severity)
