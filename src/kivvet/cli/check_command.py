"""kivvet check"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, budget_option, opened_book, option, say
from kivvet.cli.telling import JSON_VERSION, Form, forms


@click.command("check", cls=Command, short_help="Prove tables complete, and hold them against the data.")
@click.argument("tables", nargs=-1, metavar="[TABLE]...")
@option("--no-data", "Check the tables alone; read no data.")
@option("--propose-promises")
@option(
    "--engine",
    "Tell too what could not be the same there: in a view of a database, or in the parts that Spark works on.",
    type=click.Choice(["sqlite", "duckdb", "postgresql", "spark"]),
)
@budget_option
@option("--in-full")
@option("--fail-if", "End with 1 where there are warnings too.", type=click.Choice(["warnings"]))
@book_option
@forms("json", "csv", "markdown", "sarif", "junit")
def command(
    tables: tuple[str, ...],
    no_data: bool,
    propose_promises: bool,
    engine: str | None,
    budget: int | None,
    in_full: bool,
    fail_if: str | None,
    book: Path | None,
    form: Form,
) -> None:
    """Check every table and formula of the book, or just those named.

    Each gap, overlap, row that can never win and condition that nothing meets is found exactly, with a
    value to try and a row to add. Then the data of the book's datasets is read: values that no row
    lists, values outside the domain, decimals finer than the step.

    Ends with 1 if there are errors, and with --fail-if warnings if there are warnings.

    \b
    Examples:
      kivvet check                       the whole book, with its data
      kivvet check ph_class --no-data    one table, by itself
      kivvet check --json > report.json
      kivvet check --fail-if warnings    for a build
      kivvet check quality --propose-promises
      kivvet check --format sarif > findings.sarif
    """
    from kivvet.show.findings import print_report
    from kivvet.show.progress import counting_rows
    from kivvet.show.promises import promises_text

    opened = opened_book(book)
    if propose_promises:
        if (
            no_data
            or in_full
            or engine is not None
            or fail_if is not None
            or not (form.is_text or form.name == "json")
        ):
            raise click.UsageError(
                "--propose-promises checks nothing: it takes names of tables, --budget and --json"
            )
        proposed = opened.propose_promises(tables or None, budget=budget)
        form.tell(
            proposed,
            lambda _: say(promises_text(proposed)),
            values=lambda: {
                "version": JSON_VERSION,
                "promises": {name: list(made) for name, made in proposed.items()},
            },
        )
        return
    with counting_rows("reading") as on_rows:
        report = opened.check(tables or None, data=not no_data, budget=budget, engine=engine, on_rows=on_rows)
    if form.name == "sarif" or form.name == "junit":  # noqa: PLR1714 (so that its type is known)
        click.echo(opened.report_as(report, form.name))
    else:
        form.tell(
            report,
            lambda out: print_report(out, report, in_full=in_full),
            lines=lambda: [finding.as_dict() for finding in report.findings],
        )
    is_failing = report.has_errors or (fail_if is not None and bool(report.of_severity("warning")))
    sys.exit(1 if is_failing else 0)
