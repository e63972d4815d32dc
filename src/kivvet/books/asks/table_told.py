"""A table as people read it, with what data makes of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.asks.history import TableVersion
from kivvet.books.asks.overview import TableListed
from kivvet.books.files.last_change import last_change
from kivvet.books.runs.fed_domains import fed_domains
from kivvet.core.picture.bars import Bars, bars_of_classes
from kivvet.core.picture.histogram import Histogram, empty_histogram
from kivvet.core.picture.of_table import suits
from kivvet.core.picture.paints import paints_of_output
from kivvet.core.picture.places import output_shown
from kivvet.core.picture.region_map import RegionMap, map_of
from kivvet.core.picture.triangle import Triangle, triangle_of
from kivvet.core.read.table_text import example_cells, row_cells
from kivvet.core.run.fed_domains import limited
from kivvet.core.run.step_reports import TableReport
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.findings import Finding, Report
from kivvet.core.words.places import Place
from kivvet.core.words.values import write_plain, write_value

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook
from kivvet.books.asks.book_facts import TableTold
from kivvet.books.asks.counted import Counted

_MOST_ROWS = 200  # of a table, that are shown
_MOST_VERSIONS = 6


def table_told(
    book: OpenBook,
    one: TableListed,
    check: Report,
    counted: Mapping[str, Counted],
    versions: Iterable[TableVersion],
) -> TableTold:
    """Return a table as people read it."""
    table = book.tables[one.name]
    reports = _reports_on(one.name, counted)
    heads, n_asked, rows = rows_told(table)
    sums = sums_by_row(table, counted)
    return TableTold(
        one,
        heads,
        n_asked,
        rows,
        rest_told(table),
        findings_within(book, check, one.name),
        examples_told(table),
        None if sums is None else sums[:_MOST_ROWS],
        tuple(reports),
        {
            (dataset, column): counted[dataset].paints[column]
            for dataset, report in reports
            for column in report.classes
        },
        _picture(book, table, counted, reports),
        {output.name: paints_of_output(table, output) for output in table.outputs if output.type == "text"},
        last_change(book.folder, book.files_that_define(table.name)),
        tuple(version for version in versions if version.name == one.name)[-_MOST_VERSIONS:],
    )


def _reports_on(table: str, counted: Mapping[str, Counted]) -> list[tuple[str, TableReport]]:
    """Return the reports on a table, each with the dataset whose data it is of."""
    return [
        (dataset, report)
        for dataset, found in counted.items()
        for report in found.tables
        if report.table == table
    ]


def sums_by_row(table: Table, counted: Mapping[str, Counted]) -> tuple[int, ...] | None:
    """Return how many rows of all data each row of a table decides; None where that was not counted."""
    sums: tuple[int, ...] | None = None
    for _, report in _reports_on(table.name, counted):
        if len(report.rows_by_row) == table.n_rows:
            rows = report.rows_by_row
            sums = rows if sums is None else tuple(map(sum, zip(sums, rows, strict=True)))
    return sums


def findings_within(book: OpenBook, check: Report, name: str) -> tuple[Finding, ...]:
    """Return the findings about a table or formula, their files as they are from the book's folder."""
    folder = book.folder.resolve()

    def within(place: Place) -> Place:
        path = Path(place.file).resolve()
        return (
            replace(place, file=path.relative_to(folder).as_posix()) if path.is_relative_to(folder) else place
        )

    return tuple(
        replace(found, places=tuple(map(within, found.places))) for found in check if found.table == name
    )


def rows_told(table: Table) -> tuple[tuple[str, ...], int, tuple[tuple[tuple[str, ...], str], ...]]:
    """Return the headings of a table's rows, how many of them are conditions, and the first rows with their notes."""
    if table.lookup is None:
        heads, *records = row_cells(table)
        shown = zip(records[:_MOST_ROWS], table.rows, strict=False)
        rows = tuple((tuple(record), row.note) for record, row in shown)
        return tuple(heads), len(heads) - len(table.outputs), rows
    lookup, n = table.lookup, min(table.n_rows, _MOST_ROWS)
    columns: list[tuple[str, list[Any]]] = [
        (key.about.name, key.shown.slice(0, n).to_pylist()) for key in lookup.keys
    ]
    for range_ in lookup.ranges:
        columns.append((f"{range_.about.name} from", range_.start.slice(0, n).to_pylist()))
        if range_.end is not None:
            columns.append((f"{range_.about.name} to", range_.end.slice(0, n).to_pylist()))
    n_asked = len(columns)
    columns += [
        (output.name, values.slice(0, n).to_pylist())
        for output, values in zip(table.outputs, lookup.results, strict=True)
    ]
    lines = zip(*(values for _, values in columns), strict=True)
    rows = tuple((tuple("" if one is None else write_plain(one) for one in line), "") for line in lines)
    return tuple(name for name, _ in columns), n_asked, rows


def rest_told(table: Table) -> tuple[tuple[str, str], ...]:
    """Return what a table gives where no row decides, and what it promises."""
    told = []
    for word, results in (
        ("where a value is missing", table.missing),
        ("otherwise", table.otherwise),
    ):
        if results:
            given = [
                write_value(value) if len(table.outputs) == 1 else f"{name} = {write_value(value)}"
                for name, value in results.items()
            ]
            told.append((word, ", ".join(given)))
    told += [("promised", promise.text) for promise in table.promises]
    return tuple(told)


def examples_told(table: Table) -> tuple[tuple[str, ...], ...]:
    """Return a table's examples as headings and cells."""
    if not table.examples:
        return ()
    columns = list(dict.fromkeys(name for example in table.examples for name in example.values))
    outputs = list(dict.fromkeys(name for example in table.examples for name in example.expected))
    return (
        (*columns, *outputs, "note"),
        *((*example_cells(example, columns, outputs), example.note) for example in table.examples),
    )


def _picture(
    book: OpenBook, table: Table, counted: Mapping[str, Counted], reports: list[tuple[str, TableReport]]
) -> Bars | Histogram | RegionMap | Triangle | None:
    """Return what a table is best seen as: its bounds, its regions, or how many rows each class has."""
    title, output = table.title or table.name, output_shown(table, None)
    checked = limited(table, fed_domains(book))
    kind = suits(table, has_data=False)
    try:
        if kind == "map":
            return map_of(checked, output, title)
        if kind == "triangle":
            return triangle_of(checked, output, title)
        if kind == "histogram":
            for dataset, found in counted.items():
                if table.name in found.histograms:
                    return found.histograms[table.name].made(title, (f"rows of {dataset}",))
            return empty_histogram(checked, output, title)
    except KivvetError:
        return None
    for dataset, report in reports:
        if output.name in report.classes:
            bars = bars_of_classes(
                title, output.name, report.lines_of(output.name), paints_of_output(table, output)
            )
            return replace(bars, notes=(f"rows of {dataset}", *bars.notes))
    return None
