"""Lookups: 10 million rows, a key of two parts (text, integer), 50,000 keys, 12 outputs of several types."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa

from benchmarks.runner import Comparison
from kivvet.rule_table import RuleTable

N_ROWS = 10_000_000
N_TEXTS, N_NUMBERS = 5_000, 10


def comparisons() -> Iterator[Comparison]:
    for form in ("dense", "sparse"):
        rng = np.random.default_rng(5)
        numbers = (
            np.arange(N_NUMBERS) + 2017 if form == "dense" else np.sort(rng.integers(0, 2**50, N_NUMBERS))
        )
        texts = np.array([f"S{number:06d}" for number in range(N_TEXTS)])
        n_keys = N_TEXTS * N_NUMBERS
        keys = pa.table(
            {
                "site": np.repeat(texts, N_NUMBERS),
                "year": np.tile(numbers, N_TEXTS),
                **{f"t{n}": [f"class {one % (n + 5)}" for one in range(n_keys)] for n in range(5)},
                **{f"n{n}": rng.random(n_keys) for n in range(4)},
                **{f"i{n}": rng.integers(0, 99, n_keys) for n in range(3)},
            }
        )
        of_row = rng.integers(0, int(n_keys * 1.02), N_ROWS)
        known = of_row < n_keys
        of_row[~known] = 0
        sites = np.where(known, of_row // N_NUMBERS, N_TEXTS)
        site = pa.array([*texts, "other"]).take(pa.array(sites))
        frame = pa.table({"site": site, "year": numbers[of_row % N_NUMBERS]})
        yield _comparison(form, frame, keys, of_row, known)


def _comparison(
    form: str, frame: pa.Table, keys: pa.Table, of_row: np.ndarray, known: np.ndarray
) -> Comparison:
    outputs = {name: {"t": "text", "n": "number", "i": "integer"}[name[0]] for name in keys.column_names[2:]}
    table = RuleTable("lookup", {"site": "text", "year": "integer"}, outputs, lookup=keys)
    polars_frame, polars_keys = pl.from_arrow(frame), pl.from_arrow(keys)
    pandas_frame, pandas_keys = frame.to_pandas(), keys.to_pandas()
    assert isinstance(polars_frame, pl.DataFrame) and isinstance(polars_keys, pl.DataFrame)

    def by_join() -> pl.DataFrame:
        return polars_frame.join(polars_keys, on=["site", "year"], how="left", maintain_order="left")

    def by_merge() -> pd.DataFrame:
        return pandas_frame.merge(pandas_keys, on=["site", "year"], how="left")

    def by_merges() -> pd.DataFrame:
        made = pandas_frame
        for name in outputs:
            made = made.merge(pandas_keys[["site", "year", name]], on=["site", "year"], how="left")
        return made

    text, number = keys["t4"].to_numpy(), keys["i2"].to_numpy()

    def is_right(made: Any) -> bool:
        columns = made.select(["t4", "i2"]) if not isinstance(made, pd.DataFrame) else made
        texts, numbers = (np.asarray(columns[name]) for name in ("t4", "i2"))
        return bool(
            (texts[known] == text[of_row[known]]).all()
            and (numbers[known] == number[of_row[known]]).all()
            and pd.isna(numbers[~known]).all()
        )

    contenders = {"polars join": by_join, "pandas.merge": by_merge}
    if form == "dense":
        contenders["12 pandas merges"] = by_merges
    return Comparison(
        f"lookup: {N_ROWS:,} rows, 50,000 keys of two parts ({form} integers, text), 12 outputs",
        lambda: table.apply(frame),
        contenders,
        is_right,
        0.40,
    )
