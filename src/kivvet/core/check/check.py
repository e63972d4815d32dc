"""Checking a table by itself, exactly; how it is done depends on its shape."""

from __future__ import annotations

from collections.abc import Iterable

from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.check.lookups import check_lookup
from kivvet.core.check.one_input import LineCheck
from kivvet.core.check.plain_mapping import check_plain_mapping
from kivvet.core.check.several_inputs import BoxCheck
from kivvet.core.space.plain_mapping import is_plain_mapping
from kivvet.core.tables.table import Table, value_or_none
from kivvet.core.words.findings import Finding, finding, with_severity
from kivvet.core.words.kept import kept
from kivvet.core.words.values import write_value


def check_table(table: Table, budget: int = DEFAULT_BUDGET) -> list[Finding]:
    """Return every finding about a table alone, with the severities it has chosen.

    Parameters
    ----------
    table : Table
    budget : int
        How many steps a question over several inputs may take; beyond, it is `not-proven`.
    """
    if table.lookup is not None:
        found = check_lookup(table)
    elif is_plain_mapping(table):
        found = check_plain_mapping(table)
    elif len(table.dimensions) == 1 and not table.given:
        found = LineCheck(table).findings()
    else:
        found = BoxCheck(table, budget).findings()
    return with_severity([*found, *_idle_classes(table)], table.severity)


def _idle_classes(table: Table) -> Iterable[Finding]:
    """Tell classes of an order that no row gives; of rows that never win it is told that they do not."""
    if not table.is_complete:
        return
    for position, output in enumerate(table.outputs):
        if not output.order:
            continue
        given = (
            {value_or_none(row.results[position]) for row in table.rows}
            if table.lookup is None
            else set(table.lookup.distinct_results(position))
        )
        given |= {table.otherwise.get(output.name), table.missing.get(output.name)}
        for name in output.order:
            if name not in given:
                yield finding(
                    "unused",
                    f"{output.name} = {write_value(name)} can never result: no row gives it",
                    table=table.name,
                    remedy="give it a row, or leave it out of the order",
                )


@kept
def findings_of(table: Table) -> tuple[Finding, ...]:
    """Return all findings about a table itself, with as many steps as there are by default."""
    return tuple(check_table(table))
