"""The demo's story on a terminal: each step with the command it stands for and what that prints."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from rich.console import Console
from rich.rule import Rule
from rich.text import Text

from kivvet.books.asks.add_dataset import Added
from kivvet.books.asks.adopted import RulesAdopted
from kivvet.books.asks.rules_in import RulesIn
from kivvet.core.compare.comparison import Comparison
from kivvet.core.run.impact import Impact
from kivvet.core.run.reports import ApplyReport
from kivvet.core.words.findings import Report
from kivvet.demo.story import Edit, LookedAt, Shown, Written
from kivvet.pages.rules_workbook import RulesWorkbook
from kivvet.show.added import print_added
from kivvet.show.adopted import print_adopted
from kivvet.show.applied import print_apply_report
from kivvet.show.chart import print_written
from kivvet.show.comparison import print_comparison
from kivvet.show.findings import print_report
from kivvet.show.impact import print_impact
from kivvet.show.look import print_look
from kivvet.show.rules_workbook import print_exported, print_imported
from kivvet.show.status import print_refreshed, print_status
from kivvet.show.summary import print_summary


def print_step(out: Console, title: str, typed: str, result: Any) -> None:
    """Print one step: its title, the command, and its result as that command prints it."""
    if out.is_terminal:
        out.print(Rule(Text(title, "bold magenta"), align="left", style="dim"))
    else:
        out.print(Text(f"== {title}"))
    if typed:
        out.print(Text(f"$ {typed}", "bold"))
    if isinstance(result, Report):
        print_report(out, result)
    elif isinstance(result, ApplyReport):
        print_apply_report(out, result)
    elif isinstance(result, Shown):
        print_summary(out, result.table, result.name, share=result.share)
    elif isinstance(result, Impact):
        print_impact(out, result)
    elif isinstance(result, Comparison):
        print_comparison(out, result)
    elif isinstance(result, Added):
        print_added(out, result)
    elif isinstance(result, LookedAt):
        print_look(out, result.look, result.name)
    elif isinstance(result, RulesAdopted):
        print_adopted(out, result)
    elif isinstance(result, RulesIn):
        print_imported(out, result)
    elif isinstance(result, Written):
        made = result.made
        if isinstance(made, RulesWorkbook):
            print_exported(out, made, result.path)
        else:
            print_written(out, made, result.path)
    elif isinstance(result, list):
        out.print(Text(f"{len(result)} files, among them {result[0]} and {result[-1]}"))
    elif isinstance(result[0], Edit):
        print_edits(out, result)
    elif hasattr(result[0], "state"):
        print_status(out, result)
    else:
        print_refreshed(out, result)
    out.print()


def print_edits(out: Console, edits: tuple[Edit, ...]) -> None:
    """Print changes of lines, the old ones and the new."""
    for edit in edits:
        out.print(Text().append(edit.file, "bold").append(f"  {edit.why}", "dim"))
        for sign, style, lines in (("-", "red", edit.before), ("+", "green", edit.after)):
            for line in lines.strip("\n").split("\n"):
                if line:
                    out.print(Text(f"  {sign} {line.strip()}", style))


def print_ending(out: Console, folder: Path) -> None:
    """Print what to try next."""
    out.print(Text("What to try next", "bold magenta"))
    for typed, why in (
        (
            f"kivvet check --book {folder} ph_class",
            "one table; then change a bound in tables/ph_class.toml and check again",
        ),
        (f"kivvet status --book {folder} --json", "the same, for a program"),
        (f"open {folder / 'report.html'} in a browser", "the page that the last step wrote"),
        ("kivvet new my-rules", "a book of your own"),
    ):
        out.print(Text(f"  {typed}", "bold"))
        out.print(Text(f"      {why}", "dim"))
