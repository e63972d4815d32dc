"""All that there is to say of a book, or of some of its datasets: what a report that is handed round holds."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterable, Mapping
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.asks.chart import panels_of
from kivvet.books.asks.check_book import check_book
from kivvet.books.asks.history import RunTold, TableVersion, history_of
from kivvet.books.asks.overview import (
    DatasetListed,
    FormulaListed,
    Overview,
    TableListed,
    overview_of,
)
from kivvet.books.files.last_change import last_change
from kivvet.books.runs.fed_domains import fed_domains, known_plan
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.run import Run
from kivvet.books.runs.status import DatasetStatus, status_of
from kivvet.core.picture.bars import Bars, bars_of_classes
from kivvet.core.picture.histogram import Histogram, HistogramCounter, RangeInDays, empty_histogram
from kivvet.core.picture.of_table import suits
from kivvet.core.picture.paints import Paint, paints_of_output
from kivvet.core.picture.places import output_shown
from kivvet.core.picture.region_map import RegionMap, map_of
from kivvet.core.read.table_text import example_cells, row_cells
from kivvet.core.run.fed_domains import limited
from kivvet.core.run.reports import FormulaReport, TableReport
from kivvet.core.run.table_step import TableStep
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.findings import Finding, Report
from kivvet.core.words.places import Place
from kivvet.core.words.values import write_plain, write_value

if TYPE_CHECKING:
    from kivvet.books.files.dataset import Dataset
    from kivvet.books.files.open_book import OpenBook
    from kivvet.books.runs.prepare import Prepared

OnRows = Callable[[int], None]
FACTS_VERSION = 1
_MOST_ROWS = 200  # of a table, that are shown
_MOST_RUNS = 10
_MOST_VERSIONS = 6


@dataclass(frozen=True)
class TableTold:
    """A table as people read it, with what data makes of it.

    Attributes
    ----------
    listed : TableListed
    heads : tuple of str
        Of its rows: inputs, `when`, outputs.
    n_asked : int
        How many of them are conditions.
    rows : tuple of (tuple of str, str)
        Cells and note of each row, the first of many.
    rest : tuple of (str, str)
        What holds where no row decides, in words, and what that gives.
    findings : tuple of Finding
    examples : tuple of tuples of str
        Headings, then the cells of each.
    counts : tuple of int, or None
        Rows of data by row of the table, of all datasets that use it; None where none was read.
    counted : tuple of (str, TableReport)
        By dataset what it did to the data.
    picture : Bars, Histogram, RegionMap or None
    paints : mapping of str to mapping of str to Paint
        By output what stands for its classes.
    last_change : str
    versions : tuple of TableVersion
        The last ones, of those that runs used.
    """

    listed: TableListed
    heads: tuple[str, ...]
    n_asked: int
    rows: tuple[tuple[tuple[str, ...], str], ...]
    rest: tuple[tuple[str, str], ...] = ()
    findings: tuple[Finding, ...] = ()
    examples: tuple[tuple[str, ...], ...] = ()
    counts: tuple[int, ...] | None = None
    counted: tuple[tuple[str, TableReport], ...] = ()
    picture: Bars | Histogram | RegionMap | None = None
    paints: Mapping[str, Mapping[str, Paint]] = field(default_factory=dict)
    last_change: str = ""
    versions: tuple[TableVersion, ...] = ()


@dataclass(frozen=True)
class StepTold:
    """A step of a dataset: the table or formula, and the columns it reads and makes."""

    name: str
    is_table: bool
    reads: tuple[str, ...]
    makes: tuple[str, ...]


@dataclass(frozen=True)
class DatasetTold:
    """A dataset, what it makes, and what became of it.

    Attributes
    ----------
    listed : DatasetListed
    status : DatasetStatus or None
        None where it could not be told, for the reason `problem`.
    rows : int or None
        That were read; None where no data was.
    steps : tuple of StepTold
        In the order of computation.
    panels : tuple of Bars
        The rows of each class, by column.
    runs : tuple of RunTold
        The last ones.
    n_runs : int
    problem : str
    """

    listed: DatasetListed
    status: DatasetStatus | None
    rows: int | None = None
    steps: tuple[StepTold, ...] = ()
    panels: tuple[Bars, ...] = ()
    runs: tuple[RunTold, ...] = ()
    n_runs: int = 0
    problem: str = ""


@dataclass(frozen=True)
class FormulaTold:
    """A formula, its findings, and by dataset what it made."""

    listed: FormulaListed
    note: str
    findings: tuple[Finding, ...] = ()
    counted: tuple[tuple[str, FormulaReport], ...] = ()


@dataclass(frozen=True)
class BookFacts:
    """All that there is to say of a book, or of some datasets of it.

    Attributes
    ----------
    title : str
    about : tuple of str
        The datasets that it is about; empty for the whole book.
    made_at : str
        When (UTC).
    check : Report
    tables, formulas, datasets : tuple
    unreadable : tuple of str
        What is in the book and could not be read.
    """

    title: str
    about: tuple[str, ...]
    made_at: str
    check: Report
    tables: tuple[TableTold, ...]
    formulas: tuple[FormulaTold, ...]
    datasets: tuple[DatasetTold, ...]
    unreadable: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        """Return it as plain values."""
        return {
            "version": FACTS_VERSION,
            "title": self.title,
            "about": list(self.about),
            "made_at": self.made_at,
            "check": self.check.as_dict(),
            "unreadable": list(self.unreadable),
            "tables": [
                {
                    **asdict(one.listed),
                    "heads": list(one.heads),
                    "shown_rows": [{"cells": list(cells), "note": note} for cells, note in one.rows],
                    "rest": [list(each) for each in one.rest],
                    "examples": [list(cells) for cells in one.examples],
                    "rows_of_data": None if one.counts is None else list(one.counts),
                    "counted": [{"dataset": name, **report.as_dict()} for name, report in one.counted],
                    "picture": None if one.picture is None else one.picture.as_dict(),
                    "last_change": one.last_change,
                    "versions": [version.as_dict() for version in one.versions],
                }
                for one in self.tables
            ],
            "formulas": [
                {
                    **asdict(one.listed),
                    "note": one.note,
                    "counted": [{"dataset": name, **report.as_dict()} for name, report in one.counted],
                }
                for one in self.formulas
            ],
            "datasets": [
                {
                    **asdict(one.listed),
                    "status": None if one.status is None else one.status.as_dict(),
                    "rows": one.rows,
                    "problem": one.problem or one.listed.problem,
                    "steps": [asdict(step) for step in one.steps],
                    "runs": [run.as_dict() for run in one.runs],
                    "n_runs": one.n_runs,
                }
                for one in self.datasets
            ],
        }


@dataclass
class _Counted:
    """What a pass over the data of a dataset came to."""

    rows: int | None = None
    tables: tuple[TableReport, ...] = ()
    formulas: tuple[FormulaReport, ...] = ()
    histograms: Mapping[str, HistogramCounter] = field(default_factory=dict)
    problem: str = ""


def facts_of(
    book: OpenBook, names: Iterable[str] = (), *, data: bool = True, on_rows: OnRows = lambda _: None
) -> BookFacts:
    """Return all that there is to say of a book, or of datasets; see `Book.report`."""
    about = tuple(dict.fromkeys(names))
    chosen = [book.dataset(name) for name in about] if about else list(book.datasets.values())
    overview = overview_of(book)
    used = _used(book, chosen)
    tables = [one for one in overview.tables if not about or one.name in used]
    formulas = [one for one in overview.formulas if not about or one.name in used]
    check = check_book(book, sorted(used) if about else None, data=data, on_rows=on_rows)
    drawn: set[str] = set()
    counted: dict[str, _Counted] = {}
    for dataset in chosen:
        counted[dataset.name] = _counted(book, dataset, drawn, on_rows) if data else _Counted()
    remembered = history_of(book, [*(one.name for one in chosen), *(one.name for one in tables)])
    return BookFacts(
        overview.title,
        about,
        f"{dt.datetime.now(dt.UTC):%Y-%m-%d %H:%M} UTC",
        check,
        tuple(_table_told(book, one, check, counted, remembered.versions) for one in tables),
        tuple(_formula_told(book, one, check, counted) for one in formulas),
        tuple(_dataset_told(book, one, overview, counted[one.name], remembered.runs) for one in chosen),
        overview.unreadable if not about else (),
    )


def _used(book: OpenBook, datasets: Iterable[Dataset]) -> set[str]:
    """Return the tables and formulas that datasets use."""
    reached: set[str] = set()
    for dataset in datasets:
        plan, _ = known_plan(book, dataset)
        reached |= book.used_by(dataset) if plan is None else {step.name for step in plan.steps}
    return reached & {*book.tables, *book.formulas}


def _counted(book: OpenBook, dataset: Dataset, drawn: set[str], on_rows: OnRows) -> _Counted:
    """Read the data of a dataset, once for all counts, and once more where histograms are drawn."""
    try:
        prepared, _ = prepare(book, dataset)
        return _read(book, prepared, drawn, on_rows)
    except KivvetError as error:
        return _Counted(problem=str(error).split("\n", 1)[0])


def _read(book: OpenBook, prepared: Prepared, drawn: set[str], on_rows: OnRows) -> _Counted:
    plan = prepared.plan
    lines = {
        step.table.name: (step, RangeInDays())
        for step in reversed(plan.table_steps)
        if step.table.name not in drawn and suits(step.table, has_data=True) == "histogram"
    }
    run = Run(prepared, on_rows=on_rows)
    for batch in run.batches(plan.source_columns or None):
        for step, reach in lines.values():
            reach.see(batch.columns_of(step)[step.table.inputs[0].name])
    counters: dict[str, HistogramCounter] = {}
    if lines and run.n_rows:
        fed = fed_domains(book)
        counters = {
            name: HistogramCounter(limited(step.table, fed), output_shown(step.table, None), reach)
            for name, (step, reach) in lines.items()
        }
        steps = plan.leading_to([step for step, _ in lines.values()])
        part = replace(plan, steps=steps, written=(), where=None)
        again = Run(prepared, plan=part, with_report=False)
        for batch in again.batches(part.source_columns or None):
            for name, (step, _) in lines.items():
                counters[name].see(batch.columns_of(step))
    drawn |= set(counters)
    report = run.report()
    faults = run.faults()
    return _Counted(
        run.n_rows,
        report.tables,
        report.formulas,
        counters,
        faults[0].message if faults else "",
    )


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


# Tables


def _table_told(
    book: OpenBook,
    one: TableListed,
    check: Report,
    counted: Mapping[str, _Counted],
    versions: Iterable[TableVersion],
) -> TableTold:
    table = book.tables[one.name]
    reports = [
        (dataset, report)
        for dataset, found in counted.items()
        for report in found.tables
        if report.table == one.name
    ]
    heads, n_asked, rows = rows_told(table)
    sums: tuple[int, ...] | None = None
    for _, report in reports:
        if len(report.rows_by_row) == table.n_rows:
            sums = (
                report.rows_by_row
                if sums is None
                else tuple(map(sum, zip(sums, report.rows_by_row, strict=True)))
            )
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
        _picture(book, table, counted, reports),
        {output.name: paints_of_output(table, output) for output in table.outputs if output.type == "text"},
        last_change(book.folder, book.files_that_define(table.name)),
        tuple(version for version in versions if version.name == one.name)[-_MOST_VERSIONS:],
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
    """Return what a table gives where no row decides."""
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
    return tuple(told)


def examples_told(table: Table) -> tuple[tuple[str, ...], ...]:
    """Return a table's examples as headings and cells."""
    if not table.examples:
        return ()
    columns = list(dict.fromkeys(name for one in table.examples for name in one.values))
    outputs = list(dict.fromkeys(name for one in table.examples for name in one.expected))
    return (
        (*columns, *outputs, "note"),
        *((*example_cells(one, columns, outputs), one.note) for one in table.examples),
    )


