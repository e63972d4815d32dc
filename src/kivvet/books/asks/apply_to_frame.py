"""Applying tables and formulas of a book to a frame in memory."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, TypeVar

from kivvet.books.files.open_book import OpenBook
from kivvet.core.run.entries import parse_entries
from kivvet.core.run.frames import apply_entries
from kivvet.core.run.reports import Applied
from kivvet.core.words.errors import TableError

FrameT = TypeVar("FrameT")


def apply_to_frame(
    book: OpenBook, frame: FrameT, columns: Sequence[str | Mapping[str, Any]], *, with_report: bool = True
) -> Applied[FrameT]:
    """Return a frame with new columns, and the report; see `Book.apply`."""
    entries, faults = parse_entries(columns)
    used = book.reached({entry.table for entry in entries})
    faults += [found for found in book.reading_findings if found.table in used and found.severity == "error"]
    if faults:
        raise TableError(faults, where="the columns asked of a frame")
    return apply_entries(frame, entries, book.tables, formulas=book.formulas, with_report=with_report)
