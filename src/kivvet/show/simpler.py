"""A smaller table of the same meaning, on a terminal: what was joined and dropped, and what changes in its file."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from kivvet.core.words.wording import count, listed, shell_word
from kivvet.show.terminal import print_columns, print_hint

if TYPE_CHECKING:
    from kivvet.books.asks.simplify_table import Simpler

_MOST_JOINED = 20
_STYLES = {"+": "green", "-": "red", "@": "cyan"}


def print_simpler(out: Console, made: Simpler) -> None:
    """Print how a table was made smaller, and the difference in its file."""
    if not made.difference:
        out.print(
            Text(made.name, "bold").append(
                f": {count(made.before.n_rows, 'row')}, nothing to simplify", "green"
            )
        )
        return
    said = f": {made.before.n_rows:,} rows -> {made.after.n_rows:,}; the same meaning, which is proved"
    out.print(Text(made.name, "bold").append(said, "bold green"))
    for row, took in made.joined[:_MOST_JOINED]:
        text = f"row {row} takes in {'row' if len(took) == 1 else 'rows'} {listed(took)}"
        print_columns(out, [("", "", 2), ("joined", "cyan", 9)], text)
    if len(made.joined) > _MOST_JOINED:
        out.print(Text(f"  ... and {len(made.joined) - _MOST_JOINED} more", "dim"))
    if made.dropped:
        text = f"{'row' if len(made.dropped) == 1 else 'rows'} {listed(made.dropped)}, which never decided"
        print_columns(out, [("", "", 2), ("dropped", "cyan", 9)], text)
    out.print()
    for line in made.difference.split("\n"):
        out.print(Text(line, _STYLES.get(line[:1], "")))
    out.print()
    if made.is_written:
        out.print(Text("written", "green"))
    else:
        print_hint(out, f"to write it: kivvet simplify {shell_word(made.name)} --write")
