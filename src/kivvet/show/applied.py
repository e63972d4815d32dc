"""The report of an apply on a terminal: every row accounted for, classes in order with their shares."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from kivvet.core.run.reports import ApplyReport, LastRun
from kivvet.core.run.step_reports import ClassLine, ClassReport, TableReport
from kivvet.core.words.wording import NO_CLASS, count, listed, values_with_rows
from kivvet.show.figures import shown
from kivvet.show.formula import print_formulas
from kivvet.show.terminal import bar, percent, print_columns

_BAR_WIDTH = 30
_MOST_CLASSES = 20
_MOST_VALUES = 6
_LONGEST_NAME = 36
_FEWEST_IN_ONE_LIST = 4
_MOST_MOVED = 8


def print_apply_report(out: Console, report: ApplyReport, verb: str = "written") -> None:
    """Print what was written, and for each table what became of the rows."""
    if report.is_view:
        verb = f"in the view by now, which was {verb}"
    if report.is_merged:
        verb = f"came or changed, beside {report.standing:,} that stand; what follows is about those"
    elif report.standing is not None:
        verb = f"added to {report.standing:,} that stand; what follows is about those that came"
    out.print(
        Text()
        .append(report.dataset, "bold")
        .append(f"  {report.target}", "cyan")
        .append(f"  {count(report.written, 'row')} {verb}")
    )
    if report.no_data:
        print_no_data(out, report.no_data, is_all=not report.rows)
    if report.where:
        _print_where(out, report)
    for tables in _alike(report.tables):
        out.print()
        if len(tables) < _FEWEST_IN_ONE_LIST:
            for number, table in enumerate(tables):
                if number:
                    out.print()
                _print_table(out, table)
        else:
            _print_list(out, tables)
    if report.formulas:
        out.print()
        print_formulas(out, report.formulas)
    for one in report.by_class:
        out.print()
        _print_by_class(out, one)
    if report.since is not None:
        _print_since(out, report, report.since)
    for note in report.notes:
        print_columns(out, [("", "", 2), ("note", "cyan", 6)], note)
    out.print()


def _print_since(out: Console, report: ApplyReport, since: LastRun) -> None:
    """Print what changed since the run before: rows, and classes that gained or lost some."""
    said = []
    if (gained := report.written + (report.standing or 0) - since.written) != 0:
        said.append(f"{count(abs(gained), 'row')} {'more' if gained > 0 else 'less'}")
    by_column: dict[str, list[str]] = {}
    for column, label, then, now in since.classes:
        by_column.setdefault(column, []).append(
            f"{NO_CLASS if label is None else _cut(shown(label))} {now - then:+,}"
        )
    if since.no_data[0] != since.no_data[1]:
        said.append(f"rows that are no data: {since.no_data[1] - since.no_data[0]:+,}")
    said += [f"{shown(column)}: {listed(moved, _MOST_MOVED)}" for column, moved in by_column.items()]
    out.print()
    when = since.made_at[:16].replace("T", " ")
    print_columns(
        out,
        [("", "", 2), ("since", "cyan", 7)],
        f"{when} UTC  {'; '.join(said) or 'no class gained or lost a row'}",
    )


def print_no_data(out: Console, left_out: Sequence[tuple[str, int]], *, is_all: bool = False) -> None:
    """Print which rows of a file were left out as no data."""
    whys = "; ".join(f"{why} {n:,}" for why, n in left_out)
    rows = count(sum(n for _, n in left_out), "row")
    said = f"every row of the file is left out: {whys}" if is_all else f"{rows} of the file left out: {whys}"
    print_columns(out, [("", "", 2), ("no data", "yellow" if is_all else "cyan", 9)], said)


def _print_where(out: Console, report: ApplyReport) -> None:
    """Print what became of the rows that were not written."""
    said = f"{report.where} keeps {report.written:,} of {count(report.rows, 'row')}"
    if report.undecided:
        said += f"; of {report.undecided:,} it cannot be told, since a value is missing"
    said += "" if report.written == report.rows else "; what follows counts all of them"
    print_columns(out, [("", "", 2), ("where", "cyan" if report.written else "yellow", 7)], said)


def _alike(tables: Sequence[TableReport]) -> list[list[TableReport]]:
    """Return the reports in lists of those that follow each other and are of one table."""
    return [list(some) for _, some in itertools.groupby(tables, key=lambda one: one.table)]


def _print_list(out: Console, tables: list[TableReport]) -> None:
    """Print one line for each of the columns that one table was applied to."""
    first = tables[0]
    out.print(Text("  ").append(first.table, "bold").append(f" over {len(tables):,} columns", "dim"))
    heads = ["reads", "matched", "unfinished", "missing", "unmatched", "such as"]
    lines = [
        [
            table.column,
            f"{table.matched:,}",
            f"{table.unfinished:,}",
            f"{table.missing:,}",
            f"{table.unmatched:,}",
            ", ".join(repr(value) for value, _ in table.unmatched_values[:3]),
        ]
        for table in tables
    ]
    shown = [
        place
        for place in range(len(heads))
        if place in (0, 1, 3, 4) or any(line[place] not in ("", "0") for line in lines)
    ]
    few = lines if len(lines) <= _MOST_CLASSES else lines[: _MOST_CLASSES - 1]
    widths = [max(len(line[place]) for line in (heads, *few)) for place in range(len(heads))]
    for number, line in enumerate([heads, *few]):
        text = Text("    ")
        for place in shown:
            is_text = place in (0, 5)
            cell = line[place].ljust(widths[place]) if is_text else line[place].rjust(widths[place])
            is_odd = number and place in (2, 4) and line[place] != "0"
            text.append(cell + "  ", "dim" if not number else "yellow" if is_odd else "")
        text.rstrip()
        out.print(text)
    if len(lines) > len(few):
        out.print(Text(f"    ... and {len(lines) - len(few)} more columns; --json lists all", "dim"))


def _print_by_class(out: Console, one: ClassReport) -> None:
    """Print the columns made one for each class, each with its rows."""
    head = Text("  ").append(f"{one.amount} ", "bold") if one.amount else Text("  ")
    head.append("by class of ", "dim").append(one.column, "bold")
    out.print(head.append(", with the rows of each", "dim"))
    shown = listed((f"{name} {n:,}" for name, n in one.columns), _MOST_CLASSES)
    print_columns(out, [("", "", 4)], shown)
    if one.outside:
        values = listed((f"{value!r} ({n:,})" for value, n in one.outside_values), _MOST_VALUES)
        has = "has a value that is" if one.outside == 1 else "have a value that is"
        said = f"{count(one.outside, 'row')} {has} none of the classes: {values}"
        print_columns(out, [("", "", 4), ("outside", "yellow", 9)], said)
    elif one.classless and sum(n for _, n in one.columns) < one.rows:
        print_columns(out, [("", "", 4)], f"{count(one.classless, 'row')} without a class", "dim")


def _print_table(out: Console, one: TableReport) -> None:
    reads = "" if one.column == one.table else f" reads {one.column}"
    sums = Text("  ").append(one.table, "bold").append(reads, "dim").append("   ")
    sums.append(f"matched {one.matched:,}", "green")
    if one.unfinished:
        sums.append(" + ").append(f"unfinished {one.unfinished:,}", "yellow")
    sums.append(" + ").append(f"missing {one.missing:,}", "cyan" if one.missing else "")
    sums.append(" + ").append(f"unmatched {one.unmatched:,}", "yellow" if one.unmatched else "")
    out.print(sums.append(f" = {one.rows:,}"))
    for name in one.classes:
        if name != one.table or len(one.classes) > 1:
            out.print(Text(f"    {name}", "dim"))
        _print_classes(out, one.lines_of(name), one.rows)
    for cause, (n, row) in one.made_missing.items():
        print_columns(
            out, [("", "", 4), ("no result", "yellow", 11)], f"{cause} {n:,} (the first in row {row:,})"
        )
    if one.unfinished_values:
        shown = values_with_rows(one.unfinished_values, one.unfinished_beyond)
        fill = f"{shown}; their rows are still to be filled in: {one.table}"
        print_columns(out, [("", "", 4), ("unfinished", "yellow", 12)], fill)
    if one.unmatched_values:
        shown = values_with_rows(one.unmatched_values, one.unmatched_beyond)
        print_columns(out, [("", "", 4), ("unmatched", "yellow", 11)], shown)


def _print_classes(out: Console, counted: tuple[ClassLine, ...], rows: int) -> None:
    empty = sum(n == 0 for *_, n in counted)
    if len(counted) > _MOST_CLASSES and empty > 1:  # most of them occur not at all, and are just counted
        counted = tuple(line for line in counted if line[2])
    else:
        empty = 0
    labels = [_cut(label) for label, *_ in counted]
    width = max(map(len, labels), default=0)
    figures = max((len(f"{n:,}") for *_, n in counted), default=0)
    for label, (_, kind, n) in list(zip(labels, counted, strict=True))[:_MOST_CLASSES]:
        line = Text("      ").append(label.ljust(width), "" if kind == "class" else "dim")
        line.append(f"  {n:>{figures},}  {percent(n, rows):>7}")
        if out.is_terminal and rows:
            line.append("  ").append(bar(n / rows, _BAR_WIDTH), "blue")
        line.rstrip()
        out.print(line)
    if len(counted) > _MOST_CLASSES:
        out.print(Text(f"      ... and {len(counted) - _MOST_CLASSES} more classes; --json lists all", "dim"))
    if empty:
        out.print(Text(f"      {count(empty, 'class', 'classes')} without rows", "dim"))


def _cut(label: str) -> str:
    return label if len(label) <= _LONGEST_NAME else label[: _LONGEST_NAME - 3] + "..."
