"""What the data of a book says of its tables: rows by class and by row of the table, values of a column, rows that meet a
condition.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace

import pyarrow.compute as pc

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.fed_domains import known_plan
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.run import Run, RunBatch
from kivvet.core.classify.compiled import compile_table
from kivvet.core.columns.column import arrow_from_column
from kivvet.core.run.step_reports import TableReport
from kivvet.core.run.table_step import TableStep
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.conditions import Condition
from kivvet.core.words.errors import KivvetError

OnRows = Callable[[int], None]
#: While one waits, no more rows are read than these.
MOST_ROWS = 200_000
_MOST_VALUES = 50


@dataclass
class DataSeen:
    """What was counted of the data of a book as it stood then.

    Attributes
    ----------
    reports : dict of str to list of (str, TableReport)
        By table, what it does to the rows of each dataset that uses it.
    """

    reports: dict[str, list[tuple[str, TableReport]]] = field(default_factory=dict)

    @classmethod
    def of(cls, book: OpenBook, on_rows: OnRows) -> DataSeen:
        """Read all data of a book, and count."""
        made = cls()
        for dataset in book.datasets.values():
            try:
                prepared, _ = prepare(book, dataset)
                run = Run(prepared, on_rows=on_rows)
                for _ in run.batches(run.plan.source_columns or None):
                    pass
                found = run.report(dataset.name).tables
            except KivvetError:
                continue  # which the check of its data tells
            for report in found:
                made.reports.setdefault(report.table, []).append((dataset.name, report))
        return made


def steps_of(book: OpenBook, table: str) -> Iterator[tuple[Dataset, TableStep]]:
    """Yield the datasets that use a table, with the steps that do."""
    for dataset in book.datasets.values():
        plan, _ = known_plan(book, dataset)
        for step in () if plan is None else plan.table_steps:
            if step.table.name == table:
                yield dataset, step


def values_of(book: OpenBook, table: str, name: str) -> list[tuple[str, int]]:
    """Return values of an input in the data that is fed to a table, the most frequent ones first, each with its rows."""
    counted: dict[str, int] = {}
    for dataset, step in steps_of(book, table):
        if name not in [read.name for read in step.reads]:
            continue
        try:
            for batch in _batches(book, dataset, step):
                array = arrow_from_column(batch.columns_of(step)[name]).drop_null()
                for one in pc.value_counts(array).to_pylist() if len(array) else ():
                    text = (
                        str(one["values"]).lower() if isinstance(one["values"], bool) else str(one["values"])
                    )
                    counted[text] = counted.get(text, 0) + one["counts"]
                if len(counted) > 50 * _MOST_VALUES:
                    break
        except KivvetError:
            continue
    return sorted(counted.items(), key=lambda one: (-one[1], one[0]))[:_MOST_VALUES]


@dataclass(frozen=True)
class Meeting:
    """How many rows of a dataset meet a condition on a column, of those that were read; whether these are all."""

    dataset: str
    column: str
    rows: int
    n_read: int
    is_whole: bool


def rows_that_meet(book: OpenBook, table: Table, about: Input, condition: Condition) -> list[Meeting]:
    """Return for each dataset that uses a table how many rows meet a condition on one of its inputs."""
    yes = Output("meets", "text")
    asked = Table(
        "meets",
        (about,),
        (yes,),
        (Row(1, (condition,), ("yes",)),),
        otherwise={"meets": "no"},
        missing={"meets": "no"},
    )
    found = []
    for dataset, step in steps_of(book, table.name):
        compiled = compile_table(asked)
        rows = n_read = 0
        try:
            for batch in _batches(book, dataset, step):
                made = compiled.classify({about.name: batch.columns_of(step)[about.name]})
                rows += int((made.labels == 0).sum())
                n_read += batch.n_rows
        except KivvetError:
            continue
        column = next(read.column for read in step.reads if read.name == about.name)
        found.append(Meeting(dataset.name, column, rows, n_read, n_read < MOST_ROWS))
    return found


def _batches(book: OpenBook, dataset: Dataset, step: TableStep) -> Iterator[RunBatch]:
    prepared, _ = prepare(book, dataset)
    plan = prepared.plan
    step = next(
        one for one in plan.table_steps if one.table.name == step.table.name and one.columns == step.columns
    )
    part = replace(plan, steps=plan.leading_to([step]), written=(), where=None)
    run = Run(prepared, plan=part, with_report=False)
    yield from run.batches(part.source_columns or None, MOST_ROWS)
