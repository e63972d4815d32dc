"""kivvet apply"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option, say
from kivvet.cli.telling import JSON_VERSION, Form, forms


@click.command("apply", cls=Command, short_help="Write the targets of datasets, with their new columns.")
@click.argument("datasets", nargs=-1, metavar="[DATASET]...")
@option("--replace", "Write over a target that Kivvet did not write.")
@option("--replace-edited")
@option(
    "--as-of",
    "Write what a past run wrote, by the rules of then: its name, a date, or the version of a lake that it read.",
)
@option("--to", "Where: with --as-of.")
@option("--any-source")
@option("--show-sql")
@option("--engine", "Let Spark do the work on files or a lake, part by part.", type=click.Choice(["spark"]))
@option("--note", "What the history is to say of the run.", default="")
@book_option
@forms("json", "csv", "markdown")
def command(
    datasets: tuple[str, ...],
    replace: bool,
    replace_edited: bool,
    as_of: str | None,
    to: str | None,
    any_source: bool,
    show_sql: bool,
    engine: str | None,
    note: str,
    book: Path | None,
    form: Form,
) -> None:
    """Read the source of each dataset, add the columns that the book asks for, write the target.

    All rows are kept, in order, and every row is accounted for: matched + missing + unmatched = rows.
    Errors in the tables stop it before anything is written, and a target is replaced as a whole or not
    at all.

    \b
    Examples:
      kivvet apply                 every dataset of the book
      kivvet apply samples         one of them
      kivvet apply classed --show-sql
      kivvet apply samples --engine spark
      kivvet apply samples --as-of 2026-03-31 --to out/then.csv
    """
    from kivvet import Several
    from kivvet.show.applied import print_apply_report
    from kivvet.show.history import print_done_again
    from kivvet.show.progress import counting_rows
    from kivvet.show.terminal import console

    opened = opened_book(book)
    if as_of is not None or to is not None or any_source:
        if as_of is None or to is None or len(datasets) != 1:
            raise click.UsageError("--as-of RUN and --to FILE go together, with the name of one dataset")
        if replace or replace_edited or note or engine:
            raise click.UsageError(
                "--as-of writes a file of its own: it takes no --replace, no --note and no --engine"
            )
        with counting_rows(datasets[0]) as on_rows:
            done = opened.apply_as_of(datasets[0], as_of, to, any_source=any_source, on_rows=on_rows)
        form.tell(done, lambda out: print_done_again(out, done), lines=lambda: [done.as_dict()])
        return
    if show_sql:
        if replace or replace_edited or note or engine or not form.is_text:
            raise click.UsageError(
                "--show-sql prints SQL and touches nothing: it takes no --replace, --note, --engine or --format"
            )
        names = datasets or opened.names_of_views
        for name in names:
            say(opened.view_sql(name).rstrip())
        if not names:
            say('no dataset of the book is a view: target = { database = "...", view = "..." }')
        return
    reports = []
    for name in datasets or opened.names_in_order:
        with counting_rows(name) as on_rows:
            reports.append(
                opened.apply_dataset(
                    name,
                    replace=replace,
                    replace_edited=replace_edited,
                    engine=engine,
                    note=note,
                    on_rows=on_rows,
                )
            )
        if form.is_text:
            print_apply_report(console(), reports[-1])
    if form.is_text and not reports:
        say("the book has no datasets; add one to book.toml: [datasets.NAME]")
    elif not form.is_text:
        form.tell(
            Several(reports),
            lambda _: None,
            values=lambda: {"version": JSON_VERSION, "reports": [report.as_dict() for report in reports]},
            lines=lambda: [
                {
                    "dataset": report.dataset,
                    "table": table.table,
                    "column": column,
                    "class": label,
                    "why": why,
                    "rows": n,
                }
                for report in reports
                for table in report.tables
                for column in table.classes
                for label, why, n in table.lines_of(column)
            ],
        )
