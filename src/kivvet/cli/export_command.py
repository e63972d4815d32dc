"""kivvet export"""

from __future__ import annotations

from pathlib import Path

import click

from kivvet.cli.options import Command, book_option, opened_book, option
from kivvet.cli.telling import Form, forms


@click.command("export", cls=Command, short_help="Write tables as a workbook for those who review them.")
@click.argument("file", type=click.Path(path_type=Path))
@click.argument("tables", nargs=-1, metavar="[TABLE]...")
@option("--long")
@option("--formulas")
@option("--no-data", "Read no data: no counts, and no findings that data shows.")
@option("--replace", "Write over a file that is no workbook of rules.")
@book_option
@forms("json")
def command(
    file: Path,
    tables: tuple[str, ...],
    long: bool,
    formulas: bool,
    no_data: bool,
    replace: bool,
    book: Path | None,
    form: Form,
) -> None:
    """Write tables of the book into FILE.xlsx, one sheet each: conditions and results as they stand, notes, the rows of data
    that each row decides, and what was found beside it. Without TABLES all are written.

    Cells can be changed there, rows moved, added and taken out; `kivvet import FILE.xlsx` takes that back. Into FILE.csv, or
    with --long, goes one line for each value of each mapping: table, input, value, output, class. Into FILE.sql goes a query that
    gives the same, into FILE.dmn decision tables of the OMG's standard. Into FILE.csv-metadata.json goes what is to be said of files
    of CSV, of the targets of datasets and the files of lookups that are named: types, classes, keys (CSV on the Web, of the W3C).

    \b
    Examples:
      kivvet export rules.xlsx
      kivvet export rules.xlsx quality oxygen_status --no-data
      kivvet export mappings.csv
      kivvet export quality.sql quality
      kivvet export quality.xlsx quality --formulas
      kivvet export out/samples.csv-metadata.json samples
    """
    from kivvet.show.progress import counting_rows
    from kivvet.show.rules_workbook import print_described, print_exported

    opened = opened_book(book)
    is_sql = formulas or file.suffix.lower() in (".sql", ".dmn")
    if is_sql and not tables:
        raise click.UsageError("name the tables that it is to hold")
    if file.suffix.lower() == ".json":
        described = opened.describe(tables)
        path = described.save(file, replace=replace)
        form.tell(
            described,
            lambda out: print_described(out, described, path),
            values=lambda: {**described.as_dict(), "file": str(path)},
        )
        return
    is_long = long or file.suffix.lower() == ".csv"
    with counting_rows("reading") as on_rows:
        made = opened.export(tables, data=not (no_data or is_long or is_sql), on_rows=on_rows)
    path = made.save(file, long=long, formulas=formulas, replace=replace)
    form.tell(
        made,
        lambda out: print_exported(out, made, path, is_long=is_long, comes_back=not is_sql),
        values=lambda: {**made.as_dict(), "file": str(path)},
    )
