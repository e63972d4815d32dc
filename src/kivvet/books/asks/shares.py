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
from kivvet.books.runs.table_findings import findings_in_book
from kivvet.core.read.table_text import result_text
from kivvet.core.run.entries import Entry
from kivvet.core.run.reports import TableReport
from kivvet.core.run.shares import Fall, RangeSeen, Shares, limit_of
from kivvet.core.tables.origin import Origin, shape_of
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import write_condition
from kivvet.core.words.errors import BookError, DataError, TableError
from kivvet.core.words.wording import did_you_mean, listed

OnRows = Callable[[int], None]


def shares_in(
    book: OpenBook,
    name: str,
    on: str | Path,
    *,
    beside: str | Path | None = None,
    column: str | None = None,
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
    if column is not None and len(table.inputs) > 1:
        raise BookError(f"table {name!r} has several inputs, and one column is named", fix="leave it out")
    then, why = _then(book, table, beside, column, read_as, on_rows)
    now, report, seen = _fall(book, table, on, column, "" if beside is not None else read_as, then, on_rows)
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
    book: OpenBook,
    table: Table,
    beside: str | Path | None,
    column: str | None,
    read_as: str,
    on_rows: OnRows,
) -> tuple[Fall | None, str]:
    """Return what the data is held against, and why there is nothing."""
    if beside is not None:
        fall, _, _ = _fall(book, table, beside, column, read_as, None, on_rows)
        return fall, ""
    origin = table.origin
    if origin is None:
        return None, "the table does not say what it was drafted from; name other data with --beside"
    if origin.shape != shape_of(one for row in table.rows for one in row.conditions) or len(
        origin.counts
    ) != len(table.rows):
        return (
            None,
            f"its bounds were changed since they were drafted ({origin.note()}); name other data with --beside",
        )
    return _fall_of(origin), ""


def _fall_of(origin: Origin) -> Fall:
    low, high = (limit_of(text) for text in (origin.lowest, origin.highest))
    return Fall(origin.source, origin.counts, origin.missing, 0, origin.on, low, high)


def _fall(
    book: OpenBook,
    table: Table,
    on: str | Path,
    column: str | None,
    read_as: str,
    then: Fall | None,
    on_rows: OnRows,
) -> tuple[Fall, TableReport, RangeSeen]:
    """Return how a source falls into the rows of a table, and what lies beyond the range of other data."""
    data, name = data_read(book, on, read_as), table.name
    dataset = data.dataset
    entries = [replace(one, is_written=False) for one in dataset.entries]
    is_fed = any(one.table == table.name and one.by_class is None for one in entries)
    if column is not None or not is_fed:
        reads = {} if column is None else {table.inputs[0].name: column}
        entries.append(Entry(table.name, reads, keep=_own_names(table), is_written=False))
    prepared, faults = prepared_of(
        replace(dataset, entries=tuple(entries), where=None),
        data.open(),
        book.tables,
        book.formulas,
        book.unusable_tables | book.unusable_formulas,
    )
    steps = {one.columns: one for one in prepared.plan.table_steps if one.table.name == table.name}
    if column is not None:
        steps = {read: one for read, one in steps.items() if read == (dataset.renamed.get(column, column),)}
    if not steps:
        wanted = column or listed(input_.name for input_ in table.inputs)
        made = [name for name in prepared.plan.types if "\0" not in name]
        if any(one.kind == "unknown-column" for one in faults):
            raise DataError(
                f"there is no column {wanted!r}"
                if column
                else f"table {name!r} reads {wanted}, which is not all there",
                expected=f"one of: {listed([*prepared.source.names, *made], 20)}",
                fix=did_you_mean(wanted, [*prepared.source.names, *made])
                or "say which to read: --column COLUMN",
            )
        raise TableError([one for one in faults if one.severity == "error"])
    if len(steps) > 1:
        raise DataError(
            f"dataset {dataset.name!r} applies table {table.name!r} to {listed((', '.join(one) for one in steps), 8)}",
            expected="one column",
            fix="say which: --column COLUMN" if len(table.inputs) == 1 else "hold a file against it",
        )
    (step,) = steps.values()
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
