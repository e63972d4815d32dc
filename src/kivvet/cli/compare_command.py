"""kivvet compare"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, json_option, opened_book, print_json


@click.command("compare", cls=Command, short_help="Say whether another version of a table means the same.")
@click.argument("table", metavar="TABLE")
@click.option(
    "--with",
    "other",
    metavar="OTHER",
    default="last",
    show_default=True,
    help="The version before: `last` for what was applied last, a table's file, the folder of a book, another table of "
    "this book, or a git revision.",
)
@click.option("--shared", is_flag=True, help="Compare what both have, where inputs or outputs differ.")
@click.option("--no-data", is_flag=True, help="Compare the tables alone; read no data.")
@click.option(
    "--budget",
    type=click.IntRange(min=0),
    metavar="STEPS",
    help="Steps that the search over several inputs may take (200000).",
)
@book_option
@json_option
def command(
    table: str,
    other: str,
    shared: bool,
    no_data: bool,
    budget: int | None,
    book_folder: Path | None,
    as_json: bool,
) -> None:
    """Compare a table with another version of it by meaning: either every value gets the same result, which is then
    proven, or the regions are listed whose results differ, from what to what, with an example and the rows of data
    that fall there. Rows in another order, split or joined are no difference as long as no result changes.

    Ends with 0 if they mean the same, and with 1 if they differ or that is not proven.

    \b
    Examples:
      kivvet compare quality                        with what was applied last
      kivvet compare quality --with HEAD            with the last commit of the book's repository
      kivvet compare quality --with draft.toml      with another file
      kivvet compare quality --with quality_2025    with another table of the book
    """
    from kivvet.show.comparison import print_comparison
    from kivvet.show.progress import counting_rows
    from kivvet.show.terminal import console

    book = opened_book(book_folder)
    with counting_rows("comparing") as on_rows:
        made = book.compare(table, other, shared=shared, budget=budget, data=not no_data, on_rows=on_rows)
    if as_json:
        print_json(made.as_dict())
    else:
        print_comparison(console(), made)
    sys.exit(0 if made.is_same else 1)
