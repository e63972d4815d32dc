"""A table as it was when it was applied last, from the records that travel with targets, and the journal."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kivvet.books.runs.record import Record, read_record
from kivvet.books.runs.same_meaning import past_table
from kivvet.core.read.meaning import MOST_REMEMBERED_ROWS
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError
from kivvet.io.locations import is_there

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


def last_applied(book: OpenBook, name: str) -> tuple[Table, str]:
    """Return a table as it was when a target was written last that uses it, and when that was (UTC).

    Raises
    ------
    BookError
        If no target was made with it, or how it was is not remembered.
    """
    records: list[Record] = []
    for dataset in book.datasets.values():
        if dataset.target is not None and is_there(dataset.target):
            record = read_record(dataset.target).record
            records += [record] if record is not None else []
    made = [
        (record.made_at, column.table_fingerprint, record)
        for record in records
        for column in record.columns
        if column.table == name
    ]
    if not made:
        raise BookError(f"table {name} was not applied yet", fix="apply it first: kivvet apply")
    at, fingerprint, record = max(made, key=lambda one: one[0])
    table = past_table(book, record, name, fingerprint)
    if table is None:
        raise BookError(
            f"how table {name} was when it was applied last is not remembered",
            expected=f"a table of at most {MOST_REMEMBERED_ROWS:,} rows, applied on this machine",
            fix="compare it with a revision or another file",
        )
    return table, at
