"""How long a comparison of two versions takes: of rules over several inputs beside a full check of one, of a lookup and of a
mapping beside a join by hand, which tells keys and no more; and drafting from classes beside counting them.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace

import numpy as np
import pandas as pd

import kivvet
from benchmarks.check import partitioned, table_of
from benchmarks.lines import Line
from benchmarks.runner import timed
from kivvet.core.check.check import check_table
from kivvet.core.compare.compare import compare_tables
from kivvet.rule_table import value_of


def figures() -> Iterator[Line]:
    """Yield a line for each comparison."""
    table = table_of(partitioned(2_000, 8), "first")
    rows = list(table.rows)
    rows[1_000] = replace(rows[1_000], results=("another",))
    changed = replace(table, rows=tuple(rows))
    yield _line(
        "rules, 2,000 rows by 8 inputs, one row changed",
        "a check of one",
        0.2,
        lambda: compare_tables(table, changed),
        lambda: check_table(changed),
    )
    old, new = _keys(1_000_000, 1_000)
    lookups = [_lookup(one) for one in (old, new)]
    yield _line(
        "a lookup of 1,000,000 keys, 1,000 of them changed, in another order",
        "a join in pandas",
        1.0,
        lambda: compare_tables(*map(value_of, lookups)),
        lambda: _by_hand(old, new),
    )
    old, new = _keys(10_000, 10)
    mappings = [_mapping(one) for one in (old, new)]
    yield _line(
        "a mapping of 10,000 rows, 10 of them changed",
        "a join in pandas",
        None,
        lambda: compare_tables(*map(value_of, mappings)),
        lambda: _by_hand(old, new),
    )
    frame = _classified(1_000_000)
    yield _line(
        "drafting from classes, 1,000,000 rows by 4 columns",
        "grouping them in pandas",
        None,
        lambda: kivvet.draft(frame, ["a", "b", "c", "d"], classes="y"),
        lambda: frame.groupby(["a", "b", "c", "d", "y"], dropna=False).size(),
    )


def _line(
    what: str, beside: str, target: float | None, own: Callable[[], object], other: Callable[[], object]
) -> Line:
    return Line(what, timed(own)[0], "s", beside, timed(other)[0], target)


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
