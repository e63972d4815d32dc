"""kivvet add"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import JSON_VERSION, Form, forms


@click.command(
    "add", cls=Command, short_help="Add a dataset to the book: how its file is written is recognised."
)
@click.argument("name")
@click.argument("source", metavar="SOURCE")
@option("--to", "Where its rows and new columns are written, a file or DATABASE:TABLE (out/NAME.parquet).")
@option("--view", default="")
@option("--apply", multiple=True)
@option("--read-as", default="")
@book_option
@forms("json")
def command(
    name: str,
    source: str,
    to: str | None,
    view: str,
    apply: tuple[str, ...],
    read_as: str,
    book: Path | None,
    form: Form,
) -> None:
    """Write the entry of dataset NAME at the end of book.toml, which otherwise stays as it is: where SOURCE is, a file or
    DATABASE:TABLE, and how a file is written: delimiter, encoding, decimal mark, patterns of dates, units, words for
    true and false.

    \b
    Examples:
      kivvet add april data/april.csv
      kivvet add april data/april.csv --apply ph_class --to out/april.csv
      kivvet add live data/survey.db:samples --view samples_classed --apply ph_class
    """
    from kivvet.show.added import print_added

    added = opened_book(book).add(name, source, to=to, view=view, apply=apply, read_as=read_as)
    form.tell(
        added,
        lambda out: print_added(out, added),
        values=lambda: {
            "version": JSON_VERSION,
            "dataset": added.name,
            "lines": list(added.lines),
            "remarks": list(added.remarks),
        },
    )
