"""Exact totals of floats by group as a good engineer writes them with NumPy alone, once: what exactness costs whoever wants it.

Each chunk of values is cut into two slices of which a plain addition is exact, as long as values are of about one size and none is
missing; what asks for more (values of very different sizes, infinities, merging) is left out.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np

_CHUNK = 16_384


def exact_totals(numbers: np.ndarray, values: np.ndarray, n_groups: int) -> np.ndarray:
    """Return the total of each group, rounded once; at most 2**24 rows, from 2**-20 to 1 times the largest in size."""
    exponent = int(np.frexp(np.abs(values).max())[1])
    high = 1.5 * 2.0 ** (exponent + 24)
    low = high * 2.0**-29

    def part(first: int, end: int) -> np.ndarray:
        totals = np.zeros((2, n_groups))
        for start in range(first, end, _CHUNK):
            rows = slice(start, min(start + _CHUNK, end))
            groups, rest = numbers[rows].astype(np.intp, copy=False), values[rows]
            for number, cut in enumerate((high, low)):
                slice_of = (rest + cut) - cut
                totals[number] += np.bincount(groups, slice_of, n_groups)
                rest = rest - slice_of
        return totals

    made = np.sum(in_two(part, len(values)), axis=0)
    return made[0] + made[1]


def in_two(work: Callable[[int, int], np.ndarray], n_rows: int) -> list[np.ndarray]:
    """Return what a piece of work gives for each half of the rows, in two threads."""
    with ThreadPoolExecutor(2) as pool:
        return list(pool.map(work, [0, n_rows // 2], [n_rows // 2, n_rows]))
