"""What applying did to the data: reports that account for every row."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Generic, TypeVar

from kivvet.core.run.step_reports import ClassReport, FormulaReport, StepReport, TableReport
from kivvet.core.words.printed import Printed

if TYPE_CHECKING:
    import pandas as pd

REPORT_VERSION = 2
FrameT = TypeVar("FrameT")


@dataclass(frozen=True, slots=True)
class LastRun:
    """What changed since the run before.

    Attributes
    ----------
    made_at : str
        When that was (UTC).
    written : int
        The rows that it wrote.
    classes : tuple of (str, str or None, int, int)
        For each class of which the number of rows changed its column, the class (None: rows without one), and the rows
        then and now.
    no_data : tuple of (int, int)
        The rows of the source that were left out as no data, then and now.
    """

    made_at: str
    written: int
    classes: tuple[tuple[str, str | None, int, int], ...] = ()
    no_data: tuple[int, int] = (0, 0)

    def as_dict(self) -> dict[str, Any]:
        return {
            "made_at": self.made_at,
            "written": self.written,
            "classes": [
                {"column": column, "class": label, "then": then, "now": now}
                for column, label, then, now in self.classes
            ],
            "no_data": {"then": self.no_data[0], "now": self.no_data[1]},
        }


@dataclass(frozen=True, slots=True)
class ApplyReport(Printed):
    """What applying did: rows in all, a `TableReport` for each table and a `FormulaReport` for each formula.

    `notes` are sentences on what was kept otherwise than one might expect; `kept` are the columns that a refresh took
    over as they stood in the target, since nothing that decides them had changed, and that are not counted. `rows` were
    read; of these `left_out` are not written, since the condition `where` of the dataset is not true of them; of
    `undecided` of them it is neither true nor false, as a value is missing. Tables and formulas see, and count, all rows.
    Where a source has grown at its end, `rows` are those that came; `standing` rows were written before and stand as they
    are, neither read nor counted; elsewhere it is None. `no_data` are the rows of the source that were left out as it was
    read, by why; they are none of `rows`. `is_view`: nothing was written but the view, which has so many rows by now.
    `is_merged`: the rows came or changed in a table of a database, and took the place of those of the same key.
    """

    rows: int
    tables: tuple[TableReport, ...]
    dataset: str = ""
    target: str = ""
    formulas: tuple[FormulaReport, ...] = ()
    notes: tuple[str, ...] = ()
    kept: tuple[str, ...] = ()
    by_class: tuple[ClassReport, ...] = ()
    left_out: int = 0
    undecided: int = 0
    where: str = ""
    since: LastRun | None = None
    standing: int | None = None
    no_data: tuple[tuple[str, int], ...] = ()
    is_view: bool = False
    is_merged: bool = False

    @property
    def written(self) -> int:
        """The rows that are kept."""
        return self.rows - self.left_out

    @classmethod
    def of(cls, rows: int, reports: Sequence[StepReport], dataset: str = "", target: str = "") -> ApplyReport:
        """Return the report of what steps report."""
        tables = tuple(report for report in reports if isinstance(report, TableReport))
        formulas = tuple(report for report in reports if isinstance(report, FormulaReport))
        by_class = tuple(report for report in reports if isinstance(report, ClassReport))
        return cls(rows, tables, dataset, target, formulas, by_class=by_class)

    def merged(self, later: ApplyReport) -> ApplyReport:
        """Return the report on these rows and on those of another, which follow them."""
        return replace(
            self,
            rows=self.rows + later.rows,
            tables=tuple(map(TableReport.merged, self.tables, later.tables)),
            formulas=tuple(map(FormulaReport.merged, self.formulas, later.formulas)),
            notes=tuple(dict.fromkeys((*self.notes, *later.notes))),
            by_class=tuple(map(ClassReport.merged, self.by_class, later.by_class)),
            left_out=self.left_out + later.left_out,
            undecided=self.undecided + later.undecided,
        )

    def __repr__(self) -> str:
        return f"<ApplyReport: {self.rows:,} rows, {len(self.tables)} tables, {len(self.formulas)} formulas>"

    def as_dict(self) -> dict[str, Any]:
        """Return the report as plain values: ``{"version": 1, "rows": ..., "tables": [...], "formulas":
        [...]}``.
        """
        return {
            "version": REPORT_VERSION,
            "dataset": self.dataset,
            "target": self.target,
            "is_view": self.is_view,
            "is_merged": self.is_merged,
            "rows": self.rows,
            "where": self.where,
            "written": self.written,
            "left_out": self.left_out,
            "undecided": self.undecided,
            "no_data": [{"why": why, "rows": n} for why, n in self.no_data],
            "tables": [table.as_dict() for table in self.tables],
            "formulas": [formula.as_dict() for formula in self.formulas],
            "by_class": [one.as_dict() for one in self.by_class],
            "notes": list(self.notes),
            "kept": list(self.kept),
            "standing": self.standing,
            "since": None if self.since is None else self.since.as_dict(),
        }

    def to_json(self) -> str:
        """Return the report as JSON text."""
        return json.dumps(self.as_dict(), indent=2, ensure_ascii=False)

    def to_frame(self) -> pd.DataFrame:
        """Return a pandas frame, one row a class of a made column: table, column, class, rows."""
        import pandas as pd

        rows = [
            {"table": table.table, "column": name, "class": label, "rows": n}
            for table in self.tables
            for name, counted in table.classes.items()
            for label, n in counted
        ]
        return pd.DataFrame(rows, columns=["table", "column", "class", "rows"])


@dataclass(frozen=True, slots=True)
class Applied(Generic[FrameT]):
    """A frame with its new columns, and the report on how they came about."""

    frame: FrameT
    report: ApplyReport
