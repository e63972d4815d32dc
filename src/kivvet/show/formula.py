"""A formula that is tried out, on a terminal; and what formulas made of the data, in the report of an apply."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from rich.console import Console
from rich.text import Text

from kivvet.core.run.step_reports import FormulaReport
from kivvet.core.words.wording import count
from kivvet.show.terminal import print_columns

if TYPE_CHECKING:
    from kivvet.books.asks.try_formula import Trial

_WIDEST = 24


def print_trial(out: Console, trial: Trial) -> None:
    """Print a trial: the formula, what it reads, the missing it made, and a few results."""
    report = trial.report
    out.print(Text(trial.text, "bold").append(f"   {trial.type}", "cyan"))
    reads = ", ".join(f"{name} {kind}".rstrip() for name, kind in trial.reads.items())
    print_columns(out, [("", "", 2), ("reads", "dim", 8)], reads or "no column")
    scope = f"{count(report.rows, 'row')}" if trial.is_whole else f"the first {report.rows:,} rows"
    print_columns(out, [("", "", 2), ("on", "dim", 8)], f"{scope}; {_missing(report)}")
    for note in notes_of(report):
        print_columns(out, [("", "", 2), ("but", "yellow", 8)], note)
    out.print()
    from kivvet.books.asks.try_formula import (
        TRIED,  # not before a trial is shown: every report on formulas is, without it
    )

    names = ["row", *trial.reads, TRIED]
    rows = [[f"{number:,}", *(_shown(values[name]) for name in names[1:])] for number, values in trial.rows]
    is_number = [
        all(
            isinstance(values.get(name, 0), (int, float)) or values.get(name, 0) is None
            for _, values in trial.rows
        )
        for name in names
    ]
    widths = [max(len(one) for one in column) for column in zip(names, *rows, strict=True)]
    for line_number, cells in enumerate([names, *rows]):
        line = Text("  ")
        for place, (cell, width, right) in enumerate(zip(cells, widths, is_number, strict=True)):
            style = "dim" if line_number == 0 or place == 0 else "bold" if place == len(cells) - 1 else ""
            line.append((cell.rjust(width) if right else cell.ljust(width)) + "  ", style)
        line.rstrip()
        out.print(line)


def print_formulas(out: Console, formulas: tuple[FormulaReport, ...]) -> None:
    """Print a line for each formula: its type, the rows without a value, and why."""
    if not formulas:
        return
    out.print(Text("  formulas", "dim"))
    shown = [(", ".join(formula.columns), formula.type) for formula in formulas]
    width = max(len(name) for name, _ in shown) + 2
    for one, (name, kind) in zip(formulas, shown, strict=True):
        heads = [("", "", 4), (name, "bold", width), (kind, "cyan", 10)]
        print_columns(out, heads, _missing(one))
        for note in notes_of(one):
            print_columns(out, [("", "", 4 + width + 10)], note, "yellow")


def _missing(report: FormulaReport) -> str:
    if not report.missing:
        return "a value in every row"
    made = ", ".join(
        f"{cause} {n:,} (the first in row {row:,})" for cause, (n, row) in report.made_missing.items()
    )
    return f"missing in {count(report.missing, 'row')}" + (f": {made}" if made else "")


def notes_of(report: FormulaReport) -> list[str]:
    """Return what deserves a look in how rows were grouped and ordered."""
    made = []
    if report.without_group:
        has = "has" if report.without_group == 1 else "have"
        made.append(
            f"{count(report.without_group, 'row')} {has} no value in PARTITION BY and count as one group"
        )
    if report.without_order:
        has, stands = ("has", "stands") if report.without_order == 1 else ("have", "stand")
        made.append(
            f"{count(report.without_order, 'row')} {has} no value in ORDER BY and {stands} last, unless it says NULLS FIRST"
        )
    if report.split_ties:
        made.append(f"{count(report.split_ties, 'row')} equal in the order are parted by NTILE as they stand")
    return made


def _shown(value: Any) -> str:
    if value is None:
        return "missing"
    if isinstance(value, bool):
        return "true" if value else "false"
    text = f"{value:.10g}" if isinstance(value, float) else str(value)
    return text if len(text) <= _WIDEST else text[: _WIDEST - 3] + "..."
