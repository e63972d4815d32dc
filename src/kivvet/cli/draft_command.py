"""kivvet draft"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from kivvet.cli.options import Command, book_option, opened_book, read_as_option


@click.command("draft", cls=Command, short_help="Write a first table from data, or add the values it lacks.")
@click.argument("name")
@click.option("--from", "source", required=True, metavar="SOURCE", help="A file, or a dataset of the book.")
@click.option(
    "--column",
    "columns",
    metavar="COLUMN",
    multiple=True,
    help="The column the table is to read; may be given again, for a table over several.",
)
@click.option(
    "--classes",
    metavar="COLUMN",
    help="A column that already holds the classes: draft the table that gives them.",
)
@click.option("--bounds", metavar="B1,B2,...", help="The bounds of bins, from the lowest up.")
@click.option(
    "--propose",
    "method",
    type=click.Choice(["width", "counts", "round", "natural", "deviations"]),
    help="Bounds of equally wide bins, of bins of equal counts, round numbers (the default), natural breaks, or one standard deviation apart.",
)
@click.option(
    "--quantiles",
    metavar="Q1,Q2,...",
    help="Bounds at these shares of the rows, such as 0.1,0.5,0.9.",
)
@click.option(
    "--results",
    metavar="PATTERN",
    help="Fill in the classes of bins: 'tenth {number}', or '{range}'; without it they are left blank.",
)
@click.option(
    "--number",
    "n_bins",
    type=click.IntRange(1, 1000),
    help="About how many bins; 5 without it.",
)
@click.option("--by-value", is_flag=True, help="One row a value for numbers and dates too.")
@click.option(
    "--key",
    "keys",
    metavar="COLUMN",
    multiple=True,
    help="Draft a lookup: the column whose values are looked up; may be given again.",
)
@click.option(
    "--copy", is_flag=True, help="Copy the file of a lookup beside the table, instead of pointing at it."
)
@click.option(
    "--keep", metavar="COLUMN", multiple=True, help="A column the lookup gives; without it, all others."
)
@click.option("--output", metavar="NAME", help="The name of the output; without it, the table's.")
@click.option("--csv", "as_csv", is_flag=True, help="Keep the rows in a CSV file beside the table.")
@click.option(
    "--extend", is_flag=True, help="Add the values that the table does not know yet; leave all else as it is."
)
@click.option("--replace", is_flag=True, help="Write over a table of that name.")
@read_as_option
@book_option
def command(
    name: str,
    source: str,
    columns: tuple[str, ...],
    keys: tuple[str, ...],
    book_folder: Path | None,
    extend: bool,
    read_as: str,
    **wishes: Any,
) -> None:
    """Write the table NAME into the book, drafted from data; its results are left blank for you to fill in.

    A text column, or one of few whole numbers, becomes a mapping with a row for each value, most
    frequent first. Numbers and dates become bins without gap or overlap. Of several columns, each combination
    that occurs becomes a row. With --classes the table that reproduces somebody's work is worked out, over
    one column or several, and how many rows it reproduces is counted.

    \b
    Examples:
      kivvet draft method --from data/samples.csv --column method
      kivvet draft ph_class --from samples --column ph --propose natural --number 4
      kivvet draft load_tenth --from samples --column load --propose counts --number 10 --results "tenth {number}"
      kivvet draft old --from done.csv --column ph --classes verdict
      kivvet draft old --from done.csv --column ph --column oxygen --column method --classes verdict
      kivvet draft station --from stations.csv --key "Station no."
      kivvet draft method --extend --from samples
    """
    from kivvet.show.draft import print_drafted, print_extended
    from kivvet.show.progress import counting_rows
    from kivvet.show.terminal import console

    way = "--extend" if extend else "--key" if keys else "--column" if len(columns) < 2 else _SEVERAL
    _refuse_unused(way)
    if len(columns) > 1 and extend:
        raise click.UsageError("--extend reads one column, or those that the inputs of the table name")
    if not columns and way == "--column":
        raise click.UsageError(
            "say which column the table is to read: --column COLUMN (or --key COLUMN for a lookup)"
        )
    book = opened_book(book_folder)
    with counting_rows("reading") as on_rows:
        if extend:
            done = book.extend(
                name, source, column=next(iter(columns), None), read_as=read_as, on_rows=on_rows
            )
            print_extended(console(), done, name)
            return
        bounds, quantiles = (
            [part.strip() for part in (wishes.pop(word) or "").split(",") if part.strip()]
            for word in ("bounds", "quantiles")
        )
        if bool(bounds) + bool(quantiles) + bool(wishes["method"]) > 1:
            raise click.UsageError("--bounds, --quantiles and --propose are three ways: give one of them")
        done = book.draft(
            name,
            source,
            column=columns,
            keys=keys,
            bounds=bounds,
            quantiles=quantiles,
            read_as=read_as,
            on_rows=on_rows,
            **wishes,
        )
    print_drafted(console(), done)


_SEVERAL = "several columns"
#: For each way to draft the options that it uses, besides NAME, --from and --book.
_USED = {
    "--extend": {"extend", "columns"},
    "--key": {"keys", "keep", "copy", "replace"},
    _SEVERAL: {"columns", "classes", "output", "as_csv", "replace"},
    "--column": {
        "columns",
        "classes",
        "bounds",
        "quantiles",
        "results",
        "method",
        "n_bins",
        "by_value",
        "output",
        "as_csv",
        "replace",
    },
}


def _refuse_unused(way: str) -> None:
    """Refuse options that would have no effect."""
    context = click.get_current_context()
    for option in context.command.params:
        name = option.name or ""
        is_given = context.get_parameter_source(name) is click.core.ParameterSource.COMMANDLINE
        is_common = name in ("name", "source", "book_folder", "read_as")
        if isinstance(option, click.Option) and is_given and not is_common and name not in _USED[way]:
            raise click.UsageError(f"{option.opts[0]} has no meaning with {way}")
