"""Trying a formula out on a source: its type, what it reads, values that have no result, and the first few results."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.read_formulas import parse_named_formula
from kivvet.books.runs.prepare import look_ahead, prepared_of
from kivvet.books.runs.read_data import TypedReader, source_type
from kivvet.core.columns.column import arrow_from_column
from kivvet.core.run.entries import Entry
from kivvet.core.run.execution import Execution
from kivvet.core.run.plan import Plan
from kivvet.core.run.reports import FormulaReport
from kivvet.core.words.errors import TableError

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

TRIED = "result"
_SHOWN = 8


@dataclass(frozen=True)
class Trial:
    """What trying a formula showed.

    Attributes
    ----------
    text : str
    type : str
    reads : mapping of str to str
        By column, its type; empty where it is not known.
    report : FormulaReport
        Of the rows it was tried on.
    is_whole : bool
        Whether these were all rows of the source.
    rows : tuple of (int, mapping of str to value)
        The first few rows, then the first with a value that has no result: number, columns read, and the result.
    """

    text: str
    type: str
    reads: Mapping[str, str]
    report: FormulaReport
    is_whole: bool
    rows: tuple[tuple[int, Mapping[str, Any]], ...]

    def as_dict(self) -> dict[str, Any]:
        """Return the trial as plain values; dates and times as text."""
        rows = [
            {"row": number, **{name: _plain(value) for name, value in values.items()}}
            for number, values in self.rows
        ]
        report = {
            name: value for name, value in self.report.as_dict().items() if name not in ("formula", "columns")
        }
        return {
            "text": self.text,
            "type": self.type,
            "reads": dict(self.reads),
            "is_whole": self.is_whole,
            "report": report,
            "results": rows,
        }


def _plain(value: Any) -> Any:
    return value if isinstance(value, (int, float, str, bool)) or value is None else str(value)


def try_formula(
    book: OpenBook | None,
    source: str | Path,
    text: str,
    *,
    among: str | None = None,
    n_rows: int = 10_000,
    on_rows: Callable[[int], None] = lambda _: None,
) -> Trial:
    """Return what a formula gives on the first rows of a source; one that looks at other rows is given all of them.

    Parameters
    ----------
    book : OpenBook or None
        Whose tables and formulas it may name.
    source : str or Path
        The name of a dataset of the book, or a file.

    Raises
    ------
    TableError, DataError
        If the formula cannot be read or its types do not fit, or the source not be read.
    """
    known = None if book is None else book.datasets.get(str(source))
    dataset = known or Dataset(Path(source).name, Path(source), None)
    given: Any = {"formula": text, **({} if among is None else {"among": among})}
    formula, faults = parse_named_formula(TRIED, given)
    if formula is None:
        raise TableError(faults)
    name = TRIED if book is None or TRIED not in (*book.tables, *book.formulas) else f"{TRIED} "
    formula = replace(formula, name=name)
    tables = {} if book is None else book.tables
    formulas = {} if book is None else book.formulas
    entries = [*(replace(one, is_written=False) for one in dataset.entries), Entry(name)]
    unusable = set() if book is None else book.unusable_tables | book.unusable_formulas
    prepared, faults = prepared_of(
        replace(dataset, entries=tuple(entries)), tables, {**formulas, name: formula}, unusable
    )
    wanted = [step for step in prepared.plan.formula_steps if step.formula.name == name]
    needed = prepared.plan.leading_to(wanted)
    used = {step.name for step in needed}
    errors = [
        one
        for one in faults
        if one.severity == "error" and (one.table in used or one.table == name or not wanted)
    ]
    if errors:
        raise TableError(errors)
    plan = Plan(needed, (name,))
    (step,) = wanted
    kinds = plan.types
    reads = {
        one.name: (
            source_type(prepared.source, prepared.types, one.column)
            if one.from_source
            else kinds.get(one.column)
        )
        or ""
        for one in step.reads
    }
    execution = Execution(plan, with_report=False, refuses_overlaps=False)
    look_ahead(execution, replace(prepared, plan=plan), on_rows)
    reader = TypedReader(prepared.source, dataset, prepared.types)
    shown: list[tuple[int, Mapping[str, Any]]] = []
    seen, is_whole = 0, True
    for whole_batch in reader.batches(plan.source_columns or None):
        batch = whole_batch
        if seen >= n_rows and not plan.needing_all_rows:
            is_whole = False
            break
        if not plan.needing_all_rows and seen + batch.num_rows > n_rows:
            is_whole = False
            batch = whole_batch.first(n_rows - seen)
        made = execution.apply(batch.column, batch.num_rows)
        columns = step.columns_of(batch.column, lambda column, made=made: made[column].as_column())  # type: ignore[misc]
        arrays: dict[str, pa.Array] = {column: arrow_from_column(one) for column, one in columns.items()}
        arrays[TRIED] = made[name].as_arrow()
        report = _report_of(execution, name)
        firsts = {first - 1 for _, first in report.made_missing.values()}
        for row in sorted({*range(min(_SHOWN - seen, batch.num_rows)), *(one - seen for one in firsts)}):
            if 0 <= row < batch.num_rows and seen + row + 1 not in {number for number, _ in shown}:
                shown.append(
                    (seen + row + 1, {column: array[row].as_py() for column, array in arrays.items()})
                )
        seen += batch.num_rows
        on_rows(batch.num_rows)
    if errors := reader.faults():
        raise TableError(errors)
    if not seen:
        execution.apply(reader.empty_column, 0)
    return Trial(text, kinds[name] or "", reads, _report_of(execution, name), is_whole, tuple(shown))


def _report_of(execution: Execution, name: str) -> FormulaReport:
    return next(one for one in execution.report().formulas if one.formula == name)
