"""kivvet apply"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import JSON_VERSION, Command, book_option, json_option, opened_book, print_json


@click.command("apply", cls=Command, short_help="Write the targets of datasets, with their new columns.")
@click.argument("datasets", nargs=-1, metavar="[DATASET]...")
@click.option("--replace", is_flag=True, help="Write over a target that Kivvet did not write.")
@click.option(
    "--replace-edited",
    is_flag=True,
    help="Write over a target that something else changed since it was written.",
)
@book_option
@json_option
def command(
    datasets: tuple[str, ...],
    replace: bool,
    replace_edited: bool,
    book_folder: Path | None,
    as_json: bool,
) -> None:
    """Read the source of each dataset, add the columns that the book asks for, write the target.

    All rows are kept, in order, and every row is accounted for: matched + missing + unmatched = rows.
    Errors in the tables stop it before anything is written, and a target is replaced as a whole or not
    at all.

    \b
    Examples:
      kivvet apply                 every dataset of the book
      kivvet apply samples         one of them
    """
    from kivvet.show.applied import print_apply_report
    from kivvet.show.terminal import console, counting_rows

    book = opened_book(book_folder)
    reports = []
    for name in datasets or book.names_in_order:
        with counting_rows(name) as on_rows:
            reports.append(
                book.apply_dataset(name, replace=replace, replace_edited=replace_edited, on_rows=on_rows)
            )
        if not as_json:
            print_apply_report(console(), reports[-1])
    if as_json:
        print_json({"version": JSON_VERSION, "reports": [report.as_dict() for report in reports]})
    elif not reports:
        click.echo("the book has no datasets; add one to book.toml: [datasets.NAME]")
