"""Times contenders in turn, after checking that each gives the right answer."""

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

from benchmarks.lines import Line

ROUNDS = 5
Contender = Callable[[], Any]


@dataclass(frozen=True)
class Comparison:
    """One piece of work: our way, the ways by hand, the answer each has to give, and the target of the ratio to the best.

    Attributes
    ----------
    floor : callable or None
        The part of the work alone that nobody can leave out, `floor_is` in words: where the target is missed, how far it could be.
    above : float or None
        In the place of a ratio, how many milliseconds more than the best by hand are aimed at.
    """

    title: str
    ours: Contender
    by_hand: dict[str, Contender]
    is_right: Callable[[Any], bool]
    target: float
    floor: Contender | None = None
    floor_is: str = ""
    above: float | None = None


def run(comparison: Comparison) -> Line:
    """Time a comparison, and return what it came to: medians beside the best by hand."""
    contenders = {"kivvet": comparison.ours, **comparison.by_hand}
    for name, work in contenders.items():
        if not comparison.is_right(work()):
            raise AssertionError(f"{comparison.title}: {name} gives another answer")
    if comparison.floor is not None:
        contenders["floor"] = comparison.floor
    times: dict[str, list[float]] = {name: [] for name in contenders}
    for _ in range(ROUNDS):
        for name, work in contenders.items():
            gc.collect()
            start = time.perf_counter()
            result = work()
            times[name].append(time.perf_counter() - start)
            del result
    medians = {name: statistics.median(each) * 1000 for name, each in times.items()}
    best = min(comparison.by_hand, key=medians.__getitem__)
    target = comparison.target
    if comparison.above is not None:
        target = 1 + comparison.above / medians[best]
    floor = medians.get("floor")
    return Line(
        comparison.title, medians["kivvet"], "ms", best, medians[best], target, floor, comparison.floor_is
    )


def timed(work: Callable[[], Any]) -> tuple[float, Any]:
    """Return the seconds that some work takes, and what it gives."""
    start = time.perf_counter()
    made = work()
    return time.perf_counter() - start, made


def machine() -> str:
    """Return what figures are measured on."""
    versions = ", ".join(f"{name} {version(name)}" for name in ("numpy", "pandas", "pyarrow", "polars"))
    return f"{os.cpu_count()} cores, {platform.machine()}, Python {platform.python_version()}, {versions}; medians of {ROUNDS} rounds, in turn"
