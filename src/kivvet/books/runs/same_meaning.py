"""Tables that were rewritten since a target was made and are proved to mean the same: what they make is current."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from kivvet.books.runs.memory import Memory
from kivvet.books.runs.record import Record
from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.compare.standing import Rewritten, rewritten
from kivvet.core.read.meaning import SEMANTICS_VERSION, table_fingerprint, table_of
from kivvet.core.run.plan import Plan
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.kept import kept

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook
    from kivvet.core.compare.comparison import Comparison


def rewritten_tables(book: OpenBook, record: Record, plan: Plan) -> dict[str, Rewritten]:
    """Return the tables that have another fingerprint than when a target was made, and only were written anew."""
    if record.semantics != SEMANTICS_VERSION:
        return {}
    found = {}
    for name, table in plan.tables.items():
        before = {column.table_fingerprint for column in record.columns if column.table == name}
        before = before or {key for key, (of, _) in record.definitions.items() if of == name}
        if len(before) != 1:
            continue
        (key,) = before
        if key != table_fingerprint(table) and (same := rewritten_since(book, record, name, key)) is not None:
            found[name] = same
    return found


def rewritten_since(book: OpenBook, record: Record, name: str, key: str) -> Rewritten | None:
    """Return that a table only was written anew since it had a fingerprint, worked out once; None where that is not proven."""
    known = _known_rewritten(book)
    if (name, key) not in known:
        past, made = past_table(book, record, name, key), compared_with_past(book, record, name, key)
        known[name, key] = None
        if past is not None and made is not None:
            known[name, key] = rewritten(past, book.tables[name], made)
    return known[name, key]


def past_definition(book: OpenBook, record: Record, key: str) -> dict[str, Any] | None:
    """Return the definition of a table or a formula as it was, by its fingerprint; None where it is not remembered."""
    definition = Memory.of(book).definition(key)
    if definition is None and key in record.definitions:
        definition = record.definitions[key][1]
    return definition


def past_table(book: OpenBook, record: Record, name: str, key: str) -> Table | None:
    """Return a table as it was, by its fingerprint, read once; None where that is not remembered."""
    known = _known_tables(book)
    if (name, key) not in known:
        definition = past_definition(book, record, key)
        is_table = definition is not None and "formula" not in definition
        known[name, key] = table_of(name, definition) if definition is not None and is_table else None
    return known[name, key]


def compared_with_past(book: OpenBook, record: Record, name: str, key: str) -> Comparison | None:
    """Return how a table differs from what it was, by its fingerprint then, made once; None where that is not remembered,
    or types differ.
    """
    from kivvet.core.compare.compare import compare_tables

    known = _known_comparisons(book)
    if (name, key) not in known:
        past = past_table(book, record, name, key)
        made = None
        if past is not None:
            try:
                made = compare_tables(past, book.tables[name], budget=DEFAULT_BUDGET // 10, shared=True)
            except DataError:
                made = None
        known[name, key] = made
    return known[name, key]


@kept
def _known_tables(_: OpenBook) -> dict[tuple[str, str], Table | None]:
    return {}


@kept
def _known_comparisons(_: OpenBook) -> dict[tuple[str, str], Comparison | None]:
    return {}


@kept
def _known_rewritten(_: OpenBook) -> dict[tuple[str, str], Rewritten | None]:
    return {}
