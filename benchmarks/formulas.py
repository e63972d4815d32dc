"""Formulas: 10 million rows, 100,000 groups: first or repeat, share of the total, ten equal-count bins; and
arithmetic.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from typing import Any

import numpy as np
import pandas as pd
import polars as pl
import pyarrow as pa
import pyarrow.compute as pc

import kivvet
from benchmarks.by_hand.exact_totals import exact_totals, in_two
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
            yield _first_row(frame)
            yield _median(frame)


def _first(form: str, frame: pa.Table, group: np.ndarray, day: np.ndarray) -> Comparison:
    formula = {"first": "RANK() OVER (PARTITION BY key ORDER BY day) = 1"}
    lowest = np.full(N_GROUPS, np.iinfo(np.int32).max, np.int32)
    np.minimum.at(lowest, group, day)
    expected = day == lowest[group]
    polars_frame, pandas_frame = _frames(frame)

    def by_over() -> pl.DataFrame:
        return polars_frame.with_columns((pl.col("day") == pl.col("day").min().over("key")).alias("first"))

    def by_numbers() -> pa.Table:
        numbers = _numbered(frame["key"].chunk(0)) if _is_to_number(form) else group
        made = np.empty(N_ROWS, bool)

        def least(first: int, end: int) -> np.ndarray:
            found = np.full(N_GROUPS, np.iinfo(np.int32).max, np.int32)
            np.minimum.at(found, numbers[first:end], day[first:end])
            return found

        lowest = np.minimum(*in_two(least, N_ROWS))

        def compare(first: int, end: int) -> np.ndarray:
            for start in range(first, end, 65_536):
                rows = slice(start, min(start + 65_536, end))
                np.equal(day[rows], lowest[numbers[rows]], out=made[rows])
            return made

        in_two(compare, N_ROWS)
        return frame.append_column("first", pa.array(made))

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
        0.6,
        by_numbers,
        "groups numbered by Arrow, the least of each and a comparison by NumPy, all in two threads",
    )


def _share(form: str, frame: pa.Table, group: np.ndarray, amount: np.ndarray) -> Comparison:
    formula = {"share": "amount / SUM(amount) OVER (PARTITION BY key)"}
    total = np.bincount(group, weights=np.nan_to_num(amount), minlength=N_GROUPS)
    expected = amount / total[group]
    is_gone = np.isnan(amount)
    filled = np.nan_to_num(amount)
    polars_frame, pandas_frame = _frames(frame)

    def exactly() -> pa.Table:
        numbers = _numbered(frame["key"].chunk(0)) if _is_to_number(form) else group
        totals = exact_totals(numbers, filled, N_GROUPS)[numbers]
        return frame.append_column("share", pa.array(amount / totals, mask=is_gone))

    def by_over() -> pl.DataFrame:
        return polars_frame.with_columns(
            (pl.col("amount") / pl.col("amount").sum().over("key")).alias("share")
        )

    def by_bincount() -> pa.Table:
        totals = np.bincount(group, weights=np.nan_to_num(amount), minlength=N_GROUPS)
        return frame.append_column("share", pa.array(amount / totals[group], from_pandas=True))

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
        {
            "polars over": by_over,
            "pandas transform": by_transform,
            **({"bincount": by_bincount} if form == "dense integers" else {}),
        },
        is_right,
        0.5 if form == "dense integers" else 0.7,
        exactly,
        "groups numbered by Arrow in two threads, exact totals by hand"
        if _is_to_number(form)
        else "exact totals by hand, of groups that are numbered already",
    )


def _is_to_number(form: str) -> bool:
    return form in ("sparse integers", "text")


def _numbered(keys: pa.Array) -> np.ndarray:
    """Return the number of each row's key: each half numbered by Arrow, at once, then made one."""
    halves = in_two(lambda first, end: pc.dictionary_encode(keys.slice(first, end - first)), len(keys))
    return np.concatenate([one.indices for one in pa.chunked_array(halves).unify_dictionaries().chunks])


def _first_row(frame: pa.Table) -> Comparison:
    polars_frame, pandas_frame = _frames(frame)
    expected = ~pandas_frame["key"].duplicated().to_numpy()
    return Comparison(
        f"ROW_NUMBER() OVER (PARTITION BY key) = 1: {N_ROWS:,} rows, {N_GROUPS:,} groups",
        lambda: kivvet.with_formulas(frame, {"first": "ROW_NUMBER() OVER (PARTITION BY key) = 1"}),
        {
            "pandas duplicated": lambda: pandas_frame.assign(first=~pandas_frame["key"].duplicated()),
            "polars is_first_distinct": lambda: polars_frame.with_columns(
                pl.col("key").is_first_distinct().alias("first")
            ),
        },
        lambda made: bool(np.array_equal(np.asarray(made["first"]), expected)),
        0.6,
    )


