"""kivvet look"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from kivvet.cli.options import Command, book_option, nearby_book, option
from kivvet.cli.telling import Form, forms

_MOST_VALUES_IN_CSV = 10

if TYPE_CHECKING:
    from rich.console import Console


@click.command("look", cls=Command, short_help="See what is in data: types, values, ranges, surprises.")
@click.argument("source", metavar="SOURCE")
@click.argument("columns", nargs=-1, metavar="[COLUMN]...")
@option("--all", "List all distinct values, not just the most frequent.")
@option("--read-as", default="")
@book_option
@forms("json", "csv", "markdown")
def command(
    source: str,
    columns: tuple[str, ...],
    all: bool,  # noqa: A002 (the word of the command line)
    read_as: str,
    book: Path | None,
    form: Form,
) -> None:
    """Look at SOURCE, a file, a dataset of the book or DATABASE:TABLE: for each column its type as Kivvet reads it, what
    is missing, the distinct values, the range, how fine the numbers are, and what deserves another look.

    Named columns are shown in full, with the tables of the book that read or make them.

    \b
    Examples:
      kivvet look data/samples.csv
      kivvet look samples ph method      two columns of a dataset, in full
      kivvet look data/survey.db:samples a table of a database
      kivvet look samples method --all   with every distinct value
      kivvet look april.csv --read-as 'delimiter = ";", types = { day = { type = "date", pattern = "%d.%m.%Y" } }'
    """
    from kivvet.book import look_at
    from kivvet.show.look import print_column, print_look
    from kivvet.show.progress import counting_rows

    opened = nearby_book(book)
    with counting_rows("looking") as on_rows:
        made = look_at(opened, source, columns, read_as=read_as, on_rows=on_rows)

    def text(out: Console) -> None:
        if not columns:
            print_look(out, made, str(source))
            return
        for number, column in enumerate(made.columns):
            if number:
                out.print()
            uses = opened.uses_of_column(column.name) if opened is not None else ()
            print_column(out, column, uses, all_values=all)

    form.tell(made, text, lines=lambda: made.as_dict(_MOST_VALUES_IN_CSV)["columns"])
