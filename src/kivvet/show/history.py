"""The history of a book on a terminal: runs, and what each changed; versions of a table."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from kivvet.books.asks.history import DoneAgain, History, RunTold, TableVersion
from kivvet.core.compare.change import Change
from kivvet.core.words.wording import NO_CLASS, count, listed
from kivvet.show.applied import print_apply_report
from kivvet.show.terminal import print_columns, print_hint

_MOST_CHANGES = 4
_MOST_CLASSES = 6
_INDENT = 12


def print_history(out: Console, history: History) -> None:
    """Print the runs of each dataset, the last ones last, and the versions of tables."""
    by_dataset: dict[str, list[RunTold]] = {}
    for one in history.runs:
        by_dataset.setdefault(one.run.dataset, []).append(one)
    by_name: dict[str, list[TableVersion]] = {}
    for version in history.versions:
        by_name.setdefault(version.name, []).append(version)
    is_first = True
    for name, runs in by_dataset.items():
        _begin(out, name, is_first=is_first)
        is_first = False
        if n_earlier := history.n_earlier.get(name, 0):
            out.print(Text(f"  ... {count(n_earlier, 'earlier run')}; more with --first", "dim"))
        for one in runs:
            _print_run(out, one)
    for name, versions in by_name.items():
        _begin(out, name, is_first=is_first)
        is_first = False
        for word, said in history.about.get(name, {}).items():
            print_columns(out, [("", "", 2), (word, "dim", 10)], said)
        for version in versions:
            _print_version(out, version)
    if is_first and not history.problems:
        print_hint(out, "no run is remembered yet: kivvet apply", "")
    for problem in history.problems:
        out.print(Text(problem, "yellow"))


def _begin(out: Console, name: str, *, is_first: bool) -> None:
    if not is_first:
        out.print()
    out.print(Text(name, "bold"))


def _when(at: str) -> str:
    return f"{at[:16].replace('T', ' ')} UTC"


def _print_run(out: Console, one: RunTold) -> None:
    run = one.run
    line = (
        Text("  ")
        .append(run.id, "cyan")
        .append(f"  {_when(run.at)}  {run.action:<7}  {count(one.rows, 'row')}")
    )
    if run.who:
        line.append(f"  by {run.who}", "dim")
    out.print(line)
    if run.note:
        print_columns(out, [("", "", _INDENT)], run.note, "green")
    if one.is_first:
        return
    for name, changes in one.rules:
        print_columns(out, [("", "", _INDENT)], f"{name} changed{_told(changes)}")
    if one.rewritten:
        said = f"{listed(one.rewritten)} written otherwise, to the same meaning"
        print_columns(out, [("", "", _INDENT)], said, "dim")
    if one.is_new_source:
        print_columns(out, [("", "", _INDENT)], f"another content of {run.record.source_name}")
    by_column: dict[str, list[str]] = {}
    for column, label, before, now in one.classes:
        by_column.setdefault(column, []).append(
            f"{NO_CLASS if label is None else label} {before:,} -> {now:,}"
        )
    for column, moved in by_column.items():
        print_columns(
            out, [("", "", _INDENT), (column, "yellow", len(column) + 2)], listed(moved, _MOST_CLASSES)
        )
    if not (one.rules or one.rewritten or one.is_new_source or one.classes):
        print_columns(out, [("", "", _INDENT)], "as before", "dim")


def _told(changes: Sequence[Change]) -> str:
    return f": {listed(map(str, changes), _MOST_CHANGES).replace(', ...', '; ...')}" if changes else ""


def _print_version(out: Console, one: TableVersion) -> None:
    until = "" if one.first is one.last else f" to {_when(one.last.at)}"
    line = Text("  ").append(one.fingerprint[:8], "cyan").append(f"  {_when(one.first.at)}{until}")
    line.append(f"  in {listed(one.datasets)}")
    if one.first.who:
        line.append(f"  first by {one.first.who}", "dim")
    out.print(line)
    for change in one.changes[:_MOST_CHANGES]:
        print_columns(out, [("", "", _INDENT)], str(change), "dim")
    if len(one.changes) > _MOST_CHANGES:
        out.print(
            Text(
                f"{' ' * _INDENT}... and {len(one.changes) - _MOST_CHANGES} more changes; --json lists all",
                "dim",
            )
        )


def print_done_again(out: Console, done: DoneAgain) -> None:
    """Print what was written again, and whether it is what was written then."""
    print_apply_report(out, done.report, "written again")
    when = f"run {done.run.id} of {_when(done.run.at)}"
    if not done.is_same_source:
        said, style = f"the rules of {when}, applied to the source of today", "yellow"
    elif done.is_same_bytes:
        said, style = f"byte for byte what {when} wrote", "green"
    elif done.is_same_counts:
        said, style = f"the rows and classes of {when}; the file is encoded otherwise", "green"
    else:
        said, style = f"not what {when} wrote", "red"
    out.print(Text(said, style))
