"""kivvet formula"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import (
    JSON_VERSION,
    Command,
    book_option,
    json_option,
    nearby_book,
    print_json,
    read_as_option,
)


@click.command("formula", cls=Command, short_help="Try a formula out on data.")
@click.argument("text", metavar="EXPR")
@click.option("--on", "source", required=True, metavar="SOURCE", help="A file, or a dataset of the book.")
@click.option(
    "--among",
    metavar="CONDITION",
    help="The rows that take part in calculations within groups; others get missing.",
)
@click.option(
    "--rows",
    "n_rows",
    type=click.IntRange(1),
    default=10_000,
    show_default=True,
    help="How many of the first rows; a formula that looks at other rows is given all.",
)
@book_option
@read_as_option
@json_option
def command(
    text: str,
    source: str,
    among: str | None,
    n_rows: int,
    book_folder: Path | None,
    read_as: str,
    as_json: bool,
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
    from kivvet.show.terminal import console

    book = nearby_book(book_folder)
    with counting_rows("reading") as on_rows:
        trial = formula_on(book, text, source, among=among, n_rows=n_rows, read_as=read_as, on_rows=on_rows)
    if as_json:
        print_json({"version": JSON_VERSION, **trial.as_dict()})
    else:
        print_trial(console(), trial)
