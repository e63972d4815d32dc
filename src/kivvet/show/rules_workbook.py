"""A workbook of rules on a terminal: what went out, and what comes back by meaning and in the data."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from kivvet.books.asks.rules_in import RulesIn, TableIn
from kivvet.core.words.wording import count, listed, shell_word, shown_path
from kivvet.io.csv_metadata import METADATA_ENDING
from kivvet.show.comparison import print_comparison
from kivvet.show.findings import print_findings
from kivvet.show.impact import print_impact
from kivvet.show.merged import print_merged
from kivvet.show.terminal import print_columns, print_hint

if TYPE_CHECKING:
    from kivvet.books.asks.described import CsvMetadata
    from kivvet.pages.rules_workbook import RulesWorkbook

_STYLES = {"changed": "yellow", "undecided": "red", "unreadable": "red"}
_SAID = {
    "changed": "changed in the workbook",
    "undecided": "changed in the workbook and in the book, and is left to decide",
    "unreadable": "cannot be taken in",
    "new": "new: no table of the book is called so",
    "already": "changed in the workbook; the book says the same by now",
}


def print_exported(
    out: Console, made: RulesWorkbook, path: Path, *, is_long: bool = False, comes_back: bool = True
) -> None:
    """Print what was written."""
    tables = [table for table in made.rules.tables if not (is_long and table.name in made.others)]
    out.print(
        Text()
        .append("written  ", "green")
        .append(shown_path(path), "bold")
        .append(f"  {count(len(tables), 'table')}")
    )
    if is_long and made.others:
        said = listed(made.others, 8)
        print_columns(out, [("", "", 2), ("note", "cyan", 6)], f"no mappings of single values: {said}")
    for table in tables:
        if table.why_not and not is_long:
            print_columns(out, [("", "", 2), ("note", "cyan", 6)], f"for reading only: {table.why_not}")
    if comes_back:
        print_hint(out, f"when it comes back: kivvet import {shell_word(shown_path(path))}", "dim")


def print_described(out: Console, made: CsvMetadata, path: Path) -> None:
    """Print what was described."""
    out.print(Text().append("written  ", "green").append(shown_path(path), "bold"))
    for file, one in made.tables.items():
        key = f", key {listed(one.key)}" if one.key else ""
        print_columns(
            out,
            [("", "", 2), ("of", "cyan", 6)],
            f"{shown_path(file)}: {count(len(one.columns), 'column')}{key}",
        )
    (file, *more) = made.tables
    beside = file.with_name(file.name + METADATA_ENDING)
    if not more and path.resolve() != beside:
        print_hint(out, f"programs find it by themselves where it is called {shown_path(beside)}", "dim")


def print_imported(out: Console, made: RulesIn) -> None:
    """Print what comes back."""
    same = [table.name for table in made.tables if table.state == "unchanged" and not table.why_not]
    for table in made.tables:
        if table.name not in same:
            _print_table(out, table)
    if same:
        names = f"{count(len(same), 'table')} of {len(made.tables)}"
        print_columns(out, [("unchanged", "dim", 11)], names)
    for note in made.notes:
        print_columns(out, [("note", "cyan", 11)], note)
    if made.impact is not None:
        out.print()
        print_impact(out, replace(made.impact, tables=()))  # they stand above, in full
    out.print()
    for file in made.written:
        out.print(Text().append("written  ", "green").append(file))
    if made.changed and not made.written:
        if made.is_clean:
            print_hint(out, f"to write it: kivvet import {shell_word(made.file)} --write", "dim")
        else:
            print_hint(out, "nothing is written before what is told above is decided or mended", "dim")


def _print_table(out: Console, one: TableIn) -> None:
    if one.comparison is None:
        said = _SAID.get(one.state, one.state)
        out.print(Text().append(one.name, "bold").append("  ").append(said, _STYLES.get(one.state, "dim")))
    if one.why_not:
        for line in one.why_not.split("\n"):
            print_columns(out, [("", "", 2)], line)
    if one.state == "new":
        out.print(Text("".join(f"  {line}\n" for line in one.difference.splitlines()), "green"), end="")
    if one.comparison is not None:
        print_comparison(out, one.comparison)
    if one.merged is not None:
        print_merged(out, one.merged)
    print_findings(out, one.errors)
    out.print()
