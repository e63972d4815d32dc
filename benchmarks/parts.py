"""A dataset in parts: one process, part by part, two tasks of Spark; and what a part costs as there are more of them."""

from __future__ import annotations

import shutil
import tempfile
import time
from pathlib import Path

import numpy as np
import pyarrow as pa
from pyarrow import parquet

import kivvet
from kivvet.books.files.open_book import read_book
from kivvet.books.runs.apply import apply_dataset
from kivvet.books.runs.in_parts import here

_ROWS = 2_000_000
_TABLES = {
    "band": ("x", "number", '["< -1", "low"], ["-1 to 1", "mid"], ["> 1", "high"]'),
    "grade": ("y", "number", '["< 0", "a"], [">= 0", "b"]'),
    "kind": ("k", "text", '["k0 | k1 | k2", "few"], ["not (k0 | k1 | k2)", "many"]'),
}


def figures() -> None:
    """Print the time of each way, and of each number of parts."""
    with tempfile.TemporaryDirectory() as at:
        folder = Path(at)
        print(f"\n{_ROWS:,} rows in parts: seconds")
        for n_parts in (1, 10, 100):
            write_book(folder, n_parts)
            took = timed(folder, None), timed(folder, here)
            print(f"  {n_parts:>4} parts   one pass {took[0]:.2f}   part by part {took[1]:.2f}")
        if shutil.which("java") is None:
            return
        try:
            from kivvet.books.runs.on_spark import on_spark, spark_session

            spark_session()
        except (ImportError, kivvet.KivvetError):
            return
        for n_parts in (10, 100):
            write_book(folder, n_parts)
            timed(folder, on_spark)  # workers are started
            print(f"  {n_parts:>4} parts   by Spark {timed(folder, on_spark):.2f}")


def timed(folder: Path, engine: object) -> float:
    book = read_book(folder)
    start = time.perf_counter()
    apply_dataset(book, book.datasets["d"], engine=engine)  # type: ignore[arg-type]
    return time.perf_counter() - start


def write_book(folder: Path, n_parts: int) -> None:
    """Write a book of three tables and a share, and its data in parts."""
    shutil.rmtree(folder / "data", ignore_errors=True)
    shutil.rmtree(folder / "out.parts", ignore_errors=True)
    (folder / "tables").mkdir(exist_ok=True)
    (folder / "data").mkdir()
    for name, (column, kind, rows) in _TABLES.items():
        text = f'inputs.{column} = "{kind}"\noutputs.{name} = "text"\nrows = [{rows}]\n'
        (folder / f"tables/{name}.toml").write_text(text, encoding="utf-8")
    (folder / "formulas.toml").write_text('share = "x / SUM(x) OVER (PARTITION BY k)"\n', encoding="utf-8")
    columns = '["band", "grade", "kind", "share"]'
    text = f'[datasets.d]\nsource = "data/*.parquet"\ntarget = "out.parts"\ncolumns = {columns}\n'
    (folder / "book.toml").write_text(text, encoding="utf-8")
    random = np.random.default_rng(7)
    per = _ROWS // n_parts
    for number in range(n_parts):
        keys = pa.array([f"k{n}" for n in range(200)]).take(pa.array(random.integers(0, 200, per)))
        data = {"x": random.normal(size=per), "y": random.normal(size=per), "k": keys}
        data |= {f"m{n}": random.integers(0, 10_000, per) for n in range(9)}
        parquet.write_table(pa.table(data), folder / f"data/p{number:04}.parquet")
