"""The types of formulas in a plan, before any data is read: what does not fit is a finding that points at the place."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

import pyarrow as pa

from kivvet.core.formulas.parser import FormulaError, written_error
from kivvet.core.formulas.tree import ColumnName
from kivvet.core.run.plan import FormulaStep, Plan, Step
from kivvet.core.tables.inputs import Output
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.values import ValueType

TypeOfSource = Callable[[str], ValueType | None]


def type_of_arrow(kind: pa.DataType) -> ValueType | None:
    """Return the type of a column of Arrow; None where it can hold nothing but nulls, or no table reads it."""
    if pa.types.is_dictionary(kind):
        kind = kind.value_type
    tests: list[tuple[ValueType, Callable[[pa.DataType], bool]]] = [
        ("boolean", pa.types.is_boolean),
        ("integer", pa.types.is_integer),
        ("number", pa.types.is_floating),
        ("decimal", pa.types.is_decimal),
        ("date", pa.types.is_date),
        ("datetime", pa.types.is_timestamp),
        ("text", pa.types.is_string),
        ("text", pa.types.is_large_string),
        ("text", pa.types.is_string_view),
    ]
    return next((name for name, is_kind in tests if is_kind(kind)), None)


def formula_faults(plan: Plan, type_of_source: TypeOfSource) -> list[Finding]:
    """Return a finding for each formula whose types do not fit."""
    faults: list[Finding] = []
    made: dict[str, ValueType | None] = {}
    for step in plan.order:
        if isinstance(step, Step):
            made |= types_made(step)
            continue
        kind, fault = formula_type(step, made, type_of_source)
        made |= dict.fromkeys(step.made, kind)
        if fault is not None:
            faults.append(fault)
    return faults


def with_types(plan: Plan, type_of_source: TypeOfSource) -> Plan:
    """Return the plan in which each formula knows the type of its values, as far as columns say it before data is read."""
    made: dict[str, ValueType | None] = {}
    order: list[Step | FormulaStep] = []
    for step in plan.order:
        if isinstance(step, Step):
            made |= types_made(step)
            order.append(step)
            continue
        is_known = all(
            (type_of_source(one.column) if one.from_source else made.get(one.column)) is not None
            for one in step.reads
        )
        kind = formula_type(step, made, type_of_source)[0]
        made |= dict.fromkeys(step.made, kind)
        order.append(replace(step, kind=kind if is_known else None))
    return replace(plan, order=tuple(order))


def types_of_plan(plan: Plan, type_of_source: TypeOfSource) -> dict[str, ValueType | None]:
    """Return the type of each column made; None where it cannot be known."""
    made: dict[str, ValueType | None] = {}
    for step in plan.order:
        made |= (
            types_made(step)
            if isinstance(step, Step)
            else dict.fromkeys(step.made, formula_type(step, made, type_of_source)[0])
        )
    return made


def formula_type(
    step: FormulaStep, made: Mapping[str, ValueType | None], type_of_source: TypeOfSource
) -> tuple[ValueType | None, Finding | None]:
    """Return the type of a formula's values, or the fault in it."""
    read = {one.name: one for one in step.reads}

    def type_of_column(column: ColumnName) -> ValueType | None:
        one = read[column.name]
        return type_of_source(one.column) if one.from_source else made.get(one.column)

    formula = step.formula
    try:
        return formula.type_given(type_of_column), None
    except FormulaError as error:
        message, fix = written_error(error, formula.text)
        places = (formula.place,) if formula.place else ()
        return None, finding("type", message, table=formula.name, places=places, remedy=fix)


def types_made(step: Step) -> dict[str, ValueType | None]:
    """Return the type of each column that a table makes; None where it is a list."""
    kinds: dict[str, ValueType | None] = {}
    for name, (role, *rest) in step.roles:
        if role == "output":
            kinds[name] = _of_output(step.table.output(rest[0]), is_every=step.table.match == "every")
        else:
            kinds[name] = "text" if role == "status" else "integer"
    return kinds


def _of_output(output: Output, *, is_every: bool) -> ValueType | None:
    if not is_every:
        return output.type
    by_way: dict[str, ValueType | None] = {
        "join": "text",
        "count": "integer",
        "flags": "boolean",
        "list": None,
    }
    return by_way.get(output.combine, output.type)
