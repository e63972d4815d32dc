"""How a source falls into the rows of a table of a book, beside another source or the data it was drafted from."""

from __future__ import annotations

import shlex
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from kivvet.books.asks.data_read import data_read
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.prepare import prepared_of
from kivvet.books.runs.run import Run
from kivvet.books.runs.sources import source_of
from kivvet.books.runs.table_findings import findings_in_book
from kivvet.core.read.table_text import result_text
from kivvet.core.run.entries import Entry
from kivvet.core.run.reports import TableReport
from kivvet.core.run.shares import Fall, RangeSeen, Shares, limit_of
from kivvet.core.tables.origin import Origin, shape_of_rows
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import write_condition
from kivvet.core.words.errors import BookError, DataError, TableError

OnRows = Callable[[int], None]


def shares_in(
    book: OpenBook,
    name: str,
    on: str | Path,
    *,
    beside: str | Path | None = None,
    read_as: str = "",
    on_rows: OnRows = lambda _: None,
) -> Shares:
    """Return how data falls into the rows of a table; see `Book.shares`."""
    table = book.table(name)
    if table.lookup is not None:
        raise BookError(
            f"table {name!r} is a lookup, whose rows are keys",
            fix=f"what no key holds is listed by: kivvet unmatched; rows by class by: kivvet apply ({shlex.quote(name)})",
        )
    if errors := [one for one in findings_in_book(book, table) if one.severity == "error"]:
        raise TableError(errors)
    then, why = _then(book, table, beside, read_as, on_rows)
    now, report, seen = _fall(book, table, on, "" if beside is not None else read_as, then, on_rows)
    return Shares(
        name,
        tuple(", ".join(write_condition(one) for one in row.conditions) for row in table.rows),
        tuple(", ".join(map(result_text, row.results)) for row in table.rows),
        now,
        then,
        why,
        seen.below,
        seen.above,
        report.unmatched_values,
    )


def _then(
    book: OpenBook, table: Table, beside: str | Path | None, read_as: str, on_rows: OnRows
) -> tuple[Fall | None, str]:
    """Return what the data is held against, and why there is nothing."""
    if beside is not None:
        fall, _, _ = _fall(book, table, beside, read_as, None, on_rows)
        return fall, ""
    origin = table.origin
    if origin is None:
        return None, "the table does not say what it was drafted from; name other data with --beside"
    if origin.shape != shape_of_rows(table) or len(origin.counts) != len(table.rows):
        return (
            None,
            f"its bounds were changed since they were drafted ({origin.note()}); name other data with --beside",
        )
    return _fall_of(origin), ""


def _fall_of(origin: Origin) -> Fall:
    low, high = (limit_of(text) for text in (origin.lowest, origin.highest))
    return Fall(origin.source, origin.counts, origin.missing, 0, origin.on, low, high)


def _fall(
    book: OpenBook, table: Table, on: str | Path, read_as: str, then: Fall | None, on_rows: OnRows
) -> tuple[Fall, TableReport, RangeSeen]:
    """Return how a source falls into the rows of a table, and what lies beyond the range of other data."""
    data = data_read(book, on, read_as)
    dataset = data.dataset
    fed = next((one for one in dataset.entries if one.table == table.name and one.over is None), None)
    entry = Entry(table.name) if fed is None else replace(fed, keep=None, status=None, row=None)
    others = tuple(replace(one, is_written=False) for one in dataset.entries if one is not fed)
    prepared, faults = prepared_of(
        replace(dataset, entries=(*others, replace(entry, keep=_own_names(table))), where=None),
        source_of(book, dataset) if data.is_of_book else data.open(),
        book.tables,
        book.formulas,
        book.unusable_tables | book.unusable_formulas,
    )
    step = next((one for one in reversed(prepared.plan.table_steps) if one.table.name == table.name), None)
    if step is None:
        raise TableError([one for one in faults if one.severity == "error"])
    plan = replace(prepared.plan, steps=prepared.plan.leading_to([step]), written=step.made_names, where=None)
    run = Run(prepared, plan=plan, on_rows=on_rows)
    lowest, highest = (None, None) if then is None else (then.lowest, then.highest)
    seen = RangeSeen(lowest, highest)
    for batch in run.batches(plan.source_columns or None):
        if len(table.inputs) == 1:
            seen.see(batch.columns_of(step)[table.inputs[0].name])
    run.stop_at_faults()
    if not run.n_rows:
        raise DataError("has no rows", expected=f"data to hold against table {table.name!r}")
    report = next(
        one
        for one in reversed(run.report().tables)
        if one.table == table.name and one.columns == step.columns
    )
    fall = Fall(
        prepared.source.shown_name,
        report.rows_by_row,
        report.missing,
        report.unmatched,
        "",
        seen.lowest,
        seen.highest,
    )
    return fall, report, seen


def _own_names(table: Table) -> tuple[tuple[str, str], ...]:
    """Return names for the outputs that nothing else has."""
    return tuple((output.name, f"\0{output.name}") for output in table.outputs)
