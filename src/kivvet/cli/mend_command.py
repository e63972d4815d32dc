"""kivvet mend"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import Form, forms


@click.command(
    "mend", cls=Command, short_help="Offer the fewest changes that make examples and promises hold."
)
@click.argument("table", metavar="TABLE")
@option("--write")
@option("--offer", type=int, default=1, metavar="N")
@book_option
@forms("json")
def command(table: str, write: bool, offer: int, book: Path | None, form: Form) -> None:
    """Say which examples and promises of a table do not hold, and the fewest bounds, values and results whose change makes
    all of them hold, each with the rows of data it would move. What is offered was tried: no example or promise fails after
    it, and no fault is found that was not there before. Nothing is changed unless asked.

    \b
    Examples:
      kivvet mend quality                      what would mend it
      kivvet mend quality --write              change it so
      kivvet mend quality --write --offer 2    in the second way
    """
    from kivvet.show.mended import print_mends

    made = opened_book(book).mend(table, write=write, offer=offer)
    form.tell(made, lambda out: print_mends(out, made))
