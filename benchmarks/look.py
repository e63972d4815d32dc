"""Look: 2 million rows, 12 columns, CSV and Parquet, against reading with pandas and counting distinct
values.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.parquet as pq

from benchmarks.runner import Comparison
from kivvet.books.asks.look_source import look_at
from kivvet.core.columns.counting import MOST_DISTINCT
from kivvet.core.draft.look import Look
from kivvet.io.csv_target import CsvTarget

N_ROWS = 2_000_000


def comparisons() -> Iterator[Comparison]:
    rng = np.random.default_rng(3)

    def words(n: int) -> pa.Array:
        return pa.array([f"word {number}" for number in range(n)]).take(pa.array(rng.integers(0, n, N_ROWS)))

    with_missing = rng.random(N_ROWS) < 0.02
    table = pa.table(
        {
            "id": pa.array(np.arange(N_ROWS)),
            "code": pa.array([f"{n:04d}" for n in range(3000)]).take(pa.array(rng.integers(0, 3000, N_ROWS))),
            "day": pa.array(rng.integers(19_000, 20_500, N_ROWS).astype(np.int32)).view(pa.date32()),
            "ph": pa.array(np.round(rng.normal(7, 1, N_ROWS), 1), mask=with_missing),
            "flow": pa.array(np.round(rng.gamma(2, 10, N_ROWS), 2)),
            "precise": pa.array(rng.normal(0, 1, N_ROWS)),
            "whole": pa.array(rng.integers(0, 10, N_ROWS)),
            "amount": pa.array(rng.integers(0, 1_000_000, N_ROWS)),
            "few": words(8),
            "some": words(1_000),
            "many": words(200_000),
            "flag": pa.array(rng.random(N_ROWS) < 0.5),
        }
    )
    with tempfile.TemporaryDirectory() as folder:
        parquet, csv = Path(folder) / "x.parquet", Path(folder) / "x.csv"
        pq.write_table(table, parquet)
        target = CsvTarget(csv, csv, table.column_names)
        for batch in table.to_batches(max_chunksize=200_000):
            target.write(batch.columns)
        target.close()
        expected = {name: len(table.column(name).drop_null().unique()) for name in table.column_names}

        def is_right(made: Look | dict[str, int]) -> bool:
            if not isinstance(made, Look):
                return made == expected
            return all(  # beyond a hundred thousand, ours says "more than"
                one.distinct == expected[one.name] if one.is_counted else expected[one.name] > MOST_DISTINCT
                for one in made.columns
            )

        def by_pandas_csv() -> dict[str, int]:
            frame = pd.read_csv(csv, dtype={"code": "str"})
            return {name: frame[name].nunique() for name in frame}

        def by_pandas_parquet() -> dict[str, int]:
            frame = pd.read_parquet(parquet)
            return {name: frame[name].nunique() for name in frame}

        size = csv.stat().st_size / 1e6
        yield Comparison(
            f"look: CSV, {N_ROWS:,} rows, 12 columns, {size:.0f} MB",
            lambda: look_at(None, csv),
            {"pandas read, nunique": by_pandas_csv},
            is_right,
            1.5,
        )
        yield Comparison(
            f"look: Parquet, {N_ROWS:,} rows, 12 columns",
            lambda: look_at(None, parquet),
            {"pandas read, nunique": by_pandas_parquet},
            is_right,
            1.5,
        )