def _picture(
    book: OpenBook, table: Table, counted: Mapping[str, _Counted], reports: list[tuple[str, TableReport]]
) -> Bars | Histogram | RegionMap | None:
    """Return what a table is best seen as: its bounds, its regions, or how many rows each class has."""
    title, output = table.title or table.name, output_shown(table, None)
    checked = limited(table, fed_domains(book))
    kind = suits(table, has_data=False)
    try:
        if kind == "map":
            return map_of(checked, output, title)
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
                title, output.name, report.classes[output.name], paints_of_output(table, output)
            )
            return replace(bars, notes=(f"rows of {dataset}", *bars.notes))
    return None


# Formulas and datasets


def _formula_told(
    book: OpenBook, one: FormulaListed, check: Report, counted: Mapping[str, _Counted]
) -> FormulaTold:
    return FormulaTold(
        one,
        book.formulas[one.name].note,
        findings_within(book, check, one.name),
        tuple(
            (dataset, report)
            for dataset, found in counted.items()
            for report in found.formulas
            if report.formula == one.name
        ),
    )


def _dataset_told(
    book: OpenBook, dataset: Dataset, overview: Overview, found: _Counted, runs: Iterable[RunTold]
) -> DatasetTold:
    plan, _ = known_plan(book, dataset)
    try:
        status, problem = status_of(book, dataset), found.problem
    except KivvetError as error:
        status, problem = None, found.problem or str(error).split("\n", 1)[0]
    of_it = [one for one in runs if one.run.dataset == dataset.name]
    steps = tuple(
        StepTold(
            "where" if step.name == "where" else step.name,
            isinstance(step, TableStep),
            tuple(dict.fromkeys(read.column for read in step.reads if "\0" not in read.column)),
            tuple(name for name in step.made_names if "\0" not in name),
        )
        for step in (plan.steps if plan is not None else ())
    )
    return DatasetTold(
        next(one for one in overview.datasets if one.name == dataset.name),
        status,
        found.rows,
        steps,
        tuple(panels_of(book, found.tables)),
        tuple(of_it[-_MOST_RUNS:]),
        len(of_it),
        problem,
    )
