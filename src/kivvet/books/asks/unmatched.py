"""What found nothing: the values of a dataset that no lookup, mapping or rule holds, across all its tables."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import asdict, dataclass
from typing import TYPE_CHECKING, Any

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.in_parts import Engine, report_in_parts
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.run import Run
from kivvet.core.columns.alike import Alike
from kivvet.core.draft.known_texts import results_by_text
from kivvet.core.run.step_reports import TableReport
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import TableError
from kivvet.core.words.printed import ShownInNotebooks

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


@dataclass(frozen=True, slots=True)
class Unmatched(ShownInNotebooks):
    """One value, or one combination of values, that no row of a table holds.

    Attributes
    ----------
    dataset, table : str
    columns : str
        The columns read, with commas between.
    value : str
    rows : int
        Rows of data that have it.
    first_row : int or None
        The first of them, counted from 1, the header left out; None of all others.
    is_unfinished : bool
        Whether a row holds it whose results are still to be filled in.
    is_all_others : bool
        Whether it stands for all values beyond 100,000 different ones of a table, which are not told apart.
    near : str or None
        A value that the table knows, and that it is spelled like.
    """

    dataset: str
    table: str
    columns: str
    value: str
    rows: int
    first_row: int | None
    is_unfinished: bool = False
    is_all_others: bool = False
    near: str | None = None

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def unmatched_in(
    book: OpenBook,
    datasets: Iterable[Dataset],
    on_rows: Callable[[int], None] = lambda _: None,
    engine: Engine | None = None,
) -> tuple[Unmatched, ...]:
    """Return all unmatched values of datasets, table by table, the most frequent first.

    Parameters
    ----------
    engine : callable, optional
        Counts the parts of each source, wherever it does.

    Raises
    ------
    TableError, DataError
        If tables cannot be read or the source not be read.
    """
    found: list[Unmatched] = []
    for dataset in datasets:
        faults = [fault for fault in book.faults_of(dataset) if fault.severity == "error"]
        prepared, more = prepare(book, dataset)
        if errors := [*faults, *(one for one in more if one.severity == "error")]:
            raise TableError(errors)
        for report in _reports(prepared, on_rows, engine):
            for values, n_beyond, is_unfinished in (
                (report.unmatched_values, report.unmatched_beyond, False),
                (report.unfinished_values, report.unfinished_beyond, True),
            ):
                about = dataset.name, report.table, report.column
                near = {} if is_unfinished or not values else _near(book.tables[report.table], values)
                found += [
                    Unmatched(
                        *about, value, n, report.first_rows.get(value), is_unfinished, near=near.get(value)
                    )
                    for value, n in values
                ]
                found += [Unmatched(*about, "", n_beyond, None, is_unfinished, True)] if n_beyond else []
    return tuple(found)


def _reports(
    prepared: Prepared, on_rows: Callable[[int], None], engine: Engine | None
) -> tuple[TableReport, ...]:
    if engine is not None:
        return report_in_parts(prepared, engine, on_rows).tables
    run = Run(prepared, on_rows=on_rows)
    run.read_codes(prepared.plan.source_columns)
    if prepared.plan.table_steps:
        for _ in run.batches(prepared.plan.source_columns):
            pass
    run.stop_at_faults()
    return run.report().tables


def _near(table: Table, values: Iterable[tuple[str, int]]) -> dict[str, str]:
    """Return by value the one that a table knows and that it is spelled like."""
    known = results_by_text(table)
    if not known:
        return {}
    texts = [value for value, _ in values]
    found = zip(texts, Alike(known).nearest(texts), strict=True)
    return {value: near for value, near in found if near is not None}
