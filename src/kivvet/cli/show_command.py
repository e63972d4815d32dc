"""kivvet show"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import (
    Command,
    book_option,
    csv_options,
    json_option,
    nearby_book,
    print_csv,
    print_json,
    read_as_option,
)


@click.command("show", cls=Command, short_help="Show rows of data with their classes.")
@click.argument("source")
@click.option("--where", metavar="CONDITION", help="Only rows of which this is true, as formulas write it.")
@click.option(
    "--key",
    "keys",
    metavar="COLUMN=VALUE",
    multiple=True,
    help="Only rows with this value; may be given again.",
)
@click.option("--columns", metavar="A,B,...", help="These columns, or formulas; without it all.")
@click.option(
    "--sort",
    "sort",
    metavar="EXPR [DESC]",
    multiple=True,
    help="In this order; may be given again. Missing values stand last.",
)
@click.option(
    "--first",
    type=click.IntRange(1),
    default=20,
    show_default=True,
    help="At most so many rows; with --each, of each class.",
)
@click.option("--each", metavar="COLUMN", help="Some rows of every class of this column.")
@click.option("--why", is_flag=True, help="Tell which row of its table decided each class.")
@csv_options
@read_as_option
@book_option
@json_option
def command(
    source: str,
    where: str | None,
    keys: tuple[str, ...],
    columns: str | None,
    sort: tuple[str, ...],
    first: int,
    each: str | None,
    why: bool,
    as_csv: bool,
    csv_safe: bool,
    read_as: str,
    book_folder: Path | None,
    as_json: bool,
) -> None:
    """Show rows of SOURCE, a dataset of the book with all that it makes, or a file.

    Conditions and columns may name anything that the source holds or the dataset makes, written or not.
    Rows have their number in the source, from 1: `kivvet explain` takes it. The rows are those that the
    dataset keeps.

    \b
    Examples:
      kivvet show samples --where "quality = 'poor' AND ph < 6"
      kivvet show samples --each quality --first 3 --why
      kivvet show samples --key sample_id=S00812
      kivvet show samples --sort "load DESC" --columns sample_id,load,river
    """
    from kivvet.book import rows_of
    from kivvet.show.progress import counting_rows
    from kivvet.show.rows import print_rows
    from kivvet.show.terminal import console

    if as_csv and as_json:
        raise click.UsageError("either --csv or --json")
    book = nearby_book(book_folder)
    chosen = () if columns is None else _parts(columns)
    with counting_rows("reading") as on_rows:
        found = rows_of(
            book,
            source,
            where=where,
            keys=keys,
            columns=chosen,
            sort=sort,
            first=first,
            each=each,
            why=why,
            read_as=read_as,
            on_rows=on_rows,
        )
    if as_json:
        print_json(found.as_dict())
    elif as_csv:
        plain = [list(row.values()) for row in found.as_dict()["rows"]]
        print_csv(
            found.table.column_names, [line[: found.table.num_columns] for line in plain], safe=csv_safe
        )
    else:
        print_rows(console(), found, each=each, is_chosen=bool(chosen))


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
    return tuple(one.strip() for one in parts if one.strip())
