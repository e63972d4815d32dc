"""kivvet adopt"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import Form, forms


@click.command("adopt", cls=Command, short_help="Take over rules that stand in a query or a sheet.")
@click.argument("file", type=click.Path(path_type=Path), required=False)
@option("--sql")
@option("--column", "Of a workbook, the heading of the column whose formulas are taken over.")
@option("--read-as")
@option("--name")
@option("--on", "Data to prove it on, row by row: a dataset of the book, or a file.")
@option("--against", "The column of the data that holds the results of the old rule.")
@option("--write")
@option("--replace", "Write over tables of the same names.")
@book_option
@forms("json")
def command(
    file: Path | None,
    sql: str | None,
    column: str | None,
    read_as: str | None,
    name: str | None,
    on: str | None,
    against: str | None,
    write: bool,
    replace: bool,
    book: Path | None,
    form: Form,
) -> None:
    """Take over the rules of FILE.sql: each CASE becomes a table, in the order of its branches and with its logic of NULL; what
    else a query works out for each row becomes a formula. Of a workbook, the formulas down a column: nested IF becomes a table, a
    lookup into a range too. Of the OMG's decision tables (FILE.dmn) each becomes a table. What is not understood is said with its
    place.

    With --on it is proved on data that the table gives what the CASE gives; with --against also what an old column holds. Without
    --write it is only shown. It ends with 1 where something differs.

    \b
    Examples:
      kivvet adopt quality.sql
      kivvet adopt quality.sql --on samples --against old_quality --write
      kivvet adopt results.xlsx --column Class --write
      kivvet adopt --sql "CASE WHEN ph < 6.5 THEN 'acidic' ELSE 'other' END" --name acidity
    """
    from kivvet.show.adopted import print_adopted
    from kivvet.show.progress import counting_rows

    if (file is None) == (sql is None):
        raise click.UsageError("give a file, or the query itself with --sql")
    opened = opened_book(book)
    with counting_rows("comparing") as on_rows:
        made = opened.adopt(
            file,
            sql=sql or "",
            column=column or "",
            read_as=read_as or "",
            name=name or "",
            on=on,
            against=against or "",
            write=write,
            replace=replace,
            on_rows=on_rows,
        )
    form.tell(made, lambda out: print_adopted(out, made))
    sys.exit(0 if made.is_proved else 1)
