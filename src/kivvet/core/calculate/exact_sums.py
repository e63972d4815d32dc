"""Sums of floats by group that depend on the values alone: added up exactly, rounded once.

A finite float is a whole number of units of 2**-1074, so a sum of floats is one too, whatever the order of rows, batches,
threads and workers. It is held as digits of 32 bits at fixed places (digit k counts units of 2**(32 k)), which merge by
adding. Rows come there in two slices: adding 1.5 * 2**(q + 52) and taking it away again rounds to whole units of 2**q, the
rest is exact (J. Demmel, H. D. Nguyen, "Fast reproducible floating-point summation", ARITH 2013), and q is so high that plain
adding of a slice is exact for the most rows that a group can have. Rows of which a rest is left, mostly few, go round again.

Zero sums are +0.0. NaN, and opposite infinities, give NaN. A sum is infinite only if the exact one rounds to infinity.
"""

from __future__ import annotations

from copy import copy

import numpy as np

from kivvet.core.calculate.exact_slices import BITS, CHUNK, FEW, MASK, Slices, rounded_digits
from kivvet.core.columns.arrays import Array, Places, group_sizes, in_threads

BLOCK = 1 << 18  # rows that are brought to the digits at a time where groups are few
_FAR, _UP = 2.0**800, 13  # larger values are added up as 2**-416 of their size, which is 13 places lower


