"""Workbooks of 200,000 rows and 8 columns: a sheet read with its types, in both open forms, and written; beside the reader and the
writer that Kivvet uses, used by hand, and a reader of whole columns.
"""

from __future__ import annotations

import datetime as dt
import importlib.util
import tempfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import xlsxwriter
from python_calamine import CalamineWorkbook

from benchmarks.runner import Comparison
from kivvet.io.source_and_target import ReadOptions
from kivvet.io.workbook_source import WorkbookSource
from kivvet.io.workbook_target import ROWS_SHEET, WorkbookTarget

_ROWS = 200_000
_HOME = tempfile.TemporaryDirectory(prefix="kivvet-")


def table() -> pa.Table:
    """Return the rows: texts, codes, days, numbers, whole ones, shares."""
    rng = np.random.default_rng(3)
    days = np.datetime64("2020-01-01") + rng.integers(0, 1500, _ROWS)
    return pa.table(
        {
            "sample": pa.array([f"S{number:06d}" for number in range(_ROWS)]),
            "site": pa.array([f"{number:03d}" for number in rng.integers(0, 150, _ROWS)]),
            "taken": pa.array(days.astype("datetime64[D]")),
            "ph": np.round(rng.random(_ROWS) * 9, 2),
            "flow": np.round(rng.random(_ROWS) * 9000, 1),
            "share": rng.random(_ROWS),
            "kind": pa.array(np.array(["river", "lake", "brook"])[rng.integers(0, 3, _ROWS)]),
            "n": rng.integers(0, 90, _ROWS),
        }
    )


def comparisons() -> Iterator[Comparison]:
    made = table()
    path = Path(_HOME.name) / "rows.xlsx"
    _ours_written(made, path)
    sums = pc.sum(made["n"]).as_py(), made.num_rows

    def is_right(read: pa.Table) -> bool:
        return (int(pc.sum(read["n"]).as_py()), read.num_rows) == sums

    def ours() -> pa.Table:
        source = WorkbookSource(path, ReadOptions(sheet=(ROWS_SHEET,)))
        return pa.Table.from_batches(list(source.batches()))

    def by_cells() -> pa.Table:
        heads, *rows = CalamineWorkbook.from_path(path).get_sheet_by_name(ROWS_SHEET).to_python()
        return pa.table(
            {head: pa.array(values) for head, values in zip(heads, zip(*rows, strict=True), strict=True)}
        )

    ways: dict[str, Callable[[], Any]] = {"its reader, cells to Arrow": by_cells}
    if importlib.util.find_spec("fastexcel") is not None:
        import fastexcel

        ways["a reader of columns"] = lambda: pa.table(
            fastexcel.read_excel(path).load_sheet(ROWS_SHEET).to_arrow()
        )
    how = "its reader alone, cells to Arrow: kinds that are mixed, and what hides in the sheet, untold"
    yield Comparison("a sheet read, .xlsx", ours, ways, is_right, 1.2, by_cells, how)

    target = Path(_HOME.name) / "made.xlsx"

    def is_written(_: Any) -> bool:
        with_rows = CalamineWorkbook.from_path(target).get_sheet_by_index(0)
        return with_rows.height == _ROWS + 1

    yield Comparison(
        "the same written",
        lambda: _ours_written(made, target),
        {"its library, cell by cell": lambda: _by_hand_written(made, target)},
        is_written,
        1.2,
    )


def _ours_written(made: pa.Table, path: Path) -> None:
    target = WorkbookTarget(path, path, made.schema)
    for batch in made.to_batches():
        target.write(batch.columns)
    target.commit(lambda _: {})


def _by_hand_written(made: pa.Table, path: Path) -> None:
    book = xlsxwriter.Workbook(path, {"constant_memory": True})
    sheet, day = book.add_worksheet(), book.add_format({"num_format": "yyyy-mm-dd"})
    sheet.write_row(0, 0, made.column_names)
    for number, row in enumerate(zip(*(column.to_pylist() for column in made.columns), strict=True), 1):
        for at, value in enumerate(row):
            if isinstance(value, str):
                sheet.write_string(number, at, value)
            elif isinstance(value, dt.date):
                sheet.write_datetime(number, at, value, day)
            else:
                sheet.write_number(number, at, value)
    book.close()
