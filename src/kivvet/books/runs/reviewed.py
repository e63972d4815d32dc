"""Whether a table means what somebody looked through last."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kivvet.books.runs.memory import Memory
from kivvet.core.read.meaning import table_fingerprint, table_of
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.wording import shell_word

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


def is_reviewed(book: OpenBook, table: Table) -> bool:
    """Whether a table means what was reviewed last, however it is written."""
    if table.reviewed is None:
        return False
    if table.reviewed.version == table_fingerprint(table):
        return True
    past = as_reviewed(book, table)
    if past is None:
        return False
    from kivvet.core.compare.compare import compared_rules

    made = compared_rules(past, table, "reviewed")
    return made.is_same and not made.not_compared


def review_text(book: OpenBook, table: Table) -> str:
    """Return when a table was reviewed and by whom, or that it changed since; nothing where it never was."""
    if table.reviewed is None:
        return ""
    is_current = is_reviewed(book, table)
    return f"reviewed {table.reviewed}" if is_current else f"changed since its review of {table.reviewed.on}"


def as_reviewed(book: OpenBook, table: Table) -> Table | None:
    """Return a table as it was reviewed; None where that is not remembered."""
    definition = None if table.reviewed is None else Memory.of(book).definition(table.reviewed.version)
    return None if definition is None or "formula" in definition else table_of(table.name, definition)


def review_findings(book: OpenBook, table: Table) -> list[Finding]:
    """Return a note where a table means something else than what was reviewed."""
    reviewed = table.reviewed
    if reviewed is None or is_reviewed(book, table):
        return []
    return [
        finding(
            "not-reviewed",
            f"it changed since it was reviewed on {reviewed}",
            table=table.name,
            places=() if table.place is None else (table.place,),
            remedy=f"look at what changed, and mark it: kivvet review {shell_word(table.name)}",
        )
    ]
