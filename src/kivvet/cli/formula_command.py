"""kivvet formula"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, nearby_book, option
from kivvet.cli.telling import JSON_VERSION, Form, forms


@click.command("formula", cls=Command, short_help="Try a formula out on data.")
@click.argument("text", metavar="EXPR")
@option("--on", required=True)
@option("--among")
@option(
    "--first",
    "How many of the first rows; a formula that looks at other rows is given all.",
    type=click.IntRange(1),
    default=10_000,
    show_default=True,
)
@option("--read-as", default="")
@book_option
@forms("json", "csv", "markdown")
def command(
    text: str,
    on: str,
    among: str | None,
    first: int,
    read_as: str,
    book: Path | None,
    form: Form,
) -> None:
    """Work EXPR out on the first rows of SOURCE and show its type, the values that have no result, and a
    few results. It may name columns of the source, and formulas and outputs of tables of the book.

    \b
    Examples:
      kivvet formula "flow * nitrate * 86.4" --on samples
      kivvet formula "RANK() OVER (PARTITION BY station ORDER BY sampled_on)" --on samples
      kivvet formula "EXTRACT(MONTH FROM sampled_on)" --on data/samples.csv
    """
    from kivvet.book import formula_on
    from kivvet.show.formula import print_trial
    from kivvet.show.progress import counting_rows

    with counting_rows("reading") as on_rows:
        trial = formula_on(
            nearby_book(book), text, on, among=among, first=first, read_as=read_as, on_rows=on_rows
        )
    form.tell(
        trial,
        lambda out: print_trial(out, trial),
        values=lambda: {"version": JSON_VERSION, **trial.as_dict()},
        lines=lambda: trial.as_dict()["results"],
    )
