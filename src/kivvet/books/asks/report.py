"""All that there is to say of a book, or of some of its datasets: what a report that is handed round holds."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING

from kivvet.books.asks.check_book import check_book
from kivvet.books.asks.history import History, history_of
from kivvet.books.asks.overview import (
    FormulaListed,
    Overview,
    overview_of,
)
from kivvet.books.runs.fed_domains import known_plan
from kivvet.books.runs.status import status_of
from kivvet.core.run.table_step import TableStep
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.findings import Report

if TYPE_CHECKING:
    from kivvet.books.files.dataset import Dataset
    from kivvet.books.files.open_book import OpenBook
from kivvet.books.asks.book_facts import BookFacts, DatasetTold, FormulaTold, StepTold
from kivvet.books.asks.counted import Counted, counted_of
from kivvet.books.asks.table_told import findings_within, table_told

OnRows = Callable[[int], None]
_MOST_RUNS = 10


def facts_of(
    book: OpenBook, names: Iterable[str] = (), *, data: bool = True, on_rows: OnRows = lambda _: None
) -> BookFacts:
    """Return all that there is to say of a book, or of datasets; see `Book.report`."""
    about = tuple(dict.fromkeys(names))
    chosen = [book.dataset(name) for name in about] if about else list(book.datasets.values())
    overview = overview_of(book)
    used = _used(book, chosen)
    told = used if about else book.own_names  # what nobody here checks is not told
    tables = [table for table in overview.tables if table.name in told]
    formulas = [formula for formula in overview.formulas if not about or formula.name in used]
    check = check_book(book, sorted(used) if about else None, data=data, on_rows=on_rows)
    drawn: set[str] = set()
    counted: dict[str, Counted] = {}
    for dataset in chosen:
        counted[dataset.name] = counted_of(book, dataset, drawn, on_rows) if data else Counted()
    remembered = history_of(
        book, [*(one.name for one in chosen), *(table.name for table in tables)], _MOST_RUNS
    )
    return BookFacts(
        overview.title,
        about,
        f"{dt.datetime.now(dt.UTC):%Y-%m-%d %H:%M} UTC",
        check,
        tuple(table_told(book, table, check, counted, remembered.versions) for table in tables),
        tuple(_formula_told(book, formula, check, counted) for formula in formulas),
        tuple(_dataset_told(book, one, overview, counted[one.name], remembered) for one in chosen),
        overview.unreadable if not about else (),
    )


def _used(book: OpenBook, datasets: Iterable[Dataset]) -> set[str]:
    """Return the tables and formulas that datasets use."""
    reached: set[str] = set()
    for dataset in datasets:
        plan, _ = known_plan(book, dataset)
        reached |= book.used_by(dataset) if plan is None else {step.name for step in plan.steps}
    return reached & {*book.tables, *book.formulas}


def _formula_told(
    book: OpenBook, one: FormulaListed, check: Report, counted: Mapping[str, Counted]
) -> FormulaTold:
    return FormulaTold(
        one,
        book.formulas[one.name].note,
        findings_within(book, check, one.name),
        tuple(
            (dataset, report)
            for dataset, found in counted.items()
            for report in found.formulas
            if report.formula == one.name
        ),
    )


def _dataset_told(
    book: OpenBook, dataset: Dataset, overview: Overview, found: Counted, remembered: History
) -> DatasetTold:
    plan, _ = known_plan(book, dataset)
    try:
        status, problem = status_of(book, dataset), found.problem
    except KivvetError as error:
        status, problem = None, found.problem or str(error).split("\n", 1)[0]
    of_it = [run for run in remembered.runs if run.run.dataset == dataset.name]
    steps = tuple(
        StepTold(
            "where" if step.name == "where" else step.name,
            isinstance(step, TableStep),
            tuple(dict.fromkeys(read.column for read in step.reads if "\0" not in read.column)),
            tuple(name for name in step.made_names if "\0" not in name),
        )
        for step in (plan.steps if plan is not None else ())
    )
    return DatasetTold(
        next(one for one in overview.datasets if one.name == dataset.name),
        status,
        found.rows,
        found.left_out,
        steps,
        found.panels,
        tuple(of_it),
        len(of_it) + remembered.n_earlier.get(dataset.name, 0),
        problem,
    )
