"""kivvet review"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, json_option, opened_book, print_json


@click.command(
    "review", cls=Command, short_help="Show what changed in a table since it was reviewed; mark it."
)
@click.argument("table")
@click.option(
    "--mark", is_flag=True, help="Write into the table's file that it was reviewed today, as it is."
)
@click.option("--by", metavar="NAME", default="", help="With --mark: who; without it, whoever runs this.")
@click.option("--note", metavar="TEXT", default="", help="With --mark: what there is to say about it.")
@book_option
@json_option
def command(table: str, mark: bool, by: str, note: str, book_folder: Path | None, as_json: bool) -> None:
    """Show a table's owner, note and source, who changed it last, and what changed since somebody looked it through: by
    meaning, with what it moves in the data. A review holds as long as the table means the same.

    \b
    Examples:
      kivvet review quality
      kivvet review quality --mark --by Ida --note "limits of 2027"
    """
    from kivvet.show.progress import counting_rows
    from kivvet.show.review import print_marked, print_review
    from kivvet.show.terminal import console

    if (by or note) and not mark:
        raise click.UsageError("--by and --note go with --mark")
    book = opened_book(book_folder)
    if mark:
        review = book.mark_reviewed(table, by=by, note=note)
        if as_json:
            print_json({"version": 1, "table": table, "on": review.on, "by": review.by, "note": review.note})
        else:
            print_marked(console(), table, review)
        return
    with counting_rows("comparing") as on_rows:
        found = book.review(table, on_rows=on_rows)
    if as_json:
        print_json(found.as_dict())
    else:
        print_review(console(), found)
