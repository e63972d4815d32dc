"""kivvet compare"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, budget_option, opened_book, option
from kivvet.cli.telling import Form, forms


@click.command("compare", cls=Command, short_help="Say whether another version of a table means the same.")
@click.argument("table", metavar="TABLE")
@option(
    "--against",
    "The version before: `last` for what was applied last, a table's file, the folder of a book, another table of "
    "this book, or a git revision.",
    default="last",
    show_default=True,
)
@option("--shared")
@option("--no-data", "Compare the tables alone; read no data.")
@budget_option
@book_option
@forms("json", "csv", "markdown")
def command(
    table: str,
    against: str,
    shared: bool,
    no_data: bool,
    budget: int | None,
    book: Path | None,
    form: Form,
) -> None:
    """Compare a table with another version of it by meaning: either every value gets the same result, which is then
    proven, or the regions are listed whose results differ, from what to what, with an example and the rows of data
    that fall there. Rows in another order, split or joined are no difference as long as no result changes.

    Ends with 0 if they mean the same, and with 1 if they differ or that is not proven.

    \b
    Examples:
      kivvet compare quality                        with what was applied last
      kivvet compare quality --against HEAD            with the last commit of the book's repository
      kivvet compare quality --against draft.toml      with another file
      kivvet compare quality --against quality_2025    with another table of the book
    """
    from kivvet.show.comparison import print_comparison
    from kivvet.show.progress import counting_rows

    opened = opened_book(book)
    with counting_rows("comparing") as on_rows:
        made = opened.compare(table, against, shared=shared, budget=budget, data=not no_data, on_rows=on_rows)
    form.tell(made, lambda out: print_comparison(out, made), lines=lambda: made.as_dict()["regions"])
    sys.exit(0 if made.is_same else 1)
