"""A dataset made ready to be read: names resolved, types settled, faults found, before data arrives."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.read_data import (
    TypedReader,
    infer_types,
    source_of,
    source_type,
    types_read,
)
from kivvet.core.columns.column import Column
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.formulas.formula import Formula
from kivvet.core.run.execution import Execution
from kivvet.core.run.plan import Plan
from kivvet.core.run.planner import make_plan
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding
from kivvet.core.words.values import ValueType
from kivvet.io.sources import Source

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

OnRows = Callable[[int], None]


@dataclass(frozen=True)
class Prepared:
    """A dataset ready to be read: everything that can be known before data arrives is settled."""

    dataset: Dataset
    source: Source
    plan: Plan
    types: Mapping[str, ValueType]
    inferred: frozenset[str] = frozenset()  # those of the columns whose type the data itself gave


def prepare(book: OpenBook, dataset: Dataset) -> tuple[Prepared, list[Finding]]:
    """Open the source and resolve all names; return the faults too, which are the dataset's own."""
    unusable = book.unusable_tables | book.unusable_formulas
    return prepared_of(dataset, book.tables, book.formulas, unusable)


def plan_of(book: OpenBook, dataset: Dataset) -> tuple[Plan, list[Finding]]:
    """Return the plan of a dataset, and the faults in it; of its source only the headings are read."""
    unusable = book.unusable_tables | book.unusable_formulas
    return make_plan(
        dataset.entries, book.tables, source_of(dataset).names, dataset.renamed, unusable, book.formulas
    )


def prepared_of(
    dataset: Dataset, tables: Mapping[str, Table], formulas: Mapping[str, Formula], unusable: set[str]
) -> tuple[Prepared, list[Finding]]:
    """Do as `prepare` does, with tables and formulas that need not be a book's."""
    source = source_of(dataset)
    plan, faults = make_plan(dataset.entries, tables, source.names, dataset.renamed, unusable, formulas)
    types, more = types_read(dataset, plan, source.names)
    inferred: dict[str, ValueType] = {}
    if source.is_text and (unknown := _untyped(plan, types)):
        inferred = infer_types(source, dataset, unknown).types
        types |= inferred
    plan, misfits = plan.typed(lambda name: source_type(source, types, name))
    faults = [replace(one, dataset=dataset.name) for one in [*faults, *more, *misfits]]
    return Prepared(dataset, source, plan, types, frozenset(inferred)), faults


def _untyped(plan: Plan, types: Mapping[str, ValueType]) -> list[str]:
    """Return the columns of which no table says the type: those that are compared with other columns only."""
    return [
        column
        for column in plan.source_columns
        if column not in types
        and not any(
            step.table.reads[one.name]
            for step in plan.table_steps
            for one in step.reads
            if one.column == column and one.from_source
        )
    ]


def look_ahead(execution: Execution, prepared: Prepared, on_rows: OnRows = lambda _: None) -> None:
    """Work out the formulas that look at other rows, for which the columns they need are read whole.

    Nothing is read where there are none.
    """
    plan = execution.plan
    if not plan.needing_all_rows:
        return
    steps = plan.leading_to(plan.needing_all_rows)
    names = list(dict.fromkeys(one.column for step in steps for one in step.reads if one.from_source))
    reader = TypedReader(prepared.source, prepared.dataset, prepared.types)
    columns, n_rows = reader.whole_columns(names, on_rows)
    execution.look_ahead(columns.__getitem__, n_rows)


def from_made(made: Mapping[str, MadeColumn]) -> Callable[[str], Column]:
    """Return what gives the columns made."""
    return lambda name: made[name].as_column()
