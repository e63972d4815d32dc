"""The inner loops: from values to labels, in chunks that stay in the processor's cache.

Each kernel takes a stretch of rows, writes one label a row into `out` and adds to `counts`, the rows
by cell. NumPy lets go of the interpreter inside, so that threads share the work.
"""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property

import numpy as np

from kivvet.core.columns.arrays import CHUNK, ROWS_FOR_THREADS, THREADS, Array, Counts
from kivvet.core.columns.grid import Grid

_MOST_COMPARISONS = 24
_FEWEST_FOR_GRID = 8
_ROWS_FOR_GRID = 100_000


class Thresholds:
    """Increasing values between which the cells of a column lie, with a grid over them once one is needed.

    Parameters
    ----------
    values : ndarray, shape (n_thresholds,)
    """

    def __init__(self, values: Array) -> None:
        self.values = values

    def __len__(self) -> int:
        return len(self.values)

    @cached_property
    def grid(self) -> Grid:
        """The grid, worked out once."""
        return Grid(self.values)


def label_by_thresholds(
    values: Array, thresholds: Thresholds, labels: Array, *, with_counts: bool
) -> tuple[Array, Counts | None]:
    """Return for each value the label of the cell it lies in.

    Parameters
    ----------
    values : ndarray, shape (n_rows,)
    thresholds : Thresholds, of the dtype of `values`
        A value v lies in cell i if exactly i thresholds are <= v. NaN lies in cell 0.
    labels : ndarray of unsigned integers, shape (len(thresholds) + 1,)
    with_counts : bool
        Whether to count the rows of each cell.

    Returns
    -------
    tuple of (ndarray of the dtype of labels, shape (n_rows,); ndarray of int64 by cell, or None)
    """
    if labels.dtype == np.uint8 and len(thresholds) <= _MOST_COMPARISONS:
        return _in_threads(_compare_and_add, values, labels, with_counts, thresholds.values)
    is_plain = values.dtype.kind in "fi" or (values.dtype.kind == "u" and values.dtype.itemsize < 8)
    if is_plain and len(thresholds) >= _FEWEST_FOR_GRID and len(values) >= _ROWS_FOR_GRID:
        grid = thresholds.grid

        def by_grid(
            part: Array, _: None, of_cell: Array, out: Array, counts: Counts | None, *rows: int
        ) -> None:
            grid.label(part, of_cell, out, counts, *rows)

        return _in_threads(by_grid, values, labels, with_counts, None)
    return _in_threads(_search, values, labels, with_counts, thresholds.values)


def label_by_code(codes: Array, labels: Array, *, with_counts: bool) -> tuple[Array, Counts | None]:
    """Return for each code its label; the last label is for code -1.

    Parameters
    ----------
    codes : ndarray of integers, shape (n_rows,), from -1 to len(labels) - 2
    labels : ndarray
    """
    if labels.dtype == np.uint8 and len(labels) <= 20 and codes.dtype.kind == "i":
        thresholds = np.arange(len(labels) - 1, dtype=codes.dtype)
        made, counts = _in_threads(_compare_and_add, codes, np.roll(labels, 1), with_counts, thresholds)
        return made, None if counts is None else np.roll(counts, -1)
    return _in_threads(_gather, codes, labels, with_counts, None)


def labels_of_outcomes(
    outcomes: Array, labels: Array | None, n_outcomes: int, *, with_counts: bool
) -> tuple[Array, Counts | None]:
    """Return the label of each outcome, itself without labels, and how often each outcome is met.

    Parameters
    ----------
    outcomes : ndarray of integers, shape (n_rows,), from 0 to n_outcomes - 1
    labels : ndarray, shape (n_outcomes,), or None
    """
    if labels is None and not with_counts:
        return outcomes, None
    of_outcome = np.arange(n_outcomes, dtype=outcomes.dtype) if labels is None else labels
    none = np.zeros(1, of_outcome.dtype)  # of a code that there is not
    made, counts = label_by_code(outcomes, np.concatenate([of_outcome, none]), with_counts=with_counts)
    return made, None if counts is None else counts[:n_outcomes]


def _in_threads(
    kernel: Callable[..., None], values: Array, labels: Array, with_counts: bool, thresholds: Array | None
) -> tuple[Array, Counts | None]:
    n_rows = len(values)
    out = np.empty(n_rows, labels.dtype)
    n_threads = THREADS if n_rows >= ROWS_FOR_THREADS else 1
    ends = [n_rows * part // n_threads for part in range(n_threads + 1)]
    counts = [np.zeros(len(labels) if with_counts else 0, np.int64) for _ in range(n_threads)]

    def work(part: int) -> None:
        kernel(
            values, thresholds, labels, out, counts[part] if with_counts else None, ends[part], ends[part + 1]
        )

    if n_threads == 1:
        work(0)
    else:
        with ThreadPoolExecutor(n_threads) as pool:
            list(pool.map(work, range(n_threads)))
    return out, np.sum(counts, axis=0) if with_counts else None


def _compare_and_add(
    values: Array, thresholds: Array, labels: Array, out: Array, counts: Counts | None, start: int, end: int
) -> None:
    """Compare with every threshold; add the difference of neighbouring labels, modulo 256, where it is
    reached.
    """
    differences = np.diff(labels)
    reached = np.empty(CHUNK, bool)
    as_numbers = reached.view(np.uint8)
    scaled = np.empty(CHUNK, np.uint8)
    for first in range(start, end, CHUNK):
        last = min(first + CHUNK, end)
        size = last - first
        chunk, made = values[first:last], out[first:last]
        made.fill(labels[0])
        at_least = size
        for index in range(len(thresholds)):
            np.greater_equal(chunk, thresholds[index], out=reached[:size])
            if counts is not None:
                number = int(np.count_nonzero(reached[:size]))
                counts[index] += at_least - number
                at_least = number
            if differences[index] == 1:
                np.add(made, as_numbers[:size], out=made)
            elif differences[index]:
                np.multiply(as_numbers[:size], differences[index], out=scaled[:size])
                np.add(made, scaled[:size], out=made)
        if counts is not None:
            counts[len(thresholds)] += at_least


def _search(
    values: Array, thresholds: Array, labels: Array, out: Array, counts: Counts | None, start: int, end: int
) -> None:
    """Find the cell by binary search."""
    is_float = values.dtype.kind == "f"
    for first in range(start, end, CHUNK):
        last = min(first + CHUNK, end)
        chunk = values[first:last]
        cells = np.searchsorted(thresholds, chunk, side="right")
        if is_float:
            cells[np.isnan(chunk)] = 0  # a search sorts NaN above all
        if counts is not None:
            counts += np.bincount(cells, minlength=len(labels))
        np.take(labels, cells, out=out[first:last], mode="clip")


def _gather(
    values: Array, _: None, labels: Array, out: Array, counts: Counts | None, start: int, end: int
) -> None:
    """Take the label of each code."""
    positions = np.empty(CHUNK, np.intp)
    for first in range(start, end, CHUNK):
        last = min(first + CHUNK, end)
        chunk = positions[: last - first]
        chunk[:] = values[first:last]
        np.take(labels, chunk, out=out[first:last], mode="wrap")
        if counts is not None:
            chunk[chunk < 0] = len(labels) - 1
            counts += np.bincount(chunk, minlength=len(labels))
