"""Finding the cell of a number among many thresholds: a grid of buckets, each of which knows its one
threshold.

There are two grids. One is even over the numbers. The other is even over the bits of the floats, which as
integers are in the order of the floats: fine near zero and coarse far from it, so that skewed bounds do no
harm. The one that leaves fewer thresholds sharing a bucket is taken; only in shared buckets is there a
search.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import numpy.typing as npt

from kivvet.core.columns.arrays import CHUNK, Array, Counts

_FEWEST_BUCKETS, _MOST_BUCKETS = 1 << 12, 1 << 20
_BUCKETS_A_THRESHOLD = 32

Buckets = npt.NDArray[np.int64]


class _EvenGrid:
    """Buckets of equal width over floats; values beyond the thresholds lie in the first and the last."""

    def __init__(self, inner: npt.NDArray[np.float64], n_buckets: int) -> None:
        self.origin = float(inner[0])
        width = float(inner[-1]) - self.origin
        self.scale = n_buckets / width if width > 0 and np.isfinite(width) else 1.0
        self.n_buckets = n_buckets + 3

    def place(self, numbers: npt.NDArray[np.float64], out: Buckets, spare: npt.NDArray[np.float64]) -> None:
        """Write the bucket of each number; rounding keeps their order."""
        np.subtract(numbers, self.origin, out=spare)
        np.multiply(spare, self.scale, out=spare)
        np.add(spare, 1.0, out=spare)
        np.fmax(spare, 0.0, out=spare)  # NaN too
        np.fmin(spare, self.n_buckets - 1, out=spare)
        np.copyto(out, spare, casting="unsafe")


class _BitGrid:
    """Buckets of equal width over the bits of floats that are above zero, or over integers."""

    def __init__(self, inner: Array, n_buckets: int) -> None:
        first, last = (int(place) for place in (inner[:1].view(np.int64)[0], inner[-1:].view(np.int64)[0]))
        self.shift = np.uint64(max(0, (last - first).bit_length() - (n_buckets.bit_length() - 1)))
        width = 1 << int(self.shift)
        self.low, self.high = max(first - width, -(2**63)), min(last + width, 2**63 - 1)
        self.n_buckets = ((self.high - self.low) >> int(self.shift)) + 1

    def place(self, numbers: Array, out: Buckets, spare: Array) -> None:
        """Write the bucket of each number; negative floats lie below all, as they should."""
        np.clip(numbers.view(np.int64), self.low, self.high, out=out)
        # What lies between may need all 64 bits, so it is worked out without a sign.
        unsigned = out.view(np.uint64)
        np.subtract(unsigned, np.uint64(self.low % 2**64), out=unsigned)
        np.right_shift(unsigned, self.shift, out=unsigned)


class Grid:
    """Thresholds made ready.

    Parameters
    ----------
    thresholds : ndarray of float32, float64 or integers, increasing, shape (n,)
        For floats the first is -infinity, so that NaN alone lies in cell 0; another one at least follows.
    """

    def __init__(self, thresholds: Array) -> None:
        self.thresholds = thresholds
        self.is_float = thresholds.dtype.kind == "f"
        if self.is_float and not np.isneginf(thresholds[0]):
            raise ValueError("the first threshold of floats is -infinity")
        self.kind: Any = np.float64 if self.is_float else np.int64
        inner: Array = (thresholds[1:] if self.is_float else thresholds).astype(self.kind)
        inner += self.kind(0)  # -0 is 0
        wanted = min(_MOST_BUCKETS, max(_FEWEST_BUCKETS, len(inner) * _BUCKETS_A_THRESHOLD))
        finite = inner[np.isfinite(inner)] if self.is_float else inner
        grids: list[_EvenGrid | _BitGrid] = []
        if self.is_float and len(finite) > 1:
            grids.append(_EvenGrid(finite, wanted))
        if not self.is_float or inner[0] > 0:
            grids.append(_BitGrid(inner, wanted))
        placed: list[tuple[int, int, _EvenGrid | _BitGrid, Buckets]] = []
        for grid in grids or [_EvenGrid(np.array([0.0, 1.0]), 1)]:
            buckets = np.empty(len(inner), np.int64)
            with np.errstate(all="ignore"):
                grid.place(inner, buckets, np.empty_like(inner))
            n_crowded = int(np.count_nonzero(np.diff(buckets) == 0))
            placed.append((n_crowded, len(placed), grid, buckets))
        _, _, self.grid, buckets = min(placed, key=lambda one: one[:2])
        everywhere = np.arange(self.grid.n_buckets)
        n_before = np.searchsorted(buckets, everywhere, side="left")
        n_within = np.searchsorted(buckets, everywhere, side="right") - n_before
        self.bound = np.full(len(everywhere), np.inf if self.is_float else np.iinfo(np.int64).max, self.kind)
        has_bound = n_within > 0
        self.bound[has_bound] = inner[n_before[has_bound]]
        cells = n_before + (1 if self.is_float else 0)
        # For each bucket the cell below its threshold and the one from it on.
        self.cells = np.column_stack([cells, cells + has_bound]).reshape(-1)
        self.is_crowded = n_within > 1
        self.any_crowded = bool(self.is_crowded.any())

    def label(
        self, values: Array, labels: Array, out: Array, counts: Counts | None, start: int, end: int
    ) -> None:
        """Write the label of each value's cell, and add to the rows of each cell."""
        scratch = [np.empty(CHUNK, self.kind) for _ in range(3)]
        bits, reached = np.empty(CHUNK, np.int64), np.empty(CHUNK, bool)
        of_half = self.cells if counts is not None else labels[self.cells]
        with np.errstate(all="ignore"):
            for first in range(start, end, CHUNK):
                last = min(first + CHUNK, end)
                size = last - first
                number, bound, spare = (one[:size] for one in scratch)
                bucket, is_reached = bits[:size], reached[:size]
                np.add(values[first:last], self.kind(0), out=number, casting="unsafe")
                self.grid.place(number, bucket, spare)
                np.take(self.bound, bucket, out=bound, mode="clip")
                np.greater_equal(number, bound, out=is_reached)
                crowded = np.flatnonzero(self.is_crowded[bucket]) if self.any_crowded else ()
                np.left_shift(bucket, 1, out=bucket)
                np.add(bucket, is_reached, out=bucket)
                self._finish(
                    values[first:last], number, bucket, crowded, of_half, labels, out[first:last], counts
                )

    def _finish(
        self,
        values: Array,
        number: Array,
        half: Buckets,
        crowded: Any,
        of_half: Array,
        labels: Array,
        out: Array,
        counts: Counts | None,
    ) -> None:
        search: Callable[[], Array] = lambda: np.searchsorted(self.thresholds, values[crowded], side="right")  # noqa: E731
        if counts is None:
            np.take(of_half, half, out=out, mode="clip")
            if len(crowded):
                out[crowded] = labels[search()]
            if self.is_float:
                out[np.isnan(number)] = labels[0]
            return
        cells = of_half[half]
        if len(crowded):
            cells[crowded] = search()
        if self.is_float:
            cells[np.isnan(number)] = 0
        counts += np.bincount(cells, minlength=len(labels))
        np.take(labels, cells, out=out, mode="clip")
