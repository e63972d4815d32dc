"""Every kind of frame: bins and a mapping over pandas, polars and Arrow, texts plain and as codes, 100,000 rows and 5 million, against
the strongest ways by hand: NumPy in chunks in two threads, a dictionary that is translated, polars' own expressions.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc

from benchmarks.runner import Comparison
from kivvet.rule_table import RuleTable

SIZES = (100_000, 5_000_000)
_CHUNK = 65_536
_EDGES = [5.0, 10.0, 20.0]
_BANDS = ["a", "b", "c", "d"]
_CODES = [f"K{number:02d}" for number in range(40)]
_GROUPS = [f"g{number % 5}" for number in range(40)]
#: What is aimed at, as a ratio to the best by hand; the work is small, and what is fixed of ours is to be so many milliseconds at most.
_TARGETS, _FIXED = {"arrow": 0.6, "pandas": 0.6, "polars": 1.0}, 3.0


def comparisons() -> Iterator[Comparison]:
    rng = np.random.default_rng(7)
    for n_rows in SIZES:
        values = np.round(rng.random(n_rows) * 30, 2)
        yield from _bins(values)
        yield from _mapping(rng.integers(0, len(_CODES), n_rows))


def _in_chunks(values: np.ndarray, work: Callable[[np.ndarray, np.ndarray], None]) -> np.ndarray:
    """Return codes that two threads work out chunk by chunk."""
    made = np.empty(len(values), np.uint8)
    starts = range(0, len(values), _CHUNK)
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(lambda at: work(values[at : at + _CHUNK], made[at : at + _CHUNK]), starts))
    return made


def _bins(values: np.ndarray) -> Iterator[Comparison]:
    bounds = ["< 5", "5 to <10", "10 to <20", ">= 20"]
    table = RuleTable("band", {"x": "number"}, {"band": "text"}, list(zip(bounds, _BANDS, strict=True)))
    expected = np.searchsorted(_EDGES, values, side="right")

    def chunk(some: np.ndarray, made: np.ndarray) -> None:
        np.greater_equal(some, _EDGES[0], out=made.view(bool))
        for edge in _EDGES[1:]:
            made += some >= edge

    def of_pandas() -> pd.DataFrame:
        codes = _in_chunks(frames["pandas"]["x"].to_numpy(), chunk)
        return frames["pandas"].assign(band=pd.Categorical.from_codes(codes.view(np.int8), _BANDS))

    def of_arrow() -> pa.Table:
        codes = _in_chunks(frames["arrow"]["x"].to_numpy(), chunk)
        return frames["arrow"].append_column("band", pa.DictionaryArray.from_arrays(codes, pa.array(_BANDS)))

    def of_polars() -> pl.DataFrame:
        codes = _in_chunks(frames["polars"]["x"].to_numpy(), chunk)
        return frames["polars"].with_columns(pl.Series("band", codes).cat.to(pl.Enum(_BANDS)))

    frames: dict[str, Any] = {
        "pandas": pd.DataFrame({"x": values}),
        "arrow": pa.table({"x": values}),
        "polars": pl.DataFrame({"x": values}),
    }
    by_hand = {"pandas": of_pandas, "arrow": of_arrow, "polars": of_polars}
    for name, frame in frames.items():
        yield _comparison(
            f"bins, {name}", table, frame, "band", {"NumPy in chunks": by_hand[name]}, _BANDS, expected
        )


def _mapping(codes: np.ndarray) -> Iterator[Comparison]:
    table = RuleTable("grp", {"code": "text"}, {"grp": "text"}, list(zip(_CODES, _GROUPS, strict=True)))
    texts = np.array(_CODES)[codes]
    classes = sorted(set(_GROUPS))
    expected = codes % 5
    plain = pa.array(texts)
    coded = plain.dictionary_encode()
    known = pa.array(_CODES)
    of_known = pa.array([classes.index(one) for one in _GROUPS], pa.int8())

    def translated(array: pa.DictionaryArray) -> pa.DictionaryArray:
        of_code = of_known.take(pc.index_in(array.dictionary, known))
        return pa.DictionaryArray.from_arrays(of_code.take(array.indices), pa.array(classes))

    def looked_up(array: pa.Array) -> pa.DictionaryArray:
        return pa.DictionaryArray.from_arrays(of_known.take(pc.index_in(array, known)), pa.array(classes))

    mapping = dict(zip(_CODES, _GROUPS, strict=True))
    arrow, arrow_coded = pa.table({"code": plain}), pa.table({"code": coded})
    pandas, pandas_coded = (
        pd.DataFrame({"code": texts}),
        pd.DataFrame({"code": pd.Categorical(texts, _CODES)}),
    )
    polars = pl.DataFrame({"code": texts})
    polars_coded = polars.with_columns(pl.col("code").cast(pl.Categorical))

    def of_pandas(frame: pd.DataFrame) -> pd.DataFrame:
        made = looked_up(pa.array(frame["code"]))
        return frame.assign(grp=pd.Categorical.from_codes(made.indices.to_numpy(), classes))

    def of_categories(frame: pd.DataFrame) -> pd.DataFrame:
        of_code = of_known.to_numpy()[frame["code"].cat.codes.to_numpy()]
        return frame.assign(grp=pd.Categorical.from_codes(of_code, classes))

    def of_polars(frame: pl.DataFrame) -> pl.DataFrame:
        return frame.with_columns(
            pl.col("code").replace_strict(mapping, return_dtype=pl.Enum(classes)).alias("grp")
        )

    for name, frame, ways in (
        ("arrow, texts", arrow, {"index_in": lambda: arrow.append_column("grp", looked_up(plain))}),
        (
            "arrow, codes",
            arrow_coded,
            {"translated": lambda: arrow_coded.append_column("grp", translated(coded))},
        ),
        ("pandas, texts", pandas, {"index_in": lambda: of_pandas(pandas)}),
        ("pandas, categories", pandas_coded, {"translated": lambda: of_categories(pandas_coded)}),
        ("polars, texts", polars, {"replace_strict": lambda: of_polars(polars)}),
        ("polars, categories", polars_coded, {"replace_strict": lambda: of_polars(polars_coded)}),
    ):
        yield _comparison(f"mapping, {name}", table, frame, "grp", ways, classes, expected)


def _comparison(
    title: str,
    table: RuleTable,
    frame: Any,
    output: str,
    ways: dict[str, Callable[[], Any]],
    classes: list[str],
    expected: np.ndarray,
) -> Comparison:
    def is_right(made: Any) -> bool:
        column = made[output]
        values = column.to_list() if hasattr(column, "to_list") else column.to_pylist()
        return values == np.array(classes, object)[expected].tolist()

    kind = title.split(", ")[1]
    (by_hand,) = ways.values()
    return Comparison(
        f"{title}, {len(expected):,} rows",
        lambda: table.apply(frame),
        ways,
        is_right,
        _TARGETS[kind],
        by_hand,
        "by hand, which counts nothing",
        _FIXED if len(expected) == min(SIZES) else None,
    )
