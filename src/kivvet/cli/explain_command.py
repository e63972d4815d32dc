"""kivvet explain"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from kivvet.cli.options import Command, book_option, opened_book, option, values_by_name
from kivvet.cli.telling import JSON_VERSION, Form, forms

if TYPE_CHECKING:
    from rich.console import Console

    from kivvet.book import Book


@click.command("explain", cls=Command, short_help="Say why one row gets its class, and what would change it.")
@click.argument("name", metavar="DATASET|TABLE")
@option("--row", type=int, metavar="N")
@option("--set", multiple=True)
@option("--where", "The first row of which this is true.")
@option("--only", "The first row with this value; may be given again.", multiple=True)
@option("--table", multiple=True)
@option("--wanted")
@option("--as-example")
@option("--note", "With --as-example: the words that name it in messages.")
@book_option
@forms("json", "csv", "markdown")
def command(
    name: str,
    row: int | None,
    set: tuple[str, ...],  # noqa: A002 (the word of the command line)
    where: str | None,
    only: tuple[str, ...],
    table: tuple[str, ...],
    wanted: str | None,
    as_example: bool,
    note: str | None,
    book: Path | None,
    form: Form,
) -> None:
    """Say which row of a table decides, what each row before it asks that does not hold and by how
    much, which others match too, and the nearest change of each input that would give another class.

    \b
    Examples:
      kivvet explain samples --row 812                     every table of the dataset
      kivvet explain samples --row 812 --table quality     one of them
      kivvet explain samples --only sample_id=S00812
      kivvet explain samples --where "quality = 'poor' AND ph < 6" --table quality
      kivvet explain samples --set ph=6.4 --set flow=12    a row that is not there
      kivvet explain quality --set oxygen=3.2              one table, by its inputs
      kivvet explain samples --row 812 --table quality --wanted good
      kivvet explain samples --row 812 --table quality --as-example
    """
    from kivvet.show.explain import print_example_added, print_explanations

    values = values_by_name(set, "--set")
    is_sought = where is not None or bool(only)
    if (row is not None) + bool(values) + is_sought != 1:
        raise click.UsageError(
            "say which row: either --row N, or --where and --only, or --set COLUMN=VALUE once or more"
        )
    if note is not None and not as_example:
        raise click.UsageError("--note has no meaning without --as-example")
    opened = opened_book(book)
    others = 0
    if is_sought:
        row, others = _first_row(opened, name, where, only)
    explanations = opened.explain(name, values if row is None else row, table, wanted=wanted or "")
    if as_example and len(explanations) != 1:
        names = list(dict.fromkeys(explanation.table for explanation in explanations))
        hint = "say which with --table"
        if len(names) == 1:
            from kivvet.show.hints import command as typed

            hint = f"which {name} uses more than once; explain it by its inputs: {typed('explain', names[0])} --set ..."
        raise click.UsageError(
            f"an example is of one table, and this explains {', '.join(names) or 'none'}: {hint}"
        )
    added = opened.add_example(explanations[0], note or "") if as_example else None
    rest = f", the first of {others:,} such rows" if others > 1 else ""
    about = f"{name} row {row:,}{rest}" if row is not None else name if name in opened.datasets else ""

    def text(out: Console) -> None:
        print_explanations(out, explanations, about)
        if added is not None:
            print_example_added(out, added)

    form.tell(
        explanations,
        text,
        values=lambda: {
            "version": JSON_VERSION,
            "explanations": [explanation.as_dict() for explanation in explanations],
            **({} if added is None else {"example": added.as_dict()}),
        },
        lines=lambda: [explanation.as_dict() for explanation in explanations],
    )


def _first_row(book: Book, name: str, where: str | None, only: tuple[str, ...]) -> tuple[int, int]:
    """Return the number of the first row that meets conditions, and how many do."""
    found = book.rows(name, where=where, only=only, first=1)
    if not found.n_matching:
        raise click.ClickException(found.why_none())
    return int(found.table["row"][0].as_py()), found.n_matching
