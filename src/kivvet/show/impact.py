"""What changed rules would move, on a terminal: the rules, then dataset by dataset from which class to which."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from kivvet.core.compare.comparison import Comparison
from kivvet.core.run.impact import ColumnImpact, DatasetImpact, Impact, MovedRow
from kivvet.core.words.wording import NO_CLASS, count, listed, shell_word
from kivvet.show.terminal import percent, print_columns, print_hint

_MOST_REGIONS = 4
_MOST_MOVES = 8
_WIDEST_MATRIX = 7  # classes that are shown as a matrix
_LONGEST_NUMBER = 12


def print_impact(out: Console, made: Impact) -> None:
    """Print what changed and what it does."""
    out.print(Text().append("impact", "bold").append(f"  today's rules, against {made.against}", "cyan"))
    for table in made.tables:
        _print_table(out, table)
    for change in made.formulas:
        print_columns(
            out,
            [("", "", 2), (change.region, "bold", len(change.region) + 2)],
            f"{change.before} -> {change.after}",
        )
    if made.new:
        print_columns(out, [("", "", 2), ("new", "bold", 5)], listed(made.new))
    for dataset in made.datasets:
        if not dataset.is_nothing:
            out.print()
            _print_dataset(out, dataset)
    if (same := [dataset.dataset for dataset in made.datasets if dataset.is_nothing]) and not made.is_nothing:
        out.print()
        print_columns(out, [], f"as before: {listed(same)}", "dim")
    style = "bold green" if made.is_nothing else "bold yellow"
    out.print()
    out.print(Text(made.summary, style))
    is_stopped = any(dataset.stopped_by or dataset.why_not for dataset in made.datasets)
    if not is_stopped and made.against == "what was applied last" and made.largest_share:
        print_hint(out, "to write it: kivvet refresh")


def _print_table(out: Console, one: Comparison) -> None:
    print_columns(out, [("", "", 2), (one.table, "bold", len(one.table) + 2)], one.summary)
    for region in one.regions[:_MOST_REGIONS]:
        print_columns(out, [("", "", 6)], str(region), "dim")
    if len(one.regions) > _MOST_REGIONS:
        more = f"... and {len(one.regions) - _MOST_REGIONS} more: kivvet compare {shell_word(one.table)}"
        out.print(Text(f"      {more}", "dim"))
    for change in one.options:
        print_columns(
            out, [("", "", 6)], f"{change.region}: {change.before or 'none'} -> {change.after or 'none'}"
        )
    for example in one.examples:
        print_columns(out, [("", "", 6), ("example ", "yellow", 8)], f"tells them apart: {example}")
    for promise in one.promises:
        print_columns(out, [("", "", 6), ("promise ", "yellow", 8)], promise.removeprefix("promise "))


def _print_dataset(out: Console, one: DatasetImpact) -> None:
    head = Text().append(one.dataset, "bold")
    if one.why_not:
        out.print(head.append(f"  cannot be told: {one.why_not}", "yellow"))
        return
    out.print(head.append(f"  {count(one.rows, 'row')}" if one.rows else ""))
    if one.stopped_by:
        print_columns(out, [("", "", 2)], f"{one.stopped_by} would stop an apply: kivvet check", "red")
    for word, names in (("new", one.added), ("gone", one.gone)):
        if names:
            print_columns(out, [("", "", 2), (word, "yellow", 6)], listed(names))
    if one.entering or one.leaving:
        print_columns(
            out, [("", "", 2)], f"{count(one.entering, 'row')} come, {count(one.leaving, 'row')} go", "yellow"
        )
    for column in one.columns:
        _print_column(out, column)
    if one.same:
        out.print(Text(f"  {count(one.same, 'other column')} as before", "dim"))


def _print_column(out: Console, one: ColumnImpact) -> None:
    how = "follows" if one.follows else f"by {one.made_by}"
    head = Text("  ").append(one.column, "bold")
    if not one.changed:
        out.print(head.append(f"  {how}; no row changes", "dim"))
        return
    head.append(f"  {count(one.changed, 'row')} of {one.rows:,} ({percent(one.changed, one.rows)})", "yellow")
    out.print(head.append(f"  {how}", "dim"))
    if one.classes and len(one.classes) <= _WIDEST_MATRIX:
        _print_matrix(out, one)
    if not one.moves:
        for moved in one.examples:
            _print_moved(out, moved, f"{_short(moved.before)} -> {_short(moved.after)}", 0)
        return
    widest = max(len(f"{m.count:,}") for m in one.moves)
    for move in one.moves[:_MOST_MOVES]:
        text = (
            f"{move.count:>{widest},}  {_short(move.before or NO_CLASS)} -> {_short(move.after or NO_CLASS)}"
        )
        _print_moved(out, move.example, text, max(len(m.before or NO_CLASS) + len(m.after or NO_CLASS) for m in one.moves[:_MOST_MOVES]) + widest + 6)  # fmt: skip
    if len(one.moves) > _MOST_MOVES:
        out.print(Text(f"      ... and {len(one.moves) - _MOST_MOVES} more ways; --json lists all", "dim"))


def _short(text: str) -> str:
    """Return a long number with the digits that tell something."""
    try:
        return text if len(text) <= _LONGEST_NUMBER else f"{float(text):.10g}"
    except ValueError:
        return text


def _print_moved(out: Console, moved: MovedRow, text: str, width: int) -> None:
    values = ", ".join(f"{name} = {_short(value)}" for name, value in moved.values.items())
    where = f"such as row {moved.row:,}: {values}" if moved.row is not None else f"such as {values}"
    print_columns(out, [("", "", 6), (text, "", max(width, len(text)) + 2)], where, "dim")


def _print_matrix(out: Console, one: ColumnImpact) -> None:
    """Print the rows by class before, down, and after, across; what stays is on the diagonal."""
    names = [name for name, _, _ in one.classes]
    heads = ["before \\ after", *(name or NO_CLASS for name in names), "total"]
    lines = [
        [
            name or NO_CLASS,
            *(f"{n:,}" if (n := one.pairs.get((name, other), 0)) else "." for other in names),
            f"{before:,}",
        ]
        for name, before, _ in one.classes
    ]
    lines.append(["total", *(f"{after:,}" for _, _, after in one.classes), f"{one.rows:,}"])
    widths = [max(len(line[place]) for line in [heads, *lines]) for place in range(len(heads))]
    if sum(widths) + 2 * len(widths) + 6 > (out.width if out.is_terminal else 150):
        return
    for row, line in enumerate([heads, *lines]):
        text = Text("      ")
        for place, cell in enumerate(line):
            padded = cell.ljust(widths[0]) if not place else cell.rjust(widths[place])
            is_move = 0 < row <= len(names) and 0 < place <= len(names) and row != place and cell != "."
            style = "dim" if not row or row > len(names) else "bold yellow" if is_move else ""
            text.append(padded + "  ", style)
        text.rstrip()
        out.print(text)
