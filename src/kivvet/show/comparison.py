"""Two versions of a table on a terminal: the answer, then where results differ and from what to what."""

from __future__ import annotations

from collections.abc import Sequence

from rich.console import Console
from rich.text import Text

from kivvet.core.compare.change import Change
from kivvet.core.compare.comparison import ChangedRegion, Comparison
from kivvet.core.space.region_text import shortened
from kivvet.core.words.wording import count, listed
from kivvet.show.terminal import print_columns

_MOST_REGIONS = 25
_MOST_OPTIONS = 10
_WIDEST_PIPED = 150
_LONGEST_RESULT = 60


def print_comparison(out: Console, made: Comparison) -> None:
    """Print whether two versions mean the same, and the regions that differ."""
    versions = "" if made.old == "before" else f"  {made.new}, and before: {made.old}"
    out.print(Text().append(made.table, "bold").append(versions, "cyan"))
    style = "bold green" if made.is_same else "bold yellow" if made.is_different else "bold red"
    out.print(Text().append(made.summary, style))
    for name in made.not_compared:
        print_columns(out, [("", "", 2), ("not compared", "yellow", 14)], name)
    _print_changes(out, "option", made.options)
    if made.regions:
        out.print()
        _print_regions(out, made)
    if made.n_more or made.n_more is None:
        more = "more" if made.n_more is None else f"{made.n_more:,} more"
        out.print(Text(f"  ... and {more} regions that differ", "dim"))
    if not made.regions and made.forms:
        _print_changes(out, "written", made.forms)
    _print_data(out, made)
    for one in made.examples:
        print_columns(out, [("", "", 2), ("example", "yellow", 9)], f"tells them apart: {one}")
    for one in made.promises:
        print_columns(out, [("", "", 2), ("promise", "yellow", 9)], one.removeprefix("promise "))


def _print_changes(out: Console, word: str, changes: Sequence[Change]) -> None:
    for change in changes[:_MOST_OPTIONS]:
        print_columns(
            out,
            [("", "", 2), (word, "dim" if word == "written" else "yellow", 9)],
            f"{change.region}: {change.before or 'none'} -> {change.after or 'none'}",
        )
    if len(changes) > _MOST_OPTIONS:
        out.print(Text(f"  ... and {len(changes) - _MOST_OPTIONS} more", "dim"))


def _print_regions(out: Console, made: Comparison) -> None:
    """Print a line for each region, or two where they do not fit."""
    has_counts = any(region.count is not None for region in made.regions)
    heads = ["where", "before", "now", *(["rows"] if has_counts else []), "for example"]
    shown = made.regions[:_MOST_REGIONS]
    lines = [_line(one, has_counts) for one in shown]
    widths = [max(len(line[place]) for line in [heads, *lines]) for place in range(len(heads))]
    if sum(widths) + 2 * len(widths) > (out.width if out.is_terminal else _WIDEST_PIPED):
        for line in lines:
            where, before, after, *rows, example = line
            print_columns(out, [("", "", 2)], where)
            counted = f"{rows[0]} rows  " if has_counts else ""
            change = f"{before} -> {after}"
            heads_of_line = [("", "", 6), (change, "bold", len(change) + 2), (counted, "", len(counted))]
            print_columns(out, heads_of_line, f"for example {example}", "dim")
    else:
        for number, line in enumerate([heads, *lines]):
            text = Text("  ")
            for place, cell in enumerate(line):
                is_number = has_counts and place == 3
                padded = cell.rjust(widths[place]) if is_number else cell.ljust(widths[place])
                style = "dim" if not number or place == len(line) - 1 else "bold" if place in (1, 2) else ""
                text.append(padded + "  ", style)
            text.rstrip()
            out.print(text)
    if len(made.regions) > len(shown):
        out.print(Text(f"  ... and {len(made.regions) - len(shown):,} more; --json lists all", "dim"))


def _line(one: ChangedRegion, has_counts: bool) -> list[str]:
    names = one.changed_outputs
    before, after = (
        ", ".join(f"{name} {each.results[name]}" for name in names)
        if each.results and each.how != "disagree" and len(names) < len(each.results)
        else each.of_outputs(names)
        for each in (one.before, one.after)
    )
    counts = [] if not has_counts else ["" if one.count is None else f"{one.count:,}"]
    where = one.where + (" (perhaps)" if one.possible else "")
    return [
        where,
        shortened(before, _LONGEST_RESULT),
        shortened(after, _LONGEST_RESULT),
        *counts,
        _example(one),
    ]


def _example(one: ChangedRegion) -> str:
    tried = ", ".join(
        value if len(one.witness) == 1 else f"{name} = {value}" for name, value in one.witness.items()
    )
    row = "" if one.example_row is None else f"; {one.example_dataset} row {one.example_row:,}"
    return f"{tried}{row}"


def _print_data(out: Console, made: Comparison) -> None:
    for name, why in made.not_counted.items():
        print_columns(out, [("", "", 2), ("not counted", "yellow", 13)], f"{name}: {why}")
    if made.rows_changed is None:
        return
    read = listed(f"{n:,} of {name}" for name, n in made.rows_read.items())
    out.print()
    out.print(
        Text("  ")
        .append(f"{count(made.rows_changed, 'row')} of data with another result", "bold")
        .append(f"; read: {read}", "dim")
    )
