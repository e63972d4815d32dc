"""What a call costs on few rows: 1, 100 and 1,000 rows of pandas, by kind of table and its size, once compiled."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable, Iterator

import numpy as np
import pandas as pd
import pyarrow as pa

from benchmarks.lines import Line
from kivvet.rule_table import RuleTable

_CALLS = 15
_KEYS = [f"K{number:06d}" for number in range(100_000)]
_N_CLASSES = 40


def figures() -> Iterator[Line]:
    """Yield the milliseconds of a call on one row and on 1,000 by kind of table and size, beside those of pandas."""
    by_key = pd.Series(range(len(_KEYS)), index=_KEYS)
    for size in (8, 1_000, 100_000):
        numbers = pd.DataFrame({"x": np.arange(1_000) * 0.5 % size})
        texts = pd.DataFrame({"x": [_KEYS[number % size] for number in range(1_000)]})
        for name, table, frame in (
            ("bins", _bins(size), numbers),
            ("mapping", _mapping(size), texts),
            ("lookup with 3 outputs", _lookup(size), texts),
        ):
            yield from _lines(f"{name}, {size:,} rows", table, frame)
    frame = pd.DataFrame({name: np.arange(1_000) % 97 * 1.0 for name in "abc"})
    for size in (10, 50):
        yield from _lines(f"rules of 3 inputs, {size} rows", _rules(size), frame)
    for n in (1, 1_000):
        yield Line(
            f"pandas map by 100,000 keys, {n:,} rows of data",
            _median(lambda n=n: texts[:n]["x"].map(by_key)),
            "ms",
        )


def _lines(title: str, table: RuleTable, frame: pd.DataFrame) -> Iterator[Line]:
    table.apply(frame[:1])
    for n, target in ((1, 3.0), (1_000, 4.0)):
        yield Line(
            f"{title}, {n:,} of data", _median(lambda n=n: table.apply(frame[:n])), "ms", target=target
        )


def _median(work: Callable[[], object]) -> float:
    times = []
    for _ in range(_CALLS):
        begun = time.perf_counter()
        work()
        times.append(time.perf_counter() - begun)
    return statistics.median(times) * 1000


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
