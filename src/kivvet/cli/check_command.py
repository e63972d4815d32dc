"""kivvet check"""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Literal

import click

from kivvet.cli.options import Command, book_option, json_option, opened_book, say


@click.command("check", cls=Command, short_help="Prove tables complete, and hold them against the data.")
@click.argument("tables", nargs=-1, metavar="[TABLE]...")
@book_option
@click.option("--no-data", is_flag=True, help="Check the tables alone; read no data.")
@click.option(
    "--budget",
    type=click.IntRange(min=0),
    metavar="STEPS",
    help="Steps that each question over several inputs may take (200000).",
)
@click.option("--notes", is_flag=True, help="Show the notes in full, not just where there are some.")
@click.option(
    "--format",
    "form",
    type=click.Choice(["text", "json", "sarif", "junit", "markdown"]),
    help="How to print it: text; JSON; SARIF, which review tools show in place; the XML of test results for CI; Markdown, for a "
    "comment.",
)
@json_option
def command(
    tables: tuple[str, ...],
    book_folder: Path | None,
    no_data: bool,
    budget: int | None,
    notes: bool,
    form: Literal["text", "json", "sarif", "junit", "markdown"] | None,
    as_json: bool,
) -> None:
    """Check every table and formula of the book, or just those named.

    Each gap, overlap, row that can never win and condition that nothing meets is found exactly, with a
    value to try and a row to add. Then the data of the book's datasets is read: values that no row
    lists, values outside the domain, decimals finer than the step.

    Ends with 1 if there are errors; warnings and notes are no errors.

    \b
    Examples:
      kivvet check                       the whole book, with its data
      kivvet check ph_class --no-data    one table, by itself
      kivvet check --json > report.json
      kivvet check --format sarif > findings.sarif
    """
    from kivvet.show.findings import print_report
    from kivvet.show.progress import counting_rows
    from kivvet.show.terminal import console

    if as_json and form not in (None, "json"):
        raise click.UsageError("--json and --format are two ways: give one of them")
    book = opened_book(book_folder)
    with counting_rows("reading") as on_rows:
        report = book.check(tables or None, data=not no_data, budget=budget, on_rows=on_rows)
    if form == "sarif" or form == "junit" or form == "markdown":  # noqa: PLR1714 (so that its type is known)
        said = book.report_as(report, form)
        if form == "markdown":
            say(said, nl=False)
        else:
            click.echo(said)
    elif as_json or form == "json":
        click.echo(report.to_json())
    else:
        print_report(console(), report, with_notes=notes)
    sys.exit(1 if report.has_errors else 0)
