"""How data falls into the rows of a table, then and now, on a terminal."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from kivvet.core.run.shares import Shares
from kivvet.core.words.wording import count
from kivvet.show.terminal import percent, print_columns

_MOST_ROWS = 40
_LONGEST = 36
_TOLD_FROM = 0.005  # a share that moved by less is not marked


def print_shares(out: Console, found: Shares) -> None:
    """Print a line for each row of a table, with rows and shares of both, and what lies outside."""
    now, then = found.now, found.then
    out.print(
        Text()
        .append(found.table, "bold")
        .append(f"  {now.source}", "cyan")
        .append(f"  {count(now.valued, 'value')}")
    )
    if then is not None:
        said = f"{then.source}, {count(then.valued, 'value')}"
        said = f"what it was drafted from: {said} on {then.on}" if then.on else said
        print_columns(out, [("", "", 2), ("beside", "dim", 8)], said)
    else:
        print_columns(out, [("", "", 2), ("alone", "yellow", 8)], found.why)
    out.print()
    lines = [_line(found, row) for row in range(len(found.conditions))]
    lines.append(
        [
            "missing",
            "",
            *(["", ""] if then is None else [f"{then.missing:,}", ""]),
            f"{now.missing:,}",
            "",
            "",
        ]
    )
    if now.unmatched or (then is not None and then.unmatched):
        before = ["", ""] if then is None else [f"{then.unmatched:,}", percent(then.unmatched, then.valued)]
        lines.append(["in no row", "", *before, f"{now.unmatched:,}", percent(now.unmatched, now.valued), ""])
    heads = ["", "", "then", "", "now", "", "points"]
    shown = [place for place in range(7) if any(line[place] for line in lines)]
    few = lines if len(lines) <= _MOST_ROWS else lines[: _MOST_ROWS - 1]
    widths = [max(len(line[place]) for line in (heads, *few)) for place in range(7)]
    for number, line in enumerate([heads, *few]):
        text = Text("  ")
        for place in shown:
            cell = line[place].ljust(widths[place]) if place < 2 else line[place].rjust(widths[place])
            style = "dim" if not number else "bold" if place == 1 else "yellow" if place == 6 else ""
            text.append(cell + "  ", style)
        text.rstrip()
        out.print(text)
    if len(lines) > len(few):
        out.print(Text(f"  ... and {len(lines) - len(few)} more; --json lists all", "dim"))
    out.print()
    _print_outside(out, found)


def _line(found: Shares, row: int) -> list[str]:
    now, then = found.now, found.then
    cells = [_cut(found.conditions[row]), _cut(found.results[row])]
    cells += ["", ""] if then is None else [f"{then.counts[row]:,}", percent(then.counts[row], then.valued)]
    cells += [f"{now.counts[row]:,}", percent(now.counts[row], now.valued)]
    gap = 0.0 if then is None else found.share(now, row) - found.share(then, row)
    return [*cells, f"{100 * gap:+.1f}" if then is not None and abs(gap) >= _TOLD_FROM / 10 else ""]


def _print_outside(out: Console, found: Shares) -> None:
    for word, said in found.told:
        style = "green" if word == "moved" and found.moved < _TOLD_FROM else "yellow"
        print_columns(out, [("", "", 2), (word, style, 11)], said)


def _cut(text: str) -> str:
    return text if len(text) <= _LONGEST else text[: _LONGEST - 3] + "..."
