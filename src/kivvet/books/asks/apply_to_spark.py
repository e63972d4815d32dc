"""Columns made of a frame of Spark, lazily, and the report on them; by the evaluator that there is everywhere."""

from __future__ import annotations

import pickle
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, fields
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from kivvet.books.asks.spark_work import HIDDEN, REPORT, SparkSchema, all_parts, parts_of, windows_of
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.functions import AGGREGATES
from kivvet.core.run.entries import Entry
from kivvet.core.run.execution import Execution
from kivvet.core.run.frames import plan_for
from kivvet.core.run.plan import Plan
from kivvet.core.run.reports import ApplyReport
from kivvet.core.run.table_step import in_order_told
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.wording import listed

if TYPE_CHECKING:
    from pyspark.sql import DataFrame


def is_spark(frame: object) -> bool:
    """Whether it is a frame of Spark."""
    kind = type(frame)
    return kind.__name__ == "DataFrame" and kind.__module__.startswith("pyspark.")


def apply_to_spark(
    frame: DataFrame,
    entries: Sequence[Entry],
    tables: Mapping[str, Table],
    *,
    formulas: Mapping[str, Formula],
    where: Formula | None,
    order_by: Sequence[str],
) -> SparkApplied:
    """Return a frame of Spark with the columns of the entries, and its report; nothing is read before somebody asks for rows.

    Raises
    ------
    TableError
        If tables have errors, or names are not found.
    DataError
        If types do not fit, or a formula depends on the order of rows and none is said.
    """
    given = SparkSchema(frame, order_by)
    plan = plan_for(given, entries, tables, formulas, where)  # type: ignore[arg-type]
    _refuse_without_order(plan, order_by)
    made = all_parts(frame, plan, given, order_by)
    if plan.where is not None:
        made = made.where(f"`{HIDDEN}{plan.where}`")
    from pyspark.sql import functions

    columns = [functions.col(f"`{name}`") for name in given.names if name not in plan.written]
    columns += [functions.col(f"`{HIDDEN}{name}`").alias(name) for name in plan.written]
    return SparkApplied(made.select(*columns), ReportOnSpark(frame, plan, given, tuple(order_by)))


def _refuse_without_order(plan: Plan, order_by: Sequence[str]) -> None:
    """Raise where a formula depends on the order of rows, which a frame of Spark does not have."""
    if order_by:
        return
    ordered = [
        step.name
        for step in plan.needing_all_rows
        if any(
            window.order or window.name not in AGGREGATES or window.within is not None
            for window in windows_of(step)
        )
    ]
    if ordered:
        raise DataError(
            f"{listed(ordered)} {'depends' if len(ordered) == 1 else 'depend'} on the order of rows, and those of Spark have none",
            expected='columns that together tell rows apart, for example order_by=["sample_id"]',
            fix="give order_by",
        )


class ReportOnSpark:
    """The report on a frame of Spark, which is not complete until all rows have been counted: a `limit` of the frame, or a task that is
    done twice, must not pass for the whole.

    Once `count` has read all rows it has all that an `ApplyReport` has; before, asking for a figure is an error. Rows are numbered as Spark
    gave them, which may be another order each time.
    """

    def __init__(self, frame: DataFrame, plan: Plan, given: SparkSchema, order_by: tuple[str, ...]) -> None:
        self._asked = frame, plan, given, order_by
        self._counted: ApplyReport | None = None

    @property
    def is_complete(self) -> bool:
        """Whether all rows have been counted."""
        return self._counted is not None

    def count(self) -> ApplyReport:
        """Read and classify all rows, once, and return the report on them.

        Raises
        ------
        Exception
            What Spark raises where a task fails.
        """
        if self._counted is None:
            self._counted = _counted(*self._asked)
        return self._counted

    def __getattr__(self, name: str) -> Any:
        if name.startswith("_") or (not hasattr(ApplyReport, name) and name not in _FIGURES):
            raise AttributeError(name)
        if self._counted is None:
            raise DataError(
                "the report is not complete: the rows of a frame of Spark are counted when they are read",
                fix="report.count() reads all of them once",
            )
        return getattr(self._counted, name)

    def __repr__(self) -> str:
        return (
            repr(self._counted) if self._counted else "<ReportOnSpark: not complete, count() reads all rows>"
        )


_FIGURES = frozenset(one.name for one in fields(ApplyReport))


@dataclass(frozen=True)
class SparkApplied:
    """A frame of Spark with its new columns, and the report on it."""

    frame: Any
    report: ReportOnSpark


def _counted(frame: DataFrame, plan: Plan, given: SparkSchema, order_by: tuple[str, ...]) -> ApplyReport:
    parts = parts_of(plan)
    columns = [f"{REPORT}{number}" for number in range(len(parts))]
    made = all_parts(frame, plan, given, order_by, counts=True)
    where = [] if plan.where is None else [f"{HIDDEN}{plan.where}"]
    merged = made.select(*columns, *where).mapInArrow(_merger(len(columns)), "counted binary")
    found: list[ApplyReport | None] = [None] * len(parts)
    left_out = undecided = 0
    for row in merged.collect():
        more, out, unclear = pickle.loads(bytes(row.counted))
        found = [_put_together(one, other) for one, other in zip(found, more, strict=True)]
        left_out, undecided = left_out + out, undecided + unclear
    reports = [one or Execution(Plan(part, ())).report() for one, part in zip(found, parts, strict=True)]
    shown = [step.name for step in plan.steps if plan.where not in step.made_names]
    steps = [step for step in plan.table_steps if step.name in shown]
    tables = [table for report in reports for table in report.tables]
    return ApplyReport(
        reports[0].rows if reports else frame.count(),
        tuple(in_order_told(step, table) for step, table in zip(steps, tables, strict=True)),
        formulas=tuple(each for report in reports for each in report.formulas if each.formula in shown),
        by_class=tuple(each for report in reports for each in report.by_class),
        left_out=left_out,
        undecided=undecided,
    )


def _put_together(one: ApplyReport | None, other: ApplyReport | None) -> ApplyReport | None:
    """Return the report on the rows of two."""
    return other if one is None else one if other is None else one.merged(other)


def _merger(n_reports: int) -> Callable[[Iterator[pa.RecordBatch]], Iterator[pa.RecordBatch]]:
    """Return what puts together what the parts of a plan counted in the rows of a task, and counts the rows that are kept."""

    def merged(batches: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
        reports: list[ApplyReport | None] = [None] * n_reports
        left_out = undecided = 0
        for batch in batches:
            for number in range(n_reports):
                for sent in batch.column(number).drop_null().to_pylist():
                    reports[number] = _put_together(reports[number], pickle.loads(sent))
            if batch.num_columns > n_reports:
                kept = batch.column(n_reports)
                undecided += kept.null_count
                left_out += len(kept) - kept.true_count
        sent = pickle.dumps((reports, left_out, undecided))
        yield pa.RecordBatch.from_arrays([pa.array([sent], pa.binary())], names=["counted"])

    return merged
