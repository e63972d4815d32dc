"""Checking a book against the data its datasets read."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from kivvet.book.apply import look_ahead, prepare
from kivvet.book.dataset import Dataset
from kivvet.book.read_data import TypedReader
from kivvet.book.status import status_of
from kivvet.core.applied import Execution, FormulaReport
from kivvet.core.check_data import DataProbe, unused_rows
from kivvet.core.findings import KINDS, Finding, finding
from kivvet.core.formulas.formula import Formula
from kivvet.core.plan import FormulaStep
from kivvet.core.row_findings import RowFindings
from kivvet.errors import DataError, Place, count, listed, shown_path

if TYPE_CHECKING:
    from kivvet.book.book import Book

OnRows = Callable[[int], None]


def check_data(
    book: Book, table_findings: Sequence[Finding], names: set[str], *, only: bool, on_rows: OnRows
) -> tuple[list[Finding], dict[str, int]]:
    """Return all findings, those of the tables with the number of data rows each concerns, and rows read.

    Parameters
    ----------
    table_findings : sequence of Finding
        What is known without data.
    names : set of str
        The tables asked about.
    only : bool
        Whether nothing but findings of those tables is wanted.
    """
    found: list[Finding] = []
    rows_read: dict[str, int] = {}
    affected: dict[int, tuple[int, list[str]]] = {}
    used: dict[str, tuple[npt.NDArray[np.int64], list[str]]] = {}
    for dataset in book.datasets.values():
        try:
            checked = _check_dataset(
                book, dataset, table_findings, names, affected, used, only=only, on_rows=on_rows
            )
        except DataError as error:
            if not only:
                place = error.place or Place(shown_path(dataset.source))
                found.append(
                    finding(
                        "unreadable",
                        error.problem,
                        dataset=dataset.name,
                        places=(place,),
                        remedy=error.fix or "",
                    )
                )
            continue
        if checked is not None:
            found += checked[0]
            rows_read[dataset.name] = checked[1]
    for name, (rows, datasets) in used.items():
        found += unused_rows(book.tables[name], rows, datasets, table_findings)
    counted = [
        _confirmed(replace(one, count=affected[id(one)][0], dataset=listed(affected[id(one)][1])), book)
        if id(one) in affected
        else one
        for one in table_findings
    ]
    return [*counted, *found], rows_read


def _confirmed(one: Finding, book: Book) -> Finding:
    """Return a finding as proven, if it was possible and data rows show it."""
    if not one.possible or not one.count:
        return one
    table = book.tables[one.table]
    severity = one.severity
    if one.kind == "gap":
        severity = RowFindings(table).gap_severity
    elif table.match == "one":
        severity = KINDS[one.kind]
    return replace(one, possible=False, severity=severity)


def _check_dataset(
    book: Book, dataset: Dataset, table_findings: Sequence[Finding], names: set[str],
    affected: dict[int, tuple[int, list[str]]], decided: dict[str, tuple[npt.NDArray[np.int64], list[str]]],
    *, only: bool, on_rows: OnRows,
) -> tuple[list[Finding], int] | None:  # fmt: skip
    prepared, faults = prepare(book, dataset)
    plan = prepared.plan
    used = {step.formula.name if isinstance(step, FormulaStep) else step.table.name for step in plan.order}
    if only and not used & names and not any(one.table in names for one in faults):
        return None
    reader = TypedReader(prepared.source, dataset, prepared.types)
    execution = Execution(plan, refuses_overlaps=False)
    look_ahead(execution, prepared, on_rows)
    probes = [
        DataProbe(step, [one for one in table_findings if one.table == step.table.name])
        if step.table.name in names and step.table.parts.is_complete
        else None
        for step in plan.steps
    ]
    for batch in reader.batches(plan.source_columns or None) if plan.order else ():
        made = execution.apply(batch.column, batch.num_rows)
        for step, probe in zip(plan.steps, probes, strict=True):
            if probe is not None:
                probe.see(step.columns_of(batch.column, lambda name, made=made: made[name].as_column()))  # type: ignore[misc]
        on_rows(batch.num_rows)
    found = [*faults, *reader.faults()]
    for probe, report in zip(probes, execution.report().tables, strict=True):
        if probe is None:
            continue
        found += probe.findings(report, dataset.name)
        for number, (one, _) in enumerate(probe.regions):
            rows, datasets = affected.get(id(one), (0, []))
            affected[id(one)] = rows + probe.rows_in_region[number], [*datasets, dataset.name]
        if report.rows_by_row and book.tables[report.table].parts.is_complete:
            rows_of_table, datasets = decided.get(
                report.table, (np.zeros(len(report.rows_by_row), np.int64), [])
            )
            decided[report.table] = (
                rows_of_table + np.array(report.rows_by_row),
                list(dict.fromkeys([*datasets, dataset.name])),
            )
    for made_by in execution.report().formulas:
        if made_by.formula in names:
            found += formula_findings(made_by, dataset.name, book.formulas.get(made_by.formula))
    if not only and not any(one.severity == "error" for one in faults):
        found += _staleness(book, dataset)
    if only:
        found = [one for one in found if one.table in names]
    return found, execution.n_rows


def formula_findings(report: FormulaReport, dataset: str, formula: Formula | None) -> list[Finding]:
    """Return what there is to say of a formula's values in data."""
    places = (formula.place,) if formula is not None and formula.place is not None else ()
    found = []

    def add(kind: str, message: str, rows: int, remedy: str) -> None:
        found.append(
            finding(
                kind, message, table=report.formula, dataset=dataset, count=rows, places=places, remedy=remedy
            )
        )

    for cause, (n, row) in report.made_missing.items():
        add(
            "no-result", f"{count(n, 'row')} of {dataset} {'has' if n == 1 else 'have'} no result: {cause}; the first is row {row:,}", n,
            "correct the data, or say what such rows get: CASE WHEN ... THEN ... END",
        )  # fmt: skip
    if n := report.without_group:
        add(
            "no-group", f"{count(n, 'row')} of {dataset} {'has' if n == 1 else 'have'} no value in PARTITION BY and count as one group", n,
            f'leave them out: {report.formula} = {{ formula = "...", among = "... IS NOT NULL" }}',
        )  # fmt: skip
    if n := report.without_order:
        add(
            "no-order", f"{count(n, 'row')} of {dataset} {'has' if n == 1 else 'have'} no value in ORDER BY and {'is' if n == 1 else 'are'} placed all the same", n,
            f'leave them out: {report.formula} = {{ formula = "...", among = "... IS NOT NULL" }}',
        )  # fmt: skip
    if n := report.split_ties:
        add(
            "split-ties", f"{count(n, 'row')} of {dataset} are equal in the order and parted by NTILE as they stand in the source", n,
            "add to ORDER BY what tells them apart, or classify by bounds instead",
        )  # fmt: skip
    return found


def _staleness(book: Book, dataset: Dataset) -> list[Finding]:
    if dataset.target is None or not dataset.target.exists():
        return []
    status = status_of(book, dataset)
    if status.state != "stale":
        return []
    reasons = "; ".join(reason.message for reason in status.reasons)
    return [
        finding(
            "stale", f"{listed(status.stale_columns) or 'the target'} of {status.target}: {reasons}", dataset=dataset.name,
            places=(dataset.place,) if dataset.place else (), remedy="kivvet refresh",
        )
    ]  # fmt: skip
