"""Groups and orders for window functions: which rows belong together, and how they stand within their group."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.calculate.comparing import ranks_of
from kivvet.core.calculate.vectors import Vector, without_empty
from kivvet.core.columns.arrays import Array, Places, group_sizes, in_threads
from kivvet.core.columns.column import BoolArray
from kivvet.core.columns.encoding import encoded

_MOST_SPREAD = (
    4  # whole numbers are their own group numbers if they spread over so many times their count at most
)


@dataclass(frozen=True)
class Groups:
    """The group of each row.

    Attributes
    ----------
    numbers : ndarray of integers, shape (n_rows,)
        From 0 to n_groups - 1; some of them may stand for no row.
    n_groups : int
    """

    numbers: Array
    n_groups: int

    @classmethod
    def of(cls, keys: Sequence[Vector], n_rows: int) -> Groups:
        """Return the groups of rows with equal keys; missing ones are equal to each other."""
        if not keys:
            return cls(np.zeros(n_rows, np.uint8), 1)
        made = numbers_of(keys[0].of_rows(n_rows))
        for key in keys[1:]:
            numbers, size = numbers_of(key.of_rows(n_rows))
            combined = made[0].astype(np.int64) * size + numbers
            made = _compact(combined)
        return cls(*made)

    @cached_property
    def sizes(self) -> Places:
        """The rows of each group."""
        return group_sizes(self.numbers, self.n_groups)


def numbers_of(key: Vector) -> tuple[Array, int]:
    """Return a number for each row, equal for equal values, and how many there are at most."""
    if key.kind == "text":
        key = without_empty(key)
        assert key.distinct is not None
        numbers, size = key.values, len(key.distinct)
        if len(pc.unique(key.distinct)) < size:
            ranks = ranks_of(key.distinct)
            numbers, size = ranks[key.values], size + 1
    elif key.kind == "number":
        values = key.values + 0.0  # -0 is 0
        numbers, size = _hashed(values.view(np.int64))
    else:
        numbers, size = _compact(key.values.astype(np.int64, copy=False), key.missing)
    if key.missing is not None:
        numbers = np.where(key.missing, size, numbers)
        size += 1
    return numbers, size


def _ends(values: Places) -> tuple[int, int]:
    """Return the lowest and the highest of whole numbers, of which there is one at least, in threads."""
    found: list[tuple[int, int]] = []
    in_threads(
        lambda start, end: found.append((int(values[start:end].min()), int(values[start:end].max()))),
        len(values),
    )
    return min(low for low, _ in found), max(high for _, high in found)


def _compact(values: Places, missing: BoolArray | None = None) -> tuple[Array, int]:
    """Return numbers from 0 for whole numbers: less the lowest where they lie close together, else as they
    are met.
    """
    if not len(values):
        return np.zeros(0, np.int64), 1
    if missing is not None and missing.any():
        present = values[~missing]
        if not len(present):
            return np.zeros(len(values), np.int64), 1
        low, high = _ends(present)
    else:
        low, high = _ends(values)
    if high - low >= max(_MOST_SPREAD * len(values), 1_000):
        return _hashed(values)
    made = np.empty(len(values), np.int32 if high - low < 2**31 else np.int64)

    def work(start: int, end: int) -> None:
        np.subtract(values[start:end], low, out=made[start:end], casting="unsafe")
        if missing is not None:
            made[start:end][missing[start:end]] = 0

    in_threads(work, len(values))
    return made, high - low + 1


def _hashed(values: Places) -> tuple[Array, int]:
    codes, distinct = encoded(pa.array(values))
    return codes, max(len(distinct), 1)


class Order:
    """The rows of all groups sorted: by group, then by the expressions of ORDER BY, then as they stand.

    Parameters
    ----------
    groups : Groups
    keys : sequence of (Vector, bool, bool)
        Each with whether it is descending and whether missing values come first.

    Attributes
    ----------
    rows : ndarray of intp, shape (n_rows,)
        The row at each place.
    starts : ndarray of bool, shape (n_rows,)
        Whether a group starts at each place.
    """

    def __init__(self, groups: Groups, keys: Sequence[tuple[Vector, bool, bool]], n_rows: int) -> None:
        self.groups = groups
        self.n_rows = n_rows
        self.has_keys = bool(keys)
        sort_keys = [
            _sort_key(vector.of_rows(n_rows), is_descending, nulls_first)
            for vector, is_descending, nulls_first in keys
        ]
        parts = [part for parts in sort_keys for part in parts]
        self.rows = _sorted_rows(groups, parts, n_rows)
        self.starts = np.zeros(n_rows, bool)
        self.starts[:1] = True
        if groups.n_groups > 1:
            numbers = groups.numbers[self.rows]
            self.starts[1:] = numbers[1:] != numbers[:-1]
        self.peers = self.starts.copy()
        for part in parts:
            ordered = part[self.rows]
            self.peers[1:] |= _differs(ordered)
        if not keys:
            self.peers = self.starts.copy()

    @cached_property
    def group_starts(self) -> Places:
        """For each place the first place of its group."""
        return _last_true(self.starts)

    @cached_property
    def group_ends(self) -> Places:
        """For each place the place after its group."""
        return _next_true(self.starts)

    @cached_property
    def peer_starts(self) -> Places:
        """For each place the first place of the rows that are equal in the order."""
        return _last_true(self.peers)

    @cached_property
    def peer_ends(self) -> Places:
        """For each place the place after the rows that are equal in the order."""
        return _next_true(self.peers)

    def ranks(self) -> Places:
        """Return for each row its rank within its group, in no more memory than two short numbers a row beside it."""
        places = np.arange(self.n_rows, dtype=np.int32 if self.n_rows < 2**31 else np.int64)
        first_peer = np.where(self.peers, places, 0)
        np.maximum.accumulate(first_peer, out=first_peer)
        if self.groups.n_groups > 1:
            places[~self.starts] = 0
            np.maximum.accumulate(places, out=places)  # where the group starts
            first_peer -= places
        del places
        first_peer += 1
        made = np.empty(self.n_rows, np.int64)
        made[self.rows] = first_peer
        return made

    def spread(self, by_place: Array) -> Array:
        """Return values by row from values by place."""
        made = np.empty(self.n_rows, by_place.dtype)
        made[self.rows] = by_place
        return made


def _differs(ordered: Array) -> BoolArray:
    """Return where a value differs from the one before; missing ones, which are NaN, are equal."""
    before, after = ordered[:-1], ordered[1:]
    different = before != after
    if ordered.dtype.kind == "f":
        different &= ~(np.isnan(before) & np.isnan(after))
    return np.asarray(different)


def _last_true(marks: BoolArray) -> Places:
    places = np.flatnonzero(marks)
    return np.repeat(places, np.diff(np.append(places, len(marks))))


def _next_true(marks: BoolArray) -> Places:
    places = np.flatnonzero(marks)
    ends = np.append(places[1:], len(marks))
    return np.repeat(ends, np.diff(np.append(places, len(marks)))) if len(places) else np.zeros(0, np.int64)


def _sort_key(vector: Vector, is_descending: bool, nulls_first: bool) -> tuple[Array, ...]:
    """Return arrays whose order is the one wanted, the most important first."""
    if vector.kind == "text":
        vector = without_empty(vector)
        assert vector.distinct is not None
        values: Array = ranks_of(vector.distinct)[vector.values]
    elif vector.kind == "boolean":
        values = vector.values.astype(np.int8)
    elif vector.kind == "number":
        values = vector.values + 0.0
    else:
        values = vector.values
    if is_descending:
        values = -values if values.dtype.kind == "f" else ~values  # a whole number has no lowest negative
    if vector.missing is None or not vector.missing.any():
        return (values,)
    if values.dtype.kind == "f" and not nulls_first:
        return (np.where(vector.missing, np.nan, values),) if not np.isnan(values).all() else (values,)
    values = np.where(vector.missing, values.dtype.type(0), values)
    return (vector.missing ^ nulls_first).astype(np.int8), values


def _sorted_rows(groups: Groups, parts: Sequence[Array], n_rows: int) -> npt.NDArray[np.intp]:
    rows: npt.NDArray[np.intp] | None = None
    for part in reversed(parts):
        order = _stable_order(part if rows is None else part[rows])
        rows = order if rows is None else rows[order]
    if groups.n_groups == 1:
        return np.arange(n_rows) if rows is None else rows
    numbers = groups.numbers
    by_group = _counted_order(numbers if rows is None else numbers[rows], groups.n_groups)
    return by_group if rows is None else rows[by_group]


def _stable_order(values: Array) -> npt.NDArray[np.intp]:
    """Return the order of values, equal ones as they stand: whole numbers close together by counting."""
    if values.dtype.kind in "iu" and values.dtype.itemsize > 2 and len(values):
        low, high = int(values.min()), int(values.max())
        if high - low < 2**32:
            return _counted_order(values - low, high - low + 1)
    return np.argsort(values, kind="stable")


def _counted_order(numbers: Array, n_groups: int) -> npt.NDArray[np.intp]:
    """Return the stable order of small whole numbers: sorted by their lower 16 bits, then by the upper, by
    counting.
    """
    low = np.argsort((numbers & 0xFFFF).astype(np.uint16), kind="stable")
    if n_groups <= 1 << 16:
        return low
    rest = (numbers >> 16)[low]
    if n_groups <= 1 << 32:
        return low[np.argsort(rest.astype(np.uint16), kind="stable")]
    return low[np.argsort(rest, kind="stable")]
