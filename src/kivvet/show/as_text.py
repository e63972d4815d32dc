"""Reports as the texts that the terminal shows of them, plain and unwrapped."""

from __future__ import annotations

import io
from importlib import import_module
from typing import Any

from kivvet.show.terminal import Terminal

#: By type of a report the module beside this one that prints it, what in it does, and what more it is given.
_PRINTERS: dict[str, tuple[str, str, dict[str, Any]]] = {
    "ApplyReport": ("applied", "print_apply_report", {}),
    "Comparison": ("comparison", "print_comparison", {}),
    "CrossTable": ("summary", "print_summary", {"name": "summary", "with_hint": False}),
    "DoneAgain": ("history", "print_done_again", {}),
    "History": ("history", "print_history", {}),
    "Impact": ("impact", "print_impact", {}),
    "Merged": ("merged", "print_merged", {}),
    "Overview": ("overview", "print_overview", {}),
    "Pins": ("pins", "print_pins", {}),
    "Report": ("findings", "print_report", {}),
    "RowsShown": ("rows", "print_rows", {}),
    "RulesAdopted": ("adopted", "print_adopted", {}),
    "RulesIn": ("rules_workbook", "print_imported", {}),
    "Shares": ("shares", "print_shares", {}),
    "Mends": ("mended", "print_mends", {}),
    "Simpler": ("simpler", "print_simpler", {}),
    "TableReview": ("review", "print_review", {}),
}


def view_of(value: object) -> str | None:
    """Return what the terminal shows of a value; None where it has no view."""
    if type(value).__name__ not in _PRINTERS:
        return None
    module, name, more = _PRINTERS[type(value).__name__]
    text = io.StringIO()
    out = Terminal(file=text)
    getattr(import_module(f"kivvet.show.{module}"), name)(out, value, **more)
    return text.getvalue().rstrip("\n")
