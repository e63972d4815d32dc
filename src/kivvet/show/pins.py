"""The books that a book uses, on a terminal: what is pinned, what changed upstream, and what taking it would move."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from kivvet.books.asks.pin_books import PinnedBook, Pins
from kivvet.core.words.wording import listed, shell_word
from kivvet.show.impact import print_impact
from kivvet.show.terminal import print_columns, print_hint

_STYLES = {"not pinned": "yellow", "as pinned": "green", "changed": "yellow", "not there": "red"}


def print_pins(out: Console, pins: Pins) -> None:
    """Print each used book."""
    if not pins.books:
        out.print('the book uses no other; name one in book.toml: [uses]  common = "../common-rules"')
    for book in pins.books:
        _print_book(out, book)


def _print_book(out: Console, one: PinnedBook) -> None:
    head = Text().append(one.name, "bold").append(f"  {one.path}", "cyan")
    said = "pinned now" if one.taken else one.state
    head.append(f"  {said}", "green" if one.taken else _STYLES[one.state])
    if one.hash:
        head.append(f"  {one.hash[:12]}", "dim")
    if one.on and not one.taken:
        head.append(f"  since {one.on}" + (f" by {one.by}" if one.by else ""), "dim")
    out.print(head)
    if one.problem:
        print_columns(out, [("", "", 2)], one.problem, "red")
    for word, names in (("new", one.came), ("gone", one.gone)):
        if names:
            print_columns(out, [("", "", 2), (word, "yellow", 6)], listed(names))
    if one.impact is not None:
        print_impact(out, one.impact)
    if one.state == "changed" and not one.taken and not one.problem:
        print_hint(out, f"to take it: kivvet pin {shell_word(one.name)} --take")
