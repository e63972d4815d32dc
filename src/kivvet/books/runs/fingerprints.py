"""What decides each column that a plan makes, as hashes, and the definitions behind them."""

from __future__ import annotations

import json
from collections.abc import Container, Iterable, Mapping
from typing import Any

from kivvet.books.runs.record import ColumnRecord
from kivvet.core.compare.standing import Rewritten
from kivvet.core.read.meaning import fingerprint
from kivvet.core.run.plan import Plan
from kivvet.core.run.steps import Step
from kivvet.core.words.values import ValueType
from kivvet.io.locations import Location, format_to

_LONGEST_DEFINITION = 100_000  # of a table or formula in the record of a target, in characters
_MANY_VALUES = _LONGEST_DEFINITION // 4  # which no short definition holds


def shows_classes(target: Location | None) -> bool:
    """Whether a target shows the classes of a column in their order besides its values."""
    return target is not None and format_to(target).keeps_classes


def column_records(
    plan: Plan,
    types: Mapping[str, ValueType],
    rewritten: Mapping[str, Rewritten] | None = None,
    *,
    with_classes: bool,
) -> tuple[ColumnRecord, ...]:
    """Return the record of each written column: the hash of all that decides it, apart from the source.

    Parameters
    ----------
    rewritten : mapping of str to Rewritten, optional
        By table an earlier version, which counts for those columns that it makes as today's does.
    with_classes : bool
        Whether what is written shows the classes of a column in their order besides its values.
    """
    records = _records(plan, types, rewritten or {}, with_classes=with_classes)
    return tuple(records[name] for name in plan.written)


def all_fingerprints(
    plan: Plan,
    types: Mapping[str, ValueType],
    rewritten: Mapping[str, Rewritten] | None = None,
    *,
    with_classes: bool,
) -> dict[str, str]:
    """Return the hash of all that decides each column made, written or not."""
    records = _records(plan, types, rewritten or {}, with_classes=with_classes)
    return {name: one.fingerprint for name, one in records.items()}


def where_record(
    plan: Plan, types: Mapping[str, ValueType], rewritten: Mapping[str, Rewritten] | None = None
) -> str:
    """Return the hash of all that decides which rows are kept, apart from the source; empty where all are."""
    if plan.where is None:
        return ""
    return _records(plan, types, rewritten or {}, with_classes=False)[plan.where].fingerprint


def _records(
    plan: Plan,
    types: Mapping[str, ValueType],
    rewritten: Mapping[str, Rewritten],
    *,
    with_classes: bool,
) -> dict[str, ColumnRecord]:
    meanings: dict[str, str] = {}
    made: dict[str, str] = {}
    records: dict[str, ColumnRecord] = {}
    for step in plan.steps:
        if step.name not in meanings:
            meanings[step.name] = step.fingerprint
        read = [
            [read.name, "source", read.column, types.get(read.column, "")]
            if read.from_source
            else [read.name, "made", made[read.column]]
            for read in step.reads
            if read.name in step.decides
        ]
        past = rewritten.get(step.name)
        for column in step.made:
            meaning = past.fingerprint if past and past.stands(column.role) else meanings[step.name]
            values = fingerprint([meaning, step.meaning_of_column(column), read])
            made[column.name] = values  # what reads it sees values alone
            classes = step.classes_shown(column) if with_classes else ()
            shown = fingerprint([values, list(classes)]) if classes else values
            records[column.name] = ColumnRecord(column.name, step.name, shown, meaning)
    return records


def definitions_of(
    steps: Iterable[Step], remembered: Container[str]
) -> dict[str, tuple[str, dict[str, Any]]]:
    """Return the definitions of tables and formulas, by the fingerprints of their meanings.

    Large ones are left out where the journal remembers them.
    """
    found: dict[str, tuple[str, dict[str, Any]]] = {}
    for step in {step.name: step for step in steps}.values():
        key = step.fingerprint
        if step.n_values > _MANY_VALUES and key in remembered:
            continue
        if (definition := step.definition()) is not None:
            found[key] = (step.name, definition)
    return found


def is_short(definition: Mapping[str, Any]) -> bool:
    """Whether a definition is so short that the record of a target holds it."""
    return len(json.dumps(definition)) <= _LONGEST_DEFINITION
