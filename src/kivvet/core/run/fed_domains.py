"""Domains that nobody had to declare: what a plan can feed an input, where it is made and not read from data.

An input fed by a formula or by another table has just their values: a rank is 1 or more, a class one of the classes.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from kivvet.core.formulas.domain import Domain, domain_of
from kivvet.core.run.plan import FormulaStep, Plan, Step
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import AnyOf, Condition, Equals

#: By table and input what it can be fed.
Fed = Mapping[tuple[str, str], Condition]
#: By table and input what each use of it can feed it; None where nothing limits that.
Uses = dict[tuple[str, str], list[Condition | None]]
_MOST_CLASSES = 1_000


def add_uses(uses: Uses, plan: Plan) -> None:
    """Note what each step of a plan feeds the inputs of its table."""
    made = _made(plan)
    for step in plan.steps:
        for one in step.reads[: len(step.table.inputs)]:
            limits = None if one.from_source else made.get(one.column)
            uses.setdefault((step.table.name, one.name), []).append(limits)


def joined_uses(uses: Uses) -> Fed:
    """Return what limits an input in all its uses together; inputs that one use leaves unlimited are left out."""
    joined: dict[tuple[str, str], Condition] = {}
    for key, conditions in uses.items():
        known = [one for one in conditions if one is not None]
        if len(known) == len(conditions):
            different = tuple(dict.fromkeys(known))
            joined[key] = different[0] if len(different) == 1 else AnyOf(different)
    return joined


def fed_by(plans: Iterable[Plan]) -> Fed:
    """Return by table and input what plans can feed it, for inputs that they limit."""
    uses: Uses = {}
    for plan in plans:
        add_uses(uses, plan)
    return joined_uses(uses)


def limited(table: Table, fed: Fed) -> Table:
    """Return a table whose inputs without a domain have what they are fed; the same table where that says nothing."""
    if table.lookup is not None or not any((table.name, one.name) in fed for one in table.inputs):
        return table
    inputs = tuple(
        replace(one, domain=fed[table.name, one.name], is_domain_fed=True)
        if one.domain is None
        and not one.domain_of
        and not one.shape
        and _fits(one.type, fed.get((table.name, one.name)))
        else one
        for one in table.inputs
    )
    return table if inputs == table.inputs else replace(table, inputs=inputs)


def _fits(kind: str, condition: Condition | None) -> bool:
    """Whether a domain is of the type of an input."""
    parts = condition.parts if isinstance(condition, AnyOf) else (condition,)
    if condition is None:
        return False
    is_text = any(isinstance(one, Equals) and isinstance(one.value, str) for one in parts) or any(
        isinstance(one, AnyOf) for one in parts
    )
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
