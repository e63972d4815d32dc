"""Promises that hold of a table already."""

from __future__ import annotations

from decimal import Decimal

from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.promises.decide import is_kept
from kivvet.core.read.promise_reader import PromiseError, read_promise
from kivvet.core.tables.table import Table
from kivvet.core.words.values import write_value


def proposed(table: Table, budget: int = DEFAULT_BUDGET) -> list[str]:
    """Return promises that hold of a table already, and say something: which way results go as an input rises, between which
    numbers they lie, that every class can occur.
    """
    texts: list[str] = []
    if table.lookup is not None or not table.is_complete or table.match == "every":
        return texts

    def holds(text: str) -> bool:
        try:
            return is_kept(table, read_promise(text, table), budget)
        except PromiseError:
            return False

    for output in table.outputs:
        name = _quoted(output.name)
        for about in table.inputs:
            ways = [f"as {_quoted(about.name)} rises, {name} never {way}" for way in ("falls", "rises")]
            held = [text for text in ways if holds(text)]
            texts += held if len(held) == 1 else []  # both hold where the input changes nothing
        at = [output.name for output in table.outputs].index(output.name)
        results = [row.results[at] for row in table.rows]
        results += [one[output.name] for one in (table.otherwise, table.missing) if output.name in one]
        numbers = [result for result in results if isinstance(result, (int, Decimal))]
        if output.type in ("integer", "number") and numbers and len(numbers) == len(results):
            ends = f"{name} >= {write_value(min(numbers))}", f"{name} <= {write_value(max(numbers))}"
            texts += [text for text in ends if holds(text)]
        if (
            output.type == "text"
            and len(table.classes(output)) > 1
            and (len(table.dimensions) > 1 or table.match == "first")
            and holds(f"every class of {name} can occur")
        ):
            texts.append(f"every class of {name} can occur")
    return texts


def _quoted(name: str) -> str:
    return f'"{name}"' if any(sign in name for sign in ' ",<>=') else name
