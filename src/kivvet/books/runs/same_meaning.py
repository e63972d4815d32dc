"""Tables that were rewritten since a target was made and are proved to mean the same: what they make is current."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kivvet.books.runs.journal import Journal
from kivvet.books.runs.record import Record
from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.compare.compare import compare_tables
from kivvet.core.read.meaning import SEMANTICS_VERSION, fingerprint, meaning_of, table_of
from kivvet.core.run.plan import Plan
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


def rewritten_tables(book: OpenBook, record: Record, plan: Plan) -> dict[str, str]:
    """Return by table the fingerprint that it had when a target was made, where it has another now and means the same."""
    if record.semantics != SEMANTICS_VERSION:
        return {}
    found = {}
    for name, table in plan.tables.items():
        before = {one.table_fingerprint for one in record.columns if one.table == name}
        before = before or {key for key, (of, _) in record.definitions.items() if of == name}
        if len(before) != 1 or table.lookup is not None:
            continue
        (key,) = before
        if key != fingerprint(meaning_of(table)) and _means_the_same(book, record, key, table):
            found[name] = key
    return found


def past_table(book: OpenBook, record: Record, name: str, key: str) -> Table | None:
    """Return a table as it was, by its fingerprint; None where that is not remembered."""
    definition = Journal(book.folder).definition(key)
    if definition is None and key in record.definitions:
        definition = record.definitions[key][1]
    return None if definition is None or "formula" in definition else table_of(name, definition)


def _means_the_same(book: OpenBook, record: Record, key: str, table: Table) -> bool:
    past = past_table(book, record, table.name, key)
    if past is None:
        return False
    try:
        return compare_tables(past, table, budget=DEFAULT_BUDGET // 10).is_same
    except DataError:  # other inputs or outputs
        return False
