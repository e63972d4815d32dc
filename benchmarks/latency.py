"""What a call costs on few rows: 1, 100 and 1,000 rows of pandas, by kind of table and its size, once compiled."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable

import numpy as np
import pandas as pd
import pyarrow as pa

from kivvet.rule_table import RuleTable

_CALLS = 15
_KEYS = [f"K{number:06d}" for number in range(100_000)]
_N_CLASSES = 40


def figures() -> None:
    """Print a line for each kind of table and size, with the milliseconds of a call beside those of pandas."""
    print("\nlatency: milliseconds a call, on 1, 100 and 1,000 rows, and the first call on one row")
    for size in (8, 1_000, 100_000):
        _print(f"bins, {size:,} rows", _bins(size), pd.DataFrame({"x": np.arange(1_000) * 0.5 % size}))
        texts = pd.DataFrame({"x": [_KEYS[number % size] for number in range(1_000)]})
        _print(f"mapping, {size:,} rows", _mapping(size), texts)
        _print(f"lookup, {size:,} rows, 3 outputs", _lookup(size), texts)
    numbers = pd.DataFrame({name: np.arange(1_000) % 97 * 1.0 for name in "abc"})
    for size in (10, 50):
        _print(f"rules of 3 inputs, {size} rows", _rules(size), numbers)
    series = texts["x"].map(dict(zip(_KEYS, range(len(_KEYS)), strict=True)))
    assert len(series) == len(texts)
    by_key = pd.Series(range(len(_KEYS)), index=_KEYS)
    _print("pandas map by 100,000 keys", lambda frame: frame["x"].map(by_key), texts)


def _print(title: str, call: RuleTable | Callable[[pd.DataFrame], object], frame: pd.DataFrame) -> None:
    work = call.apply if isinstance(call, RuleTable) else call
    begun = time.perf_counter()
    work(frame[:1])
    first = time.perf_counter() - begun
    times = [_median(lambda part=frame[:n]: work(part)) for n in (1, 100, 1_000)]
    shown = "".join(f"{one * 1000:9.2f}" for one in times)
    print(f"  {title:<34}{shown}   first {first * 1000:9.2f}")


def _median(work: Callable[[], object]) -> float:
    times = []
    for _ in range(_CALLS):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return statistics.median(times)


def _bins(size: int) -> RuleTable:
    rows = [(f"{number} to <{number + 1}", f"class {number % _N_CLASSES}") for number in range(size)]
    return RuleTable("bins", {"x": {"type": "number", "domain": f"0 to <{size}"}}, {"band": "text"}, rows)


def _mapping(size: int) -> RuleTable:
    rows = [(key, f"class {number % _N_CLASSES}") for number, key in enumerate(_KEYS[:size])]
    return RuleTable("mapping", {"x": "text"}, {"group": "text"}, rows)


def _lookup(size: int) -> RuleTable:
    numbers = np.arange(size)
    keys = pa.table(
        {
            "x": _KEYS[:size],
            "name": [f"class {number % _N_CLASSES}" for number in range(size)],
            "whole": numbers,
            "part": numbers / 3,
        }
    )
    return RuleTable(
        "lookup", {"x": "text"}, {"name": "text", "whole": "integer", "part": "number"}, lookup=keys
    )


def _rules(size: int) -> RuleTable:
    rows = [
        (f">= {number}", f"<= {number + 20}", "" if number % 2 else f"> {number // 2}", f"class {number % 7}")
        for number in range(size)
    ]
    head = [("a", "b", "c", "quality")]
    return RuleTable("rules", dict.fromkeys("abc", "number"), {"quality": "text"}, head + rows, match="first")
