"""How long a comparison of two versions takes: of rules over several inputs beside a full check of one, of a lookup and of a
mapping beside a join by hand, which tells keys and no more; and drafting from classes beside counting them.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import pandas as pd

import kivvet
from benchmarks.check import partitioned, table_of
from kivvet.core.check.check import check_table
from kivvet.core.compare.compare import compare_tables
from kivvet.rule_table import value_of


def figures() -> None:
    """Print a line for each comparison."""
    print("\ncompare: seconds, and the ratio to what stands beside it")
    table = table_of(partitioned(2_000, 8), "first")
    rows = list(table.rows)
    rows[1_000] = replace(rows[1_000], results=("another",))
    changed = replace(table, rows=tuple(rows))
    _line(
        "2,000 rows x 8 inputs, one row changed, beside a check",
        lambda: compare_tables(table, changed),
        lambda: check_table(changed),
    )
    old, new = _keys(1_000_000, 1_000)
    lookups = [_lookup(one) for one in (old, new)]
    _line(
        "1,000,000 keys, 1,000 of them changed, other order, beside a join",
        lambda: compare_tables(*map(value_of, lookups)),
        lambda: _by_hand(old, new),
    )
    old, new = _keys(10_000, 10)
    mappings = [_mapping(one) for one in (old, new)]
    _line(
        "10,000 rows of a mapping, 10 of them changed, beside a join",
        lambda: compare_tables(*map(value_of, mappings)),
        lambda: _by_hand(old, new),
    )
    frame = _classified(1_000_000)
    _line(
        "drafting from classes, 1,000,000 rows x 4 columns, beside grouping them",
        lambda: kivvet.draft(frame, ["a", "b", "c", "d"], classes="y"),
        lambda: frame.groupby(["a", "b", "c", "d", "y"], dropna=False).size(),
    )


def _line(what: str, own: Callable[[], object], other: Callable[[], object]) -> None:
    taken = []
    for work in (own, other):
        start = time.perf_counter()
        work()
        taken.append(time.perf_counter() - start)
    print(f"  {what:<72}{taken[0]:>7.2f}{taken[0] / taken[1]:>8.2f}")


def _keys(n: int, n_changed: int) -> tuple[pd.DataFrame, pd.DataFrame]:
    old = pd.DataFrame({"k": [f"k{number:07}" for number in range(n)], "y": ["abc"[n % 3] for n in range(n)]})
    new = old.sample(frac=1, random_state=1).reset_index(drop=True)
    new.loc[: n_changed - 1, "y"] = "d"
    return old, new


def _lookup(frame: pd.DataFrame) -> kivvet.RuleTable:
    return kivvet.RuleTable("t", {"k": "text"}, {"y": "text"}, lookup=frame)


def _mapping(frame: pd.DataFrame) -> kivvet.RuleTable:
    return kivvet.RuleTable("t", {"k": "text"}, {"y": "text"}, frame.to_numpy().tolist())


def _by_hand(old: pd.DataFrame, new: pd.DataFrame) -> pd.DataFrame:
    both = old.merge(new, on="k", how="outer", suffixes=("_old", "_new"), indicator=True)
    return both[(both["y_old"] != both["y_new"]) | (both["_merge"] != "both")]


def _classified(n: int) -> pd.DataFrame:
    drawn = np.random.default_rng(1)
    frame = pd.DataFrame(
        {
            "a": drawn.integers(0, 20, n),
            "b": np.round(drawn.normal(10, 3, n), 1),
            "c": drawn.choice(list("pqrstu"), n),
            "d": drawn.choice(["x", "y", None], n),
        }
    )
    is_mid = (frame["b"] > 12) & frame["c"].isin(list("pq"))
    frame["y"] = np.where(
        frame["a"] < 5, "low", np.where(is_mid, "mid", np.where(frame["d"] == "x", "hi", "rest"))
    )
    return frame
