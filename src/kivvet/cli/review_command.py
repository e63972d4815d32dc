"""kivvet review"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import Form, forms


@click.command(
    "review", cls=Command, short_help="Show what changed in a table since it was reviewed; mark it."
)
@click.argument("table")
@option("--against", "Another version than the one that was reviewed; see kivvet compare.")
@option("--no-data", "Compare the tables alone; read no data.")
@option("--mark")
@option("--reviewer")
@option("--note", "With --mark: what there is to say about it.", default="")
@book_option
@forms("json", "markdown")
def command(
    table: str,
    against: str | None,
    no_data: bool,
    mark: bool,
    reviewer: str | None,
    note: str,
    book: Path | None,
    form: Form,
) -> None:
    """Show a table's owner, note and source, who changed it last, and what changed since somebody looked it through: by
    meaning, with what it moves in the data. A review holds as long as the table means the same.

    \b
    Examples:
      kivvet review quality
      kivvet review quality --against main --no-data
      kivvet review quality --mark --reviewer Ida --note "limits of 2027"
    """
    from kivvet.show.progress import counting_rows
    from kivvet.show.review import print_marked, print_review

    if (reviewer or note) and not mark:
        raise click.UsageError("--reviewer and --note go with --mark")
    if mark and (against is not None or no_data):
        raise click.UsageError("--mark marks the table as it is; it takes neither --against nor --no-data")
    opened = opened_book(book)
    if mark:
        review = opened.mark_reviewed(table, reviewer=reviewer or "", note=note)
        said = {"version": 1, "table": table, "on": review.on, "by": review.by, "note": review.note}
        form.tell(review, lambda out: print_marked(out, table, review), values=lambda: said)
        return
    with counting_rows("comparing") as on_rows:
        found = opened.review(table, against=against, data=not no_data, on_rows=on_rows)
    form.tell(found, lambda out: print_review(out, found))
