"""kivvet pin"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, json_option, opened_book, print_json


@click.command("pin", cls=Command, short_help="Hold used books at a content; see and take what changed.")
@click.argument("books", nargs=-1, metavar="[BOOK]...")
@click.option("--take", is_flag=True, help="Go by what is there today from now on.")
@book_option
@json_option
def command(books: tuple[str, ...], take: bool, book_folder: Path | None, as_json: bool) -> None:
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
    from kivvet.show.terminal import console

    book = opened_book(book_folder)
    with counting_rows("comparing") as on_rows:
        pins = book.pin(books, take=take, on_rows=on_rows)
    if as_json:
        print_json(pins.as_dict())
    else:
        print_pins(console(), pins)
    sys.exit(1 if any(one.problem for one in pins.books) else 0)
