"""Domains that nobody had to declare: what the datasets can feed an input, where it is made and not read from a source.

Where every dataset that uses a table feeds an input from a formula or from another table, the input has just their
values: a rank is 1 or more, a class one of the classes. One use that reads a source leaves it unlimited.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING

from kivvet.book.apply import plan_of
from kivvet.core.conditions import AnyOf, Condition, Equals
from kivvet.core.formulas.domain import Domain, domain_of
from kivvet.core.plan import FormulaStep, Plan, Step
from kivvet.core.tables import RuleTable
from kivvet.errors import KivvetError

if TYPE_CHECKING:
    from kivvet.book.book import Book

Fed = Mapping[tuple[str, str], Condition]
_MOST_CLASSES = 1_000


def fed_domains(book: Book) -> Fed:
    """Return by table and input what the datasets can feed it, for inputs that they limit."""
    found: dict[tuple[str, str], list[Condition | None]] = {}
    for dataset in book.datasets.values():
        try:
            plan = plan_of(book, dataset)[0]
        except KivvetError:
            continue  # its source cannot be read, which is told elsewhere
        made = _made(plan)
        for step in plan.steps:
            for one in step.reads[: len(step.table.inputs)]:
                limits = None if one.from_source else made.get(one.column)
                found.setdefault((step.table.name, one.name), []).append(limits)
    joined: dict[tuple[str, str], Condition] = {}
    for key, conditions in found.items():
        known = [one for one in conditions if one is not None]
        if len(known) == len(conditions):
            different = tuple(dict.fromkeys(known))
            joined[key] = different[0] if len(different) == 1 else AnyOf(different)
    return joined


def limited(table: RuleTable, fed: Fed) -> RuleTable:
    """Return a table whose inputs without a domain have what they are fed; the same table where that says nothing."""
    if table.lookup is not None or not any((table.name, one.name) in fed for one in table.inputs):
        return table
    inputs = tuple(
        replace(one, domain=fed[table.name, one.name])
        if one.domain is None and not one.domain_of and not one.shape and _fits(one.type, fed.get((table.name, one.name)))
        else one
        for one in table.inputs
    )  # fmt: skip
    return table if inputs == table.inputs else RuleTable.from_parts(replace(table.parts, inputs=inputs))


def _fits(kind: str, condition: Condition | None) -> bool:
    """Whether a domain is of the type of an input."""
    parts = condition.parts if isinstance(condition, AnyOf) else (condition,)
    if condition is None:
        return False
    is_text = any(isinstance(one, Equals) and isinstance(one.value, str) for one in parts) or any(
        isinstance(one, AnyOf) for one in parts
    )  # fmt: skip
    return kind == "text" if is_text else kind in ("integer", "number")


def _made(plan: Plan) -> dict[str, Condition | None]:
    """Return the values that each made column can have; None where nothing limits them."""
    domains: dict[str, Domain | None] = {}
    made: dict[str, Condition | None] = {}
    for step in plan.order:
        if isinstance(step, FormulaStep):
            read = {one.name: None if one.from_source else domains.get(one.column) for one in step.reads}
            domain = domain_of(step.formula.tree, read.get)
            for name in step.made:
                domains[name] = domain
                made[name] = None if domain is None else domain.condition()
            continue
        for name, texts in _classes(step).items():
            domains[name] = Domain(texts) if texts else None
            made[name] = domains[name].condition() if texts else None  # type: ignore[union-attr]
    return made


def _classes(step: Step) -> dict[str, tuple[str, ...]]:
    """Return the classes of each text column that a table makes by single results, where there are not too many."""
    if step.table.match == "every":
        return {}
    found = {}
    for output, name in step.outputs:
        about = step.table.output(output)
        is_computed = step.table.lookup is None and bool(step.table.computed(about))
        if (
            about.type == "text"
            and not is_computed
            and 0 < len(classes := step.table.classes(about)) <= _MOST_CLASSES
        ):
            found[name] = tuple(str(one) for one in classes)
    return found
