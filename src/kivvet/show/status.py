"""Status and refresh on a terminal: which targets are stale, which table made them so, what changed in it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from kivvet.core.words.wording import count, listed, shown_path
from kivvet.show.applied import print_apply_report
from kivvet.show.terminal import print_columns, print_hint

if TYPE_CHECKING:
    from kivvet.books.runs.refresh import Refreshed
    from kivvet.books.runs.status import DatasetStatus, Reason
    from kivvet.books.runs.watch import WatchRound

_STYLES = {
    "current": "bold green",
    "stale": "bold yellow",
    "never applied": "bold yellow",
    "cannot tell": "bold red",
}
_MOST_CHANGES = 10


def print_status(out: Console, statuses: Sequence[DatasetStatus]) -> None:
    """Print the status of each dataset, with the reasons, and what to do."""
    if not statuses:
        out.print("the book has no datasets; add one to book.toml: [datasets.NAME]")
    for status in statuses:
        line = (
            Text()
            .append(status.dataset, "bold")
            .append(f"  {status.target}  ", "cyan")
            .append(status.state, _STYLES[status.state])
        )
        if status.made_at:
            line.append(
                f"  written {status.made_at[:16].replace('T', ' ')} UTC, {count(status.rows or 0, 'row')}",
                "dim",
            )
        out.print(line)
        for reason in status.reasons:
            print_reason(out, reason)
    if any(statuse.state == "stale" for statuse in statuses):
        print_hint(out, "to bring up to date: kivvet refresh")
    elif any(statuse.state == "never applied" for statuse in statuses):
        print_hint(out, "to write it: kivvet apply")


def print_reason(out: Console, reason: Reason) -> None:
    """Print why something is stale, and the changes behind it."""
    columns = listed(reason.columns)
    message = f"{reason.message} ({reason.last_change})" if reason.last_change else reason.message
    if reason.columns:
        print_columns(out, [("", "", 2), (columns, "yellow", max(14, len(columns) + 2))], message)
    else:
        print_columns(out, [("", "", 2)], message)
    for change in reason.changes[:_MOST_CHANGES]:
        print_columns(out, [("", "", 16)], str(change), "dim")
    if len(reason.changes) > _MOST_CHANGES:
        out.print(
            Text(
                f"                ... and {len(reason.changes) - _MOST_CHANGES} more changes; --json lists all",
                "dim",
            )
        )


def print_refreshed(out: Console, done: Sequence[Refreshed]) -> None:
    """Print what a refresh did: for what was current, that there was nothing to do."""
    for one in done:
        if one.is_due or one.is_stopped:
            said, style = ("would be written", "yellow") if one.is_due else ("would not be written", "red")
            out.print(Text().append(one.dataset, "bold").append(f"  {said}", style))
            for reason in one.reasons:
                print_reason(out, reason)
            continue
        if one.report is None:
            out.print(
                Text().append(one.dataset, "bold").append("  current", "green").append("; nothing to do")
            )
            continue
        for reason in one.reasons:
            print_reason(out, reason)
        tables = {reason.table for reason in one.reasons}
        is_partial = "" not in tables
        shown = (
            tuple(table for table in one.report.tables if table.table in tables)
            if is_partial
            else one.report.tables
        )
        formulas = (
            one.report.formulas
            if not is_partial
            else tuple(x for x in one.report.formulas if x.formula in tables)
        )
        print_apply_report(out, replace(one.report, tables=shown, formulas=formulas), "refreshed")
        if kept := one.report.kept:
            out.print(Text(f"  {count(len(kept), 'other column')} taken from the target as it stood", "dim"))
        elif is_partial and len(shown) < len(one.report.tables):
            others = len({table.table for table in one.report.tables} - {table.table for table in shown})
            out.print(Text(f"  the columns of {count(others, 'other table')} are as they were", "dim"))


def print_round(out: Console, one: WatchRound, at: dt.datetime) -> None:
    """Print what was done after files were saved: nothing for what was current."""
    if one.changed:
        out.print()
    saved = (
        f"saved: {listed(shown_path(path) for path in one.changed)}"
        if one.changed
        else "watching; Ctrl-C ends it"
    )
    out.print(Text(f"{at:%H:%M:%S}  ", "dim").append(saved, "cyan"))
    print_refreshed(out, [done for done in one.done if done.report is not None])
    for name, error in one.errors.items():
        said = f"{name} is as it was" if name else "targets are as they were"
        out.print(Text(str(error), "red"))
        out.print(Text(f"  {said}", "yellow"))
    if one.is_quiet:
        out.print(Text("  all is current", "green"))
