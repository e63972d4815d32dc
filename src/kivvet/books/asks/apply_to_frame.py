"""Applying tables and formulas of a book to a frame in memory, or to a stream of batches."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, TypeVar, cast

import pyarrow as pa

from kivvet.books.asks.apply_to_spark import apply_to_spark, is_spark
from kivvet.books.files.open_book import OpenBook
from kivvet.core.formulas.formula import Formula
from kivvet.core.read.options import Faults, Options
from kivvet.core.run.batches import apply_to_batches
from kivvet.core.run.entries import Entry, names_used, parse_entries
from kivvet.core.run.frames import apply_entries
from kivvet.core.run.reports import Applied
from kivvet.core.run.where import parse_where
from kivvet.core.words.errors import DataError, TableError

FrameT = TypeVar("FrameT")


def apply_to_frame(
    book: OpenBook,
    frame: FrameT,
    columns: Sequence[str | Mapping[str, Any]],
    *,
    where: str | None = None,
    order_by: Sequence[str] = (),
    with_report: bool = True,
) -> Applied[FrameT]:
    """Return a frame with new columns, and the report; see `Book.apply`."""
    entries, condition = _read(book, columns, where)
    if is_spark(frame):
        of_spark: Any = frame
        made = apply_to_spark(
            of_spark, entries, book.tables, formulas=book.formulas, where=condition, order_by=order_by
        )
        return cast("Applied[FrameT]", made)
    if order_by:
        raise DataError(
            "order_by is for frames of Spark: others have their rows in order", fix="leave it out"
        )
    return apply_entries(
        frame, entries, book.tables, formulas=book.formulas, where=condition, with_report=with_report
    )


def apply_to_stream(
    book: OpenBook, source: Any, columns: Sequence[str | Mapping[str, Any]], *, where: str | None = None
) -> pa.RecordBatchReader:
    """Return a stream with new columns; see `Book.apply_batches`."""
    entries, condition = _read(book, columns, where)
    return apply_to_batches(source, entries, book.tables, formulas=book.formulas, where=condition)


def _read(
    book: OpenBook, columns: Sequence[str | Mapping[str, Any]], where: str | None
) -> tuple[list[Entry], Formula | None]:
    """Return what is asked for, understood; raise `TableError` where it cannot be, or cannot be used."""
    entries, faults = parse_entries(columns)
    condition = None
    if where is not None:
        options = Options({"where": where}, Faults())
        condition = parse_where(options)
        faults += options.faults.found
    used = book.reached(*names_used(entries, condition))
    faults += [found for found in book.reading_findings if found.table in used and found.severity == "error"]
    if faults:
        raise TableError(faults, where="the columns asked of a frame")
    return list(entries), condition
