"""A table of a book held to a source: a dataset as it feeds the table, or any data that has its columns."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

from kivvet.books.asks.data_read import data_read
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.prepare import Prepared, prepared_of
from kivvet.books.runs.run import Run
from kivvet.core.run.entries import Entry
from kivvet.core.run.plan import Plan
from kivvet.core.run.table_step import TableStep
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError, TableError
from kivvet.core.words.wording import did_you_mean, listed

OnRows = Callable[[int], None]


@dataclass(frozen=True)
class TableOnData:
    """A table made ready to be held to a source.

    Attributes
    ----------
    prepared : Prepared
    plan : Plan
        What leads to the table, and no more.
    step : TableStep
        The table, with the columns that it reads.
    """

    prepared: Prepared
    plan: Plan
    step: TableStep

    def run(self, on_rows: OnRows = lambda _: None) -> Run:
        """Return a pass over the source."""
        return Run(self.prepared, plan=self.plan, on_rows=on_rows)


def table_on_data(
    book: OpenBook, table: Table, on: str | Path, *, column: str | None = None, read_as: str = ""
) -> TableOnData:
    """Return a table made ready to be held to a dataset or a file.

    Raises
    ------
    TableError
        If what leads to the table has faults.
    DataError
        If the source cannot be read, lacks a column, or feeds the table in several ways.
    """
    data = data_read(book, on, read_as)
    dataset = data.dataset
    entries = [replace(entry, is_written=False) for entry in dataset.entries]
    is_fed = any(entry.table == table.name and entry.by_class is None for entry in entries)
    if column is not None or not is_fed:
        reads = {} if column is None else {table.inputs[0].name: column}
        entries.append(Entry(table.name, reads, keep=_own_names(table), is_written=False))
    prepared, faults = prepared_of(
        replace(dataset, entries=tuple(entries), where=None),
        data.open(),
        book.tables,
        book.formulas,
        book.unusable_tables | book.unusable_formulas,
    )
    steps = {step.columns: step for step in prepared.plan.table_steps if step.table.name == table.name}
    if column is not None:
        steps = {read: one for read, one in steps.items() if read == (dataset.renamed.get(column, column),)}
    if not steps:
        wanted = column or listed(input_.name for input_ in table.inputs)
        made = [name for name in prepared.plan.types if "\0" not in name]
        if any(fault.kind == "unknown-column" for fault in faults):
            raise DataError(
                f"there is no column {wanted!r}"
                if column
                else f"table {table.name!r} reads {wanted}, which is not all there",
                expected=f"one of: {listed([*prepared.source.names, *made], 20)}",
                fix=did_you_mean(wanted, [*prepared.source.names, *made])
                or "say which to read: --column COLUMN",
            )
        raise TableError([fault for fault in faults if fault.severity == "error"])
    if len(steps) > 1:
        raise DataError(
            f"dataset {dataset.name!r} applies table {table.name!r} to {listed((', '.join(one) for one in steps), 8)}",
            expected="one column",
            fix="say which: --column COLUMN" if len(table.inputs) == 1 else "hold a file against it",
        )
    (step,) = steps.values()
    plan = replace(prepared.plan, steps=prepared.plan.leading_to([step]), written=step.made_names, where=None)
    return TableOnData(prepared, plan, step)


def _own_names(table: Table) -> tuple[tuple[str, str], ...]:
    """Return names for the outputs that nothing else has."""
    return tuple((output.name, f"\0{output.name}") for output in table.outputs)
