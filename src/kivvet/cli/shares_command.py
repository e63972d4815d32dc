"""kivvet shares"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import Form, forms


@click.command("shares", cls=Command, short_help="Hold later data against the bounds of a table.")
@click.argument("table")
@option("--on", required=True)
@option(
    "--against",
    "Other data to hold it against, a dataset or a file; without it, the data that the table was drafted from.",
    metavar="SOURCE",
)
@option("--column", "The column to read, where that is not the one the table is fed.")
@option("--read-as", default="")
@book_option
@forms("json", "csv", "markdown")
def command(
    table: str,
    on: str,
    against: str | None,
    column: str | None,
    read_as: str,
    book: Path | None,
    form: Form,
) -> None:
    """Say how many rows of data fall into each row of TABLE, and how many did when its bounds were drawn.

    Bounds that were drafted from data stay as they are, so that a class means the same next month. This
    says whether they still fit: the share of each row then and now, what no row holds, and what lies
    beyond all that was seen then.

    \b
    Examples:
      kivvet shares load_tenth --on data/2026-12.csv
      kivvet shares ph_class --on samples --against data/last-year.csv
    """
    from kivvet.show.progress import counting_rows
    from kivvet.show.shares import print_shares

    opened = opened_book(book)
    with counting_rows("reading") as on_rows:
        found = opened.shares(table, on, against=against, column=column, read_as=read_as, on_rows=on_rows)
    form.tell(found, lambda out: print_shares(out, found), lines=lambda: found.as_dict()["rows"])
