"""Times contenders in turn, after checking that each gives the right answer; prints medians and the ratio."""

from __future__ import annotations

import gc
import os
import platform
import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass
from importlib.metadata import version
from typing import Any

ROUNDS = 5
Contender = Callable[[], Any]


@dataclass(frozen=True)
class Comparison:
    """One piece of work: our way, the ways by hand, and the answer each has to give."""

    title: str
    ours: Contender
    by_hand: dict[str, Contender]
    is_right: Callable[[Any], bool]
    target: float


def run(comparison: Comparison) -> bool:
    """Time a comparison, print it, and return whether the target was reached (a fifth is noise)."""
    contenders = {"kivvet": comparison.ours, **comparison.by_hand}
    for name, work in contenders.items():
        if not comparison.is_right(work()):
            raise AssertionError(f"{comparison.title}: {name} gives another answer")
    times: dict[str, list[float]] = {name: [] for name in contenders}
    for _ in range(ROUNDS):
        for name, work in contenders.items():
            gc.collect()
            start = time.perf_counter()
            result = work()
            times[name].append(time.perf_counter() - start)
            del result
    medians = {name: statistics.median(each) for name, each in times.items()}
    best = min((name for name in medians if name != "kivvet"), key=medians.__getitem__)
    ratio = medians["kivvet"] / medians[best]
    reached = ratio <= comparison.target * 1.2
    print(f"\n{comparison.title}")
    for name, median in sorted(medians.items(), key=lambda pair: pair[1]):
        print(f"  {name:<34} {median * 1000:9.1f} ms")
    print(
        f"  ratio to the best by hand ({best}): {ratio:.2f}, target {comparison.target:.2f}: {'reached' if reached else 'MISSED'}"
    )
    return reached


def print_machine() -> None:
    """Print what the figures were measured on."""
    versions = ", ".join(f"{name} {version(name)}" for name in ("numpy", "pandas", "pyarrow", "polars"))
    print(f"{os.cpu_count()} cores, {platform.machine()}, Python {platform.python_version()}, {versions}")
    print(f"medians of {ROUNDS} rounds, contenders in turn")
