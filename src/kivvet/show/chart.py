"""What there is to say of a chart or a report that was written."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from rich.console import Console

from kivvet.core.words.wording import count
from kivvet.draw.chart import Chart
from kivvet.show.terminal import print_columns

if TYPE_CHECKING:
    from kivvet.pages.report import BookReport


def print_chart(out: Console, chart: Chart, path: Path) -> None:
    """Print where a chart is, and what is not drawn in it."""
    out.print(f"written  {path}  {chart.title}")
    for note in chart.notes:
        print_columns(out, [("", "", 2)], note)


def print_report_written(out: Console, made: BookReport, path: Path) -> None:
    """Print where a report is, and what it is about."""
    facts = made.facts
    parts = [
        count(len(facts.tables), "table"),
        count(len(facts.formulas), "formula"),
        count(len(facts.datasets), "dataset"),
    ]
    out.print(f"written  {path}  {facts.title}: {', '.join(parts)}")
    print_columns(out, [("", "", 2)], facts.check.summary)


def print_written(out: Console, made: Chart | BookReport, path: Path) -> None:
    """Print where a chart or a report is."""
    if isinstance(made, Chart):
        print_chart(out, made, path)
    else:
        print_report_written(out, made, path)
