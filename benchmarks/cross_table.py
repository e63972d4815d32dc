"""A cross-table of 10 million rows by 8 x 12 classes with two sums: from columns in memory, and from a Parquet file."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from tempfile import mkdtemp
from typing import Any

import numpy as np
import polars as pl
import pyarrow as pa
import pyarrow.parquet as pq

from benchmarks.by_hand.exact_totals import exact_totals
from benchmarks.runner import Comparison
from kivvet.book import cross_table_of
from kivvet.core.calculate.evaluate import Evaluator
from kivvet.core.columns.column import column_from_arrow
from kivvet.core.formulas.parser import parse_formula
from kivvet.core.run.crossing import Crossing, KeyCodes

N_ROWS = 10_000_000
LINES, COLUMNS = [f"line {n}" for n in range(8)], [f"column {n:02d}" for n in range(12)]
VALUES = {"rows": "COUNT(*)", "load": "SUM(load)", "flow": "SUM(flow)"}


def comparisons() -> Iterator[Comparison]:
    rng = np.random.default_rng(12)
    a, b = rng.integers(0, 8, N_ROWS), rng.integers(0, 12, N_ROWS)
    load, flow = rng.random(N_ROWS), rng.random(N_ROWS)
    expected = load[(a == 3) & (b == 5)].sum()
    frame = pa.table(
        {
            "a": pa.DictionaryArray.from_arrays(pa.array(a.astype(np.int8)), pa.array(LINES)),
            "b": pa.DictionaryArray.from_arrays(pa.array(b.astype(np.int8)), pa.array(COLUMNS)),
            "load": load,
            "flow": flow,
        }
    )
    path = Path(mkdtemp()) / "rows.parquet"
    pq.write_table(frame, path)
    polars_frame = pl.DataFrame(frame)
    columns = {name: column_from_arrow(frame[name].combine_chunks(), name) for name in frame.column_names}
    trees = {name: parse_formula(text, of_groups=True) for name, text in VALUES.items()}

    def in_memory() -> Any:
        crossing = Crossing(
            [KeyCodes("a", LINES, is_open=False)], KeyCodes("b", COLUMNS, is_open=False), trees
        )
        keys = [(columns["a"], None), (columns["b"], None)]
        crossing.add(keys, Evaluator(columns.__getitem__, N_ROWS), N_ROWS)
        return crossing.result(dict.fromkeys(VALUES, "number"))

    def exact_by_hand() -> list[np.ndarray]:
        groups = a.astype(np.uint8) * np.uint8(12) + b.astype(np.uint8)
        return [np.bincount(groups, minlength=96), *(exact_totals(groups, one, 96) for one in (load, flow))]

    def read_and_exact_by_hand() -> list[np.ndarray]:
        read = pq.read_table(path)
        groups = (
            read["a"].combine_chunks().indices.to_numpy() * np.int32(12)
            + read["b"].combine_chunks().indices.to_numpy()
        )
        sums = [exact_totals(groups, read[name].to_numpy(), 96) for name in ("load", "flow")]
        return [np.bincount(groups, minlength=96), *sums]

    def by_polars(given: Any) -> Any:
        return given.group_by("a", "b").agg(pl.len(), pl.col("load").sum(), pl.col("flow").sum()).collect()

    def is_right(made: Any) -> bool:
        if isinstance(made, pl.DataFrame):
            found = made.filter((pl.col("a") == "line 3") & (pl.col("b") == "column 05"))["load"][0]
        else:
            by = next(line for line in made.lines if str(line[0]) == "line 3")
            across = next(one for one in made.columns if str(one) == "column 05")
            found = made.cell(by, across).values[1]
        return bool(abs(found - expected) < 1e-6 * expected)

    title = f"cross-table: {N_ROWS:,} rows by 8 x 12 classes, count and two sums, with totals"
    yield Comparison(
        f"{title}, in memory",
        in_memory,
        {"polars group_by": lambda: by_polars(polars_frame.lazy())},
        is_right,
        0.5,
        exact_by_hand,
        "exact totals by hand, without subtotals",
    )
    yield Comparison(
        f"{title}, from Parquet",
        lambda: cross_table_of(
            None, path, by=["a"], across="b", value=["COUNT(*) AS rows", "SUM(load)", "SUM(flow)"]
        ),
        {"polars scan": lambda: by_polars(pl.scan_parquet(path))},
        is_right,
        1.0,
        read_and_exact_by_hand,
        "read, and exact totals by hand, without subtotals",
    )