class ExactSums:
    """Exact sums by group, of rows that come in any order and any batches; they merge.

    Attributes
    ----------
    digits : dict of int to ndarray of int64, shape (n_groups,)
        By place; after `settle` from 0 to 2**32 - 1, but for the highest, which has the sign.
    special : ndarray of float64, shape (n_groups,)
        The sum of what is not finite; 0 where there is none.
    """

    def __init__(self, n_groups: int) -> None:
        self.n_groups = n_groups
        self.digits: dict[int, Places] = {}
        self.special = np.zeros(n_groups)
        self._open: Slices | None = None  # not yet in the digits
        self._rests: list[tuple[Places, Array]] = []  # nor are these
        self._added = 0  # how much digits have grown since they were carried, in units of 2**53

    def add(
        self, numbers: Places, values: Array, longest: int | None = None, top: float | None = None
    ) -> None:
        """Add values to the groups of these numbers: at most `longest` to a group, none beyond +-`top`."""
        if longest is None and self.n_groups > FEW and len(values):
            longest = int(np.bincount(numbers).max())
        step = BLOCK if self.n_groups <= FEW else len(values) or 1
        for start in range(0, len(values), step):
            self._add(
                numbers[start : start + step], values[start : start + step], longest or len(values), top
            )

    def _add(self, numbers: Places, values: Array, longest: int, top: float | None) -> None:
        top = float(max(values.max(), -values.min())) if top is None else top
        if not top < _FAR:
            is_near = np.abs(values) < _FAR
            far, of_far = values[~is_near], numbers[~is_near]
            there = np.isfinite(far)
            with np.errstate(invalid="ignore"):
                self.special += np.bincount(of_far[~there], far[~there], self.n_groups)
            lower = ExactSums(self.n_groups)
            lower.add(of_far[there], far[there] * 2.0 ** (-BITS * _UP), longest)
            self.merge(lower, up=_UP)
            numbers, values = numbers[is_near], values[is_near]
            top = float(np.abs(values).max(initial=0.0))
        if top:
            longest = min(longest, len(values))
            if self._open is None or top > self._open.top or self._open.used + longest > self._open.room:
                self.flush()
                self._open = Slices(self.n_groups, top, longest if self.n_groups <= FEW else 4 * longest)
            self._rests.append(self._open.add(numbers, values, longest))
            if sum(len(rests) for _, rests in self._rests) > max(CHUNK, self.n_groups // 4):
                self._add_rests()

    def _add_rests(self) -> None:
        """Add what is left of rows, by exponent: 64 powers of two at a time."""
        numbers, rests = (np.concatenate([rest[at] for rest in self._rests]) for at in range(2))
        self._rests = []
        size = (rests.view(np.uint64) >> np.uint64(58)).astype(np.uint8) & 31
        for rows in np.split(np.argsort(size, kind="stable"), np.cumsum(np.bincount(size, minlength=32))):
            if len(rows):
                lower = ExactSums(self.n_groups)
                lower.add(numbers[rows], rests[rows])
                self.merge(lower)

    def flush(self) -> None:
        """Bring all to the digits."""
        slices, self._open = self._open, None
        for sums, q in zip(slices.sums, slices.units, strict=True) if slices is not None else ():
            if sums.any():
                self.add_whole((sums * 2.0**-q if q > -1000 else np.ldexp(sums, -q)).astype(np.int64), q)
        if self._rests:
            self._add_rests()

    def add_whole(self, whole: Places, q: int, weight: int = 1) -> None:
        """Add to each group a whole number of 2**q, up to `weight` times 2**53."""
        place, shift = divmod(q, BITS)
        low, high = self.at(place), self.at(place + 1)
        low += (whole & (MASK >> shift)) << shift
        high += whole >> (BITS - shift)
        self._carry(weight)

    def at(self, place: int) -> Places:
        """Return the digits at a place."""
        if place not in self.digits:
            self.digits[place] = np.zeros(self.n_groups, np.int64)
        return self.digits[place]

    def grow(self, n_groups: int) -> None:
        """Make room for more groups."""
        if n_groups > self.n_groups:
            self.settle()
            more = n_groups - self.n_groups
            self.digits = {place: np.pad(digit, (0, more)) for place, digit in self.digits.items()}
            self.special = np.pad(self.special, (0, more))
            self.n_groups = n_groups

    def settle(self) -> None:
        """Bring all to the digits, and carry."""
        self.flush()
        self._carry(1000)

    def _carry(self, weight: int) -> None:
        self._added += weight
        if self._added > 256 and self.digits:
            self._added = 0
            place, high = min(self.digits), max(self.digits)
            while place < high or np.abs(self.at(place)).max() > 1 << 34:
                digit, above = self.at(place), self.at(place + 1)
                above += digit >> BITS
                digit &= MASK
                place += 1

    def merge(self, other: ExactSums, places: Places | slice = slice(None), up: int = 0) -> None:
        """Add another's sums, `up` digits higher; its group i is part of group places[i] of these, if that is given."""
        mine, its, is_same = self._open, other._open, isinstance(places, slice)
        with np.errstate(invalid="ignore"):
            self.special += (
                other.special
                if isinstance(places, slice)
                else np.bincount(places, other.special, self.n_groups)
            )
        if (
            is_same
            and not up
            and mine
            and its
            and mine.units == its.units
            and mine.used + its.used <= mine.room
        ):
            mine.sums += its.sums  # exact, as there is room
            mine.used += its.used
            self._rests += other._rests
            other._open, other._rests = None, []
        other.settle()
        for place, digit in other.digits.items():
            if isinstance(places, slice):
                self.at(place + up)[:] += digit
            else:
                np.add.at(self.at(place + up), places, digit)
        self._carry(1 if is_same else 1000)

    def whole(self, groups: Places) -> tuple[int, list[int]]:
        """Return the exact sums of what is finite in some groups, in units of a power of two: its exponent, and how many."""
        self.settle()
        low = min(self.digits, default=0)
        totals = [0] * len(groups)
        for place, digit in self.digits.items():
            shift = BITS * (place - low)
            totals = [
                total + (one << shift) for total, one in zip(totals, digit[groups].tolist(), strict=True)
            ]
        return BITS * low, totals

    def rounded(self) -> Array:
        """Return the sums, each the float nearest to the exact one; ties to even."""
        if (
            self._open is not None
            and not self.digits
            and sum(len(one) for one, _ in self._rests) <= self.n_groups // 4
        ):
            made = self._open.sums[0] + self._open.sums[1]  # both are exact, so this rounds once
            numbers, rests = (np.concatenate([rest[at] for rest in self._rests]) for at in range(2))
            if len(rests):
                few, codes = np.unique(numbers, return_inverse=True)
                state = ExactSums(len(few))
                state._open = copy(self._open)
                state._open.sums = self._open.sums[:, few]
                state.flush()
                state.add(codes, rests)
                made[few] = state.rounded()
        else:
            self.settle()
            made = np.zeros(self.n_groups)
            low, high = min(self.digits, default=0), max(self.digits, default=-1)
            held = [self.at(place) for place in range(low, high + 1)]
            for start in range(0, self.n_groups if held else 0, CHUNK):
                made[start : start + CHUNK] = rounded_digits(
                    np.stack([one[start : start + CHUNK] for one in held]), low
                )
        return np.where(self.special == 0, made, self.special)


def group_sums(numbers: Places, values: Array, n_groups: int) -> Array:
    """Return the sum of each group, rounded once."""
    if not len(values):
        return np.zeros(n_groups)
    longest = top = None
    if n_groups > FEW:
        longest, top = _longest_and_top(numbers, values, n_groups)
    if len(values) > 1000 and _is_wide(values):
        return _wide_sums(numbers, values, n_groups, longest or len(values))
    states: list[ExactSums] = []
    in_threads(
        lambda start, end: states.append(
            _state(numbers[start:end], values[start:end], n_groups, longest, top)
        ),
        len(values),
    )
    for state in states[1:]:
        states[0].merge(state)
    return states[0].rounded()


def _longest_and_top(numbers: Places, values: Array, n_groups: int) -> tuple[int, float]:
    """Return the most rows of a group, and the largest of the values' sizes, in threads."""
    counts: list[Array] = []
    tops: list[float] = []

    def work(start: int, end: int) -> None:
        counts.append(group_sizes(numbers[start:end], n_groups))
        tops.append(float(max(values[start:end].max(), -values[start:end].min())))

    in_threads(work, len(values))
    return int(np.sum(counts, axis=0).max()), float(np.max(tops))


def _state(
    numbers: Places, values: Array, n_groups: int, longest: int | None = None, top: float | None = None
) -> ExactSums:
    made = ExactSums(n_groups)
    made.add(numbers, values, longest, top)
    return made


def _is_wide(values: Array) -> bool:
    """Return whether a quarter of the values, by a look at some, is much smaller than the largest."""
    size = np.abs(values[:: max(1, len(values) // 1000)])
    is_small = (size > 0) & (size < size.max() * 2.0**-30)
    return bool(np.isfinite(size).all() and np.count_nonzero(is_small) * 4 > len(size))


def _wide_sums(numbers: Places, values: Array, n_groups: int, longest: int) -> Array:
    """Return sums of groups by slices below the largest value of each; where the rest might count, the long way."""
    tops = np.zeros(n_groups)
    np.maximum.at(tops, numbers, np.abs(values))
    if not np.isfinite(tops).all():
        return _state(numbers, values, n_groups, longest).rounded()
    powers = np.maximum(np.frexp(tops)[1], -1000)
    slices = Slices(n_groups, 0.99, 4 * longest)
    slices.add(numbers, values * np.ldexp(1.0, -powers)[numbers], longest)
    bound = longest * 2.0 ** slices.units[1]  # more than what is left of a group, and a whole number of units
    low, high = (slices.sums[0] + (slices.sums[1] + one) for one in (-bound, bound))
    with np.errstate(over="ignore"):
        total: Array = np.ldexp(low, powers)
    is_open = (low != high) | ((np.abs(total) < 2.0**-960) & (tops > 0))
    few = np.flatnonzero(is_open)
    rows = np.flatnonzero(is_open[numbers])
    codes = (np.cumsum(is_open) - 1)[numbers[rows]]
    order = np.argsort(codes // CHUNK, kind="stable")  # by blocks of groups, so that their digits stay few
    codes, rows = codes[order], rows[order]
    for first in range(0, len(few), CHUNK):
        part = slice(*np.searchsorted(codes // CHUNK, [first // CHUNK, first // CHUNK + 1]))
        state = _state(codes[part] - first, values[rows[part]], min(CHUNK, len(few) - first), longest)
        total[few[first : first + CHUNK]] = state.rounded()
    return total
