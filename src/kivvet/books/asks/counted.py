"""The data of a dataset, read once for all that is counted of it, and once more where histograms are drawn."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING

from kivvet.books.asks.chart_of_data import paints_of_column, panels_of
from kivvet.books.runs.fed_domains import fed_domains
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.run import Run
from kivvet.core.picture.bars import Bars
from kivvet.core.picture.histogram import HistogramCounter, RangeInDays
from kivvet.core.picture.of_table import suits
from kivvet.core.picture.paints import Paint
from kivvet.core.picture.places import output_shown
from kivvet.core.run.fed_domains import limited
from kivvet.core.run.step_reports import FormulaReport, TableReport
from kivvet.core.words.errors import KivvetError

if TYPE_CHECKING:
    from kivvet.books.files.dataset import Dataset
    from kivvet.books.files.open_book import OpenBook
    from kivvet.books.runs.prepare import Prepared


OnRows = Callable[[int], None]


@dataclass
class Counted:
    """What a pass over the data of a dataset came to."""

    rows: int | None = None
    left_out: int = 0
    tables: tuple[TableReport, ...] = ()
    formulas: tuple[FormulaReport, ...] = ()
    histograms: Mapping[str, HistogramCounter] = field(default_factory=dict)
    panels: tuple[Bars, ...] = ()
    paints: Mapping[str, Mapping[str, Paint]] = field(default_factory=dict)  # by column, of its classes
    problem: str = ""


def counted_of(book: OpenBook, dataset: Dataset, drawn: set[str], on_rows: OnRows) -> Counted:
    """Read the data of a dataset, once for all counts, and once more where histograms are drawn."""
    try:
        prepared, _ = prepare(book, dataset)
        return _read(book, prepared, drawn, on_rows)
    except KivvetError as error:
        return Counted(problem=str(error).split("\n", 1)[0])


def _read(book: OpenBook, prepared: Prepared, drawn: set[str], on_rows: OnRows) -> Counted:
    plan = prepared.plan
    lines = {
        step.table.name: (step, RangeInDays())
        for step in reversed(plan.table_steps)
        if step.table.name not in drawn and suits(step.table, has_data=True) == "histogram"
    }
    run = Run(prepared, on_rows=on_rows)
    run.read_codes(plan.source_columns)
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
    return Counted(
        run.n_rows,
        report.left_out,
        report.tables,
        report.formulas,
        counters,
        tuple(panels_of(plan, report.tables)),
        {column: paints_of_column(plan, column) for table in report.tables for column in table.classes},
        faults[0].message if faults else "",
    )
