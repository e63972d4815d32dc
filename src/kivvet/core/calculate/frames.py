"""Frames of window functions: which places each row looks at, and totals and extremes over them."""

from __future__ import annotations

import numpy as np

from kivvet.core.calculate.exact_frames import ExactPrefixes
from kivvet.core.calculate.groups import Order
from kivvet.core.calculate.vectors import Vector
from kivvet.core.columns.arrays import Array, Places
from kivvet.core.columns.column import BoolArray
from kivvet.core.formulas.tree import Frame

_MICROSECONDS_A_DAY = 86_400_000_000


def frame_bounds(
    frame: Frame | None, order: Order, key: Vector | None, *, is_descending: bool
) -> tuple[Places, Places]:
    """Return for each place the first place of its frame and the place after it; an empty frame ends before
    it starts.

    Parameters
    ----------
    frame : Frame or None
        None: from the start of the group to the row and its equals, or the whole group without an order.
    order : Order
    key : Vector or None
        The expression of ORDER BY, which distances of RANGE are counted in.
    """
    if frame is None:
        return order.group_starts, order.peer_ends if order.has_keys else order.group_ends
    place = np.arange(order.n_rows)
    bounds = []
    for distance, is_end in ((frame.start, False), (frame.end, True)):
        if distance.is_infinite():
            bounds.append(order.group_ends if distance > 0 else order.group_starts)
        elif frame.unit == "rows":
            step = int(np.clip(float(distance), -(2**40), 2**40)) + is_end
            bounds.append(np.clip(place + step, order.group_starts, order.group_ends))
        elif not distance:
            bounds.append(order.peer_ends if is_end else order.peer_starts)
        else:
            assert key is not None
            bounds.append(
                _within(
                    float(distance),
                    order,
                    key.of_rows(order.n_rows),
                    is_end=is_end,
                    is_descending=is_descending,
                )
            )
    return bounds[0], bounds[1]


def _within(distance: float, order: Order, key: Vector, *, is_end: bool, is_descending: bool) -> Places:
    """Return the place where values at a distance begin, or end; rows without a value stand together."""
    missing = key.missing_rows(order.n_rows)[order.rows]
    values = key.values[order.rows]
    if key.kind != "number":
        step = int(distance) * (_MICROSECONDS_A_DAY if key.kind == "datetime" else 1)
        low, high = np.iinfo(np.int64).min, np.iinfo(np.int64).max
        wanted = values - step if is_descending else values + step
        step = -step if is_descending else step
        wrapped = wanted > values if step < 0 else wanted < values
        wanted = np.where(wrapped, low if step < 0 else high, wanted)
    else:
        wanted = values - distance if is_descending else values + distance
    made = (order.peer_ends if is_end else order.peer_starts).copy()
    starts = np.flatnonzero(order.starts)
    ends = np.append(starts[1:], order.n_rows)[: len(starts)]
    for start, end in zip(starts.tolist(), ends.tolist(), strict=True):
        here = np.flatnonzero(~missing[start:end]) + start
        if not len(here):
            continue
        first, last = int(here[0]), int(here[-1]) + 1
        line = values[first:last]
        goal = wanted[first:last]
        if is_descending:
            line, goal = _turned(line), _turned(goal)
        made[first:last] = first + np.searchsorted(line, goal, side="right" if is_end else "left")
    return made


def _turned(values: Array) -> Array:
    return -values if values.dtype.kind == "f" else ~values


def total_between(values: Array, first: Places, end: Places) -> Array:
    """Return the total of the values from one place up to another; of opposite infinities NaN.

    Floats are added up exactly and rounded once, so that a total depends on what is in its frame alone.
    """
    if values.dtype.kind != "f":
        passed = np.append(0, np.cumsum(values))
        return np.asarray(passed[end] - passed[first])
    finite = np.isfinite(values)
    if not finite.all():
        totals = total_between(np.where(finite, values, 0.0), first, end)
        high, low = (
            total_between((values == sign).astype(np.int64), first, end) > 0 for sign in (np.inf, -np.inf)
        )
        return np.where(high & low, np.nan, np.where(high, np.inf, np.where(low, -np.inf, totals)))
    return ExactPrefixes(values, int((end - first).max(initial=1))).between(first, end)


def extreme_between(
    values: Array, missing: BoolArray, first: Places, end: Places, *, is_least: bool
) -> Array:
    """Return the least or greatest of the values that are there from one place up to another; any where there
    are none.

    By a table of extremes over stretches of doubling length; each frame is two such stretches.
    """
    if values.dtype.kind == "f":
        worst = np.inf if is_least else -np.inf
    else:
        worst = np.iinfo(values.dtype).max if is_least else np.iinfo(values.dtype).min
    work = np.minimum if is_least else np.maximum
    level = np.where(missing, worst, values).astype(values.dtype)
    length = np.maximum(end - first, 0)
    made = np.full(len(values), worst, values.dtype)
    size = 1
    while len(level):
        rows = np.flatnonzero((length >= size) & (length < 2 * size))
        if len(rows):
            made[rows] = work(level[first[rows]], level[end[rows] - size])
        if not (length >= 2 * size).any():
            break
        level = work(level[:-size], level[size:])
        size *= 2
    return made
