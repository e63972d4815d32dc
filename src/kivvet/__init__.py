"""Kivvet keeps recoding rules in one shared place, proves them complete, applies them and keeps the result current."""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from kivvet.book.book import Book, open_book
    from kivvet.core.applied import Applied, ApplyReport
    from kivvet.core.apply_frame import with_formulas
    from kivvet.core.draft import draft
    from kivvet.core.findings import Finding, Report
    from kivvet.core.look import Look, look
    from kivvet.core.tables import RuleTable
    from kivvet.errors import BookError, DataError, KivvetError, OutputError, Place, TableError

__version__ = "0.1.0"

# Names are loaded on first use, so that `import kivvet` and `kivvet --help` stay light.
_HOMES = {
    "Applied": "kivvet.core.applied",
    "ApplyReport": "kivvet.core.applied",
    "Book": "kivvet.book.book",
    "BookError": "kivvet.errors",
    "DataError": "kivvet.errors",
    "Finding": "kivvet.core.findings",
    "KivvetError": "kivvet.errors",
    "Look": "kivvet.core.look",
    "OutputError": "kivvet.errors",
    "Place": "kivvet.errors",
    "Report": "kivvet.core.findings",
    "RuleTable": "kivvet.core.tables",
    "TableError": "kivvet.errors",
    "draft": "kivvet.core.draft",
    "look": "kivvet.core.look",
    "open_book": "kivvet.book.book",
    "with_formulas": "kivvet.core.apply_frame",
}

__all__ = [
    "Applied",
    "ApplyReport",
    "Book",
    "BookError",
    "DataError",
    "Finding",
    "KivvetError",
    "Look",
    "OutputError",
    "Place",
    "Report",
    "RuleTable",
    "TableError",
    "draft",
    "look",
    "open_book",
    "with_formulas",
]


def __getattr__(name: str) -> Any:
    if name in _HOMES:
        return getattr(import_module(_HOMES[name]), name)
    raise AttributeError(f"module 'kivvet' has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted([*globals(), *__all__])
