"""Formulas: 10 million rows, 100,000 groups: first or repeat, share of the total, ten equal-count bins; and
arithmetic.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa

import kivvet
from benchmarks.runner import Comparison

N_ROWS = 10_000_000
N_GROUPS = 100_000


def comparisons() -> Iterator[Comparison]:
    rng = np.random.default_rng(6)
    group = rng.integers(0, N_GROUPS, N_ROWS)
    day = rng.integers(0, 3_000, N_ROWS).astype(np.int32)
    amount = rng.uniform(0, 1_000, N_ROWS)
    amount[rng.random(N_ROWS) < 0.02] = np.nan
    yield from _arithmetic(rng)
    sparse = np.sort(rng.choice(2**50, N_GROUPS, replace=False))
    texts = np.array([f"S{number:06d}" for number in range(N_GROUPS)])
    for form in ("dense integers", "sparse integers", "text", "categories"):
        key: Any = {
            "dense integers": lambda: pa.array(group),
            "sparse integers": lambda: pa.array(sparse[group]),
            "text": lambda: pa.array(texts).take(pa.array(group)),
            "categories": lambda: pa.DictionaryArray.from_arrays(
                pa.array(group.astype(np.int32)), pa.array(texts)
            ),
        }[form]()
        frame = pa.table(
            {"key": key, "day": pa.array(day).view(pa.date32()), "amount": pa.array(amount, from_pandas=True)}
        )
        yield _first(form, frame, group, day)
        yield _share(form, frame, group, amount)
        if form == "dense integers":
            yield _bins(frame, amount)


def _first(form: str, frame: pa.Table, group: np.ndarray, day: np.ndarray) -> Comparison:
    formula = {"first": "RANK() OVER (PARTITION BY key ORDER BY day) = 1"}
    lowest = np.full(N_GROUPS, np.iinfo(np.int32).max, np.int32)
    np.minimum.at(lowest, group, day)
    expected = day == lowest[group]
    polars_frame, pandas_frame = _frames(frame)

    def by_over() -> pl.DataFrame:
        return polars_frame.with_columns((pl.col("day") == pl.col("day").min().over("key")).alias("first"))

    def by_join() -> pl.DataFrame:
        firsts = polars_frame.group_by("key").agg(pl.col("day").min().alias("lowest"))
        joined = polars_frame.join(firsts, on="key", how="left", maintain_order="left")
        return joined.with_columns((pl.col("day") == pl.col("lowest")).alias("first"))

    def by_transform() -> pd.DataFrame:
        lowest = pandas_frame.groupby("key", observed=True)["day"].transform("min")
        return pandas_frame.assign(first=pandas_frame["day"] == lowest)

    def is_right(made: Any) -> bool:
        return bool(np.array_equal(np.asarray(made["first"]), expected))

    return Comparison(
        f"first or repeat: {N_ROWS:,} rows, {N_GROUPS:,} groups, {form}",
        lambda: kivvet.with_formulas(frame, formula),
        {"polars over": by_over, "polars join": by_join, "pandas transform": by_transform},
        is_right,
        0.25,
    )


def _share(form: str, frame: pa.Table, group: np.ndarray, amount: np.ndarray) -> Comparison:
    formula = {"share": "amount / SUM(amount) OVER (PARTITION BY key)"}
    total = np.bincount(group, weights=np.nan_to_num(amount), minlength=N_GROUPS)
    expected = amount / total[group]
    polars_frame, pandas_frame = _frames(frame)

    def by_over() -> pl.DataFrame:
        return polars_frame.with_columns(
            (pl.col("amount") / pl.col("amount").sum().over("key")).alias("share")
        )

    def by_transform() -> pd.DataFrame:
        total = pandas_frame.groupby("key", observed=True)["amount"].transform("sum")
        return pandas_frame.assign(share=pandas_frame["amount"] / total)

    def is_right(made: Any) -> bool:
        column = made["share"]
        found = column.to_numpy() if not isinstance(made, pa.Table) else column.to_numpy(zero_copy_only=False)
        return bool(np.allclose(found.astype(float), expected, equal_nan=True))

    return Comparison(
        f"group total and share: {N_ROWS:,} rows, {N_GROUPS:,} groups, {form}",
        lambda: kivvet.with_formulas(frame, formula),
        {"polars over": by_over, "pandas transform": by_transform},
        is_right,
        0.35,
    )


def _bins(frame: pa.Table, amount: np.ndarray) -> Comparison:
    formula = {"part": "CASE WHEN amount IS NOT NULL THEN NTILE(10) OVER (ORDER BY amount) END"}
    order = np.argsort(amount, kind="stable")
    size, rest = divmod(N_ROWS, 10)
    part = np.repeat(np.arange(1, 11), [size + (number < rest) for number in range(10)])
    expected = np.zeros(N_ROWS)
    expected[order] = part
    expected[np.isnan(amount)] = np.nan
    polars_frame, pandas_frame = _frames(frame)

    def by_rank() -> pl.DataFrame:
        place = pl.col("amount").fill_null(float("inf")).rank("ordinal") - 1
        parts = pl.when(pl.col("amount").is_not_null()).then(place * 10 // N_ROWS + 1)
        return polars_frame.with_columns(parts.alias("part"))

    def by_pandas_rank() -> pd.DataFrame:
        place = pandas_frame["amount"].fillna(np.inf).rank(method="first") - 1
        return pandas_frame.assign(part=(place * 10 // N_ROWS + 1).where(pandas_frame["amount"].notna()))

    def by_numpy_sort() -> np.ndarray:
        found = np.empty(N_ROWS)
        found[np.argsort(amount, kind="stable")] = part
        found[np.isnan(amount)] = np.nan
        return found

    def is_right(made: Any) -> bool:
        column = made if isinstance(made, np.ndarray) else made["part"]
        found = column.to_numpy(zero_copy_only=False) if isinstance(made, pa.Table) else np.asarray(column)
        return bool(np.array_equal(found.astype(float), expected, equal_nan=True))

    return Comparison(
        f"ten equal-count bins: {N_ROWS:,} rows",
        lambda: kivvet.with_formulas(frame, formula),
        {"polars rank": by_rank, "pandas rank": by_pandas_rank, "numpy argsort": by_numpy_sort},
        is_right,
        0.45,
    )


def _arithmetic(rng: np.random.Generator) -> Iterator[Comparison]:
    columns = {name: rng.uniform(1, 100, N_ROWS) for name in "abcde"}
    for values in columns.values():
        values[rng.random(N_ROWS) < 0.01] = np.nan
    frame = pa.table({name: pa.array(values, from_pandas=True) for name, values in columns.items()})
    a, b, c, d, e = columns.values()
    polars_frame = pl.from_arrow(frame)
    assert isinstance(polars_frame, pl.DataFrame)

    x, y, z, w, v = (pl.col(name) for name in "abcde")
    of_sums = "a * b + c / d - e", lambda: a * b + c / d - e, x * y + z / w - v, 1.3
    of_logarithms = "LN(a) + EXP(-b)", lambda: np.log(a) + np.exp(-b), x.log() + (-y).exp(), 6.0
    for named, (formula, by_numpy, made, target) in {
        "arithmetic": of_sums,
        "logarithm and exponential": of_logarithms,
    }.items():
        yield Comparison(
            f"{named}: {N_ROWS:,} rows, {formula}",
            lambda formula=formula: kivvet.with_formulas(frame, {"made": formula}),
            {"numpy": by_numpy, "polars": lambda made=made: polars_frame.with_columns(made.alias("made"))},
            partial(_is_near, by_numpy()),
            target,
        )


def _is_near(expected: np.ndarray, made: Any) -> bool:
    column = made if isinstance(made, np.ndarray) else made["made"]
    found = column.to_numpy(zero_copy_only=False) if isinstance(made, pa.Table) else np.asarray(column)
    return bool(np.allclose(found.astype(float), expected, equal_nan=True))


def _frames(frame: pa.Table) -> tuple[pl.DataFrame, pd.DataFrame]:
    made = pl.from_arrow(frame)
    assert isinstance(made, pl.DataFrame)
    return made, frame.to_pandas()
