"""A dataset in parts: one process, part by part, two tasks of Spark; and what a part costs as there are more of them."""

from __future__ import annotations

import shutil
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa
from pyarrow import parquet

import kivvet
from benchmarks.lines import Line
from kivvet.books.files.open_book import read_book
from kivvet.books.runs.apply import apply_dataset
from kivvet.books.runs.in_parts import here

_ROWS = 2_000_000
_TABLES = {
    "band": ("x", "number", '["< -1", "low"], ["-1 to 1", "mid"], ["> 1", "high"]'),
    "grade": ("y", "number", '["< 0", "a"], [">= 0", "b"]'),
    "kind": ("k", "text", '["k0 | k1 | k2", "few"], ["not (k0 | k1 | k2)", "many"]'),
}


def figures() -> Iterator[Line]:
    """Yield the time of each way, and of each number of parts."""
    with tempfile.TemporaryDirectory() as at:
        folder = Path(at)
        work = f"{_ROWS:,} rows, three tables and a share"
        once: dict[int, float] = {}
        for n_parts, target in ((1, 1.2), (10, 1.6), (100, 2.0), (1_000, None)):
            write_book(folder, n_parts)
            once[n_parts] = timed(folder, None)
            apart = timed(folder, here)
            yield Line(f"{work}, {n_parts} parts one by one", apart, "s", "one pass", once[n_parts], target)
        yield from _by_spark(folder, work, once)


def _by_spark(folder: Path, work: str, once: dict[int, float]) -> Iterator[Line]:
    if shutil.which("java") is None:
        return
    try:
        from kivvet.books.runs.on_spark import on_spark, spark_session

        session = spark_session()
    except (ImportError, kivvet.KivvetError):
        return
    for n_parts in (10, 100):
        write_book(folder, n_parts)
        timed(folder, on_spark)  # workers are started
        took = timed(folder, on_spark)
        yield Line(f"{work}, {n_parts} parts by Spark", took, "s", "one pass", once[n_parts])
        by_hand(session, folder)
        start = time.perf_counter()
        by_hand(session, folder)
        took_by_hand = time.perf_counter() - start
        yield Line("the same", took, "s", "by hand in Spark", took_by_hand, 1.5)


def by_hand(session: Any, folder: Path) -> None:
    """Do the same in the expressions of Spark."""
    from pyspark.sql import Window, functions

    session.conf.set("spark.sql.shuffle.partitions", "2")  # as many as there are cores
    x, y, k = map(functions.col, "xyk")
    frame = session.read.parquet(str(folder / "data"))
    band = functions.when(x < -1, "low").when(x <= 1, "mid").when(x > 1, "high")
    kind = functions.when(k.isin("k0", "k1", "k2"), "few").otherwise("many")
    share = x / functions.sum(x).over(Window.partitionBy("k"))
    made = frame.select("*", band.alias("band"), functions.when(y < 0, "a").otherwise("b").alias("grade"))
    made.select("*", kind.alias("kind"), share.alias("share")).write.mode("overwrite").parquet(
        str(folder / "spark")
    )


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
