"""What decides each column that a plan makes, as hashes, and the definitions behind them."""

from __future__ import annotations

import json
from collections.abc import Container, Mapping
from typing import Any

from kivvet.books.runs.record import ColumnRecord
from kivvet.core.read.meaning import (
    fingerprint,
)
from kivvet.core.run.plan import Plan
from kivvet.core.words.values import ValueType

_LONGEST_DEFINITION = 100_000  # of a table or formula in the record of a target, in characters
_MANY_VALUES = _LONGEST_DEFINITION // 4  # which no short definition holds


def column_records(
    plan: Plan, types: Mapping[str, ValueType], rewritten: Mapping[str, str] | None = None
) -> tuple[ColumnRecord, ...]:
    """Return the record of each written column: the hash of all that decides it, apart from the source.

    Parameters
    ----------
    rewritten : mapping of str to str, optional
        By table the fingerprint of an earlier version that means the same, which is taken for its own.
    """
    records = _records(plan, types, rewritten or {})
    return tuple(records[name] for name in plan.written)


def all_fingerprints(
    plan: Plan, types: Mapping[str, ValueType], rewritten: Mapping[str, str] | None = None
) -> dict[str, str]:
    """Return the hash of all that decides each column made, written or not."""
    return {name: one.fingerprint for name, one in _records(plan, types, rewritten or {}).items()}


def where_record(
    plan: Plan, types: Mapping[str, ValueType], rewritten: Mapping[str, str] | None = None
) -> str:
    """Return the hash of all that decides which rows are kept, apart from the source; empty where all are."""
    return "" if plan.where is None else _records(plan, types, rewritten or {})[plan.where].fingerprint


def _records(
    plan: Plan, types: Mapping[str, ValueType], rewritten: Mapping[str, str]
) -> dict[str, ColumnRecord]:
    meanings: dict[str, str] = {}
    made: dict[str, str] = {}
    records: dict[str, ColumnRecord] = {}
    for step in plan.steps:
        if step.name not in meanings:
            meanings[step.name] = step.fingerprint
        read = [
            [one.name, "source", one.column, types.get(one.column, "")]
            if one.from_source
            else [one.name, "made", made[one.column]]
            for one in step.reads
            if one.name in step.decides
        ]
        for column in step.made:
            # Which row decides is another thing in a table whose rows were rewritten.
            is_same = step.name in rewritten and column.role != ("row",)
            meaning = rewritten[step.name] if is_same else meanings[step.name]
            made[column.name] = fingerprint([meaning, step.meaning_of_column(column), read])
            records[column.name] = ColumnRecord(column.name, step.name, made[column.name], meaning)
    return records


def definitions_of(plan: Plan, remembered: Container[str]) -> dict[str, tuple[str, dict[str, Any]]]:
    """Return the definitions of the tables and formulas of a plan, by the fingerprints of their meanings.

    Large ones are left out where the journal remembers them.
    """
    found: dict[str, tuple[str, dict[str, Any]]] = {}
    for step in {step.name: step for step in plan.steps}.values():
        key = step.fingerprint
        if step.n_values > _MANY_VALUES and key in remembered:
            continue
        if (definition := step.definition()) is not None:
            found[key] = (step.name, definition)
    return found


def is_short(definition: Mapping[str, Any]) -> bool:
    """Whether a definition is so short that the record of a target holds it."""
    return len(json.dumps(definition)) <= _LONGEST_DEFINITION
