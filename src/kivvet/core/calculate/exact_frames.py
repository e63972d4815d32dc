"""Totals between any two places of ordered rows (running totals, moving frames), made of exact sums."""

from __future__ import annotations

from itertools import pairwise

import numpy as np

from kivvet.core.calculate.exact_slices import CHUNK
from kivvet.core.calculate.exact_sums import ExactSums
from kivvet.core.columns.arrays import Array, Places


class ExactPrefixes:
    """Exact totals of finite values in order, up to each row: what lies between two places is a difference of two.

    Each slice of the values is a whole number in 64 bits. Totals may wrap round; differences over up to `longest` rows do not.
    """

    def __init__(self, values: Array, longest: int) -> None:
        self.slices: list[tuple[int, Places]] = []
        room = max(2, int(longest - 1).bit_length())
        high = np.abs(values) > 2.0**800
        if high.any():
            self._slice(np.where(high, values, 0.0) * 2.0**-500, 500, room)
            values = np.where(high, 0.0, values)
        self._slice(values, 0, room)

    def _slice(self, rest: Array, scale: int, room: int) -> None:
        width, last = 53 - room, -5000
        top = max(rest.max(initial=0.0), -rest.min(initial=0.0))
        while top:
            q = max(int(np.frexp(top)[1]) - width, last - 51, -1074)
            magic, unit = 1.5 * 2.0 ** (q + 52), (2.0**-q if q > -1000 else 2.0**1000)
            total = np.zeros(len(rest) + 1, np.int64)
            left = np.empty(len(rest))
            top = 0.0
            for start in range(0, len(rest), CHUNK):
                rows = slice(start, start + CHUNK)
                part = (rest[rows] + magic) - magic
                np.subtract(rest[rows], part, out=left[rows])
                top = max(top, left[rows].max(), -left[rows].min())
                part *= unit
                if q <= -1000:
                    part *= 2.0 ** (-q - 1000)
                whole = part.astype(np.int64)
                whole[0] += total[start]
                np.cumsum(whole, out=total[start + 1 : start + 1 + len(whole)])
            self.slices.append((q + scale, total))
            rest, width, last = left, min(51, 60 - room), q

    def between(self, first: Places, end: Places) -> Array:
        """Return the totals of the rows from each first place up to each end, rounded once."""
        made = np.zeros(len(first))
        for start in range(0, len(first), CHUNK):
            rows = slice(start, start + CHUNK)
            one, other = first[rows], end[rows]
            made[rows] = rounded_slices(
                [(q, total[other] - total[one]) for q, total in self.slices], len(one)
            )
        return made


def rounded_slices(slices: list[tuple[int, Places]], n: int) -> Array:
    """Return sums of whole numbers of 2**q, the highest first, as floats, each rounded once."""
    if not slices:
        return np.zeros(n)
    powers = [q for q, _ in slices]
    gaps = [one - other for one, other in pairwise(powers)]
    if len(slices) > 3 or powers[0] > 900 or powers[-1] < -1000 or max(gaps, default=0) > 51:
        return _by_digits(slices, n)
    parts = [one for _, one in slices]
    for at in range(len(parts) - 1, 0, -1):
        gap = powers[at - 1] - powers[at]
        parts[at - 1] = parts[at - 1] + (parts[at] >> gap)
        parts[at] = parts[at] & ((1 << gap) - 1)
    high: Array = parts[0] * 2.0 ** powers[0]
    if len(parts) == 1:
        return high
    if len(parts) == 2 or not parts[2].any():
        made: Array = high + parts[1] * 2.0 ** powers[1]
        far = np.abs(parts[0]) > 1 << 53
    else:
        gap = powers[1] - powers[2]
        more = 53 - (powers[0] - powers[1])
        cut = gap - more
        below = (parts[2] >> cut) | ((parts[2] & ((1 << cut) - 1)) != 0) if cut > 0 else parts[2] << -cut
        made = high + ((parts[1] << more) | below) * 2.0 ** (powers[1] - more)
        far = ((np.abs(parts[0]) < 8) & (parts[2] != 0)) | (np.abs(parts[0]) > 1 << 53)
    if far.any():
        rows = np.flatnonzero(far)
        made[rows] = _by_digits([(q, one[rows]) for q, one in zip(powers, parts, strict=True)], len(rows))
    return made


def _by_digits(slices: list[tuple[int, Places]], n: int) -> Array:
    state = ExactSums(n)
    for q, one in slices:
        state.add_whole(one, q, 128)
    return state.rounded()
