"""What changed in a table since somebody looked it through, and what that moves; marked as reviewed."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.asks.compare_table import compare_in_book
from kivvet.books.asks.impact import impact_in_book
from kivvet.books.files.last_change import last_change
from kivvet.books.files.review_line import write_review
from kivvet.books.runs.memory import Memory
from kivvet.books.runs.other_rules import OtherRules
from kivvet.books.runs.past_run import whoever_runs
from kivvet.books.runs.reviewed import as_reviewed, is_reviewed
from kivvet.core.compare.compare import compared_rules
from kivvet.core.compare.comparison import Comparison
from kivvet.core.read.meaning import definition_of, table_fingerprint
from kivvet.core.run.impact import Impact
from kivvet.core.tables.review import Review
from kivvet.core.words.printed import Printed

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

REVIEW_VERSION = 1


@dataclass(frozen=True)
class TableReview(Printed):
    """A table as whoever reviews it needs to see it.

    Attributes
    ----------
    table, title, owner, note, source : str
        `source`: what it was drafted from.
    last_change : str
        Who changed its files last, and when.
    reviewed : Review or None
    is_current : bool
        Whether it means today what was reviewed.
    comparison : Comparison or None
        Against what was reviewed; None where that is not remembered, or nothing was.
    impact : Impact or None
        What the change since moves in the data.
    promises : tuple of str
        What it promises, as it is written.
    """

    table: str
    title: str
    owner: str
    note: str
    source: str
    last_change: str
    reviewed: Review | None
    is_current: bool
    comparison: Comparison | None = None
    impact: Impact | None = None
    promises: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        reviewed = self.reviewed
        return {
            "version": REVIEW_VERSION,
            "table": self.table,
            "title": self.title,
            "owner": self.owner,
            "note": self.note,
            "promises": list(self.promises),
            "source": self.source,
            "last_change": self.last_change,
            "reviewed": None
            if reviewed is None
            else {"on": reviewed.on, "by": reviewed.by, "note": reviewed.note, "version": reviewed.version},
            "current": self.is_current,
            "comparison": None if self.comparison is None else self.comparison.as_dict(),
            "impact": None if self.impact is None else self.impact.as_dict(),
        }


def review_of(
    book: OpenBook,
    name: str,
    against: str | Path | None = None,
    *,
    data: bool = True,
    on_rows: Callable[[int], None] = lambda _: None,
) -> TableReview:
    """Return a table with what changed since its last review; see `Book.review`."""
    table = book.table(name)
    reviewed = table.reviewed
    is_current = is_reviewed(book, table)
    comparison = impact = None
    past = None if is_current or against is not None else as_reviewed(book, table)
    if against is not None:
        comparison = compare_in_book(book, name, against, data=False)
        impact = impact_in_book(book, [name], against, on_rows=on_rows) if data else None
    elif reviewed is not None and past is not None:
        comparison = compared_rules(past, table, f"reviewed {reviewed.on}")
        called = f"what was reviewed on {reviewed.on}"
        rules = OtherRules({name: past})
        impact = impact_in_book(book, [name], called, rules=rules, on_rows=on_rows) if data else None
    return TableReview(
        name,
        table.title,
        table.owner,
        table.note,
        "" if table.origin is None else table.origin.note(),
        last_change(book.folder, book.files_that_define(name)),
        reviewed,
        is_current,
        comparison,
        impact,
        tuple(promise.text for promise in table.promises),
    )


def mark_reviewed(book: OpenBook, name: str, by: str = "", note: str = "") -> Review:
    """Write into a table's file that it was reviewed today as it is; see `Book.mark_reviewed`."""
    table = book.table(name)
    version = table_fingerprint(table)
    review = Review(
        dt.datetime.now(dt.UTC).date().isoformat(), version, by or whoever_runs(book.folder), note
    )
    write_review(table, book.file_of_table(name), review)
    definition = definition_of(table)
    if definition is not None:
        Memory.of(book).remember_meanings({version: (name, definition)})
    return review
