"""Totals and extremes of groups and of frames: the inner loops of windows."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from kivvet.core.calculate.comparing import ranks_of
from kivvet.core.calculate.frames import total_between
from kivvet.core.calculate.groups import Groups
from kivvet.core.calculate.vectors import Vector, without_empty
from kivvet.core.columns.arrays import CHUNK, Array, Places, in_threads
from kivvet.core.columns.column import BoolArray


def first_of_group(groups: Groups, key: Vector, n_rows: int, *, ties: bool) -> BoolArray:
    """Return which rows come first in their group: the least value, or the first row that has it.

    Missing values come last, so that a group of nothing else starts with one.
    """
    vector = key.of_rows(n_rows)
    if vector.kind == "text":
        vector = without_empty(vector)
        assert vector.distinct is not None
        values: Array = ranks_of(vector.distinct)[vector.values]
    else:
        values = vector.values.astype(np.int8) if vector.kind == "boolean" else vector.values
    worst = np.inf if values.dtype.kind == "f" else np.iinfo(values.dtype).max
    if vector.missing is not None:
        values = np.where(vector.missing, worst, values).astype(values.dtype)
    lowest = least_of_groups(groups, values, worst)
    first: BoolArray = np.empty(n_rows, bool)

    def compare(start: int, end: int) -> None:
        for begin in range(start, end, CHUNK):
            rows = slice(begin, min(begin + CHUNK, end))
            np.equal(values[rows], lowest[groups.numbers[rows]], out=first[rows])

    in_threads(compare, n_rows)
    if vector.missing is not None and vector.missing.any():
        # What is there and as high as can be comes before what is missing.
        some = np.zeros(groups.n_groups, bool)
        some[groups.numbers[~vector.missing]] = True
        first &= ~(vector.missing & some[groups.numbers])
    if ties:
        return first
    rows = np.flatnonzero(first)
    made = np.zeros(n_rows, bool)
    made[rows[first_rows(replace(groups, numbers=groups.numbers[rows]), len(rows))]] = True
    return made


def first_rows(groups: Groups, n_rows: int) -> BoolArray:
    """Return which rows are the first of their group as they stand; once every group was met no row is looked at any more."""
    made = np.zeros(n_rows, bool)
    is_met = np.zeros(groups.n_groups, bool)
    place = np.empty(groups.n_groups, np.intp)
    n_met = 0
    for start in range(0, n_rows, CHUNK):
        numbers = groups.numbers[start : start + CHUNK]
        rows = np.flatnonzero(~is_met[numbers])
        if len(rows):
            fresh = numbers[rows]
            place[fresh[::-1]] = rows[::-1]  # of what is written to one place the last stays
            firsts = rows[place[fresh] == rows]
            made[start + firsts] = True
            is_met[fresh] = True
            n_met += len(firsts)
            if n_met == groups.n_groups:
                break
    return made


def with_zeros(values: Array, missing: BoolArray) -> Array:
    """Return values, 0 where they are missing, in threads."""
    made = np.empty_like(values)

    def work(start: int, end: int) -> None:
        for begin in range(start, end, CHUNK):
            rows = slice(begin, min(begin + CHUNK, end))
            made[rows] = values[rows]
            made[rows][missing[rows]] = 0

    in_threads(work, len(values))
    return made


def least_of_groups(groups: Groups, values: Array, worst: float) -> Array:
    """Return the least value of each group: of shares of the rows in threads, then of the shares."""
    parts: list[Array] = []

    def work(start: int, end: int) -> None:
        best = np.full(groups.n_groups, worst, values.dtype)
        np.minimum.at(best, groups.numbers[start:end], values[start:end])
        parts.append(best)

    in_threads(work, len(values))
    least: Array = np.minimum.reduce(parts)
    return least


def integer_totals(numbers: Array, values: Places, size: int) -> tuple[Places, BoolArray]:
    """Return exact totals of whole numbers by group, and which do not fit 64 bits."""
    largest = max(abs(int(values.min(initial=0))), abs(int(values.max(initial=0))))
    if largest * max(len(values), 1) < 2**53:
        return np.bincount(numbers, weights=values, minlength=size).astype(np.int64), np.zeros(size, bool)
    return _of_halves(*halves_of_totals(numbers, values, size))


def halves_of_totals(numbers: Array, values: Places, size: int) -> tuple[Places, Places]:
    """Return exact totals of the lower 32 bits of whole numbers by group, and of what lies above them."""
    low, high = values & 0xFFFFFFFF, values >> 32
    if len(values) < 1 << 21:  # each half adds up exactly in a float
        lows = np.bincount(numbers, weights=low, minlength=size).astype(np.int64)
        return lows, np.bincount(numbers, weights=high, minlength=size).astype(np.int64)
    lows, highs = np.zeros(size, np.int64), np.zeros(size, np.int64)
    np.add.at(lows, numbers, low)
    np.add.at(highs, numbers, high)
    return lows, highs


def _of_halves(lows: Places, highs: Places) -> tuple[Places, BoolArray]:
    carried = highs + (lows >> 32)
    beyond = (carried >= 2**31) | (carried < -(2**31))
    return (np.where(beyond, 0, carried) << 32) | (lows & 0xFFFFFFFF), np.asarray(beyond)


def integer_frames(values: Places, first: Places, end: Places) -> tuple[Places, BoolArray]:
    """Return exact totals of whole numbers between places, and which do not fit 64 bits."""
    lows, highs = total_between(values & 0xFFFFFFFF, first, end), total_between(values >> 32, first, end)
    return _of_halves(lows, highs)
