"""Trying a formula out on a source: its type, what it reads, values that have no result, and the first few
results.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from kivvet.books.asks.data_read import data_read
from kivvet.books.files.read_formulas import parse_named_formula
from kivvet.books.runs.expressions import ask
from kivvet.books.runs.read_data import source_type
from kivvet.books.runs.run import Run
from kivvet.core.columns.column import arrow_from_column
from kivvet.core.run.step_reports import FormulaReport
from kivvet.core.words.errors import TableError
from kivvet.core.words.printed import ShownInNotebooks

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

TRIED = "result"
_SHOWN = 8


@dataclass(frozen=True)
class Trial(ShownInNotebooks):
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
        The first few rows, then the first with a value that has no result: number, columns read, and the
        result.
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
    read_as: str = "",
    on_rows: Callable[[int], None] = lambda _: None,
) -> Trial:
    """Return what a formula gives on the first rows of a source; one that looks at other rows is given all of
    them.

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
    given: Any = {"formula": text, **({} if among is None else {"among": among})}
    formula, faults = parse_named_formula(TRIED, given)
    if formula is None:
        raise TableError(faults)
    name = TRIED if book is None or TRIED not in (*book.tables, *book.formulas) else f"{TRIED} "
    formula = replace(formula, name=name)
    data = data_read(book, source, read_as)
    asked = ask(book, data.dataset, data.open(), {TRIED: formula})
    prepared, plan, made = asked.prepared, asked.plan, asked.columns[TRIED]
    step = next(step for step in plan.formula_steps if made in step.made_names)
    kinds = plan.types
    reads = {
        read.name: (
            source_type(prepared.source, prepared.types, read.column)
            if read.from_source
            else kinds.get(read.column)
        )
        or ""
        for read in step.reads
    }
    run = Run(prepared, plan=plan, with_report=False, on_rows=on_rows)
    shown: list[tuple[int, Mapping[str, Any]]] = []
    for batch in run.batches(plan.source_columns or None, n_rows):
        arrays: dict[str, pa.Array] = {
            column: arrow_from_column(read) for column, read in batch.columns_of(step).items()
        }
        arrays[TRIED] = batch.made[made].as_arrow()
        before, known_rows = batch.rows_before, {number for number, _ in shown}
        firsts = {first - 1 for _, first in _report_of(run, name).made_missing.values()}
        for row in sorted({*range(min(_SHOWN - before, batch.n_rows)), *(one - before for one in firsts)}):
            if 0 <= row < batch.n_rows and before + row + 1 not in known_rows:
                values = {column: array[row].as_py() for column, array in arrays.items()}
                shown.append((before + row + 1, values))
    run.stop_at_faults()
    if not run.n_rows:
        run.empty_batch()
    return Trial(text, kinds[made] or "", reads, _report_of(run, name), not run.is_cut, tuple(shown))


def _report_of(run: Run, name: str) -> FormulaReport:
    return next(formula for formula in run.report().formulas if formula.formula == name)
