"""kivvet list"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import JSON_VERSION, Form, forms


@click.command("list", cls=Command, short_help="List what is in the book, and what uses what.")
@option("--uses")
@book_option
@forms("json", "csv", "markdown")
def command(uses: str | None, book: Path | None, form: Form) -> None:
    """List the tables of the book with their shape, rows, findings and users; its formulas, datasets and
    summaries.

    With --uses: in each dataset what makes a column, which columns it rests on, what reads it, and which
    columns it leads to.

    \b
    Examples:
      kivvet list
      kivvet list --uses oxygen_status
    """
    from kivvet.show.overview import print_overview, print_uses

    opened = opened_book(book)
    if uses is None:
        found = opened.overview()
        form.tell(found, lambda out: print_overview(out, found), lines=lambda: found.as_dict()["tables"])
        return
    used = opened.uses(uses)
    told = [one.as_dict() for one in used]
    form.tell(
        used,
        lambda out: print_uses(out, uses, used),
        values=lambda: {"version": JSON_VERSION, "name": uses, "uses": told},
        lines=lambda: told,
    )
