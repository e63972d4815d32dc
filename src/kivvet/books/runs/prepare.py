"""A dataset made ready to be read: names resolved, types settled, faults found, before data arrives."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.read_data import (
    Inferred,
    infer_types,
    source_type,
    types_read,
)
from kivvet.core.formulas.formula import Formula
from kivvet.core.run.plan import Plan
from kivvet.core.run.planner import make_plan
from kivvet.core.run.where import where_misfit
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import did_you_mean, listed
from kivvet.io.source_and_target import Source

OnRows = Callable[[int], None]


@dataclass(frozen=True)
class Prepared:
    """A dataset ready to be read: everything that can be known before data arrives is settled."""

    dataset: Dataset
    source: Source
    plan: Plan
    types: Mapping[str, ValueType]
    inferred: frozenset[str] = frozenset()  # those of the columns whose type the data itself gave
    long_wholes: Mapping[str, str] = field(default_factory=dict)  # as of `Inferred`


def prepared_of(
    dataset: Dataset,
    source: Source,
    tables: Mapping[str, Table],
    formulas: Mapping[str, Formula],
    unusable: set[str],
    *,
    with_all_types: bool = False,
    planned: tuple[Plan, list[Finding]] | None = None,
) -> tuple[Prepared, list[Finding]]:
    """Do as `prepare` does, with tables and formulas that need not be a book's; `planned`, where that is known already."""
    plan, faults = planned or make_plan(
        dataset.entries, tables, source.names, dataset.renamed, unusable, formulas, where=dataset.where
    )
    types, more = types_read(dataset, plan, source.names)
    inferred = Inferred({}, {})
    unknown = (
        [name for name in source.names if name not in types] if with_all_types else _untyped(plan, types)
    )
    if source.is_text and unknown:
        inferred = infer_types(source, dataset, unknown)
        types |= inferred.types
    plan, misfits = plan.typed(lambda name: source_type(source, types, name))
    if (misfit := where_misfit(plan, dataset.where)) is not None:
        misfits.append(misfit)
    faults = [replace(one, dataset=dataset.name) for one in [*faults, *more, *misfits]]
    if any(fault.kind == "unknown-column" for fault in faults) and (
        fitting := source.options_that_fit("delimiter")
    ):
        faults = [
            replace(fault, remedy=fitting) if fault.kind == "unknown-column" else fault for fault in faults
        ]
    faults += [
        finding(
            "unknown-column",
            f"key names {name!r}, which is no column of {source.shown_name}",
            dataset=dataset.name,
            places=(dataset.place,) if dataset.place else (),
            remedy=did_you_mean(name, source.names) or f"columns there: {listed(source.names)}",
        )
        for name in dataset.key
        if name not in source.names
    ]
    faults += [
        finding(note.kind, note.message, dataset=dataset.name, places=(note.place,), remedy=note.fix)
        for note in source.notes
    ]
    found = Prepared(dataset, source, plan, types, frozenset(inferred.types), inferred.long_wholes)
    return found, faults


def _untyped(plan: Plan, types: Mapping[str, ValueType]) -> list[str]:
    """Return the columns of which no table says the type: those that are compared with other columns only."""
    return [
        column
        for column in plan.source_columns
        if column not in types
        and not any(
            step.table.reads[read.name]
            for step in plan.table_steps
            for read in step.reads
            if read.column == column and read.from_source
        )
    ]
