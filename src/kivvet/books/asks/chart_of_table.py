"""A picture of a table of a book: its bounds over a histogram of data, its regions, or its classes."""

from __future__ import annotations

from dataclasses import replace

from kivvet.books.asks.chart_wanted import ChartWanted, OnRows, Picture, file_name, shown_kind
from kivvet.books.asks.table_on_data import TableOnData, table_on_data
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.fed_domains import fed_domains, known_plan
from kivvet.books.runs.table_findings import refuse_faults
from kivvet.core.picture.bars import bars_of_classes
from kivvet.core.picture.histogram import (
    Histogram,
    HistogramCounter,
    RangeInDays,
    bands_of,
    empty_histogram,
)
from kivvet.core.picture.of_table import suits
from kivvet.core.picture.paints import paints_of_output
from kivvet.core.picture.places import output_shown
from kivvet.core.picture.region_map import map_of
from kivvet.core.picture.triangle import triangle_of
from kivvet.core.run.fed_domains import limited
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.wording import listed, shell_word


def chart_of_table(book: OpenBook, table: Table, wanted: ChartWanted, on_rows: OnRows) -> tuple[Picture, str]:
    """Return a picture of a table, and what a file of it would be called."""
    kind = wanted.kind
    kind = kind or ("map" if wanted.axes or wanted.panels else suits(table, has_data=wanted.on is not None))
    if kind in ("lines", "flows", "beside"):
        raise DataError(
            f"{table.name!r} is a table, and {shown_kind(kind)} are of a dataset",
            fix=f"kivvet chart DATASET --kind {kind}",
        )
    table = limited(table, fed_domains(book))
    output = output_shown(table, wanted.output)
    title = wanted.title or (table.title or table.name)
    name = file_name(table.name, *([output.name] if wanted.output else []))
    if kind == "map":
        wanted.refuse_others("map")
        return (
            map_of(table, output, title, axes=wanted.axes, each=wanted.panels, fixed=wanted.set),
            file_name(name, "map"),
        )
    if kind == "triangle":
        wanted.refuse_others("triangle")
        return triangle_of(table, output, title, fixed=wanted.set), file_name(name, "triangle")
    wanted.refuse_others("histogram" if kind == "histogram" else "bars of a table")
    if kind == "histogram":
        bands_of(table, output)
    on, notes = _source_for(book, table, wanted.on)
    if on is None:
        if kind == "histogram":
            return empty_histogram(table, output, title, notes), name
        raise DataError(
            f"no dataset uses table {table.name!r}, and its classes are counted in data",
            fix=f"kivvet chart {shell_word(table.name)} --on SOURCE",
        )
    ready = table_on_data(book, table, on, column=wanted.column, read_as=wanted.read_as)
    dataset = book.datasets.get(on)
    is_cut = dataset is not None and dataset.where is not None
    notes = (f"rows of {on}", *(["those that where leaves out are counted too"] if is_cut else []), *notes)
    if kind == "histogram":
        return _histogram(ready, table, wanted, title, notes, on_rows), name
    refuse_faults(book, [table])
    run = ready.run(on_rows)
    for _ in run.batches(ready.plan.source_columns or None):
        pass
    run.stop_at_faults()
    if not run.n_rows:
        raise DataError(f"there are no rows to draw of {on}", fix=f"see: kivvet look {shell_word(on)}")
    report = run.report().tables[-1]
    made = dict(ready.step.outputs).get(output.name, output.name)  # the dataset may call it otherwise
    if made in report.classes:
        bars = bars_of_classes(title, output.name, report.lines_of(made), paints_of_output(table, output))
        return replace(bars, notes=(*notes, *bars.notes)), name
    raise DataError(
        f"{output.name} of table {table.name!r} has no classes to count",
        expected="an output of text, of a lookup one with at most 1,000 classes",
        fix=f"kivvet chart {shell_word(on)} --by {shell_word(output.name)}",
    )


def _source_for(book: OpenBook, table: Table, on: str | None) -> tuple[str | None, tuple[str, ...]]:
    """Return the data that a table is drawn with, and what is to be said of that."""
    if on is not None:
        return on, ()
    users = []
    for dataset in book.datasets.values():
        plan, _ = known_plan(book, dataset)
        if plan is not None and any(step.table.name == table.name for step in plan.table_steps):
            users.append(dataset.name)
    if not users:
        return None, ("no dataset uses it; --on SOURCE draws data too",)
    others = (
        (f"{listed(users[1:], 3)} {'uses' if len(users) == 2 else 'use'} it too: --on NAME",)
        if len(users) > 1
        else ()
    )
    return users[0], others


def _histogram(
    ready: TableOnData, table: Table, wanted: ChartWanted, title: str, notes: tuple[str, ...], on_rows: OnRows
) -> Histogram:
    output, name = output_shown(table, wanted.output), table.inputs[0].name
    reach, run = RangeInDays(), ready.run()
    for batch in run.batches(ready.plan.source_columns or None):
        reach.see(batch.columns_of(ready.step)[name])
    run.stop_at_faults()
    counter, run = HistogramCounter(table, output, reach), ready.run(on_rows)
    for batch in run.batches(ready.plan.source_columns or None):
        counter.see(batch.columns_of(ready.step))
    if not run.n_rows:
        name = ready.prepared.dataset.name
        raise DataError(f"there are no rows to draw of {name}", fix=f"see: kivvet look {shell_word(name)}")
    return counter.made(title, notes)
