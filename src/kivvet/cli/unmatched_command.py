"""kivvet unmatched"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import JSON_VERSION, Form, forms


@click.command(
    "unmatched", cls=Command, short_help="List the values of the data that no row of a table holds."
)
@click.argument("datasets", nargs=-1, metavar="[DATASET]...")
@option("--engine", "Let Spark count, file by file.", type=click.Choice(["spark"]))
@book_option
@forms("json", "csv", "markdown")
def command(datasets: tuple[str, ...], engine: str | None, book: Path | None, form: Form) -> None:
    """List what found nothing, across all lookups, mappings and rules of the datasets, or of those named:
    each value with its number of rows and the first of them, the most frequent first.

    \b
    Examples:
      kivvet unmatched
      kivvet unmatched samples --csv > to-do.csv
    """
    from kivvet.show.progress import counting_rows
    from kivvet.show.unmatched import print_unmatched

    opened = opened_book(book)
    with counting_rows("reading") as on_rows:
        found = opened.unmatched(datasets or None, engine=engine, on_rows=on_rows)
    form.tell(
        found,
        lambda out: print_unmatched(out, found),
        values=lambda: {"version": JSON_VERSION, "unmatched": [one.as_dict() for one in found]},
        lines=lambda: [one.as_dict() for one in found],
    )
