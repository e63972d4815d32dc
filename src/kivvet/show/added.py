"""A dataset that was added to a book, on a terminal."""

from __future__ import annotations

from rich.console import Console
from rich.text import Text

from kivvet.books.asks.add_dataset import Added
from kivvet.core.words.wording import shell_word
from kivvet.show.terminal import print_columns, print_hint


def print_added(out: Console, added: Added) -> None:
    """Print the entry as it stands in book.toml, what is left open, and what to do next."""
    out.print(Text().append("book.toml", "bold").append(f"  dataset {added.name} added"))
    out.print()
    for line in added.lines:
        out.print(Text(f"  {line}", "cyan"))
    if added.remarks:
        out.print()
    for remark in added.remarks:
        print_columns(out, [("", "", 2), ("note", "yellow", 6)], remark)
    out.print()
    print_hint(out, f"to see it as it is read: kivvet look {shell_word(added.name)}", "dim")
