"""Rules: 10 million rows, 10 and 50 first-match rows over three inputs, one of them text, with missing
values.
"""

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
METHODS = ("KN", "SS", "GB", "CB", "PR", "XR", "ZT", "LG")
CLASSES = ("good", "watch", "poor", "bad")


def comparisons() -> Iterator[Comparison]:
    rng = np.random.default_rng(4)
    oxygen = np.round(rng.random(N_ROWS) * 14, 1)
    nitrate = np.round(rng.random(N_ROWS) * 60, 1)
    oxygen[rng.random(N_ROWS) < 0.02] = np.nan
    codes = rng.integers(0, len(METHODS), N_ROWS).astype(np.int8)
    codes[rng.random(N_ROWS) < 0.02] = -1
    methods = pd.Categorical.from_codes(codes, list(METHODS))
    frame = pd.DataFrame({"oxygen": oxygen, "nitrate": nitrate, "method": methods})
    table = pa.table({"oxygen": oxygen, "nitrate": nitrate, "method": pa.array(methods).cast(pa.string())})
    for n_rules in (10, 50):
        rules = _rules(n_rules)
        expected = _expected(rules, oxygen, nitrate, codes)
        yield _comparison("categorical", frame, rules, expected, 0.35 if n_rules == 10 else 0.15)
        yield _comparison("plain text", table, rules, expected, 0.35 if n_rules == 10 else 0.15)


Rule = tuple[float, float, str | None, str]


def _rules(number: int) -> list[Rule]:
    """Return rules: oxygen below, nitrate at least, the method or any, the class."""
    rng = np.random.default_rng(number)
    made: list[Rule] = []
    for index in range(number - 1):
        method = None if index % 3 == 0 else METHODS[int(rng.integers(len(METHODS)))]
        low, high = round(float(rng.random() * 12) + 1, 1), round(float(rng.random() * 50), 1)
        made.append((low, high, method, CLASSES[index % 3 + 1]))
    return [*made, (99.0, 0.0, None, "good")]


def _expected(rules: list[Rule], oxygen: np.ndarray, nitrate: np.ndarray, codes: np.ndarray) -> np.ndarray:
    made = np.full(len(oxygen), -1, np.int8)
    for low, high, method, result in reversed(rules):
        holds = (oxygen < low) & (nitrate >= high)
        if method is not None:
            holds &= codes == METHODS.index(method)
        made[holds] = CLASSES.index(result)
    return made


def _comparison(form: str, frame: Any, rules: list[Rule], expected: np.ndarray, target: float) -> Comparison:
    ours = RuleTable(
        "status",
        {"oxygen": "number", "nitrate": "number", "method": "text"},
        {"status": {"type": "text", "order": list(CLASSES)}},
        [
            ["oxygen", "nitrate", "method", "status"],
            *([f"< {a}", f">= {b}", c or "", d] for a, b, c, d in rules),
        ],
        match="first",
    )
    polars_frame = (
        pl.DataFrame(
            {
                "oxygen": pl.Series(frame["oxygen"].to_numpy(), nan_to_null=True),
                "nitrate": frame["nitrate"].to_numpy(),
                "method": pl.Series(frame["method"].astype("str")).cast(pl.Categorical),
            }
        )
        if isinstance(frame, pd.DataFrame)
        else pl.from_arrow(frame).with_columns(pl.col("oxygen").fill_nan(None))
    )
    assert isinstance(polars_frame, pl.DataFrame)

    def by_when() -> pl.DataFrame:
        chain: Any = pl
        for low, high, method, result in rules:
            holds = (pl.col("oxygen") < low) & (pl.col("nitrate") >= high)
            if method is not None:
                holds &= pl.col("method") == method
            chain = chain.when(holds).then(pl.lit(result))
        return polars_frame.with_columns(chain.otherwise(None).alias("status"))

    def by_select() -> pd.Series[Any]:
        columns = (
            frame
            if isinstance(frame, pd.DataFrame)
            else {
                name: frame[name].to_numpy() if name != "method" else frame[name].to_pandas()
                for name in frame.column_names
            }
        )
        conditions = []
        for low, high, method, _ in rules:
            holds = (columns["oxygen"] < low) & (columns["nitrate"] >= high)
            conditions.append(holds & (columns["method"] == method) if method is not None else holds)
        codes = np.select(conditions, [CLASSES.index(rule[3]) for rule in rules], default=-1)
        return pd.Series(pd.Categorical.from_codes(codes, list(CLASSES)), name="status")

    def is_right(made: Any) -> bool:
        if isinstance(made, pd.Series):
            values = made
        elif isinstance(made, pl.DataFrame):
            values = made["status"].to_pandas()
        else:
            values = made["status"] if isinstance(made, pd.DataFrame) else made["status"].to_pandas()
        codes = values.astype(pd.CategoricalDtype(list(CLASSES))).cat.codes.to_numpy()
        return bool(np.array_equal(codes, expected))

    return Comparison(
        f"rules: {N_ROWS:,} rows, {len(rules)} first-match rows over three inputs, {form}",
        lambda: ours.apply(frame),
        {"polars when": by_when, "numpy.select": by_select},
        is_right,
        target,
    )
