"""kivvet add"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import JSON_VERSION, Command, book_option, json_option, opened_book, print_json


@click.command(
    "add", cls=Command, short_help="Add a dataset to the book: how its file is written is recognised."
)
@click.argument("name")
@click.argument("source", metavar="FILE")
@click.option(
    "--target", metavar="FILE", help="Where its rows and new columns are written (out/NAME.parquet)."
)
@click.option(
    "--column",
    "columns",
    metavar="TABLE",
    multiple=True,
    help="A table or formula to apply; may be given again.",
)
@book_option
@json_option
def command(
    name: str,
    source: str,
    target: str | None,
    columns: tuple[str, ...],
    book_folder: Path | None,
    as_json: bool,
) -> None:
    """Write the entry of dataset NAME at the end of book.toml, which otherwise stays as it is: where FILE is, and how
    it is written: delimiter, encoding, decimal mark, patterns of dates, units, words for true and false.

    \b
    Examples:
      kivvet add april data/april.csv
      kivvet add april data/april.csv --column ph_class --target out/april.csv
    """
    from kivvet.show.added import print_added
    from kivvet.show.terminal import console

    added = opened_book(book_folder).add(name, source, target=target, columns=columns)
    if as_json:
        print_json(
            {
                "version": JSON_VERSION,
                "dataset": added.name,
                "lines": list(added.lines),
                "remarks": list(added.remarks),
            }
        )
    else:
        print_added(console(), added)
