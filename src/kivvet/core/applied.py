"""Running a plan over data, and the report that accounts for every row."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns import CodedColumn, Column, arrow_from_column
from kivvet.core.plan import Plan, Step
from kivvet.core.results import MadeColumn, OutputMaker, row_column, status_column
from kivvet.core.values import write_value

if TYPE_CHECKING:
    import pandas as pd

REPORT_VERSION = 1
_MOST_DISTINCT_UNMATCHED = 100_000  # values remembered one by one; beyond, rows are still counted


@dataclass(frozen=True, slots=True)
class TableReport:
    """What one table did to the data.

    Attributes
    ----------
    table, column : str
        The table, and the column it read.
    rows, matched, missing, unmatched : int
        ``matched + missing + unmatched == rows``: rows that a row of the table decided; rows with no value,
        which no row names; rows with a value that no row holds.
    classes : mapping of str to tuple of (str or None, int)
        For each class output made, by the name of its column: classes in order with their rows,
        those without rows too; last None, the rows without a class, if there are any.
    unmatched_values : tuple of (str, int)
        Values that no row holds, with their rows, most frequent first.
    rows_by_row : tuple of int
        For each row of the table the data rows it decided; empty for lookups.
    """

    table: str
    column: str
    rows: int
    matched: int
    missing: int
    unmatched: int
    classes: Mapping[str, tuple[tuple[str | None, int], ...]]
    unmatched_values: tuple[tuple[str, int], ...]
    rows_by_row: tuple[int, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        return {
            "table": self.table, "column": self.column, "rows": self.rows, "matched": self.matched,
            "missing": self.missing, "unmatched": self.unmatched,
            "classes": {name: [{"class": c, "rows": n} for c, n in counted] for name, counted in self.classes.items()},
            "unmatched_values": [{"value": value, "rows": n} for value, n in self.unmatched_values],
        }  # fmt: skip


@dataclass(frozen=True, slots=True)
class ApplyReport:
    """What applying tables did: rows in all, and a `TableReport` for each table applied."""

    rows: int
    tables: tuple[TableReport, ...]
    dataset: str = ""
    target: str = ""

    def __repr__(self) -> str:
        return f"<ApplyReport: {self.rows:,} rows, {len(self.tables)} tables>"

    def as_dict(self) -> dict[str, Any]:
        """Return the report as plain values: ``{"version": 1, "rows": ..., "tables": [...]}``."""
        return {
            "version": REPORT_VERSION, "dataset": self.dataset, "target": self.target, "rows": self.rows,
            "tables": [one.as_dict() for one in self.tables],
        }  # fmt: skip

    def to_json(self) -> str:
        """Return the report as JSON text."""
        return json.dumps(self.as_dict(), indent=2, ensure_ascii=False)

    def to_frame(self) -> pd.DataFrame:
        """Return a pandas frame, one row a class of a made column: table, column, class, rows."""
        import pandas as pd

        rows = [
            {"table": one.table, "column": name, "class": label, "rows": n}
            for one in self.tables for name, counted in one.classes.items() for label, n in counted
        ]  # fmt: skip
        return pd.DataFrame(rows, columns=["table", "column", "class", "rows"])


@dataclass(frozen=True, slots=True)
class Applied:
    """A frame with its new columns, and the report on how they came about."""

    frame: Any
    report: ApplyReport


class Execution:
    """A plan made ready; applied to the data batch by batch, counting as it goes.

    Parameters
    ----------
    plan : Plan
    with_report : bool
        Whether rows are counted; without, single classes are made in one pass.
    """

    def __init__(self, plan: Plan, *, with_report: bool = True) -> None:
        self.plan = plan
        self.with_report = with_report
        self.n_rows = 0
        self.stages = [_Stage(step, with_report=with_report) for step in plan.steps]

    def apply(self, column_named: Callable[[str], Column], n_rows: int) -> dict[str, MadeColumn]:
        """Return the columns made for one batch, by name, written or not."""
        made: dict[str, MadeColumn] = {}
        for stage in self.stages:
            step = stage.step
            column = column_named(step.column) if step.from_source else made[step.column].as_column()
            made.update(stage.apply(column))
        self.n_rows += n_rows
        return made

    def report(self, dataset: str = "", target: str = "") -> ApplyReport:
        """Return the report on all batches so far."""
        return ApplyReport(self.n_rows, tuple(stage.report() for stage in self.stages), dataset, target)


class _Stage:
    """One step made ready, with its counts."""

    def __init__(self, step: Step, *, with_report: bool) -> None:
        self.step = step
        self.table = step.table.compiled
        self.makers = [
            (name, OutputMaker(step.table, step.table.output(output))) for output, name in step.outputs
        ]
        self.with_report = with_report
        self.counts = np.zeros(self.table.n_outcomes, np.int64)
        self.unmatched: Counter[str] = Counter()

    def apply(self, column: Column) -> dict[str, MadeColumn]:
        step = self.step
        if not self.with_report and len(self.makers) == 1 and not step.status and not step.row:
            name, maker = self.makers[0]
            if (labels := maker.labels()) is not None:
                made = self.table.classify(column, labels, name=step.column).labels
                return {name: maker.from_labels(name, made)}
        classified = self.table.classify(column, with_counts=self.with_report, name=step.column)
        outcomes = classified.labels
        if classified.counts is not None:
            self.counts += classified.counts
            if classified.counts[self.table.unmatched]:
                self.remember_unmatched(column, outcomes)
        columns = {name: maker.from_outcomes(name, outcomes) for name, maker in self.makers}
        if step.status:
            columns[step.status] = status_column(step.status, outcomes, self.table.unmatched)
        if step.row:
            columns[step.row] = row_column(step.row, outcomes, self.table.unmatched)
        return columns

    def remember_unmatched(self, column: Column, outcomes: npt.NDArray[Any]) -> None:
        for text, number in value_counts(column, outcomes == self.table.unmatched):
            if text in self.unmatched or len(self.unmatched) < _MOST_DISTINCT_UNMATCHED:
                self.unmatched[text] += number

    def report(self) -> TableReport:
        counts, table = self.counts, self.table
        total = int(counts.sum())
        unmatched, missing = int(counts[table.unmatched]), int(counts[table.missing])
        classes = {}
        for name, maker in self.makers:
            if maker.code_of_outcome is None or (
                self.step.table.lookup is not None and len(maker.classes or ()) > 50
            ):
                continue
            codes = maker.code_of_outcome
            by_class = np.bincount(codes[codes >= 0], counts[codes >= 0], len(maker.classes or ())).astype(
                int
            )
            counted: list[tuple[str | None, int]] = list(
                zip((maker.classes or pa.array([])).to_pylist(), by_class.tolist(), strict=True)
            )
            if none := int(counts[codes < 0].sum()):
                counted.append((None, none))
            classes[name] = tuple(counted)
        ranked = sorted(self.unmatched.items(), key=lambda pair: (-pair[1], pair[0]))
        by_row = tuple(counts[: table.n_rows].tolist()) if self.step.table.lookup is None else ()
        return TableReport(
            self.step.table.name, self.step.column, total, total - unmatched - missing, missing, unmatched,
            classes, tuple(ranked), by_row,
        )  # fmt: skip


def value_counts(column: Column, mask: npt.NDArray[np.bool_]) -> list[tuple[str, int]]:
    """Return the values of the rows in `mask`, written as text, with how often each occurs."""
    if isinstance(column, CodedColumn):
        rows = np.bincount(column.codes[mask].astype(np.intp), minlength=len(column.distinct))
        present = np.flatnonzero(rows)
        texts = arrow_from_column(column.distinct).take(pa.array(present)).to_pylist()
        return [(_text(value), int(n)) for value, n in zip(texts, rows[present], strict=True)]
    counted = pc.value_counts(arrow_from_column(column).filter(pa.array(mask)))
    return [(_text(one["values"]), one["counts"]) for one in counted.to_pylist()]


def _text(value: Any) -> str:
    return repr(value) if isinstance(value, float) else write_value(value)
