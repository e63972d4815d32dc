"""What a report of a book holds, as values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

from kivvet.books.asks.history import RunTold, TableVersion
from kivvet.books.asks.overview import (
    DatasetListed,
    FormulaListed,
    TableListed,
)
from kivvet.books.runs.status import DatasetStatus
from kivvet.core.picture.bars import Bars
from kivvet.core.picture.histogram import Histogram
from kivvet.core.picture.paints import Paint
from kivvet.core.picture.region_map import RegionMap
from kivvet.core.picture.triangle import Triangle
from kivvet.core.run.step_reports import FormulaReport, TableReport
from kivvet.core.words.findings import Finding, Report

FACTS_VERSION = 1


@dataclass(frozen=True)
class TableTold:
    """A table as people read it, with what data makes of it.

    Attributes
    ----------
    listed : TableListed
    heads : tuple of str
        Of its rows: inputs, `when`, outputs.
    n_asked : int
        How many of them are conditions.
    rows : tuple of (tuple of str, str)
        Cells and note of each row, the first of many.
    rest : tuple of (str, str)
        What holds where no row decides, in words, and what that gives.
    findings : tuple of Finding
    examples : tuple of tuples of str
        Headings, then the cells of each.
    counts : tuple of int, or None
        Rows of data by row of the table, of all datasets that use it; None where none was read.
    counted : tuple of (str, TableReport)
        By dataset what it did to the data.
    column_paints : mapping of (str, str) to mapping of str to Paint
        By dataset and column that it made there what stands for its classes.
    picture : Bars, Histogram, RegionMap, Triangle or None
    paints : mapping of str to mapping of str to Paint
        By output what stands for its classes.
    last_change : str
    versions : tuple of TableVersion
        The last ones, of those that runs used.
    """

    listed: TableListed
    heads: tuple[str, ...]
    n_asked: int
    rows: tuple[tuple[tuple[str, ...], str], ...]
    rest: tuple[tuple[str, str], ...] = ()
    findings: tuple[Finding, ...] = ()
    examples: tuple[tuple[str, ...], ...] = ()
    counts: tuple[int, ...] | None = None
    counted: tuple[tuple[str, TableReport], ...] = ()
    column_paints: Mapping[tuple[str, str], Mapping[str, Paint]] = field(default_factory=dict)
    picture: Bars | Histogram | RegionMap | Triangle | None = None
    paints: Mapping[str, Mapping[str, Paint]] = field(default_factory=dict)
    last_change: str = ""
    versions: tuple[TableVersion, ...] = ()


@dataclass(frozen=True)
class StepTold:
    """A step of a dataset: the table or formula, and the columns it reads and makes."""

    name: str
    is_table: bool
    reads: tuple[str, ...]
    makes: tuple[str, ...]


@dataclass(frozen=True)
class DatasetTold:
    """A dataset, what it makes, and what became of it.

    Attributes
    ----------
    listed : DatasetListed
    status : DatasetStatus or None
        None where it could not be told, for the reason `problem`.
    rows : int or None
        That were read; None where no data was.
    left_out : int
        Those of them that `where` leaves out; tables and formulas see, and count, all rows.
    steps : tuple of StepTold
        In the order of computation.
    panels : tuple of Bars
        The rows of each class, by column.
    runs : tuple of RunTold
        The last ones.
    n_runs : int
    problem : str
    """

    listed: DatasetListed
    status: DatasetStatus | None
    rows: int | None = None
    left_out: int = 0
    steps: tuple[StepTold, ...] = ()
    panels: tuple[Bars, ...] = ()
    runs: tuple[RunTold, ...] = ()
    n_runs: int = 0
    problem: str = ""


@dataclass(frozen=True)
class FormulaTold:
    """A formula, its findings, and by dataset what it made."""

    listed: FormulaListed
    note: str
    findings: tuple[Finding, ...] = ()
    counted: tuple[tuple[str, FormulaReport], ...] = ()


@dataclass(frozen=True)
class BookFacts:
    """All that there is to say of a book, or of some datasets of it.

    Attributes
    ----------
    title : str
    about : tuple of str
        The datasets that it is about; empty for the whole book.
    made_at : str
        When (UTC).
    check : Report
    tables, formulas, datasets : tuple
    unreadable : tuple of str
        What is in the book and could not be read.
    """

    title: str
    about: tuple[str, ...]
    made_at: str
    check: Report
    tables: tuple[TableTold, ...]
    formulas: tuple[FormulaTold, ...]
    datasets: tuple[DatasetTold, ...]
    unreadable: tuple[str, ...] = ()

    def as_dict(self) -> dict[str, Any]:
        """Return it as plain values."""
        return {
            "version": FACTS_VERSION,
            "title": self.title,
            "about": list(self.about),
            "made_at": self.made_at,
            "check": self.check.as_dict(),
            "unreadable": list(self.unreadable),
            "tables": [
                {
                    **asdict(table.listed),
                    "heads": list(table.heads),
                    "shown_rows": [{"cells": list(cells), "note": note} for cells, note in table.rows],
                    "rest": [list(each) for each in table.rest],
                    "examples": [list(cells) for cells in table.examples],
                    "rows_of_data": None if table.counts is None else list(table.counts),
                    "counted": [{"dataset": name, **report.as_dict()} for name, report in table.counted],
                    "picture": None if table.picture is None else table.picture.as_dict(),
                    "last_change": table.last_change,
                    "versions": [version.as_dict() for version in table.versions],
                }
                for table in self.tables
            ],
            "formulas": [
                {
                    **asdict(formula.listed),
                    "note": formula.note,
                    "counted": [{"dataset": name, **report.as_dict()} for name, report in formula.counted],
                }
                for formula in self.formulas
            ],
            "datasets": [
                {
                    **asdict(dataset.listed),
                    "status": None if dataset.status is None else dataset.status.as_dict(),
                    "rows": dataset.rows,
                    "left_out": dataset.left_out,
                    "problem": dataset.problem or dataset.listed.problem,
                    "steps": [asdict(step) for step in dataset.steps],
                    "runs": [run.as_dict() for run in dataset.runs],
                    "n_runs": dataset.n_runs,
                }
                for dataset in self.datasets
            ],
        }
