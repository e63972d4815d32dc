"""Rows of a database that came or changed since a target was written: classed alone, and put in the place of those that were there.

The book says by which column they are found (`version`, which grows with each change) and by which they are told apart (`key`). Rows that went
are seen in the number of rows, and then all are classed anew.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from kivvet.books.runs.fingerprints import column_records, where_record
from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.record import HeldRecord, Record
from kivvet.books.runs.same_meaning import rewritten_tables
from kivvet.books.runs.since_then import record_to_go_by
from kivvet.io.databases.database_source import DatabaseSource
from kivvet.io.databases.places import InDatabase
from kivvet.io.locations import Location
from kivvet.io.source_and_target import Source

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


def version_of_source(source: Source) -> object:
    """Return the highest version of the rows of a source; None where it says none."""
    return source.last_version() if isinstance(source, DatabaseSource) else None


def rows_that_changed(
    book: OpenBook, prepared: Prepared, target: Location, held: HeldRecord
) -> tuple[Record, DatabaseSource] | None:
    """Return the record of a table and the rows of its source that came or changed since it was written; None where it is not certain
    that they are found, or that what was made of all others stands.

    They are classed alone where the target is as it was written, by rules and options that are the same, none of which looks at other
    rows than its own, and none leaves rows out.
    """
    source, plan = prepared.source, prepared.plan
    if not isinstance(target, InDatabase) or target.is_view or not isinstance(source, DatabaseSource):
        return None
    if not prepared.dataset.key or plan.needing_all_rows or plan.where is not None:
        return None
    record = record_to_go_by(book, prepared, held)
    if record is None or record.source_version is None or record.where or record.left_out:
        return None
    today = column_records(plan, prepared.types, rewritten_tables(book, record, plan), with_classes=False)
    if [(one.name, one.fingerprint) for one in today] != [
        (column.name, column.fingerprint) for column in record.columns
    ] or record.where != where_record(plan, prepared.types):
        return None
    rest = source.since(record.source_version)
    return None if rest is None else (record, rest)
