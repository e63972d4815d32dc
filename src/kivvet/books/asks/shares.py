"""How a source falls into the rows of a table of a book, beside another source or the data it was drafted from."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from kivvet.books.asks.table_on_data import table_on_data
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.table_findings import findings_in_book
from kivvet.core.read.table_text import result_text
from kivvet.core.run.shares import Fall, RangeSeen, Shares, limit_of
from kivvet.core.run.step_reports import TableReport
from kivvet.core.tables.origin import Origin, shape_of
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import write_condition
from kivvet.core.words.errors import BookError, DataError, TableError
from kivvet.core.words.wording import shell_word

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
            fix=f"what no key holds is listed by: kivvet unmatched; rows by class by: kivvet apply ({shell_word(name)})",
        )
    if errors := [finding for finding in findings_in_book(book, table) if finding.severity == "error"]:
        raise TableError(errors)
    if column is not None and len(table.inputs) > 1:
        raise BookError(f"table {name!r} has several inputs, and one column is named", fix="leave it out")
    then, why = _then(book, table, beside, column, read_as, on_rows)
    now, report, seen = _fall(book, table, on, column, "" if beside is not None else read_as, then, on_rows)
    return Shares(
        name,
        tuple(", ".join(write_condition(condition) for condition in row.conditions) for row in table.rows),
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
        return None, "the table does not say what it was drafted from; name other data with --against"
    if origin.shape != shape_of(condition for row in table.rows for condition in row.conditions) or len(
        origin.counts
    ) != len(table.rows):
        return (
            None,
            f"its bounds were changed since they were drafted ({origin.note()}); name other data with --against",
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
    ready = table_on_data(book, table, on, column=column, read_as=read_as)
    step, run = ready.step, ready.run(on_rows)
    lowest, highest = (None, None) if then is None else (then.lowest, then.highest)
    seen = RangeSeen(lowest, highest)
    for batch in run.batches(ready.plan.source_columns or None):
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
        ready.prepared.source.shown_name,
        report.rows_by_row,
        report.missing,
        report.unmatched,
        "",
        seen.lowest,
        seen.highest,
    )
    return fall, report, seen
