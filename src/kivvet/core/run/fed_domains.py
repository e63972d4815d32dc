"""Domains that nobody had to declare: what a plan can feed an input, where it is made and not read from data.

An input fed by a formula or by another table has just their values: a rank is 1 or more, a class one of the
classes.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from kivvet.core.formulas.domain import Domain
from kivvet.core.run.plan import Plan
from kivvet.core.run.steps import Read
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import AnyOf, Condition, Equals

#: By table and input what it can be fed.
Fed = Mapping[tuple[str, str], Condition]
#: By table and input what each use of it can feed it; None where nothing limits that.
Uses = dict[tuple[str, str], list[Condition | None]]


def add_uses(uses: Uses, plan: Plan) -> None:
    """Note what each step of a plan feeds the inputs of its table."""
    made = _made(plan)
    for step in plan.table_steps:
        for read in step.reads[: len(step.table.inputs)]:
            limits = None if read.from_source else made.get(read.column)
            uses.setdefault((step.table.name, read.name), []).append(limits)


def joined_uses(uses: Uses) -> Fed:
    """Return what limits an input in all its uses together; inputs that one use leaves unlimited are left
    out.
    """
    joined: dict[tuple[str, str], Condition] = {}
    for key, conditions in uses.items():
        known = [condition for condition in conditions if condition is not None]
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
    """Return a table whose inputs without a domain have what they are fed; the same table where that says
    nothing.
    """
    if table.lookup is not None or not any((table.name, input_.name) in fed for input_ in table.inputs):
        return table
    inputs = tuple(
        replace(input_, domain=fed[table.name, input_.name], is_domain_fed=True)
        if input_.domain is None
        and not input_.domain_of
        and not input_.shape
        and _fits(input_.type, fed.get((table.name, input_.name)))
        else input_
        for input_ in table.inputs
    )
    return table if inputs == table.inputs else replace(table, inputs=inputs)


def _fits(kind: str, condition: Condition | None) -> bool:
    """Whether a domain is of the type of an input."""
    parts = condition.parts if isinstance(condition, AnyOf) else (condition,)
    if condition is None:
        return False
    is_text = any(isinstance(part, Equals) and isinstance(part.value, str) for part in parts) or any(
        isinstance(part, AnyOf) for part in parts
    )
    return kind == "text" if is_text else kind in ("integer", "number")


def _made(plan: Plan) -> dict[str, Condition | None]:
    """Return the values that each made column can have; None where nothing limits them."""
    domains: dict[str, Domain | None] = {}

    def domain_of(read: Read) -> Domain | None:
        return None if read.from_source else domains.get(read.column)

    for step in plan.steps:
        domains |= step.domains(domain_of)
    return {name: None if domain is None else domain.condition() for name, domain in domains.items()}
