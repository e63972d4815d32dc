"""The classes that a column can have, and the names of the columns that are made one for each of them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence

from kivvet.core.formulas.domain import Domain, domain_of
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.tree import is_condition
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import AnyOf, Condition, Equals
from kivvet.core.words.values import Value, write_value

MOST_CLASSES = 1_000


def classes_of_formula(
    formula: Formula, of_column: Callable[[str], Domain | None]
) -> tuple[Value, ...] | None:
    """Return the values that a formula can give, where its form says them: its texts, true and false, or a few whole
    numbers; None where it does not.
    """
    if formula.type == "boolean" or is_condition(formula.tree):
        return True, False
    domain = domain_of(formula.tree, of_column)
    if domain is None:
        return None
    if domain.texts is not None:
        return domain.texts
    if domain.low is None or domain.high is None:
        return None
    low, high = -int(-domain.low // 1), int(domain.high // 1)
    low += not domain.low_closed and low == domain.low
    high -= not domain.high_closed and high == domain.high
    return tuple(range(low, high + 1)) if 0 <= high - low < MOST_CLASSES else None


def declared_classes(column: str, tables: Iterable[Table]) -> tuple[Value, ...] | None:
    """Return the values that a table which reads a column declares as its domain; None where none lists them."""
    for table in tables:
        for input_ in table.inputs:
            if input_.name == column and input_.domain is not None and not input_.is_domain_fed:
                values = _listed_values(input_.domain)
                if values:
                    return values
    return None


def _listed_values(condition: Condition) -> tuple[Value, ...] | None:
    parts = condition.parts if isinstance(condition, AnyOf) else (condition,)
    values = [part.value for part in parts if isinstance(part, Equals)]
    return tuple(values) if len(values) == len(parts) else None


def names_by_class(pattern: str, column: str, amount: str | None, classes: Sequence[Value]) -> list[str]:
    """Return the names that a pattern gives the columns of classes; those of two may be the same."""
    return [
        pattern.replace("{column}", column)
        .replace("{amount}", amount or "")
        .replace("{number}", str(number))
        .replace("{class}", _safe(write_value(one)) or str(number))
        for number, one in enumerate(classes, 1)
    ]


def _safe(text: str) -> str:
    """Return a class as it may stand in a name: letters and digits of any script, joined by single underscores."""
    if re.fullmatch(r"-\d+(\.\d+)?", text):
        text = f"minus_{text[1:]}"
    return re.sub(r"[\W_]+", "_", text).strip("_")
