"""kivvet chart"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from kivvet.cli.options import Command, book_option, nearby_book, option, values_by_name
from kivvet.cli.telling import Form, forms


@click.command(
    "chart", cls=Command, short_help="Draw data by class, a table's bounds or regions, or what moves."
)
@click.argument("name")
@option("--kind", type=click.Choice(["bars", "beside", "lines", "histogram", "map", "triangle", "flows"]))
@option(
    "--by",
    "What the bars, or the periods of lines, stand for; of flows the column. May be given again.",
    multiple=True,
)
@option("--across", "What the parts of each bar, or the lines, stand for.")
@option("--value", "What is measured, such as 'SUM(load)'; the number of rows without it.")
@option("--where")
@option(
    "--share",
    "Draw shares: of each bar, of each part, or of all.",
    type=click.Choice(["row", "column", "total"]),
)
@option("--on", "The dataset or file that a table is drawn with.")
@option("--column", "With --on: the column that the table is to read.")
@option("--output", "The output of a table whose classes are drawn.")
@option("--axes")
@option("--panels")
@option("--set", "A value that an input of a map has; may be given again.", multiple=True)
@option("--against", "What flows come from: 'last' (as applied), a revision, a book or a table's file.")
@option("--title", default="")
@option(
    "--to",
    "Where it is written: FILE.png or FILE.svg; without it NAME.png here.",
    type=click.Path(path_type=Path),
)
@option("--replace", "Write over a file that is no chart of Kivvet.")
@option("--read-as", default="")
@book_option
@forms("json")
def command(
    name: str,
    axes: str | None,
    set: tuple[str, ...],  # noqa: A002 (the word of the command line)
    to: Path | None,
    replace: bool,
    book: Path | None,
    form: Form,
    **wanted: Any,
) -> None:
    """Draw NAME as a picture of 1280 by 800 dots: a dataset or a file by its classes, a summary, or a table with its bounds,
    gaps and overlaps.

    A class has the same colour in every chart: that of its meaning, where the table says that it is good or bad. Colours and
    patterns are told apart by colour-blind eyes, and in grey.

    \b
    Examples:
      kivvet chart samples                                   all columns of classes
      kivvet chart samples --by river --across quality --share row
      kivvet chart samples --kind lines --by "EXTRACT(YEAR FROM sampled_on) AS year" --across quality
      kivvet chart nitrate_band                              a histogram, with the bounds
      kivvet chart quality --axes nitrate,oxygen --panels ph   regions of a rule table
      kivvet chart samples --kind flows                        what changed rules move
    """
    from kivvet.book import chart_of
    from kivvet.show.chart import print_chart
    from kivvet.show.progress import counting_rows

    parts = () if axes is None else tuple(text.strip() for text in axes.split(",") if text.strip())
    if axes is not None and len(parts) != 2:
        raise click.UsageError(f"--axes takes two inputs, such as nitrate,oxygen; found {axes!r}")
    fixed = values_by_name(set, "--set")
    with counting_rows("reading") as on_rows:
        chart = chart_of(nearby_book(book), name, axes=parts, set=fixed, on_rows=on_rows, **wanted)
    path = chart.save(to if to is not None else Path(f"{chart.name}.png"), replace=replace)
    form.tell(
        chart,
        lambda out: print_chart(out, chart, path),
        values=lambda: {**chart.as_dict(), "file": str(path), "notes": list(chart.notes)},
    )
