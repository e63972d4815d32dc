"""Domains taken from other tables: ``domain = "station.station"`` ties an input to the keys of a lookup."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import replace

from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import AnyOf, AnyValue, Condition, Equals, Negation
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.values import Value
from kivvet.core.words.wording import did_you_mean, listed


def with_domains(
    tables: Mapping[str, Table], unusable: Collection[str]
) -> tuple[dict[str, Table], list[Finding]]:
    """Return the tables with the domains that other tables give, and the faults found."""
    made: dict[str, Table] = {}
    faults: list[Finding] = []
    for name, table in tables.items():
        if not any(input_.domain_of for input_ in table.inputs):
            made[name] = table
            continue
        inputs = []
        for one in table.inputs:
            domain, problem, fix = _domain(one, tables) if one.domain_of else (one.domain, "", "")
            if problem and one.domain_of.partition(".")[0] not in unusable:
                places = (table.place,) if table.place else ()
                message = f"the domain of {one.name} is {one.domain_of!r}: {problem}"
                faults.append(finding("unknown-column", message, table=name, places=places, remedy=fix))
            inputs.append(replace(one, domain=domain))
        made[name] = replace(table, inputs=tuple(inputs))
    return made, faults


def _domain(about: Input, tables: Mapping[str, Table]) -> tuple[Condition | None, str, str]:
    """Return the domain as a condition, or what is wrong with the name of it and the cure."""
    table_name, _, column = about.domain_of.partition(".")
    literal = f'to mean this text itself: domain = ["{about.domain_of}"]'
    if table_name not in tables:
        return None, f"there is no table {table_name!r}", did_you_mean(table_name, tables) or literal
    table = tables[table_name]
    values = _values(table, column)
    if values is None:
        names = [
            *(input_.name for input_ in table.inputs if input_.period is None),
            *(output.name for output in table.outputs),
        ]
        return (
            None,
            f"table {table_name!r} has no key and no output {column!r}",
            did_you_mean(column, names) or f"it has {listed(names)}",
        )
    parts = tuple(Equals(value) for value in dict.fromkeys(values))
    if not parts:
        return Negation(AnyValue()), "", ""
    return (parts[0] if len(parts) == 1 else AnyOf(parts)), "", ""


def _values(table: Table, column: str) -> Iterable[Value] | None:
    """Return the keys of a lookup's column, or the classes of an output; None if there is no such column."""
    if table.lookup is not None:
        for key in table.lookup.keys:
            if key.about.name == column:
                return [value for value in key.shown.to_pylist() if value is not None]
    for output in table.outputs:
        if output.name == column:
            return table.classes(output)
    return None