def _median(frame: pa.Table) -> Comparison:
    polars_frame, pandas_frame = _frames(frame)
    expected = pandas_frame.groupby("key")["amount"].transform("median").to_numpy()
    return Comparison(
        f"MEDIAN within {N_GROUPS:,} groups: {N_ROWS:,} rows",
        lambda: kivvet.with_formulas(frame, {"made": "MEDIAN(amount) OVER (PARTITION BY key)"}),
        {
            "polars over": lambda: polars_frame.with_columns(
                pl.col("amount").median().over("key").alias("made")
            ),
            "pandas transform": lambda: pandas_frame.assign(
                made=pandas_frame.groupby("key")["amount"].transform("median")
            ),
        },
        partial(_is_near, expected),
        0.9,
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

    def product() -> pa.Table:
        return frame.append_column("made", pc.multiply(pc.multiply(frame["a"], frame["b"]), 86.4))

    def of_columns() -> pa.Table:
        made = pc.subtract(
            pc.add(pc.multiply(frame["a"], frame["b"]), pc.divide(frame["c"], frame["d"])), frame["e"]
        )
        return frame.append_column("made", made)

    def logarithms() -> pa.Table:
        return frame.append_column("made", pc.add(pc.ln(frame["a"]), pc.exp(pc.negate(frame["b"]))))

    def in_long(rows: slice) -> np.ndarray:
        return (np.log(a[rows].astype(np.longdouble)) + np.exp(-b[rows].astype(np.longdouble))).astype(float)

    def with_as_many_right_bits() -> list[np.ndarray]:
        return in_two(
            lambda first, end: np.concatenate(
                [in_long(slice(at, min(at + 65_536, end))) for at in range(first, end, 65_536)]
            ),
            N_ROWS,
        )

    def product_of(p: np.ndarray, q: np.ndarray, *_: np.ndarray, out: np.ndarray) -> None:
        np.multiply(np.multiply(p, q, out=out), 86.4, out=out)

    def sum_of(*parts: np.ndarray, out: np.ndarray) -> None:
        p, q, r, s, t = parts
        np.subtract(np.add(np.multiply(p, q, out=out), r / s, out=out), t, out=out)

    in_form = "NumPy in chunks, two threads, from Arrow to Arrow"
    long_doubles = "as many right bits: NumPy in long doubles, two threads"
    for formula, by_numpy, made, by_arrow, target, floor, floor_is in (
        ("a * b * 86.4", lambda: a * b * 86.4, x * y * 86.4, product, 0.9,
         lambda: _in_chunks(frame, "ab", product_of), in_form),
        ("a * b + c / d - e", lambda: a * b + c / d - e, x * y + z / w - v, of_columns, 0.6,
         lambda: _in_chunks(frame, "abcde", sum_of), in_form),
        ("LN(a) + EXP(-b)", lambda: np.log(a) + np.exp(-b), x.log() + (-y).exp(), logarithms, 1.0,
         with_as_many_right_bits, long_doubles),
    ):  # fmt: skip
        yield Comparison(
            f"{formula}: {N_ROWS:,} rows",
            lambda formula=formula: kivvet.with_formulas(frame, {"made": formula}),
            {
                "numpy": by_numpy,
                "polars": lambda made=made: polars_frame.with_columns(made.alias("made")),
                "pyarrow.compute": by_arrow,
            },
            partial(_is_near, by_numpy()),
            target,
            floor,
            floor_is,
        )


def _in_chunks(frame: pa.Table, names: str, work: Callable[..., None]) -> pa.Table:
    """Return a column made of others by hand: values chunk by chunk in two threads, the bits of what is missing joined."""
    buffers = [frame[name].chunk(0).buffers() for name in names]
    values = [np.frombuffer(one, np.float64) for _, one in buffers]
    bits = [np.frombuffer(one, np.uint8, len(frame) // 8) for one, _ in buffers]
    made, valid = np.empty(len(frame)), bits[0].copy()

    def part(first: int, end: int) -> np.ndarray:
        for start in range(first, end, 65_536):
            rows = slice(start, min(start + 65_536, end))
            work(*(one[rows] for one in values), out=made[rows])
        return made

    in_two(part, len(frame))
    for one in bits[1:]:
        valid &= one
    held = [pa.py_buffer(valid), pa.py_buffer(made)]
    return frame.append_column("made", pa.Array.from_buffers(pa.float64(), len(frame), held))


def _is_near(expected: np.ndarray, made: Any) -> bool:
    column = made if isinstance(made, np.ndarray) else made["made"]
    found = column.to_numpy(zero_copy_only=False) if isinstance(made, pa.Table) else np.asarray(column)
    return bool(np.allclose(found.astype(float), expected, equal_nan=True))


def _frames(frame: pa.Table) -> tuple[pl.DataFrame, pd.DataFrame]:
    made = pl.from_arrow(frame)
    assert isinstance(made, pl.DataFrame)
    return made, frame.to_pandas()
