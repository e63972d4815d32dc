"""Counting pairs of codes, row by row, in chunks that stay in the processor's cache."""

from __future__ import annotations

import numpy as np

from kivvet.core.columns.arrays import CHUNK, Array, Counts, in_threads


def count_pairs(one: Array, other: Array, n_codes: tuple[int, int]) -> Counts:
    """Return how many rows hold each pair of codes.

    Parameters
    ----------
    one, other : ndarrays of integers, shape (n_rows,)
        From -1, for a missing value, to ``n_codes - 1``.
    n_codes : tuple of (int, int)

    Returns
    -------
    ndarray of int64, shape (n_codes[0] + 1, n_codes[1] + 1)
        What is missing is counted last.
    """
    width = n_codes[1] + 1
    n_pairs = (n_codes[0] + 1) * width
    parts: list[Counts] = []

    def work(start: int, end: int) -> None:
        counts = np.zeros(n_pairs, np.int64)
        places = np.empty(CHUNK, np.intp)
        for first in range(start, end, CHUNK):
            last = min(first + CHUNK, end)
            chunk = places[: last - first]
            np.add(one[first:last], 1, out=chunk, dtype=np.intp)
            chunk *= width
            chunk += other[first:last]
            chunk += 1
            counts += np.bincount(chunk, minlength=n_pairs)
        parts.append(counts)

    in_threads(work, len(one))
    counted: Counts = np.sum(parts, axis=0).reshape(n_codes[0] + 1, width)
    return np.roll(counted, (-1, -1), (0, 1))
