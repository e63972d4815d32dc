"""kivvet explain"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from kivvet.cli.options import JSON_VERSION, Command, book_option, json_option, opened_book, print_json

if TYPE_CHECKING:
    from kivvet.book import Book


@click.command("explain", cls=Command, short_help="Say why one row gets its class, and what would change it.")
@click.argument("name", metavar="DATASET|TABLE")
@click.option(
    "--row", type=int, metavar="N", help="The row of the source, counted from 1, the header left out."
)
@click.option(
    "--set", "fields", multiple=True, metavar="COLUMN=VALUE", help="A value to try; may be given again."
)
@click.option("--where", metavar="CONDITION", help="The first row of which this is true.")
@click.option(
    "--key",
    "keys",
    metavar="COLUMN=VALUE",
    multiple=True,
    help="The first row with this value; may be given again.",
)
@click.option(
    "--table", "tables", multiple=True, metavar="TABLE", help="Only this table; may be given again."
)
@click.option(
    "--as-example",
    "as_example",
    is_flag=True,
    help="Keep it as an example of the table, which must come out so from now on.",
)
@click.option("--note", metavar="WORDS", help="With --as-example: the words that name it in messages.")
@book_option
@json_option
def command(
    name: str,
    row: int | None,
    fields: tuple[str, ...],
    where: str | None,
    keys: tuple[str, ...],
    tables: tuple[str, ...],
    as_example: bool,
    note: str | None,
    book_folder: Path | None,
    as_json: bool,
) -> None:
    """Say which row of a table decides, what each row before it asks that does not hold and by how
    much, which others match too, and the nearest change of each input that would give another class.

    \b
    Examples:
      kivvet explain samples --row 812                     every table of the dataset
      kivvet explain samples --row 812 --table quality     one of them
      kivvet explain samples --key sample_id=S00812
      kivvet explain samples --where "quality = 'poor' AND ph < 6" --table quality
      kivvet explain samples --set ph=6.4 --set flow=12    a row that is not there
      kivvet explain quality --set oxygen=3.2              one table, by its inputs
      kivvet explain samples --row 812 --table quality --as-example
    """
    from kivvet.show.explain import print_example_added, print_explanations
    from kivvet.show.terminal import console

    values = dict(_parted(field) for field in fields)
    is_sought = where is not None or bool(keys)
    if (row is not None) + bool(values) + is_sought != 1:
        raise click.UsageError(
            "say which row: either --row N, or --where and --key, or --set COLUMN=VALUE once or more"
        )
    if note is not None and not as_example:
        raise click.UsageError("--note has no meaning without --as-example")
    book = opened_book(book_folder)
    others = 0
    if is_sought:
        row, others = _first_row(book, name, where, keys)
    explanations = book.explain(name, values if row is None else row, tables)
    if as_example and len(explanations) != 1:
        names = list(dict.fromkeys(one.table for one in explanations))
        hint = "say which with --table"
        if len(names) == 1:
            hint = f"which {name} uses more than once; explain it by its inputs: kivvet explain {names[0]} --set ..."
        raise click.UsageError(
            f"an example is of one table, and this explains {', '.join(names) or 'none'}: {hint}"
        )
    added = book.add_example(explanations[0], note or "") if as_example else None
    rest = f", the first of {others:,} such rows" if others > 1 else ""
    about = f"{name} row {row:,}{rest}" if row is not None else name if name in book.datasets else ""
    if as_json:
        print_json(
            {
                "version": JSON_VERSION,
                "explanations": [explanation.as_dict() for explanation in explanations],
                **({} if added is None else {"example": added.as_dict()}),
            }
        )
    else:
        print_explanations(console(), explanations, about)
        if added is not None:
            print_example_added(console(), added)


def _first_row(book: Book, name: str, where: str | None, keys: tuple[str, ...]) -> tuple[int, int]:
    """Return the number of the first row that meets conditions, and how many do."""
    found = book.rows(name, where=where, keys=keys, first=1)
    if not found.n_matching:
        raise click.ClickException(found.why_none())
    return int(found.table["row"][0].as_py()), found.n_matching


def _parted(field: str) -> tuple[str, str]:
    column, sign, value = field.partition("=")
    if not sign or not column.strip():
        raise click.BadParameter(f"{field!r} is not COLUMN=VALUE", param_hint="--set")
    return column.strip(), value.strip()
