"""What it costs to follow a change: one row of a mapping of 10,000 rows changes, which makes one of eight added columns."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import NoReturn
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from pyarrow import csv

import kivvet
from kivvet.books.runs.target_writer import TargetWriter

_ROWS = 10_000_000


def figures() -> None:
    """Print a line for each question."""
    print(
        f"\ncurrency: {_ROWS:,} rows, eight columns added, one row of one table changed; seconds and ratios"
    )
    with tempfile.TemporaryDirectory() as folder:
        _measure(Path(folder))
    with tempfile.TemporaryDirectory() as folder:
        _grown(Path(folder))


def _measure(folder: Path) -> None:
    frame = _frame()
    _book(folder, "c1")
    pq.write_table(frame, folder / "d.parquet")
    columns = ["mapped", *(f"bin{number}" for number in range(7))]
    book = kivvet.open_book(folder)
    apply, _ = _timed(lambda: book.apply(frame, columns))
    live = book.live(frame, columns)
    _book(folder, "c2")
    refresh, _ = _timed(live.refresh)
    print(
        f"  Live.refresh beside an apply in memory            {refresh:6.2f} {apply:6.2f} {refresh / apply:6.2f}"
    )
    _book(folder, "c1")
    whole, _ = _timed(lambda: kivvet.open_book(folder).apply_dataset("d"))
    status, _ = _timed(lambda: kivvet.open_book(folder).status())
    _book(folder, "c2")
    impact, made = _timed(lambda: kivvet.open_book(folder).impact())
    assert made.datasets[0].columns[0].changed
    twice, _ = _timed(lambda: [kivvet.open_book(folder).cross_table("d", by=["mapped"]) for _ in range(2)])
    unwritten = [
        _timed(lambda work=work: _unwritten(work))[0]
        for work in (
            lambda: kivvet.open_book(folder).refresh(),
            lambda: kivvet.open_book(folder).apply_dataset("d"),
        )
    ]
    part, _ = _timed(lambda: kivvet.open_book(folder).refresh())
    print(
        f"  refresh of a Parquet file beside an apply          {part:6.2f} {whole:6.2f} {part / whole:6.2f}"
    )
    print(
        f"  refresh beside an apply, nothing written           {unwritten[0]:6.2f} {unwritten[1]:6.2f} {unwritten[0] / unwritten[1]:6.2f}"
    )
    print(
        f"  impact beside counting the classes twice           {impact:6.2f} {twice:6.2f} {impact / twice:6.2f}"
    )
    print(f"  status where nothing changed                       {status:6.2f}")


def _grown(folder: Path) -> None:
    """A thousand rows come at the end of a file of CSV: they alone are worked out, and added to the target."""
    n_rows = _ROWS // 2
    frame = _frame().slice(0, n_rows + 1_000).select(["k", "x0"])
    _book(folder, "c1")
    (folder / "book.toml").write_text(
        '[datasets.d]\nsource = "d.csv"\ntarget = "out/d.csv"\ntypes = { x0 = "number" }\ncolumns = ["bin0"]\n'
    )
    csv.write_csv(frame.slice(0, n_rows), folder / "d.csv")
    whole, _ = _timed(lambda: kivvet.open_book(folder).apply_dataset("d"))
    more = pa.BufferOutputStream()
    csv.write_csv(frame.slice(n_rows), more, csv.WriteOptions(include_header=False))
    with (folder / "d.csv").open("ab") as file:
        file.write(more.getvalue())
    part, done = _timed(lambda: kivvet.open_book(folder).refresh())
    assert done[0].report.standing == n_rows and done[0].report.rows == 1_000
    print(
        f"  refresh after 1,000 rows came to {n_rows:,} of CSV   {part:6.2f} {whole:6.2f} {part / whole:6.2f}"
    )


class _EnoughError(Exception):
    """All is worked out, and nothing is to be written."""


def _unwritten(work: Callable[[], object]) -> None:
    """Do work without what it writes: batches are let go of, and the target stays as it was."""

    def enough(*_: object) -> NoReturn:
        raise _EnoughError

    with (
        mock.patch.object(TargetWriter, "write", lambda *_: None),
        mock.patch.object(TargetWriter, "commit", enough),
        suppress(_EnoughError),
    ):
        work()


def _timed(work: Callable[[], object]) -> tuple[float, object]:
    start = time.perf_counter()
    made = work()
    return time.perf_counter() - start, made


def _frame() -> pa.Table:
    drawn = np.random.default_rng(1)
    words = pa.array([f"w{number:05}" for number in range(10_000)])
    numbers = {f"x{number}": np.round(drawn.normal(10, 4, _ROWS), 2) for number in range(7)}
    return pa.table({"k": words.take(pa.array(drawn.integers(0, 10_000, _ROWS))), **numbers})


def _book(folder: Path, first: str) -> None:
    tables = folder / "tables"
    tables.mkdir(exist_ok=True)
    rows = "".join(
        f"w{number:05},{first if not number else 'c' + str(number % 12)}\n" for number in range(10_000)
    )
    (tables / "mapped.csv").write_text("k,mapped\n" + rows)
    (tables / "mapped.toml").write_text('inputs.k = "text"\noutputs.mapped = "text"\nrows = "mapped.csv"\n')
    for number in range(7):
        (tables / f"bin{number}.toml").write_text(
            f'inputs.x{number} = {{ type = "number", step = 0.01 }}\noutputs.bin{number} = "text"\n'
            'rows = [["< 6", "low"], ["6 to <12", "mid"], [">= 12", "high"]]\n'
        )
    columns = ", ".join(f'"{name}"' for name in ["mapped", *(f"bin{number}" for number in range(7))])
    (folder / "book.toml").write_text(
        f'[datasets.d]\nsource = "d.parquet"\ntarget = "out/d.parquet"\ncolumns = [{columns}]\n'
    )
