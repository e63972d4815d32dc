"""Bins: 10 million floats with missing values and infinities, into 6 to 100,000 ranges, evenly and unevenly
spread.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa

from benchmarks.runner import Comparison
from kivvet.rule_table import RuleTable

N_ROWS = 10_000_000


def comparisons() -> Iterator[Comparison]:
    rng = np.random.default_rng(1)
    values = rng.uniform(0, 14, N_ROWS)
    values[rng.random(N_ROWS) < 0.02] = np.nan
    values[:1000] = np.inf
    for n_bins in (6, 20):
        edges = np.round(np.linspace(0, 14, n_bins + 1)[1:-1], 2)
        values[1000 : 1000 + len(edges)] = edges  # on the bounds themselves
        yield _bins(n_bins, edges, values)
    for n_bins, spread in itertools.product((1_000, 100_000), ("even", "uneven")):
        edges = np.unique(
            rng.uniform(0, 14, n_bins - 1) if spread == "even" else np.exp(rng.normal(0, 2, n_bins - 1))
        )
        yield _many(len(edges) + 1, spread, edges, values)


def _many(n_bins: int, spread: str, edges: np.ndarray, values: np.ndarray) -> Comparison:
    """Return the comparison for so many ranges that they stand in a lookup, each valid until the next begins."""
    starts = pa.array([None, *edges.tolist()])
    table = RuleTable(
        "size",
        {"x": {"type": "number", "from": "start"}},
        {"size": "integer"},
        lookup=pa.table({"start": starts, "size": np.arange(n_bins)}),
    )
    frame = pa.table({"x": values})
    polars_frame = pl.DataFrame({"x": values}).with_columns(pl.col("x").fill_nan(None))
    expected = np.where(np.isnan(values), -1, np.searchsorted(edges, values, side="right"))

    def by_search_sorted() -> pl.DataFrame:
        x = polars_frame["x"]
        codes = pl.Series(edges).search_sorted(x, side="right").to_frame("size")
        return polars_frame.with_columns(
            codes.with_columns(pl.when(x.is_not_null()).then(pl.col("size")))["size"]
        )

    def by_numpy_search() -> np.ndarray:
        codes = np.searchsorted(edges, values, side="right")
        codes[np.isnan(values)] = -1
        return codes

    def is_right(made: pa.Table | pl.DataFrame | np.ndarray) -> bool:
        if isinstance(made, np.ndarray):
            return bool(np.array_equal(made, expected))
        column = made["size"].fill_null(-1)
        return bool(np.array_equal(column.to_numpy(), expected))

    return Comparison(
        f"bins: {N_ROWS:,} float64, 2 % missing, {n_bins:,} ranges, {spread}",
        lambda: table.apply(frame),
        {"polars search_sorted": by_search_sorted, "numpy.searchsorted": by_numpy_search},
        is_right,
        0.30,
    )


def _bins(n_bins: int, edges: np.ndarray, values: np.ndarray) -> Comparison:
    classes = [f"class {number}" for number in range(n_bins)]
    bounds = [f"< {edges[0]}", *(f"{a} to <{b}" for a, b in itertools.pairwise(edges)), f">= {edges[-1]}"]
    table = RuleTable("size", {"x": "number"}, {"size": "text"}, list(zip(bounds, classes, strict=True)))
    frame = pd.DataFrame({"x": values})
    polars_frame = pl.DataFrame({"x": values}).with_columns(pl.col("x").fill_nan(None))
    expected = np.where(np.isnan(values), -1, np.searchsorted(edges, values, side="right")).astype(np.int8)
    enum = pl.Enum(classes)

    def by_when() -> pl.DataFrame:
        chain = pl.when(pl.col("x") < edges[0]).then(pl.lit(classes[0], enum))
        for edge, name in zip(edges[1:], classes[1:], strict=False):
            chain = chain.when(pl.col("x") < edge).then(pl.lit(name, enum))
        chain = chain.when(pl.col("x") >= edges[-1]).then(pl.lit(classes[-1], enum))
        return polars_frame.with_columns(chain.otherwise(None).alias("size"))

    def by_search_sorted() -> pl.DataFrame:
        edge_series = pl.Series(edges)
        x = polars_frame["x"]
        codes = edge_series.search_sorted(x, side="right").cast(pl.UInt8)
        coded = codes.to_frame("size").with_columns(pl.when(x.is_not_null()).then(pl.col("size")))
        return polars_frame.with_columns(coded["size"])  # codes alone, which favours it

    def by_numpy_search() -> pd.DataFrame:
        codes = np.searchsorted(edges, values, side="right").astype(np.int8)
        codes[np.isnan(values)] = -1
        return frame.assign(size=pd.Categorical.from_codes(codes, classes, ordered=True))

    def by_cut() -> pd.DataFrame:
        return frame.assign(size=pd.cut(frame["x"], [-np.inf, *edges, np.inf], right=False, labels=classes))

    def by_select() -> pd.DataFrame:
        with np.errstate(invalid="ignore"):
            tests = [values < edge for edge in edges]
        codes = np.select([np.isnan(values), *tests], [-1, *range(n_bins - 1)], n_bins - 1).astype(np.int8)
        return frame.assign(size=pd.Categorical.from_codes(codes, classes, ordered=True))

    def is_right(made: pd.DataFrame | pl.DataFrame) -> bool:
        if isinstance(made, pl.DataFrame):
            column = made["size"].to_physical() if made["size"].dtype == enum else made["size"]
            found = column.cast(pl.Int8).fill_null(-1).to_numpy()
        else:
            found = made["size"].cat.codes.to_numpy()
        if n_bins and len(found) == len(expected):
            wrong = found != expected
            # A cut at infinity with an open right end leaves infinity itself out; that is its meaning, not a
            # fault.
            return not wrong[np.isfinite(values)].any()
        return False

    return Comparison(
        f"bins: {N_ROWS:,} float64, 2 % missing, {n_bins} ranges",
        lambda: table.apply(frame),
        {
            "polars when": by_when,
            "polars search_sorted": by_search_sorted,
            "numpy.searchsorted": by_numpy_search,
            "pandas.cut": by_cut,
            "numpy.select": by_select,
        },
        is_right,
        0.25,
    )
