"""What it costs to follow a change: one row of a mapping of 10,000 rows changes, which makes one of eight added columns."""

from __future__ import annotations

import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path
from typing import NoReturn
from unittest import mock

import numpy as np
import pyarrow as pa
import pyarrow.parquet as pq
from pyarrow import csv

import kivvet
from benchmarks.lines import Line
from benchmarks.runner import timed
from kivvet.books.runs.target_writer import TargetWriter

_ROWS = 10_000_000


def figures() -> Iterator[Line]:
    """Yield a line for each question."""
    with tempfile.TemporaryDirectory() as folder:
        yield from _measure(Path(folder))
    with tempfile.TemporaryDirectory() as folder:
        yield _grown(Path(folder))


def _measure(folder: Path) -> Iterator[Line]:
    frame = _frame()
    _book(folder, "c1")
    pq.write_table(frame, folder / "d.parquet")
    columns = ["mapped", *(f"bin{number}" for number in range(7))]
    book = kivvet.open_book(folder)
    apply, _ = timed(lambda: book.apply(frame, columns))
    live = book.live(frame, columns)
    _book(folder, "c2")
    refresh, _ = timed(live.refresh)
    one, _ = timed(
        lambda: kivvet.open_book(folder).apply(frame, ["mapped"])
    )  # its table is read, checked and compiled anew
    yield Line(
        "Live.refresh",
        refresh,
        "s",
        "an apply of all in memory",
        apply,
        0.5,
        one,
        "reading the table and making its column",
    )
    _book(folder, "c1")
    whole, _ = timed(lambda: kivvet.open_book(folder).apply_dataset("d"))
    status, _ = timed(lambda: kivvet.open_book(folder).status())
    _book(folder, "c2")
    impact, made = timed(lambda: kivvet.open_book(folder).impact())
    assert made.datasets[0].columns[0].changed
    twice, _ = timed(lambda: [kivvet.open_book(folder).cross_table("d", by=["mapped"]) for _ in range(2)])
    unwritten = [
        timed(lambda work=work: _unwritten(work))[0]
        for work in (
            lambda: kivvet.open_book(folder).refresh(),
            lambda: kivvet.open_book(folder).apply_dataset("d"),
        )
    ]
    part, _ = timed(lambda: kivvet.open_book(folder).refresh())
    copy, _ = timed(lambda: shutil.copy(folder / "out/d.parquet", folder / "copy.parquet"))
    column = pq.read_table(folder / "out/d.parquet", columns=["mapped"])
    written, _ = timed(lambda: pq.write_table(column, folder / "column.parquet"))
    least = one + copy + written
    yield Line(
        "refresh of a Parquet file",
        part,
        "s",
        "an apply of it",
        whole,
        0.4,
        least,
        "the column made and written, the rest copied",
    )
    yield Line("the same, nothing written", unwritten[0], "s", "an apply, nothing written", unwritten[1])
    yield Line("impact", impact, "s", "counting the classes twice", twice, 1.0)
    yield Line("status, nothing changed", status, target=0.5)


def _grown(folder: Path) -> Line:
    """A thousand rows come at the end of a file of CSV: they alone are worked out, and added to the target."""
    n_rows = _ROWS // 2
    frame = _frame().slice(0, n_rows + 1_000).select(["k", "x0"])
    _book(folder, "c1")
    (folder / "book.toml").write_text(
        '[datasets.d]\nsource = "d.csv"\ntarget = "out/d.csv"\ntypes = { x0 = "number" }\ncolumns = ["bin0"]\n'
    )
    csv.write_csv(frame.slice(0, n_rows), folder / "d.csv")
    whole, _ = timed(lambda: kivvet.open_book(folder).apply_dataset("d"))
    more = pa.BufferOutputStream()
    csv.write_csv(frame.slice(n_rows), more, csv.WriteOptions(include_header=False))
    with (folder / "d.csv").open("ab") as file:
        file.write(more.getvalue())
    part, done = timed(lambda: kivvet.open_book(folder).refresh())
    assert done[0].report.standing == n_rows and done[0].report.rows == 1_000
    return Line(
        f"refresh after 1,000 rows came to {n_rows:,} of CSV", part, "s", "an apply of all", whole, 0.8
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
