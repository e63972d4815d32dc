"""Rules on their way out and in as notebooks show them: workbooks that go out and come back, rules taken over from elsewhere."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from kivvet.core.words.wording import listed, shown_path
from kivvet.pages.form_parts import grid_of
from kivvet.pages.forms_of_rules import comparison_form, impact_form
from kivvet.pages.grids import Cell, Line, Part, number, words

if TYPE_CHECKING:
    from kivvet.books.asks.adopted import Adopted, RulesAdopted
    from kivvet.books.asks.adopted_proof import Proof
    from kivvet.books.asks.described import CsvMetadata
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


def described_form(one: CsvMetadata) -> Part:
    """Return files of CSV with what is said of their columns."""
    grids = []
    for path, table in one.tables.items():
        lines = [
            Line(
                words(
                    column.heading,
                    column.type,
                    listed(column.words, 6),
                    listed(column.classes, 12),
                    "key" if column.heading in table.key else "",
                )
            )
            for column in table.columns
        ]
        grids.append(
            grid_of(shown_path(path), ("column", "type", "missing", "classes", "key"), lines, (), 300)
        )
    return Part("Files of CSV described", grids=tuple(grids))


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


def rules_adopted_form(one: RulesAdopted) -> Part:
    """Return rules taken over: what each became, and what was proved of it."""
    proofs = {proof.name: proof for proof in one.proofs}
    parts = tuple(_adopted(rule, proofs.get(rule.name)) for rule in one.rules)
    facts = (("written", ", ".join(one.written)),) if one.written else ()
    return Part(one.source, facts, tuple(("", f"left: {said}") for said in one.left), parts=parts)


def _adopted(rule: Adopted, proof: Proof | None) -> Part:
    said = [("", note) for note in rule.notes]
    grids = [
        grid_of("", (rule.kind,), [Line(words(line)) for line in rule.text.splitlines() if line], (), 300)
    ]
    if proof is not None:
        mood = "error" if proof.differing else "fine"
        said.append((mood, f"gives otherwise than before in {proof.differing:,} of {proof.rows:,} rows"))
        if proof.unmatched:
            said.append(("warning", f"{proof.unmatched:,} rows get nothing"))
        if proof.pairs:
            lines = [Line((*words(before, now), number(rows))) for before, now, rows in proof.pairs]
            grids.append(
                grid_of(
                    f"{proof.column or 'before'} and now", ("before", "now", "rows"), lines, ("rows",), 300
                )
            )
    return Part(rule.name, said=tuple(said), grids=tuple(grids))
