"""kivvet summary"""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import click

from kivvet.cli.options import Command, book_option, nearby_book, opened_book, option, say
from kivvet.cli.telling import Form, forms


@click.command("summary", cls=Command, short_help="Count and sum up data by classes, periods or values.")
@click.argument("source")
@option("--by", "What the lines stand for; may be given again.", multiple=True)
@option("--across", "What the columns stand for.")
@option(
    "--value",
    "What is shown, such as 'SUM(load)' or 'AVG(ph) AS mean'; the number of rows without it. May be given again.",
    multiple=True,
)
@option("--where")
@option(
    "--share",
    "Show counts and totals as shares of their line, their column, or all, too.",
    type=click.Choice(["row", "column", "total"]),
)
@option("--most-columns", type=click.IntRange(2, 1000), default=12, show_default=True, metavar="N")
@option("--save-as")
@option("--read-as", default="")
@option("--engine", "Let Spark count, file by file.", type=click.Choice(["spark"]))
@book_option
@forms("json", "csv", "markdown")
def command(
    source: str,
    by: tuple[str, ...],
    across: str | None,
    value: tuple[str, ...],
    where: str | None,
    share: Literal["row", "column", "total"] | None,
    most_columns: int,
    save_as: str | None,
    read_as: str,
    engine: str | None,
    book: Path | None,
    form: Form,
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

    if share == "row" and across is None:
        raise click.UsageError("--share row needs --across: a line is then one figure")
    if save_as is not None and (across is not None or where is not None):
        raise click.UsageError(
            "a summary that is kept takes neither --across nor --where; use --by, and FILTER in a value"
        )
    opened = nearby_book(book) if save_as is None else opened_book(book)
    with counting_rows("reading") as on_rows:
        found = cross_table_of(
            opened,
            source,
            by=by,
            across=across,
            value=value,
            where=where,
            share=share,
            most_columns=most_columns,
            read_as=read_as,
            engine=engine,
            on_rows=on_rows,
        )
    if save_as is not None and opened is not None:
        lines = opened.keep_summary(save_as, source, by=by, value=value)
        said = "\n".join(["added to book.toml:", *(f"  {line}" for line in lines), ""])
        say(said, err=not form.is_text)
    heads, rows = found.table(share)
    form.tell(
        found,
        lambda out: print_summary(out, found, source, share=share),
        values=lambda: {**found.as_dict(share), "source": source},
        lines=lambda: [dict(zip(heads, row, strict=True)) for row in rows],
    )
