"""Parts of equal counts without sorting: only the rows around each cut between two parts are looked at
closely.
"""

from __future__ import annotations

import numpy as np
import numpy.typing as npt

from kivvet.core.calculate.vectors import Vector
from kivvet.core.columns.arrays import CHUNK, Array, Places, in_threads

MOST_PARTS = 100
_BUCKETS = 1 << 16
_FEW = 2_000


def equal_counts(
    key: Vector, n_parts: int, *, is_descending: bool = False, nulls_first: bool = False
) -> tuple[Places, int]:
    """Return the part of each row, from 1, and how many rows are equal to one in another part.

    The first parts have one row more where the rows do not divide; equal rows are parted as they stand.

    Parameters
    ----------
    key : Vector
        Numbers, dates or times, one for each row.
    n_parts : int
    """
    n_rows = len(key.values)
    keys = _ordered(key.values, is_descending=is_descending)
    small, larger = divmod(n_rows, n_parts)
    sizes = np.full(n_parts, small)
    sizes[:larger] += 1
    cuts = np.cumsum(sizes)[:-1]  # the place of the first row of each part but the first
    parts = np.ones(n_rows, np.int64)
    missing = key.missing if key.missing is not None and key.missing.any() else None
    n_missing = 0 if missing is None else int(np.count_nonzero(missing))
    before = n_missing if nulls_first else 0
    ties = 0
    if missing is not None:
        first = 0 if nulls_first else n_rows - n_missing
        inside = (cuts > first) & (cuts < first + n_missing)
        ties += n_missing if inside.any() else 0
        parts[missing] = 1 + np.searchsorted(cuts, np.arange(first, first + n_missing), side="right")
    tops = np.empty(n_rows, np.uint16)

    def work(start: int, end: int) -> None:
        np.right_shift(keys[start:end], np.uint64(48), out=tops[start:end], casting="unsafe")

    in_threads(work, n_rows)
    there = tops if missing is None else tops[~missing]
    begins, of_bucket, crossed = _buckets(there, before, cuts)
    is_crossed = np.zeros(n_rows, bool)

    def place(start: int, end: int) -> None:
        for begin in range(start, end, CHUNK):
            rows = slice(begin, min(begin + CHUNK, end))
            here = crossed[tops[rows]]
            if missing is None:
                np.take(of_bucket, tops[rows], out=parts[rows], mode="clip")
            else:
                np.copyto(parts[rows], of_bucket[tops[rows]], where=~missing[rows])
                here &= ~missing[rows]
            is_crossed[rows] = here

    in_threads(place, n_rows)
    rows = np.flatnonzero(is_crossed)
    of_row = tops[rows]
    by_bucket = rows[np.argsort(of_row, kind="stable")]
    ends = np.cumsum(np.bincount(of_row, minlength=_BUCKETS))
    for bucket in np.flatnonzero(crossed).tolist():
        of_bucket_rows = by_bucket[ends[bucket - 1] if bucket else 0 : ends[bucket]]
        ties += _part(parts, keys, of_bucket_rows, int(begins[bucket]), cuts, 32)
    return parts, ties


def _buckets(
    tops: npt.NDArray[np.uint16], before: int, cuts: Places
) -> tuple[Places, Places, npt.NDArray[np.bool_]]:
    """Return for each bucket the place where it begins, the part of that place, and whether a cut falls
    within.
    """
    counts = np.bincount(tops, minlength=_BUCKETS)
    begins = before + np.cumsum(counts) - counts
    first = np.searchsorted(cuts, begins, side="right")
    last = np.searchsorted(cuts, begins + np.maximum(counts, 1) - 1, side="right")
    return begins, 1 + first, first != last


def _part(
    parts: Places, keys: npt.NDArray[np.uint64], rows: Places, begin: int, cuts: Places, shift: int
) -> int:
    """Write the parts of some rows, the first of which in order has place `begin`; return how many equal ones
    are parted.
    """
    inside = keys[rows]
    if len(rows) <= _FEW or shift < 0:
        ordered = np.argsort(inside, kind="stable")
        made = 1 + np.searchsorted(cuts, np.arange(begin, begin + len(rows)), side="right")
        parts[rows[ordered]] = made
        line = inside[ordered]
        at = np.flatnonzero((made[1:] != made[:-1]) & (line[1:] == line[:-1]))
        values = np.unique(line[at])
        return int((np.searchsorted(line, values, "right") - np.searchsorted(line, values, "left")).sum())
    tops = ((inside >> np.uint64(shift)) & np.uint64(_BUCKETS - 1)).astype(np.uint16)
    begins, of_bucket, crossed = _buckets(tops, begin, cuts)
    parts[rows] = of_bucket[tops]
    return sum(
        _part(parts, keys, rows[tops == bucket], int(begins[bucket]), cuts, shift - 16)
        for bucket in np.flatnonzero(crossed).tolist()
    )


def _ordered(values: Array, *, is_descending: bool) -> npt.NDArray[np.uint64]:
    """Return unsigned numbers in the order of the values."""
    made = np.empty(len(values), np.uint64)
    sign = np.uint64(1 << 63)

    def work(start: int, end: int) -> None:
        for begin in range(start, end, CHUNK):
            rows = slice(begin, min(begin + CHUNK, end))
            if values.dtype.kind == "f":
                bits = (values[rows] + 0.0).view(np.int64)  # -0 is 0
                # Bits of negative floats run backwards.
                flipped = bits ^ ((bits >> 63) & np.int64(2**63 - 1))
            else:
                flipped = values[rows].astype(np.int64, copy=False)
            key = flipped.view(np.uint64) ^ sign
            made[rows] = ~key if is_descending else key

    in_threads(work, len(values))
    return made
