"""A draft on a terminal: the table as written, what reproducing examples came to, and what to do next."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from kivvet.books.asks.draft_table import Drafted
from kivvet.core.columns.alike import fewest_spellings
from kivvet.core.draft.known_texts import results_by_text
from kivvet.core.words.conditions import AnyOf, Equals, write_condition
from kivvet.core.words.wording import count, listed, shell_word, shown_path
from kivvet.rule_table import value_of
from kivvet.show.terminal import print_columns, print_hint

_MOST_LINES = 30
_MOST_CONTRADICTIONS = 8
_MOST_NEAR = 5


def print_drafted(out: Console, done: Drafted) -> None:
    """Print a new table and what is left to do."""
    for path in done.files:
        out.print(Text().append("written  ", "green").append(shown_path(path)))
    out.print()
    lines = done.text.rstrip("\n").split("\n")
    for line in lines[:_MOST_LINES]:
        if line.startswith("drafted = "):  # figures for a program
            out.print(Text("  drafted = { ... }", "dim").append("  # read by: kivvet shares", "dim"))
            continue
        code, _, note = line.partition("# ")
        out.print(Text(("  " + code).rstrip()) if not note else Text("  " + code).append("# " + note, "dim"))
    if len(lines) > _MOST_LINES:
        out.print(Text(f"  ... and {len(lines) - _MOST_LINES} more lines", "dim"))
    out.print()
    for said in done.strays:
        out.print(Text(f"{said}; it was left out here", "yellow"))
    if done.table.drafted is not None:
        _print_reproduced(out, done)
        return
    _print_spellings(out, done)
    _print_near(out, done)
    if done.unused:
        out.print(
            Text(
                f"{count(len(done.unused), 'value')} of the classes given {'is' if len(done.unused) == 1 else 'are'} not in the data: {listed(map(repr, done.unused), 5)}",
                "yellow",
            )
        )
    blank = len(done.table.check().of_kind("unfinished"))
    if blank:
        print_hint(
            out,
            f"{count(blank, 'class', 'classes')} to fill in, then: kivvet check {shell_word(done.table.name)}",
        )
    else:
        print_hint(out, f"next: kivvet check {shell_word(done.table.name)}")


def _print_spellings(out: Console, done: Drafted) -> None:
    """Print that values differ only by how they are spelled, and how they become one."""
    table = value_of(done.table)
    texts = list(results_by_text(table)) if table.lookup is None and not table.inputs[0].fold else []
    folds, n_left = fewest_spellings(texts)
    if n_left < len(texts):
        words = {"case": "case", "space": "blanks", "unicode": "Unicode form"}
        said = f"{count(len(texts), 'value')} {'is' if n_left == 1 else 'are'} {n_left:,} but for {' and '.join(words[one] for one in folds)}"
        out.print(Text(f"{said}: draft it with --fold {','.join(folds)} to take them as one", "yellow"))


def _print_near(out: Console, done: Drafted) -> None:
    """Print which values are spelled like more frequent ones, and how both become one."""
    if not done.near:
        return
    for text, rows, near, n_near in done.near[:_MOST_NEAR]:
        out.print(Text(f"{text!r} ({count(rows, 'row')}) is spelled like {near!r} ({n_near:,})", "yellow"))
    if len(done.near) > _MOST_NEAR:
        out.print(Text(f"and {len(done.near) - _MOST_NEAR:,} more are spelled like frequent ones", "yellow"))
    text, _, near, _ = done.near[0]
    both = write_condition(AnyOf((Equals(near), Equals(text))))
    out.print(Text(f"where they are one, a row may list both: {both}", "yellow"))


def _print_reproduced(out: Console, done: Drafted) -> None:
    report = done.table.drafted
    assert report is not None
    style = "green" if report.reproduced == report.rows else "yellow"
    out.print(
        Text(
            f"applied to the data, it gives {report.reproduced:,} of {count(report.rows, 'row')} the class they have",
            style,
        )
    )
    if report.unclassed:
        out.print(Text(report.of_unclassed))
    if report.contradictions:
        out.print(
            Text(
                f"{count(len(report.contradictions), 'value')} in several classes; the table takes the most frequent:"
            )
        )
    for value, classes in report.contradictions[:_MOST_CONTRADICTIONS]:
        print_columns(
            out,
            [("", "", 2), (value, "yellow", max(12, len(value) + 2))],
            ", ".join(f"{label} ({count(n, 'row')}, first row {first:,})" for label, n, first in classes),
        )
    if len(report.contradictions) > _MOST_CONTRADICTIONS:
        out.print(Text(f"  ... and {len(report.contradictions) - _MOST_CONTRADICTIONS} more", "dim"))


def print_extended(out: Console, done: Drafted, name: str) -> None:
    """Print what was added to a table."""
    if not done.n_added:
        out.print(Text().append(name, "bold").append(" knows every value of the data; nothing to add"))
        return
    out.print(
        Text().append(f"{count(done.n_added, 'row')} added to ").append(shown_path(done.files[0]), "bold")
    )
    if done.n_near:
        said = (
            f"{count(done.n_alike, 'value')} spelled like known ones: they have the results of these; look them through"
            if done.n_alike
            else f"{count(done.n_near, 'value')} spelled like known ones; with --alike they get the results of these"
        )
        out.print(Text(said, "yellow"))
    if value_of(done.table).lookup is None:
        for line in str(done.table).rstrip("]\n").split("\n")[-done.n_added :][:_MOST_LINES]:
            out.print(Text(f"  {line.strip()}"))
    print_hint(out, f"fill in the results, then: kivvet check {shell_word(name)}")
