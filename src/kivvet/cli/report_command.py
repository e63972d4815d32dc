"""kivvet report"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, json_option, opened_book, print_json


@click.command("report", cls=Command, short_help="Write all there is to say of a book as one page of HTML.")
@click.argument("datasets", nargs=-1)
@click.option(
    "--to",
    "to",
    metavar="FILE",
    type=click.Path(path_type=Path),
    default=Path("report.html"),
    show_default=True,
    help="Where it is written.",
)
@click.option("--no-data", is_flag=True, help="Read no data: rules and history alone.")
@click.option("--replace", is_flag=True, help="Write over a file that is no report of Kivvet.")
@book_option
@json_option
def command(
    datasets: tuple[str, ...], to: Path, no_data: bool, replace: bool, book_folder: Path | None, as_json: bool
) -> None:
    """Write a page for those who will never run a command: each table as people read it, with its findings, examples,
    counts and a chart; each dataset with its state, its history and a diagram of how its columns depend on each other.

    The page is one file. It needs no network, reads well on paper and without scripts, and finds tables, classes and values.
    Without DATASETS it is about the whole book.

    \b
    Examples:
      kivvet report
      kivvet report samples --to out/samples.html
    """
    from kivvet.show.chart import print_report_written
    from kivvet.show.progress import counting_rows
    from kivvet.show.terminal import console

    book = opened_book(book_folder)
    with counting_rows("reading") as on_rows:
        made = book.report(datasets, data=not no_data, on_rows=on_rows)
    path = made.save(to, replace=replace)
    if as_json:
        print_json({**made.as_dict(), "file": str(path)})
    else:
        print_report_written(console(), made, path)
