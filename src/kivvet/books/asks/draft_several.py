"""Drafting a table over several columns of data into a book."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from pathlib import Path

import pyarrow as pa

from kivvet.books.asks.data_read import DataRead
from kivvet.books.asks.draft_table import Drafted, free_path, plain_array, written_table
from kivvet.books.asks.look_source import named_columns
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.expressions import ask, column_formula
from kivvet.books.runs.run import Run
from kivvet.core.columns.convert import convert_text
from kivvet.core.draft.cases import CaseCounter, cases_of
from kivvet.core.draft.look import LookBuilder
from kivvet.core.draft.several import draft_combinations, draft_from_cases
from kivvet.core.draft.wishes import Wishes
from kivvet.core.words.values import ValueType

OnRows = Callable[[int], None]


def draft_over_columns(
    book: OpenBook,
    name: str,
    data: DataRead,
    columns: Sequence[str],
    *,
    given: str | Path = "",
    classes: str | None = None,
    wishes: Wishes | None = None,
    as_csv: bool = False,
    replace: bool = False,
    on_rows: OnRows = lambda _: None,
) -> Drafted:
    """Write a new table over several columns of data, which was named as `given`, into a book.

    Without `classes` it has a row for each combination that occurs, or of bins where some are numbers or dates; with them, it is a
    table of few rows that gives them.

    Raises
    ------
    BookError
        If there is a table of that name and `replace` is false.
    DataError
        If the data cannot be read, or there is nothing to draft from.
    """
    path = free_path(book, name, replace=replace)
    source = data.open()
    wanted = list(dict.fromkeys([*columns, *([classes] if classes else [])]))
    is_made = data.is_of_book and not set(wanted) <= set(source.names)
    if is_made:
        types, batches = _made(book, data, wanted, on_rows)
    else:
        named_columns(source, wanted)
        types, batches = data.declared, _read(data, wanted, on_rows)
    builder = LookBuilder(columns, {column: data.words(column) for column in columns}, types)
    counter = CaseCounter(columns)
    for batch in batches:
        builder.see(batch.select(list(columns)))
        counter.add([batch.column(column) for column in columns], batch.column(classes) if classes else None)
    cases = cases_of(counter, builder)
    asked = wishes or Wishes()
    table, report = (
        draft_from_cases(name, cases, asked) if classes else (draft_combinations(name, cases, asked), None)
    )
    return written_table(path, name, table, report, given, as_csv=as_csv)


def _read(data: DataRead, wanted: Sequence[str], on_rows: OnRows) -> Iterator[pa.RecordBatch]:
    source = data.open()
    for batch in data.batches(source, wanted):
        arrays = [
            convert_text(array, "text", data.words(one)).array
            if pa.types.is_string((array := batch.column(one)).type)
            else array
            for one in wanted
        ]
        yield pa.RecordBatch.from_arrays(arrays, names=list(wanted))
        on_rows(batch.num_rows)


def _made(
    book: OpenBook, data: DataRead, wanted: Sequence[str], on_rows: OnRows
) -> tuple[dict[str, ValueType], Iterator[pa.RecordBatch]]:
    """Return the types and the batches of columns some of which a dataset makes."""
    asked = ask(book, data.dataset, data.open(), {one: column_formula(one) for one in wanted})
    types = {name: kind for name, kind in asked.types.items() if kind is not None}

    def batches() -> Iterator[pa.RecordBatch]:
        run = Run(asked.prepared, plan=asked.plan, with_report=False, on_rows=on_rows)
        for batch in run.batches(asked.plan.source_columns or None):
            arrays = [plain_array(batch.made[asked.columns[one]].as_arrow()) for one in wanted]
            yield pa.RecordBatch.from_arrays(arrays, names=list(wanted))
        run.stop_at_faults()

    return types, batches()
