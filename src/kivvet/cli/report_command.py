"""kivvet report"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import Form, forms


@click.command("report", cls=Command, short_help="Write all there is to say of a book as one page of HTML.")
@click.argument("datasets", nargs=-1)
@option(
    "--to", type=click.Path(path_type=Path), default=Path("report.html"), show_default=True, metavar="FILE"
)
@option("--no-data", "Read no data: rules and history alone.")
@option("--replace", "Write over a file that is no report of Kivvet.")
@book_option
@forms("json")
def command(
    datasets: tuple[str, ...], to: Path, no_data: bool, replace: bool, book: Path | None, form: Form
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

    opened = opened_book(book)
    with counting_rows("reading") as on_rows:
        made = opened.report(datasets, data=not no_data, on_rows=on_rows)
    path = made.save(to, replace=replace)
    form.tell(
        made,
        lambda out: print_report_written(out, made, path),
        values=lambda: {**made.as_dict(), "file": str(path)},
    )
