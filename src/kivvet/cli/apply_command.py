"""kivvet apply"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from kivvet.cli.options import JSON_VERSION, Command, book_option, json_option, opened_book, print_json, say

if TYPE_CHECKING:
    from kivvet.book import Book


@click.command("apply", cls=Command, short_help="Write the targets of datasets, with their new columns.")
@click.argument("datasets", nargs=-1, metavar="[DATASET]...")
@click.option("--replace", is_flag=True, help="Write over a target that Kivvet did not write.")
@click.option(
    "--replace-edited",
    is_flag=True,
    help="Write over a target that something else changed since it was written.",
)
@click.option(
    "--as-of", metavar="RUN", help="Write what a past run wrote, by the rules of then: its name, or a date."
)
@click.option("--to", "to_file", metavar="FILE", help="Where: with --as-of.")
@click.option(
    "--any-source",
    is_flag=True,
    help="With --as-of: apply the rules of then, even if the source is another one today.",
)
@click.option("--note", metavar="TEXT", default="", help="What the history is to say of the run.")
@book_option
@json_option
def command(
    datasets: tuple[str, ...],
    replace: bool,
    replace_edited: bool,
    as_of: str | None,
    to_file: str | None,
    any_source: bool,
    note: str,
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
      kivvet apply samples --as-of 2026-03-31 --to out/then.csv
    """
    from kivvet.show.applied import print_apply_report
    from kivvet.show.progress import counting_rows
    from kivvet.show.terminal import console

    book = opened_book(book_folder)
    if as_of is not None or to_file is not None or any_source:
        if as_of is None or to_file is None or len(datasets) != 1:
            raise click.UsageError("--as-of RUN and --to FILE go together, with the name of one dataset")
        if replace or replace_edited or note:
            raise click.UsageError("--as-of writes a file of its own: it takes no --replace and no --note")
        _apply_as_of(book, datasets[0], as_of, to_file, any_source=any_source, as_json=as_json)
        return
    reports = []
    for name in datasets or book.names_in_order:
        with counting_rows(name) as on_rows:
            reports.append(
                book.apply_dataset(
                    name, replace=replace, replace_edited=replace_edited, note=note, on_rows=on_rows
                )
            )
        if not as_json:
            print_apply_report(console(), reports[-1])
    if as_json:
        print_json({"version": JSON_VERSION, "reports": [report.as_dict() for report in reports]})
    elif not reports:
        say("the book has no datasets; add one to book.toml: [datasets.NAME]")


def _apply_as_of(book: Book, name: str, run: str, target: str, *, any_source: bool, as_json: bool) -> None:
    from kivvet.show.history import print_done_again
    from kivvet.show.progress import counting_rows
    from kivvet.show.terminal import console

    with counting_rows(name) as on_rows:
        done = book.apply_as_of(name, run, target, any_source=any_source, on_rows=on_rows)
    if as_json:
        print_json(done.as_dict())
    else:
        print_done_again(console(), done)
