"""kivvet look"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, json_option, nearby_book, read_as_option


@click.command("look", cls=Command, short_help="See what is in data: types, values, ranges, surprises.")
@click.argument("source", metavar="SOURCE")
@click.argument("columns", nargs=-1, metavar="[COLUMN]...")
@book_option
@click.option(
    "--all", "all_values", is_flag=True, help="List all distinct values, not just the most frequent."
)
@read_as_option
@json_option
def command(
    source: str,
    columns: tuple[str, ...],
    book_folder: Path | None,
    all_values: bool,
    read_as: str,
    as_json: bool,
) -> None:
    """Look at SOURCE, a file or a dataset of the book: for each column its type as Kivvet reads it, what
    is missing, the distinct values, the range, how fine the numbers are, and what deserves another look.

    Named columns are shown in full, with the tables of the book that read or make them.

    \b
    Examples:
      kivvet look data/samples.csv
      kivvet look samples ph method      two columns of a dataset, in full
      kivvet look samples method --all   with every distinct value
      kivvet look april.csv --read-as 'delimiter = ";", types = { day = { type = "date", pattern = "%d.%m.%Y" } }'
    """
    from kivvet.book import look_at
    from kivvet.show.look import print_column, print_look
    from kivvet.show.progress import counting_rows
    from kivvet.show.terminal import console

    book = nearby_book(book_folder)
    with counting_rows("looking") as on_rows:
        made = look_at(book, source, columns, read_as=read_as, on_rows=on_rows)
    if as_json:
        click.echo(made.to_json())
        return
    out = console()
    if not columns:
        print_look(out, made, str(source))
        return
    for number, one in enumerate(made.columns):
        if number:
            out.print()
        uses = book.uses_of_column(one.name) if book is not None else ()
        print_column(out, one, uses, all_values=all_values)
