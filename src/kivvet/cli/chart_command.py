"""kivvet chart"""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import click

from kivvet.cli.options import Command, book_option, json_option, nearby_book, print_json, read_as_option


@click.command(
    "chart", cls=Command, short_help="Draw data by class, a table's bounds or regions, or what moves."
)
@click.argument("name")
@click.option(
    "--as",
    "kind",
    type=click.Choice(["bars", "beside", "lines", "histogram", "map", "flows"]),
    help="What is drawn; without it, what suits NAME.",
)
@click.option(
    "--by",
    metavar="EXPR",
    multiple=True,
    help="What the bars, or the periods of lines, stand for; of flows the column.",
)
@click.option("--across", metavar="EXPR", help="What the parts of each bar, or the lines, stand for.")
@click.option(
    "--value",
    metavar="AGGREGATE",
    help="What is measured, such as 'SUM(load)'; the number of rows without it.",
)
@click.option("--where", metavar="CONDITION", help="Only the rows of which this is true.")
@click.option(
    "--share",
    type=click.Choice(["row", "column", "total"]),
    help="Draw shares: of each bar, of each part, or of all.",
)
@click.option("--on", metavar="SOURCE", help="The dataset or file that a table is drawn with.")
@click.option("--column", metavar="COLUMN", help="With --on: the column that the table is to read.")
@click.option("--output", metavar="OUTPUT", help="The output of a table whose classes are drawn.")
@click.option("--axes", metavar="X,Y", help="The two inputs that a map is drawn along.")
@click.option("--each", metavar="INPUT", help="The input of which a map has a panel for each part.")
@click.option(
    "--at",
    "fixed",
    metavar="INPUT=VALUE",
    multiple=True,
    help="A value that an input of a map has; may be given again.",
)
@click.option(
    "--against",
    metavar="WHAT",
    help="What flows come from: 'last' (as applied), a revision, a book or a table's file.",
)
@click.option("--title", metavar="TEXT", default="", help="What stands above it.")
@click.option(
    "--to",
    "to",
    metavar="FILE",
    type=click.Path(path_type=Path),
    help="Where it is written: FILE.png or FILE.svg; without it NAME.png here.",
)
@click.option("--replace", is_flag=True, help="Write over a file that is no chart of Kivvet.")
@read_as_option
@book_option
@json_option
def command(
    name: str,
    kind: Literal["bars", "beside", "lines", "histogram", "map", "flows"] | None,
    by: tuple[str, ...],
    across: str | None,
    value: str | None,
    where: str | None,
    share: Literal["row", "column", "total"] | None,
    on: str | None,
    column: str | None,
    output: str | None,
    axes: str | None,
    each: str | None,
    fixed: tuple[str, ...],
    against: str | None,
    title: str,
    to: Path | None,
    replace: bool,
    read_as: str,
    book_folder: Path | None,
    as_json: bool,
) -> None:
    """Draw NAME as a picture of 1280 by 800 dots: a dataset or a file by its classes, a summary, or a table with its bounds,
    gaps and overlaps.

    A class has the same colour in every chart: that of its meaning, where the table says that it is good or bad. Colours and
    patterns are told apart by colour-blind eyes, and in grey.

    \b
    Examples:
      kivvet chart samples                                   all columns of classes
      kivvet chart samples --by river --across quality --share row
      kivvet chart samples --as lines --by "EXTRACT(YEAR FROM sampled_on) AS year" --across quality
      kivvet chart nitrate_band                              a histogram, with the bounds
      kivvet chart quality --axes nitrate,oxygen --each ph   regions of a rule table
      kivvet chart samples --as flows                        what changed rules move
    """
    from kivvet.book import chart_of
    from kivvet.show.chart import print_chart
    from kivvet.show.progress import counting_rows
    from kivvet.show.terminal import console

    parts = () if axes is None else tuple(one.strip() for one in axes.split(",") if one.strip())
    if axes is not None and len(parts) != 2:
        raise click.UsageError(f"--axes takes two inputs, such as nitrate,oxygen; found {axes!r}")
    at: dict[str, str] = {}
    for one in fixed:
        key, sign, text = one.partition("=")
        if not sign or not key.strip():
            raise click.UsageError(f"--at takes INPUT=VALUE; found {one!r}")
        if key.strip() in at:
            raise click.UsageError(f"--at gives {key.strip()} twice")
        at[key.strip()] = text
    with counting_rows("reading") as on_rows:
        chart = chart_of(
            nearby_book(book_folder),
            name,
            kind,
            by=by,
            across=across,
            value=value,
            where=where,
            share=share,
            on=on,
            column=column,
            output=output,
            axes=parts,
            each=each,
            fixed=at,
            against=against,
            title=title,
            read_as=read_as,
            on_rows=on_rows,
        )
    path = chart.save(to if to is not None else Path(f"{chart.name}.png"), replace=replace)
    if as_json:
        print_json({**chart.as_dict(), "file": str(path), "notes": list(chart.notes)})
    else:
        print_chart(console(), chart, path)
