"""kivvet import"""

from __future__ import annotations

import sys
from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import Form, forms


@click.command("import", cls=Command, short_help="Take back what was changed in a workbook of rules.")
@click.argument("file", type=click.Path(path_type=Path))
@option("--write", "Write the files of the tables; without it nothing is changed.")
@option("--no-data", "Read no data: what changes in it is not told.")
@book_option
@forms("json", "markdown")
def command(file: Path, write: bool, no_data: bool, book: Path | None, form: Form) -> None:
    """Show what was changed in a workbook that `kivvet export` wrote: by meaning, and what it moves in the data. With --write
    the files of the tables take it over; comments and the order of lines stay.

    Where the book changed meanwhile the two are merged by what they mean. It ends with 1 where something is left to decide.

    \b
    Examples:
      kivvet import rules.xlsx
      kivvet import rules.xlsx --write
    """
    from kivvet.show.progress import counting_rows
    from kivvet.show.rules_workbook import print_imported

    opened = opened_book(book)
    with counting_rows("comparing") as on_rows:
        made = opened.import_rules(file, write=write, data=not no_data, on_rows=on_rows)
    form.tell(made, lambda out: print_imported(out, made))
    sys.exit(0 if made.is_clean else 1)
