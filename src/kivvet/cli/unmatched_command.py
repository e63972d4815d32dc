"""kivvet unmatched"""

from __future__ import annotations

import csv
import sys
from pathlib import Path

import click

from kivvet.cli.options import JSON_VERSION, Command, book_option, json_option, opened_book, print_json


@click.command(
    "unmatched", cls=Command, short_help="List the values of the data that no row of a table holds."
)
@click.argument("datasets", nargs=-1, metavar="[DATASET]...")
@book_option
@click.option("--csv", "as_csv", is_flag=True, help="Print CSV.")
@json_option
def command(datasets: tuple[str, ...], book_folder: Path | None, as_csv: bool, as_json: bool) -> None:
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
        writer = csv.writer(sys.stdout, lineterminator="\n")
        writer.writerow(["dataset", "table", "columns", "value", "rows", "first_row", "is_unfinished"])
        writer.writerows(
            [*list(one.as_dict().values())[:-1], "true" if one.is_unfinished else "false"] for one in found
        )
    else:
        print_unmatched(console(), found)
