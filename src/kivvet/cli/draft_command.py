"""kivvet draft"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from kivvet.cli.options import Command, book_option, opened_book, option


@click.command("draft", cls=Command, short_help="Write a first table from data, or add the values it lacks.")
@click.argument("name")
@option("--on", required=True)
@option(
    "--column",
    "The column the table is to read; may be given again, for a table over several.",
    multiple=True,
)
@option("--classes")
@option("--bounds")
@option("--propose", type=click.Choice(["width", "counts", "round", "natural", "deviations"]))
@option("--quantiles")
@option("--results")
@option("--bins", type=click.IntRange(1, 1000), metavar="N")
@option("--by-value")
@option("--fold", default="")
@option("--noting")
@option("--key", multiple=True)
@option("--copy")
@option("--keep", multiple=True)
@option(
    "--output",
    "The name of the output; without it, the table's, with _class where a column it reads has that name.",
    metavar="NAME",
)
@option("--rows-file")
@option("--extend")
@option("--alike")
@option("--replace", "Write over a table of that name.")
@option("--read-as", default="")
@book_option
def command(
    name: str,
    on: str,
    column: tuple[str, ...],
    key: tuple[str, ...],
    book: Path | None,
    extend: bool,
    alike: bool,
    read_as: str,
    **wishes: Any,
) -> None:
    """Write the table NAME into the book, drafted from data; its results are left blank for you to fill in.

    A text column, or one of few whole numbers, becomes a mapping with a row for each value, most
    frequent first. Numbers and dates become bins without gap or overlap. Of several columns, each combination
    that occurs becomes a row, or each of bins. With --classes the table that reproduces somebody's work is worked out, over
    one column or several, and how many rows it reproduces is counted.

    \b
    Examples:
      kivvet draft method --on data/samples.csv --column method
      kivvet draft ph_class --on samples --column ph --propose natural --bins 4
      kivvet draft load_tenth --on samples --column load --propose counts --bins 10 --results "tenth {number}"
      kivvet draft method --on samples --column method --results classes.csv --noting station
      kivvet draft state --on samples --column ph --column oxygen --bins 3
      kivvet draft old --on done.csv --column ph --classes verdict
      kivvet draft old --on done.csv --column ph --column oxygen --column method --classes verdict
      kivvet draft station --on stations.csv --key "Station no."
      kivvet draft method --extend --on samples
    """
    from kivvet.show.draft import print_drafted, print_extended
    from kivvet.show.progress import counting_rows
    from kivvet.show.terminal import console

    way = "--extend" if extend else "--key" if key else "--column" if len(column) < 2 else _SEVERAL
    _refuse_unused(way)
    if len(column) > 1 and extend:
        raise click.UsageError("--extend reads one column, or those that the inputs of the table name")
    if not column and way == "--column":
        raise click.UsageError(
            "say which column the table is to read: --column COLUMN (or --key COLUMN for a lookup)"
        )
    opened = opened_book(book)
    with counting_rows("reading") as on_rows:
        if extend:
            done = opened.extend(
                name, on, column=next(iter(column), None), alike=alike, read_as=read_as, on_rows=on_rows
            )
            print_extended(console(), done, name)
            return
        bounds, quantiles = (
            [part.strip() for part in (wishes.pop(word) or "").split(",") if part.strip()]
            for word in ("bounds", "quantiles")
        )
        if bool(bounds) + bool(quantiles) + bool(wishes["propose"]) > 1:
            raise click.UsageError("--bounds, --quantiles and --propose are three ways: give one of them")
        done = opened.draft(
            name,
            on,
            column=column,
            key=key,
            bounds=bounds,
            quantiles=quantiles,
            read_as=read_as,
            on_rows=on_rows,
            **wishes,
        )
    print_drafted(console(), done)


_SEVERAL = "several columns"
#: For each way to draft the options that it uses, besides NAME, --on and --book.
_USED = {
    "--extend": {"extend", "alike", "column"},
    "--key": {"key", "keep", "copy", "replace"},
    _SEVERAL: {
        "column",
        "classes",
        "propose",
        "quantiles",
        "bins",
        "by_value",
        "output",
        "rows_file",
        "replace",
    },
    "--column": {
        "column",
        "classes",
        "bounds",
        "quantiles",
        "results",
        "propose",
        "bins",
        "by_value",
        "fold",
        "noting",
        "output",
        "rows_file",
        "replace",
    },
}


def _refuse_unused(way: str) -> None:
    """Refuse options that would have no effect."""
    context = click.get_current_context()
    for param in context.command.params:
        name = param.name or ""
        is_given = context.get_parameter_source(name) is click.core.ParameterSource.COMMANDLINE
        is_common = name in ("name", "on", "book", "read_as")
        if isinstance(param, click.Option) and is_given and not is_common and name not in _USED[way]:
            raise click.UsageError(f"{param.opts[0]} has no meaning with {way}")
