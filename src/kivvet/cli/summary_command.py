"""kivvet summary"""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import click

from kivvet.cli.options import (
    Command,
    book_option,
    csv_options,
    json_option,
    nearby_book,
    opened_book,
    print_csv,
    print_json,
    read_as_option,
    say,
)


@click.command("summary", cls=Command, short_help="Count and sum up data by classes, periods or values.")
@click.argument("source")
@click.option(
    "--by", "by", metavar="EXPR", multiple=True, help="What the lines stand for; may be given again."
)
@click.option("--across", metavar="EXPR", help="What the columns stand for.")
@click.option(
    "--value",
    "values",
    metavar="AGGREGATE",
    multiple=True,
    help="What is shown, such as 'SUM(load)' or 'AVG(ph) AS mean'; the number of rows without it.",
)
@click.option("--where", metavar="CONDITION", help="Only the rows of which this is true.")
@click.option(
    "--share",
    type=click.Choice(["row", "column", "total"]),
    help="Show counts and totals as shares of their line, their column, or all, too.",
)
@click.option(
    "--columns",
    "most_across",
    type=click.IntRange(2, 1000),
    default=12,
    show_default=True,
    help="At most so many columns; the smallest are joined as the rest.",
)
@click.option("--save-as", metavar="NAME", help="Keep it in the book as a summary of that name.")
@csv_options
@read_as_option
@book_option
@json_option
def command(
    source: str,
    by: tuple[str, ...],
    across: str | None,
    values: tuple[str, ...],
    where: str | None,
    share: Literal["row", "column", "total"] | None,
    most_across: int,
    save_as: str | None,
    as_csv: bool,
    csv_safe: bool,
    read_as: str,
    book_folder: Path | None,
    as_json: bool,
) -> None:
    """Sum up SOURCE, a dataset of the book or a file: a line for each class, period or value of --by, a
    column for each of --across, with subtotals and totals.

    Lines and columns may be any column of the source, any class or formula of the book, or a formula;
    'EXPR AS name' gives it a name. Classes stand in their order, those without rows too; rows without a
    class have lines of their own, by why they have none. The rows are those that the dataset keeps.

    \b
    Examples:
      kivvet summary samples --by quality
      kivvet summary samples --by river --across quality --share row
      kivvet summary samples --by "EXTRACT(YEAR FROM sampled_on) AS year" --value "SUM(load)" --value "MEDIAN(ph)"
    """
    from kivvet.book import cross_table_of
    from kivvet.show.progress import counting_rows
    from kivvet.show.summary import print_summary
    from kivvet.show.terminal import console

    if as_csv and as_json:
        raise click.UsageError("either --csv or --json")
    if share == "row" and across is None:
        raise click.UsageError("--share row needs --across: a line is then one figure")
    if save_as is not None and (across is not None or where is not None):
        raise click.UsageError(
            "a summary that is kept takes neither --across nor --where; use --by, and FILTER in a value"
        )
    book = nearby_book(book_folder) if save_as is None else opened_book(book_folder)
    with counting_rows("reading") as on_rows:
        found = cross_table_of(
            book,
            source,
            by=by,
            across=across,
            values=values,
            where=where,
            share=share,
            most_across=most_across,
            read_as=read_as,
            on_rows=on_rows,
        )
    if save_as is not None and book is not None:
        lines = book.keep_summary(save_as, source, by=by, values=values)
        say("\n".join(["added to book.toml:", *(f"  {line}" for line in lines), ""]), err=as_json or as_csv)
    if as_json:
        print_json({**found.as_dict(share), "source": source})
    elif as_csv:
        print_csv(*found.table(share), safe=csv_safe)
    else:
        print_summary(console(), found, source, share=share)
