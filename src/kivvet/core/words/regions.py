"""Sets of values of one input, exactly.

All ordered types, text among them, are handled alike: a *cut* is a place between values, and an
interval is what lies between two cuts. A cut is ``(0, value, side)``: just before `value` where
side is 0, just after it where side is 1. `LOW` and `HIGH` lie outside all values. So the
interval ``((0, 5, 0), (0, 9, 1))`` is 5 to 9 with both ends in, and every interval is half-open in
cuts, whatever its ends are in values. Values are whole numbers, exact decimals or texts.

A `Region` is what a condition accepts: intervals, and whether missing is accepted too. Conditions on
the length of a text (a code range does not hold shorter text) split its values into *bands*; a
region has one tuple of intervals for each band. Other types have one band.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

Cut = tuple[int, Any, int]
Interval = tuple[Cut, Cut]
Intervals = tuple[Interval, ...]

LOW: Cut = (-1, None, 0)
HIGH: Cut = (1, None, 0)
EVERYTHING: Intervals = ((LOW, HIGH),)


def before(value: int | Decimal | str) -> Cut:
    """Return the cut just before `value`."""
    return (0, value, 0)


def after(value: int | Decimal | str) -> Cut:
    """Return the cut just after `value`."""
    return (0, value, 1)


def union(*many: Iterable[Interval]) -> Intervals:
    """Return the union, sorted, its intervals disjoint and not touching."""
    merged: list[Interval] = []
    for low, high in sorted(interval for intervals in many for interval in intervals):
        if low >= high:
            continue
        if merged and low <= merged[-1][1]:
            if high > merged[-1][1]:
                merged[-1] = (merged[-1][0], high)
        else:
            merged.append((low, high))
    return tuple(merged)


def complement(intervals: Intervals) -> Intervals:
    """Return everything outside sorted, disjoint intervals."""
    gaps: list[Interval] = []
    at = LOW
    for low, high in intervals:
        if at < low:
            gaps.append((at, low))
        at = high
    if at < HIGH:
        gaps.append((at, HIGH))
    return tuple(gaps)


def intersection(first: Intervals, second: Intervals) -> Intervals:
    """Return what two sorted, disjoint tuples of intervals share."""
    shared: list[Interval] = []
    i = j = 0
    while i < len(first) and j < len(second):
        low = max(first[i][0], second[j][0])
        high = min(first[i][1], second[j][1])
        if low < high:
            shared.append((low, high))
        if first[i][1] < second[j][1]:
            i += 1
        else:
            j += 1
    return tuple(shared)


@dataclass(frozen=True, slots=True)
class Region:
    """What a condition accepts: intervals for each band, and whether missing."""

    bands: tuple[Intervals, ...]
    missing: bool = False

    def __or__(self, other: Region) -> Region:
        return Region(
            tuple(union(a, b) for a, b in zip(self.bands, other.bands, strict=True)),
            self.missing or other.missing,
        )

    def __and__(self, other: Region) -> Region:
        return Region(
            tuple(intersection(a, b) for a, b in zip(self.bands, other.bands, strict=True)),
            self.missing and other.missing,
        )

    def without_missing(self) -> Region:
        """Return the same region, missing not accepted."""
        return Region(self.bands)

    def other_present(self) -> Region:
        """Return everything present that this region does not hold."""
        return Region(tuple(complement(intervals) for intervals in self.bands))
