"""kivvet list"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import JSON_VERSION, Command, book_option, json_option, opened_book, print_json


@click.command("list", cls=Command, short_help="List what is in the book, and what uses what.")
@click.option("--uses", "uses", metavar="NAME", help="How a column, a table or a formula is used, both ways.")
@book_option
@json_option
def command(uses: str | None, book_folder: Path | None, as_json: bool) -> None:
    """List the tables of the book with their shape, rows, findings and users; its formulas, datasets and
    summaries.

    With --uses: in each dataset what makes a column, which columns it rests on, what reads it, and which
    columns it leads to.

    \b
    Examples:
      kivvet list
      kivvet list --uses oxygen_status
    """
    from kivvet.show.overview import print_overview, print_uses
    from kivvet.show.terminal import console

    book = opened_book(book_folder)
    if uses is None:
        found = book.overview()
        if as_json:
            print_json(found.as_dict())
        else:
            print_overview(console(), found)
        return
    used = book.uses(uses)
    if as_json:
        print_json({"version": JSON_VERSION, "name": uses, "uses": [one.as_dict() for one in used]})
    else:
        print_uses(console(), uses, used)
