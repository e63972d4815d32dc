"""Checking a table by itself, exactly; how it is done depends on its shape."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

from kivvet.core.box_search import DEFAULT_BUDGET
from kivvet.core.check_boxes import BoxCheck
from kivvet.core.check_line import LineCheck
from kivvet.core.check_lookup import check_lookup
from kivvet.core.findings import Finding, finding, with_severity
from kivvet.core.row_findings import is_tied
from kivvet.core.tables import RuleTable, value_or_none
from kivvet.core.values import Value, write_value
from kivvet.errors import listed


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
        found = [_as_possible(table, one) for one in LineCheck(table).findings()]
    else:
        found = BoxCheck(table, budget).findings()
    return with_severity([*found, *_idle_classes(table, found)], table.parts.severity)


def _as_possible(table: RuleTable, one: Finding) -> Finding:
    """Return a finding as possible only, where a statement of `given` may leave nothing of its region."""
    name = frozenset((table.dimensions[0].name,))
    limited = [name] if table.axis.is_limited else []
    if one.kind not in ("gap", "overlap", "conflict") or not is_tied(table, [name], limited):
        return one
    return replace(one, possible=True, severity="warning" if one.severity == "error" else one.severity)


def _idle_classes(table: RuleTable, found: Sequence[Finding]) -> Iterable[Finding]:
    """Tell classes that can never result: no row gives them, or only rows that never win."""
    if table.lookup is not None or not table.parts.is_complete:
        return
    idle = {one.rows[0] for one in found if one.kind == "shadowed"}
    if table.match == "first":
        idle |= {one.rows[1] for one in found if one.kind == "conflict"}
    for position, output in enumerate(table.outputs):
        givers: dict[Value, list[int]] = {name: [] for name in output.order}
        for row in table.rows:
            result = value_or_none(row.results[position])
            if result is not None:
                givers.setdefault(result, []).append(row.number)
        others = {table.otherwise.get(output.name), table.missing.get(output.name)}
        for name, numbers in givers.items():
            if name in others or set(numbers) - idle:
                continue
            places = tuple(row.place for row in table.rows if row.number in numbers and row.place is not None)
            why = (
                f"{'row' if len(numbers) == 1 else 'rows'} {listed(numbers)} never {'wins' if len(numbers) == 1 else 'win'}"
                if numbers
                else "no row gives it"
            )
            yield finding(
                "unused", f"{output.name} = {write_value(name)} can never result: {why}", table=table.name, rows=tuple(numbers),
                places=places, remedy="give it a row that can win" if output.order else "see the rows named",
            )  # fmt: skip
