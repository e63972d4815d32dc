"""Mappings: 10 million coded values with missing ones, 8 and 10,000 distinct, into classes."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc

from benchmarks.by_hand.exact_totals import in_two
from benchmarks.runner import Comparison
from kivvet.rule_table import RuleTable

N_ROWS = 10_000_000


def comparisons() -> Iterator[Comparison]:
    rng = np.random.default_rng(2)
    for n_distinct in (8, 10_000):
        keys = [f"key {number:05d}" for number in range(n_distinct)]
        classes = [f"class {number % 7}" for number in range(n_distinct)]
        codes = rng.integers(0, n_distinct, N_ROWS).astype(np.int8 if n_distinct < 100 else np.int16)
        codes[rng.random(N_ROWS) < 0.02] = -1
        table = RuleTable("group", {"key": "text"}, {"group": "text"}, list(zip(keys, classes, strict=True)))
        of_key = np.append(np.arange(n_distinct) % 7, -1)
        expected = of_key[codes]
        yield _categorical(table, keys, classes, codes, expected)
        yield _dictionary(table, keys, classes, codes, expected)
        yield _plain_text(table, keys, classes, codes, expected)
        yield _pandas_text(table, keys, classes, codes, expected)


def _categorical(
    table: RuleTable, keys: list[str], classes: list[str], codes: np.ndarray, expected: np.ndarray
) -> Comparison:
    frame = pd.DataFrame({"key": pd.Categorical.from_codes(codes, keys)})
    polars_frame = pl.DataFrame({"key": pl.Series(frame["key"].astype("str")).cast(pl.Categorical)})
    lookup = pd.DataFrame({"key": pd.Categorical(keys, categories=keys), "group": pd.Categorical(classes)})
    mapping = dict(zip(keys, classes, strict=True))

    def by_map() -> pd.DataFrame:
        return frame.assign(group=frame["key"].map(mapping))

    def by_merge() -> pd.DataFrame:
        return frame.merge(lookup, on="key", how="left")

    def by_replace() -> pl.DataFrame:
        return polars_frame.with_columns(pl.col("key").replace_strict(mapping, default=None).alias("group"))

    def is_right(made: Any) -> bool:
        values = made["group"].to_pandas() if isinstance(made, pl.DataFrame) else made["group"]
        return _same(values.astype("category"), expected)

    return Comparison(
        f"mapping: {len(codes):,} rows, {len(keys):,} distinct, pandas categorical",
        lambda: table.apply(frame),
        {"pandas map": by_map, "pandas.merge": by_merge, "polars replace": by_replace},
        is_right,
        0.20,
    )


def _dictionary(
    table: RuleTable, keys: list[str], classes: list[str], codes: np.ndarray, expected: np.ndarray
) -> Comparison:
    array = pa.DictionaryArray.from_arrays(pa.array(codes.astype(np.int32), mask=codes < 0), pa.array(keys))
    frame = pa.table({"key": array})
    mapping = dict(zip(keys, classes, strict=True))
    key_set, class_array = pa.array(keys), pa.array(classes).dictionary_encode()

    def by_index_in() -> pa.Table:
        places = pc.index_in(array, value_set=key_set)
        return frame.append_column("group", class_array.take(places))

    def by_polars() -> pl.DataFrame:
        return pl.from_arrow(frame).with_columns(
            pl.col("key").replace_strict(mapping, default=None).alias("group")
        )

    def by_pandas() -> pd.DataFrame:
        made = frame.to_pandas()
        return made.assign(group=made["key"].map(mapping))

    def is_right(made: Any) -> bool:
        values = made["group"] if isinstance(made, pd.DataFrame) else made["group"].to_pandas()
        return _same(values.astype("category"), expected)

    return Comparison(
        f"mapping: {len(codes):,} rows, {len(keys):,} distinct, Arrow dictionary",
        lambda: table.apply(frame),
        {"pyarrow index_in, take": by_index_in, "polars replace": by_polars, "pandas map": by_pandas},
        is_right,
        0.20,
    )


def _plain_text(
    table: RuleTable, keys: list[str], classes: list[str], codes: np.ndarray, expected: np.ndarray
) -> Comparison:
    array = pa.array(keys).take(pa.array(codes.astype(np.int32), mask=codes < 0))
    frame = pa.table({"key": array})
    mapping = dict(zip(keys, classes, strict=True))
    key_set, class_array = pa.array(keys), pa.array(classes).dictionary_encode()

    def by_index_in() -> pa.Table:
        return frame.append_column(
            "group", class_array.take(pc.index_in(array, value_set=key_set, skip_nulls=True))
        )

    def by_polars() -> pl.DataFrame:
        return pl.from_arrow(frame).with_columns(
            pl.col("key").replace_strict(mapping, default=None).alias("group")
        )

    def is_right(made: Any) -> bool:
        return _same(made["group"].to_pandas().astype("category"), expected)

    return Comparison(
        f"mapping: {len(codes):,} rows, {len(keys):,} distinct, Arrow plain text",
        lambda: table.apply(frame),
        {"pyarrow index_in, take": by_index_in, "polars replace": by_polars},
        is_right,
        0.60,
        lambda: in_two(
            lambda first, end: pc.index_in(
                array.slice(first, end - first), value_set=key_set, skip_nulls=True
            ),
            len(array),
        ),
        "each text found by Arrow, two threads",
    )


def _pandas_text(
    table: RuleTable, keys: list[str], classes: list[str], codes: np.ndarray, expected: np.ndarray
) -> Comparison:
    array = pa.array(keys).take(pa.array(codes.astype(np.int32), mask=codes < 0))
    frame = pd.DataFrame({"key": array.to_pandas()})
    lookup = pd.DataFrame({"key": keys, "group": classes})
    mapping = dict(zip(keys, classes, strict=True))

    def by_map() -> pd.DataFrame:
        return frame.assign(group=frame["key"].map(mapping))

    def by_merge() -> pd.DataFrame:
        return frame.merge(lookup, on="key", how="left")

    def is_right(made: pd.DataFrame) -> bool:
        return _same(made["group"].astype("category"), expected)

    return Comparison(
        f"mapping: {len(codes):,} rows, {len(keys):,} distinct, pandas text",
        lambda: table.apply(frame),
        {"pandas map": by_map, "pandas.merge": by_merge},
        is_right,
        0.20,
    )


def _same(values: pd.Series, expected: np.ndarray) -> bool:
    """Whether each row has the class expected, row by row."""
    of_category = np.array([int(str(one).removeprefix("class ")) for one in values.cat.categories] + [-1])
    return bool((of_category[values.cat.codes.to_numpy()] == expected).all())
