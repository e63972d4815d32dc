"""kivvet unmatched"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import (
    JSON_VERSION,
    Command,
    book_option,
    csv_options,
    json_option,
    opened_book,
    print_csv,
    print_json,
)


@click.command(
    "unmatched", cls=Command, short_help="List the values of the data that no row of a table holds."
)
@click.argument("datasets", nargs=-1, metavar="[DATASET]...")
@book_option
@csv_options
@json_option
def command(
    datasets: tuple[str, ...], book_folder: Path | None, as_csv: bool, csv_safe: bool, as_json: bool
) -> None:
    """List what found nothing, across all lookups, mappings and rules of the datasets, or of those named:
    each value with its number of rows and the first of them, the most frequent first.

    \b
    Examples:
      kivvet unmatched
      kivvet unmatched samples --csv > to-do.csv
    """
    from kivvet.show.progress import counting_rows
    from kivvet.show.terminal import console
    from kivvet.show.unmatched import print_unmatched

    if as_csv and as_json:
        raise click.UsageError("either --csv or --json")
    book = opened_book(book_folder)
    with counting_rows("reading") as on_rows:
        found = book.unmatched(datasets or None, on_rows=on_rows)
    if as_json:
        rows = [one.as_dict() for one in found]
        print_json({"version": JSON_VERSION, "unmatched": rows})
    elif as_csv:
        heads = [
            "dataset",
            "table",
            "columns",
            "value",
            "rows",
            "first_row",
            "is_unfinished",
            "is_all_others",
        ]
        print_csv(heads, [list(one.as_dict().values()) for one in found], safe=csv_safe)
    else:
        print_unmatched(console(), found)
