"""The offers to mend a table, on a terminal: what does not hold, what would change, what it would move."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.console import Console
from rich.text import Text

from kivvet.core.words.wording import count, shell_word
from kivvet.show.terminal import print_columns, print_hint

if TYPE_CHECKING:
    from kivvet.books.asks.mend_table import MendOffer, Mends

_MOST_WRONG = 12
_WORD = 9


def print_mends(out: Console, made: Mends) -> None:
    """Print what does not hold of a table, and the offers."""
    if not made.wrong:
        out.print(Text(made.name, "bold").append(": all examples and promises hold", "green"))
        return
    n = count(len(made.wrong), "example or promise does", "examples and promises do")
    out.print(Text(made.name, "bold").append(f": {n} not hold", "bold red"))
    for text in made.wrong[:_MOST_WRONG]:
        print_columns(out, [("", "", 2), ("wrong", "red", _WORD)], text)
    if len(made.wrong) > _MOST_WRONG:
        out.print(Text(f"  ... and {len(made.wrong) - _MOST_WRONG} more", "dim"))
    if not made.offers:
        out.print()
        out.print("no change of up to three bounds, values or results mends it")
        return
    for number, offer in enumerate(made.offers, 1):
        out.print()
        _print_offer(out, number, offer, is_written=made.written == number)
    out.print()
    if made.written is not None:
        out.print(Text(f"offer {made.written} written", "green"))
    else:
        more = " --offer N" if len(made.offers) > 1 else ""
        print_hint(out, f"to write one: kivvet mend {shell_word(made.name)} --write{more}")


def _print_offer(out: Console, number: int, offer: MendOffer, *, is_written: bool) -> None:
    out.print(
        Text(f"{number}  ", "bold").append("; ".join(offer.steps), "bold green" if is_written else "bold")
    )
    for cell in offer.cells:
        print_columns(
            out,
            [("", "", 2), ("cell", "", _WORD)],
            f"row {cell.row} {cell.heading}: {cell.before} -> {cell.after}",
        )
    for place, text in enumerate(offer.regions):
        print_columns(out, [("", "", 2), ("" if place else "then", "cyan", _WORD)], text)
    moved = [
        f"{name}: cannot be told yet" if n is None else f"{name}: {count(n, 'row')}"
        for name, n in offer.moved.items()
    ]
    if moved:
        print_columns(out, [("", "", 2), ("moves", "yellow", _WORD)], ", ".join(moved))
