"""Promises that hold of the tables of a book already."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.promises.propose import proposed

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


def proposed_promises(
    book: OpenBook, names: Iterable[str] | None, budget: int | None
) -> dict[str, tuple[str, ...]]:
    """Return by table what may be promised of it, and is not yet; see `Book.propose_promises`."""
    found = {}
    for name in sorted(book.tables) if names is None else names:
        table = book.table(name)
        kept = {promise.text for promise in table.promises}
        told = proposed(table, DEFAULT_BUDGET if budget is None else budget)
        if made := tuple(text for text in told if text not in kept):
            found[name] = made
    return found
