"""kivvet simplify"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, budget_option, opened_book, option
from kivvet.cli.telling import Form, forms


@click.command("simplify", cls=Command, short_help="Offer a smaller table of the same meaning.")
@click.argument("table", metavar="TABLE")
@option("--write")
@budget_option
@book_option
@forms("json")
def command(table: str, write: bool, budget: int | None, book: Path | None, form: Form) -> None:
    """Show how a table can be smaller and mean the same: rows that never decide are dropped, and rows that give the
    same and differ in one input only are joined to one. The two are proved to give every value the same result. In the
    file, lines that stay are as they were, and keep their comments.

    \b
    Examples:
      kivvet simplify quality            what would change in its file
      kivvet simplify quality --write    change it
    """
    from kivvet.show.simpler import print_simpler

    made = opened_book(book).simplify(table, write=write, budget=budget)
    form.tell(made, lambda out: print_simpler(out, made))
