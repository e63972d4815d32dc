"""The texts that a table lists, and what it gives them."""

from __future__ import annotations

from kivvet.core.tables.table import Result, Table
from kivvet.core.words.conditions import AnyOf, Equals


def results_by_text(table: Table) -> dict[str, tuple[Result, ...]]:
    """Return by text the results of a table of one text input that lists texts, a mapping or a lookup; else nothing."""
    if table.lookup is not None:
        keys = table.lookup.keys
        if len(keys) != 1 or table.lookup.ranges or keys[0].about.type != "text":
            return {}
        results = zip(*(array.to_pylist() for array in table.lookup.results), strict=True)
        return {
            text: row
            for text, row in zip(keys[0].shown.to_pylist(), results, strict=True)
            if text is not None
        }
    if len(table.inputs) != 1 or table.inputs[0].type != "text" or any(row.when for row in table.rows):
        return {}
    found: dict[str, tuple[Result, ...]] = {}
    for row in table.rows:
        (asked,) = row.conditions
        for part in asked.parts if isinstance(asked, AnyOf) else (asked,):
            if isinstance(part, Equals) and isinstance(part.value, str):
                found.setdefault(part.value, row.results)
    return found
