"""kivvet shares"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, json_option, opened_book, print_json, read_as_option


@click.command("shares", cls=Command, short_help="Hold later data against the bounds of a table.")
@click.argument("table")
@click.option("--on", "on", required=True, metavar="SOURCE", help="A file, or a dataset of the book.")
@click.option(
    "--beside",
    metavar="SOURCE",
    help="Other data to hold it against; without it, the data that the table was drafted from.",
)
@click.option(
    "--column", metavar="COLUMN", help="The column to read, where that is not the one the table is fed."
)
@read_as_option
@book_option
@json_option
def command(
    table: str,
    on: str,
    beside: str | None,
    column: str | None,
    read_as: str,
    book_folder: Path | None,
    as_json: bool,
) -> None:
    """Say how many rows of data fall into each row of TABLE, and how many did when its bounds were drawn.

    Bounds that were drafted from data stay as they are, so that a class means the same next month. This
    says whether they still fit: the share of each row then and now, what no row holds, and what lies
    beyond all that was seen then.

    \b
    Examples:
      kivvet shares load_tenth --on data/2026-12.csv
      kivvet shares ph_class --on samples --beside data/last-year.csv
    """
    from kivvet.show.progress import counting_rows
    from kivvet.show.shares import print_shares
    from kivvet.show.terminal import console

    book = opened_book(book_folder)
    with counting_rows("reading") as on_rows:
        found = book.shares(table, on, beside=beside, column=column, read_as=read_as, on_rows=on_rows)
    if as_json:
        print_json(found.as_dict())
    else:
        print_shares(console(), found)
