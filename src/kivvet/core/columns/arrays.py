"""Arrays, and work on their rows shared among threads."""

from __future__ import annotations

import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, Literal

import numpy as np
import numpy.typing as npt

Array = npt.NDArray[Any]
Counts = npt.NDArray[np.int64]
Places = npt.NDArray[np.int64]  # of rows, groups or cells

CHUNK = 65_536  # rows that stay in the processor's cache
ROWS_FOR_THREADS = 400_000
THREADS = min(4, os.cpu_count() or 1)


def smallest_unsigned(n_labels: int) -> type[np.unsignedinteger[Any]]:
    """Return the smallest type that holds the labels 0 to n_labels - 1."""
    return np.uint8 if n_labels <= 1 << 8 else np.uint16 if n_labels <= 1 << 16 else np.uint32


def in_threads(work: Callable[[int, int], None], n_rows: int, many: int = ROWS_FOR_THREADS) -> None:
    """Call `work` with the first and the end row of each share of the rows, at once where there are many.

    Shares begin at a multiple of 8, so that their bits share no byte.
    """
    n_threads = THREADS if n_rows >= many else 1
    ends = [*(n_rows * part // n_threads // 8 * 8 for part in range(n_threads)), n_rows]
    if n_threads == 1:
        work(0, n_rows)
        return
    with ThreadPoolExecutor(n_threads) as pool:
        list(pool.map(work, ends[:-1], ends[1:]))


def taken(of_number: Array, numbers: Array, mode: Literal["clip", "wrap"] = "clip") -> Array:
    """Return for each row what belongs to its number, in threads.

    Of a number that is none, that of the nearest; where they wrap, -1 is the last.
    """
    made = np.empty(len(numbers), of_number.dtype)

    def work(start: int, end: int) -> None:
        for first in range(start, end, CHUNK):
            last = min(first + CHUNK, end)
            np.take(of_number, numbers[first:last], out=made[first:last], mode=mode)

    in_threads(work, len(numbers))
    return made


def converted(values: Array, dtype: type[np.generic]) -> Array:
    """Return values as another type, in threads; themselves where they are of it."""
    if values.dtype == dtype:
        return values
    made = np.empty(len(values), dtype)

    def work(start: int, end: int) -> None:
        made[start:end] = values[start:end]

    in_threads(work, len(values))
    return made


def group_sizes(numbers: Array, n_groups: int) -> Places:
    """Return how many rows each group has; few rows at a time become numbers of the width in which NumPy counts."""
    sizes = np.zeros(n_groups, np.int64)
    step = max(CHUNK, 4 * n_groups)
    for start in range(0, len(numbers), step):
        counted = np.bincount(numbers[start : start + step], minlength=n_groups)
        sizes += counted
    return sizes
