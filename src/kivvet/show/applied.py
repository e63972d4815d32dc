"""The report of an apply on a terminal: every row accounted for, classes in order with their shares."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from kivvet.core.run.reports import ApplyReport, TableReport
from kivvet.core.words.wording import count, listed
from kivvet.show.formula import print_formulas
from kivvet.show.terminal import bar, percent, print_columns

_BAR_WIDTH = 30
_MOST_CLASSES = 20
_MOST_VALUES = 6
_LONGEST_NAME = 36


def print_apply_report(out: Console, report: ApplyReport, verb: str = "written") -> None:
    """Print what was written, and for each table what became of the rows."""
    out.print(
        Text()
        .append(report.dataset, "bold")
        .append(f"  {report.target}", "cyan")
        .append(f"  {count(report.rows, 'row')} {verb}")
    )
    for table in report.tables:
        out.print()
        _print_table(out, table)
    if report.formulas:
        out.print()
        print_formulas(out, report.formulas)
    for note in report.notes:
        print_columns(out, [("", "", 2), ("note", "cyan", 6)], note)
    out.print()


def _print_table(out: Console, one: TableReport) -> None:
    reads = "" if one.column == one.table else f" reads {one.column}"
    sums = Text("  ").append(one.table, "bold").append(reads, "dim").append("   ")
    sums.append(f"matched {one.matched:,}", "green")
    if one.unfinished:
        sums.append(" + ").append(f"unfinished {one.unfinished:,}", "yellow")
    sums.append(" + ").append(f"missing {one.missing:,}", "cyan" if one.missing else "")
    sums.append(" + ").append(f"unmatched {one.unmatched:,}", "yellow" if one.unmatched else "")
    out.print(sums.append(f" = {one.rows:,}"))
    for name, counted in one.classes.items():
        if name != one.table or len(one.classes) > 1:
            out.print(Text(f"    {name}", "dim"))
        _print_classes(out, counted, one.rows)
    for cause, (n, row) in one.made_missing.items():
        print_columns(
            out, [("", "", 4), ("no result", "yellow", 11)], f"{cause} {n:,} (the first in row {row:,})"
        )
    if one.unfinished_values:
        shown = listed((f"{value!r} ({n:,})" for value, n in one.unfinished_values), _MOST_VALUES)
        fill = f"{shown}; their rows are still to be filled in: {one.table}"
        print_columns(out, [("", "", 4), ("unfinished", "yellow", 12)], fill)
    if one.unmatched_values:
        shown = listed((f"{value!r} ({n:,})" for value, n in one.unmatched_values), _MOST_VALUES)
        print_columns(out, [("", "", 4), ("unmatched", "yellow", 11)], shown)


def _print_classes(out: Console, counted: tuple[tuple[str | None, int], ...], rows: int) -> None:
    empty = sum(n == 0 for _, n in counted)
    if len(counted) > _MOST_CLASSES and empty > 1:  # most of them occur not at all, and are just counted
        counted = tuple(pair for pair in counted if pair[1])
    else:
        empty = 0
    labels = [_cut("(missing)" if label is None else label) for label, _ in counted]
    width = max(map(len, labels), default=0)
    figures = max((len(f"{n:,}") for _, n in counted), default=0)
    for label, (raw, n) in list(zip(labels, counted, strict=True))[:_MOST_CLASSES]:
        line = Text("      ").append(label.ljust(width), "dim" if raw is None else "")
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
