"""Workbooks of rules as notebooks show them: what goes out, and what comes back."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from kivvet.pages.form_parts import grid_of
from kivvet.pages.forms_of_rules import comparison_form, impact_form
from kivvet.pages.grids import Cell, Line, Part, number, words

if TYPE_CHECKING:
    from kivvet.books.asks.rules_in import RulesIn, TableIn
    from kivvet.pages.rules_workbook import RulesWorkbook

_MOODS = {"changed": "warning", "new": "warning", "undecided": "error", "unreadable": "error"}


def rules_workbook_form(one: RulesWorkbook) -> Part:
    """Return what goes out; the workbook itself is a file."""
    lines = [
        Line(
            (
                Cell(table.name, is_head=True),
                Cell(table.title),
                number(len(table.records)),
                number(sum(map(bool, table.found))),
                Cell(table.why_not),
            )
        )
        for table in one.rules.tables
    ]
    heads = ("table", "title", "rows", "rows with findings", "for reading only")
    grid = grid_of("", heads, lines, ("rows", "rows with findings"), 300)
    return Part(one.rules.book or "Rules", grids=(grid,))


def rules_in_form(one: RulesIn) -> Part:
    """Return what comes back: by table what changes, and what that moves in the data."""
    same = sum(table.state == "unchanged" and not table.why_not for table in one.tables)
    said = [("fine", f"{same} of {len(one.tables)} tables are unchanged")] if same else []
    said += [("", note) for note in one.notes]
    parts = [_table(table) for table in one.tables if table.state != "unchanged" or table.why_not]
    if one.impact is not None:
        parts.append(impact_form(replace(one.impact, tables=())))
    facts = (("written", ", ".join(one.written)),) if one.written else ()
    return Part(one.file, facts, tuple(said), parts=tuple(parts))


def _table(one: TableIn) -> Part:
    said = [(_MOODS.get(one.state, "fine"), one.state)]
    said += [("", line) for line in one.why_not.split("\n") if line]
    if one.merged is not None:
        called = one.merged.called
        said += [
            ("error", f"{clash.where}: {called[0]} {clash.ours}, {called[1]} {clash.theirs}")
            for clash in one.merged.clashes
        ]
    lines = [Line(words(line)) for line in one.difference.splitlines()] if one.state == "new" else []
    grids = (grid_of("", ("its file",), lines, (), 300),) if lines else ()
    parts = () if one.comparison is None else (comparison_form(one.comparison),)
    return Part(one.name, said=tuple(said), grids=grids, findings=one.errors, parts=parts)
