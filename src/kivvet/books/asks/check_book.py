"""Checking a book against the data its datasets read."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence, Set
from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.in_parts import in_parts_obstacles
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.reviewed import review_findings
from kivvet.books.runs.row_keys import in_dataset
from kivvet.books.runs.run import Run
from kivvet.books.runs.status import status_of
from kivvet.books.runs.table_findings import findings_in_book
from kivvet.books.runs.views import is_view, obstacles_in, view_of
from kivvet.core.check.row_findings import RowFindings
from kivvet.core.classify.input_coder import MisfitError
from kivvet.core.run.data_checks import DataProbe, formula_findings, unused_rows
from kivvet.core.run.examples import formula_example_findings
from kivvet.core.run.row_keys import RowKeys
from kivvet.core.sql.dialect import DIALECTS
from kivvet.core.words.errors import BookError, DataError, KivvetError
from kivvet.core.words.findings import KINDS, Finding, Report, finding, with_severity
from kivvet.core.words.places import Place
from kivvet.core.words.wording import listed
from kivvet.io.locations import is_there, shown_location
from kivvet.io.queued import Behind

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

OnRows = Callable[[int], None]


def check_book(
    book: OpenBook,
    tables: Iterable[str] | None = None,
    *,
    data: bool = True,
    budget: int | None = None,
    engine: str | None = None,
    on_rows: OnRows = lambda _: None,
) -> Report:
    """Return a report of everything wrong with a book, its tables and the data they read; see `Book.check`."""
    all_formulas = set(book.formulas) | book.unusable_formulas
    names = book.own_names | all_formulas if tables is None else set(tables)
    chosen = [book.table(name) for name in sorted(names - book.unusable_tables - all_formulas)]
    found = [
        finding
        for finding in book.reading_findings
        if finding.table in names or (tables is None and not finding.table)
    ]
    for table in chosen:
        found += [*findings_in_book(book, table, budget), *review_findings(book, table)]
    for name in sorted(names & set(book.formulas)):
        found += formula_example_findings(book.formulas[name])
    rows_read: dict[str, int] = {}
    if data:
        found, rows_read = check_data(book, found, names, only=tables is not None, on_rows=on_rows)
    if engine is not None:
        found += _obstacles(book, names, engine, only=tables is not None)
    own = {name: table.severity for name, table in book.tables.items()}
    found = [one for item in found for one in with_severity([item], own.get(item.table, book.severity))]
    return Report.of(found, sorted(names - all_formulas), rows_read, sorted(names & all_formulas))


def _obstacles(book: OpenBook, names: Set[str], engine: str, *, only: bool) -> list[Finding]:
    """Return what of the datasets could not be the same in a view of a kind of database."""
    if engine not in (*DIALECTS, "spark"):
        raise BookError(
            f"{engine!r} is no engine that is known",
            expected=f"one of: {', '.join([*sorted(DIALECTS), 'spark'])}",
        )
    found = []
    for name in book.in_order(book.datasets):
        dataset = book.datasets[name]
        if is_view(dataset) or dataset.of is not None:
            continue
        try:
            prepared, _ = prepare(book, dataset, with_all_types=True)
        except KivvetError:
            continue  # which the check of its data tells
        of_engine = in_parts_obstacles(prepared) if engine == "spark" else obstacles_in(prepared, engine)
        found += [one for one in of_engine if not only or one.table in names]
    return found


def check_data(
    book: OpenBook, table_findings: Sequence[Finding], names: set[str], *, only: bool, on_rows: OnRows
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
            if not only or _may_use(book, dataset, names):
                place = error.place or Place(shown_location(dataset.source))
                found.append(
                    finding(
                        "type" if isinstance(error, MisfitError) else "unreadable",
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
    if only:
        found += _unused_tables(book, names)
    for name, (rows, datasets) in used.items():
        found += unused_rows(book.tables[name], rows, datasets, table_findings)
    table_findings = [_with_rows_decided(finding, used) for finding in table_findings]
    counted = [
        _confirmed(
            replace(finding, count=affected[id(finding)][0], dataset=listed(affected[id(finding)][1])), book
        )
        if id(finding) in affected
        else finding
        for finding in table_findings
    ]
    return [*counted, *found], rows_read


def _unused_tables(book: OpenBook, names: set[str]) -> list[Finding]:
    """Return a note on each table asked about that no dataset uses: it was held against no data."""
    used = set().union(*(book.used_by(dataset) for dataset in book.datasets.values()))
    return [
        finding(
            "unused",
            "no dataset uses it, so it was held against no data",
            table=name,
            remedy=f'name it in the columns of a dataset: columns = ["{name}"]',
        )
        for name in sorted(names)
        if name in book.tables and name not in used and not book.unusable_datasets
    ]


def _with_rows_decided(one: Finding, used: Mapping[str, tuple[npt.NDArray[np.int64], list[str]]]) -> Finding:
    """Return a finding about rows still to be filled in with the rows of data that they decide."""
    if one.kind != "unfinished" or one.table not in used:
        return one
    rows, datasets = used[one.table]
    return replace(one, count=int(rows[[number - 1 for number in one.rows]].sum()), dataset=listed(datasets))


def _confirmed(one: Finding, book: OpenBook) -> Finding:
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
    book: OpenBook,
    dataset: Dataset,
    table_findings: Sequence[Finding],
    names: set[str],
    affected: dict[int, tuple[int, list[str]]],
    decided: dict[str, tuple[npt.NDArray[np.int64], list[str]]],
    *,
    only: bool,
    on_rows: OnRows,
) -> tuple[list[Finding], int] | None:
    prepared, faults = prepare(book, dataset)
    plan = prepared.plan
    used = {step.name for step in plan.steps}
    if only and not used & names and not any(fault.table in names for fault in faults):
        return None
    run = Run(prepared, on_rows=on_rows)
    run.read_codes(plan.source_columns)
    probes = [
        DataProbe(step, [finding for finding in table_findings if finding.table == step.table.name])
        if step.table.name in names and step.table.is_complete
        else None
        for step in plan.table_steps
    ]
    keys = RowKeys(dataset.key) if dataset.key and set(dataset.key) <= set(prepared.source.names) else None
    key = () if keys is None else keys.names
    asked = [*plan.source_columns, *key, *(name for name in dataset.types if name in prepared.source.names)]
    wanted = list(dict.fromkeys(asked)) or None
    with Behind() as behind:
        batches = run.batches(wanted, ahead=wanted, is_last_later=bool(run.made_last))
        for batch in batches if plan.steps or wanted else ():
            run.reader.convert_declared(batch.read)
            if keys is not None:
                keys.see([batch.read.typed(name) for name in keys.names])
            seen = [
                partial(
                    probe.see,
                    batch.columns_of(step),
                    batch.unread_rows(step),
                    run.execution.outcomes_of(step),
                )
                for step, probe in zip(plan.table_steps, probes, strict=True)
                if probe is not None
            ]
            behind.do(seen)
    found = [*(fault for fault in faults if fault.kind != "example"), *run.faults()]
    if is_view(dataset):
        found += view_of(prepared).made.obstacles
    found += [] if keys is None else [in_dataset(one, dataset) for one in keys.findings()]
    for probe, report in zip(probes, run.report().tables, strict=True):
        if probe is None:
            continue
        found += probe.findings(report, dataset.name)
        for one, n_rows in probe.counted:
            rows, datasets = affected.get(id(one), (0, []))
            affected[id(one)] = rows + n_rows, list(dict.fromkeys([*datasets, dataset.name]))
        if report.rows_by_row and book.tables[report.table].is_complete:
            rows_of_table, datasets = decided.get(
                report.table, (np.zeros(len(report.rows_by_row), np.int64), [])
            )
            decided[report.table] = (
                rows_of_table + np.array(report.rows_by_row),
                list(dict.fromkeys([*datasets, dataset.name])),
            )
    for made_by in run.report().formulas:
        if made_by.formula in names:
            found += formula_findings(made_by, dataset.name, book.formulas.get(made_by.formula))
    if not only and not any(fault.severity == "error" for fault in faults):
        found += _staleness(book, dataset)
    if only:  # what stops an apply of the dataset is told, whichever table is asked about
        found = [one for one in found if one.table in names or (not one.table and one.severity == "error")]
    return found, run.n_rows


def _may_use(book: OpenBook, dataset: Dataset, names: set[str]) -> bool:
    """Whether a dataset reads some of the tables or formulas, as far as its definition says."""
    return bool(book.used_by(dataset) & names)


def _staleness(book: OpenBook, dataset: Dataset) -> list[Finding]:
    if dataset.target is None or not is_there(dataset.target):
        return []
    status = status_of(book, dataset)
    if status.state != "stale":
        return []
    reasons = "; ".join(reason.message for reason in status.reasons)
    return [
        finding(
            "stale",
            f"{listed(status.stale_columns) or 'the target'} of {status.target}: {reasons}",
            dataset=dataset.name,
            places=(dataset.place,) if dataset.place else (),
            remedy="kivvet refresh",
        )
    ]
