"""`over`: one entry for a table or a formula that is applied to many columns, made an entry for each of them."""

from __future__ import annotations

import fnmatch
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from kivvet.core.formulas.formula import Formula
from kivvet.core.run.entries import OVER_PARTS, Entry, entry_values
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.wording import did_you_mean, listed


def spread_over(
    entry: Entry,
    tables: Mapping[str, Table],
    formulas: Mapping[str, Formula],
    source_names: Sequence[str],
) -> tuple[list[Entry], list[Finding]]:
    """Return an entry for each column that an entry is applied to, with the names of its columns filled in.

    Where names do not say what becomes of ``{input}``, they are the column's name, ``_`` and the output's.
    """
    assert entry.over is not None
    faults: list[Finding] = []

    def fault(message: str, fix: str, kind: str = "syntax") -> None:
        places = (entry.place,) if entry.place else ()
        faults.append(finding(kind, message, places=places, remedy=fix, table="" if places else entry.table))

    about, wanted = entry.over
    is_table = entry.table in tables
    inputs = (
        [input_.name for input_ in tables[entry.table].inputs]
        if is_table
        else list(formulas[entry.table].reads)
    )
    what = f"{'table' if is_table else 'formula'} {entry.table!r}"
    if not about and len(inputs) == 1:
        about = inputs[0]
    if about not in inputs:
        if about:
            fault(
                f"over names {about!r}, and {what} reads no such column",
                did_you_mean(about, inputs) or f"it reads {listed(inputs)}",
                "unknown-column",
            )
        else:
            first = inputs[0] if inputs else "INPUT"
            fault(
                f"{what} reads {listed(inputs) or 'nothing'}: over has to say which of them",
                f"over = {entry_values(entry)['over']!r} becomes over = {{ {first} = ... }}",
            )
        return [], faults
    if about in entry.reads:
        fault(f"input and over both say what {about!r} reads", "leave it out of input")
        return [], faults
    columns: dict[str, None] = {}
    for one in wanted:
        found = list(_matching(one, source_names)) if "*" in one or "?" in one else [one]
        if not found:
            fault(
                f"over = {one!r} meets no column of the source",
                did_you_mean(one.strip("*?"), source_names) or f"there are {listed(source_names, 20)}",
                "unknown-column",
            )
        columns.update(dict.fromkeys(found))
    plain = _without_input(entry)
    if plain and len(columns) > 1:
        fault(
            f"{plain!r} would be the name of {len(columns)} columns",
            f'say where the name of the column stands: "{{input}}_{plain}"',
        )
        return [], faults
    if strange := _strange_parts(entry):
        fault(f"{strange} stands for nothing", f"there are {listed(OVER_PARTS)}")
        return [], faults
    return [_of_column(entry, about, column, tables) for column in columns], faults


def _matching(pattern: str, names: Sequence[str]) -> Iterator[str]:
    """Yield the names that a pattern with * and ? meets, in order; capitals count."""
    plain = pattern.replace("[", "[[]")
    return (name for name in names if fnmatch.fnmatchcase(name, plain))


def _names(entry: Entry) -> list[str]:
    """Return the names, or patterns of names, that an entry gives itself."""
    kept = [column for output, column in entry.keep or () if output != column]
    return [*kept, *(one for one in (entry.status, entry.row, entry.made_as) if one)]


def _without_input(entry: Entry) -> str | None:
    return next((name for name in _names(entry) if "{input}" not in name), None)


def _strange_parts(entry: Entry) -> str | None:
    for name in _names(entry):
        for rest in name.split("{")[1:]:
            if (part := f"{{{rest.split('}')[0]}}}") not in OVER_PARTS:
                return part
    return None


def _of_column(entry: Entry, about: str, column: str, tables: Mapping[str, Table]) -> Entry:
    """Return the entry for one of the columns."""

    def filled(pattern: str, output: str) -> str:
        return pattern.replace("{input}", column).replace("{output}", output)

    reads = {**entry.reads, about: column}
    if entry.table not in tables:
        name = filled(entry.made_as or "{input}_{output}", entry.table)
        return replace(entry, reads=reads, made_as=name, over=None, whole=entry)
    kept = entry.keep
    if kept is None:
        kept = tuple((output.name, output.name) for output in tables[entry.table].outputs)
    names = tuple(
        (output, filled("{input}_{output}" if output == name else name, output)) for output, name in kept
    )
    status, row = (None if one is None else filled(one, one) for one in (entry.status, entry.row))
    return replace(entry, reads=reads, keep=names, status=status, row=row, over=None, whole=entry)
