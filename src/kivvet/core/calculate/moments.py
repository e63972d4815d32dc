"""Dates and times: their parts, and the years and days between two of them."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.calculate.vectors import Vector, either
from kivvet.core.columns.arrays import Array

_MICROSECONDS_A_DAY = 86_400_000_000


def local(vector: Vector) -> Vector:
    """Return times with a zone as the clock there shows them."""
    if vector.tz is None:
        return vector
    ticks = pa.array(np.ascontiguousarray(np.atleast_1d(vector.values))).view(pa.timestamp("us", vector.tz))
    shown = pc.local_timestamp(ticks).view(pa.int64()).to_numpy(zero_copy_only=False)
    return Vector("datetime", shown.reshape(vector.values.shape), vector.missing)


def days_of(vector: Vector) -> Array:
    """Return the days since 1970 that dates or times lie in."""
    shown = local(vector)
    return shown.values if shown.kind == "date" else np.asarray(shown.values // _MICROSECONDS_A_DAY)


def part_of(name: str, vector: Vector) -> Vector:
    """Return a part of dates or times."""
    if name in ("HOUR", "MINUTE", "SECOND"):
        within = local(vector).values % _MICROSECONDS_A_DAY
        if name == "SECOND":
            return Vector("number", np.asarray(within % 60_000_000 / 1e6), vector.missing)
        size, number = (3_600_000_000, 24) if name == "HOUR" else (60_000_000, 60)
        return Vector("integer", np.asarray(within // size % number), vector.missing)
    return Vector("integer", _of_days(_DAY_PARTS[name], days_of(vector)), vector.missing)


def _of_days(part: Callable[[Array], Any], days: Array) -> Array:
    """Return a part of each day; where days lie closer together than there are rows, worked out once for each of them."""
    if days.size:
        low, high = int(days.min()), int(days.max())
        if high - low < days.size:
            of_day = np.asarray(part(np.arange(low, high + 1))).astype(np.int64)
            made: Array = np.asarray(of_day[days - low])
            return made
    return np.asarray(part(days)).astype(np.int64)


def year_month_day(days: Array) -> tuple[Array, Array, Array]:
    """Return years, months (from 1) and days of the month."""
    dates = days.astype("M8[D]")
    months = dates.astype("M8[M]")
    number = months.astype(np.int64)
    return number // 12 + 1970, number % 12 + 1, (dates - months).astype(np.int64) + 1


def _iso_week(days: Array) -> Any:
    thursday = days - (days + 3) % 7 + 3  # a week belongs to the year of its Thursday
    first = thursday.astype("M8[D]").astype("M8[Y]").astype("M8[D]").astype(np.int64)
    return (thursday - first) // 7 + 1


_DAY_PARTS: dict[str, Any] = {
    "YEAR": lambda days: year_month_day(days)[0],
    "MONTH": lambda days: year_month_day(days)[1],
    "DAY": lambda days: year_month_day(days)[2],
    "QUARTER": lambda days: (year_month_day(days)[1] + 2) // 3,
    "WEEK": _iso_week,
    "DAY_OF_WEEK": lambda days: (days + 3) % 7 + 1,
    "DAY_OF_YEAR": lambda days: (
        days - days.astype("M8[D]").astype("M8[Y]").astype("M8[D]").astype(np.int64) + 1
    ),
}


def whole_years(start: Vector, end: Vector) -> Vector:
    """Return the completed years from one day to another; negative where the other lies before."""
    first, last = np.broadcast_arrays(days_of(start), days_of(end))
    is_back = last < first
    low, high = np.where(is_back, last, first), np.where(is_back, first, last)
    (y1, m1, d1), (y2, m2, d2) = year_month_day(low), year_month_day(high)
    years = y2 - y1 - (m2 * 32 + d2 < m1 * 32 + d1)
    return Vector("integer", np.asarray(np.where(is_back, -years, years)), either(start.missing, end.missing))


def days_between(start: Vector, end: Vector) -> Vector:
    """Return the days of the calendar from one day to another."""
    return Vector("integer", np.asarray(days_of(end) - days_of(start)), either(start.missing, end.missing))
