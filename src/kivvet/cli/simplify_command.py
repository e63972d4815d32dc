"""kivvet simplify"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, json_option, opened_book, print_json


@click.command("simplify", cls=Command, short_help="Offer a smaller table of the same meaning.")
@click.argument("table", metavar="TABLE")
@click.option("--write", "writes", is_flag=True, help="Write it; without this it is only shown.")
@click.option(
    "--budget",
    type=click.IntRange(min=0),
    metavar="STEPS",
    help="Steps that the proof over several inputs may take (200000).",
)
@book_option
@json_option
def command(table: str, writes: bool, budget: int | None, book_folder: Path | None, as_json: bool) -> None:
    """Show how a table can be smaller and mean the same: rows that never decide are dropped, and rows that give the
    same and differ in one input only are joined to one. The two are proved to give every value the same result. In the
    file, lines that stay are as they were, and keep their comments.

    \b
    Examples:
      kivvet simplify quality            what would change in its file
      kivvet simplify quality --write    change it
    """
    from kivvet.show.simpler import print_simpler
    from kivvet.show.terminal import console

    made = opened_book(book_folder).simplify(table, write=writes, budget=budget)
    if as_json:
        print_json(made.as_dict())
    else:
        print_simpler(console(), made)
