"""kivvet pin"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import Form, forms


@click.command("pin", cls=Command, short_help="Hold used books at a content; see and take what changed.")
@click.argument("books", nargs=-1, metavar="[BOOK]...")
@option("--take")
@book_option
@forms("json")
def command(books: tuple[str, ...], take: bool, book: Path | None, form: Form) -> None:
    """Pin the books under [uses]: from then on this book goes by their tables as they are now, whatever happens to them. Of
    one that changed since, tell what taking it would move in the data here; nothing is taken without --take.

    The pins stand in pins.json, with the rules themselves: commit it with the book.

    \b
    Examples:
      kivvet pin                   pin what is not, and see what changed
      kivvet pin common --take     go by what common is today
    """
    from kivvet.show.pins import print_pins
    from kivvet.show.progress import counting_rows

    opened = opened_book(book)
    with counting_rows("comparing") as on_rows:
        pins = opened.pin(books, take=take, on_rows=on_rows)
    form.tell(pins, lambda out: print_pins(out, pins))
    sys.exit(1 if any(book.problem for book in pins.books) else 0)
