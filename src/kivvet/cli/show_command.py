"""kivvet show"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from kivvet.cli.options import Command, book_option, nearby_book, option
from kivvet.cli.telling import Form, forms


@click.command("show", cls=Command, short_help="Show rows of data with their classes.")
@click.argument("source")
@option("--where", "Only rows of which this is true, as formulas write it.")
@option("--only", multiple=True)
@option("--columns")
@option("--sort", multiple=True)
@option(
    "--first",
    "At most so many rows; with --each, of each class.",
    type=click.IntRange(1),
    default=20,
    show_default=True,
)
@option("--each")
@option("--why")
@option("--read-as", default="")
@book_option
@forms("json", "csv", "markdown")
def command(
    source: str, columns: str | None, each: str | None, book: Path | None, form: Form, **wanted: Any
) -> None:
    """Show rows of SOURCE, a dataset of the book with all that it makes, or a file.

    Conditions and columns may name anything that the source holds or the dataset makes, written or not.
    Rows have their number in the source, from 1: `kivvet explain` takes it. The rows are those that the
    dataset keeps.

    \b
    Examples:
      kivvet show samples --where "quality = 'poor' AND ph < 6"
      kivvet show samples --each quality --first 3 --why
      kivvet show samples --only sample_id=S00812
      kivvet show samples --sort "load DESC" --columns sample_id,load,river
    """
    from kivvet.book import rows_of
    from kivvet.show.progress import counting_rows
    from kivvet.show.rows import print_rows

    chosen = () if columns is None else _parts(columns)
    with counting_rows("reading") as on_rows:
        found = rows_of(nearby_book(book), source, columns=chosen, each=each, on_rows=on_rows, **wanted)
    names = found.table.column_names
    form.tell(
        found,
        lambda out: print_rows(out, found, each=each, is_chosen=bool(chosen)),
        lines=lambda: [{name: row.get(name) for name in names} for row in found.as_dict()["rows"]],
    )


def _parts(text: str) -> tuple[str, ...]:
    """Return the columns of a list; commas within brackets and quotes part nothing."""
    parts, depth, quote, begun = [], 0, "", 0
    for place, sign in enumerate(text):
        if quote:
            quote = "" if sign == quote else quote
        elif sign in "'\"":
            quote = sign
        elif sign in "()":
            depth += 1 if sign == "(" else -1
        elif sign == "," and not depth:
            parts.append(text[begun:place])
            begun = place + 1
    parts.append(text[begun:])
    return tuple(part.strip() for part in parts if part.strip())
