"""What decides each column that a plan makes, as hashes, and the definitions behind them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from kivvet.books.runs.record import ColumnRecord
from kivvet.core.read.meaning import (
    definition_of,
    fingerprint,
    formula_meaning,
    meaning_of,
    order_of_rows,
)
from kivvet.core.run.plan import FormulaStep, Plan, Step
from kivvet.core.words.values import ValueType

if TYPE_CHECKING:
    pass


def column_records(plan: Plan, types: Mapping[str, ValueType]) -> tuple[ColumnRecord, ...]:
    """Return the record of each written column: the hash of all that decides it, apart from the source."""
    meanings: dict[str, str] = {}
    made: dict[str, str] = {}
    records: dict[str, ColumnRecord] = {}
    for step in plan.order:
        name = step.formula.name if isinstance(step, FormulaStep) else step.table.name
        if name not in meanings:
            meanings[name] = fingerprint(
                formula_meaning(step.formula) if isinstance(step, FormulaStep) else meaning_of(step.table)
            )
        decides = step.formula.reads if isinstance(step, FormulaStep) else step.table.deciding_reads
        read = [
            [one.name, "source", one.column, types.get(one.column, "")]
            if one.from_source
            else [one.name, "made", made[one.column]]
            for one in step.reads
            if one.name in decides
        ]
        roles = [(one, ("formula",)) for one in step.made] if isinstance(step, FormulaStep) else step.roles
        for column, role in roles:
            is_number = role == ("row",) and isinstance(step, Step)
            order = [order_of_rows(step.table)] if is_number else []  # type: ignore[union-attr]
            made[column] = fingerprint([meanings[name], [*role, *order], read])
            records[column] = ColumnRecord(column, name, made[column], meanings[name])
    return tuple(records[name] for name in plan.written)


def definitions_of(plan: Plan) -> dict[str, tuple[str, dict[str, Any]]]:
    """Return the definitions of the tables and formulas of a plan, by the fingerprints of their meanings."""
    found: dict[str, tuple[str, dict[str, Any]]] = {}
    for table in {step.table.name: step.table for step in plan.steps}.values():
        if (definition := definition_of(table)) is not None:
            found[fingerprint(meaning_of(table))] = (table.name, definition)
    for formula in {step.formula.name: step.formula for step in plan.formula_steps}.values():
        meaning = formula_meaning(formula)
        found[fingerprint(meaning)] = (formula.name, meaning)
    return found
