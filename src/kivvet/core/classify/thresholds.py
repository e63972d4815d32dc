"""From exact cuts to thresholds in a column's own type: value v lies beyond the cut if v >= threshold.

A bound is the nearest value of the column's type. With a step, a value within a millionth of a step
of a multiple is that multiple, so the thresholds of a multiple stand that much to either side.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from decimal import Decimal
from fractions import Fraction
from itertools import pairwise
from typing import Any

import numpy as np
import numpy.typing as npt

from kivvet.core.calculate.whole_steps import STEP_TOLERANCE
from kivvet.core.columns.column import TICKS_A_DAY, NumericColumn
from kivvet.core.space.cells import LabelStretches, labels_by_stretch
from kivvet.core.tables.inputs import Input
from kivvet.core.words.regions import HIGH, LOW, Cut, Region
from kivvet.core.words.values import NANOSECONDS_A_DAY, datetime_of_microseconds


def thresholds_of(
    regions: Sequence[Region], column: NumericColumn, about: Input, label: LabelStretches
) -> tuple[npt.NDArray[Any], npt.NDArray[np.int64]]:
    """Return thresholds for a column, and the label of each cell between them.

    Parameters
    ----------
    regions : sequence of Region
        What each row accepts, of one band.
    label : callable
        Gives the labels of stretches; see `labels_by_stretch`.

    Returns
    -------
    tuple of (ndarray of the dtype of the column's values, increasing; ndarray of int64, one longer)
        For floats the first threshold is -infinity, and the first cell, below it, holds just NaN; its
        label is a repetition and means nothing.
    """
    cuts, labels = labels_by_stretch(regions, 0, label)
    inner = cuts[1:-1]
    dtype = column.values.dtype
    if dtype.kind == "f":
        places = [float_threshold(cut, about, dtype) for cut in inner]
        if any(later < earlier for earlier, later in pairwise(places)):
            # Two bounds are one float: each row is held against the bounds as they are in this type.
            def placed(cut: Cut) -> tuple[Any, ...]:
                return cut if cut in (LOW, HIGH) else (0, float_threshold(cut, about, dtype), 0)

            cuts, labels = labels_by_stretch(regions, 0, label, placed)
            places = [cut[1] for cut in cuts[1:-1]]
        lowest: Any = -np.inf
        highest: Any = None
    else:
        places = [whole_threshold(cut, about, column) for cut in inner]
        lowest, highest = (None, None) if dtype.kind == "O" else (np.iinfo(dtype).min, np.iinfo(dtype).max)
    kept: list[Any] = [] if lowest is None or dtype.kind != "f" else [lowest]
    cells: list[int] = [labels[0]] * (1 + len(kept))
    for place, one in zip(places, labels[1:], strict=True):
        if highest is not None and place > highest:
            break
        if (lowest is not None and place <= lowest) or (kept and place <= kept[-1]):
            cells[-1] = one
        elif one != cells[-1]:
            kept.append(place)
            cells.append(one)
    return np.array(kept, dtype), np.array(cells, np.int64)


def float_threshold(cut: Cut, about: Input, dtype: np.dtype[Any]) -> Any:
    """Return the least float that lies beyond the cut.

    A bound of a number is the nearest float; whole numbers are held against the bound itself, however large.
    """
    _, value, side = cut
    nearest = _nearest(value, dtype)
    if np.isinf(nearest):  # beyond all floats but the infinities
        return nearest if nearest > 0 else np.nextafter(nearest, dtype.type(0))
    if about.type == "integer":
        exact = Fraction(float(nearest))
        is_beyond = exact > value if side else exact >= value
        return nearest if is_beyond else np.nextafter(nearest, dtype.type(np.inf))
    if about.step is None:
        return np.nextafter(nearest, dtype.type(np.inf)) if side else nearest
    low, high = _zone(Fraction(value), about, dtype)
    if low is None:  # not a multiple: its place among the zones of its neighbours
        step, offset = Fraction(about.step), Fraction(about.step_offset)
        below = offset + math.floor((Fraction(value) - offset) / step) * step
        _, high_of_below = _zone(below, about, dtype)
        low_of_above, _ = _zone(below + step, about, dtype)
        if high_of_below >= nearest:
            return np.nextafter(high_of_below, dtype.type(np.inf))
        if low_of_above <= nearest:
            return low_of_above
        low = high = nearest
    return np.nextafter(high, dtype.type(np.inf)) if side else low


def _nearest(value: int | Decimal | str, dtype: np.dtype[Any]) -> Any:
    try:
        exact = float(value)
    except OverflowError:  # of a whole number: others become infinite by themselves
        exact = math.inf if Decimal(value) > 0 else -math.inf
    if dtype.itemsize == 8:
        return dtype.type(exact)
    with np.errstate(over="ignore"):
        return dtype.type(exact)


def _zone(multiple: Fraction, about: Input, dtype: np.dtype[Any]) -> tuple[Any, Any]:
    """Return the least and the greatest float taken for a multiple of the step; None twice if it is none."""
    assert about.step is not None
    step = Fraction(about.step)
    if (multiple - Fraction(about.step_offset)) % step:
        return None, None
    reach = step * STEP_TOLERANCE
    try:
        nearest = dtype.type(float(multiple))
        low, high = dtype.type(float(multiple - reach)), dtype.type(float(multiple + reach))
    except OverflowError:
        infinite = dtype.type(np.inf if multiple > 0 else -np.inf)
        return infinite, infinite
    if np.isinf(nearest):
        return nearest, nearest
    if Fraction(float(low)) < multiple - reach:
        low = np.nextafter(low, dtype.type(np.inf))
    if Fraction(float(high)) > multiple + reach:
        high = np.nextafter(high, dtype.type(-np.inf))
    return min(low, nearest), max(high, nearest)


def whole_threshold(cut: Cut, about: Input, column: NumericColumn) -> int:
    """Return the least integer, in the units of the column, that lies beyond the cut."""
    _, value, side = cut
    place = Fraction(value)
    if column.kind == "decimal":
        factor = Fraction(10**column.scale)
    elif column.kind == "datetime" and about.type == "date":
        place = Fraction(_instant(int(value) * NANOSECONDS_A_DAY, about, column))
        factor = Fraction(TICKS_A_DAY[column.unit], NANOSECONDS_A_DAY)
    elif column.kind == "datetime":
        place = Fraction(_instant(int(value), about, column))
        factor = Fraction(TICKS_A_DAY[column.unit], NANOSECONDS_A_DAY)
    else:
        factor = Fraction(1)
    if about.type == "number" and about.step is not None:
        step = Fraction(about.step)
        multiple = Fraction(about.step_offset) + round((place - Fraction(about.step_offset)) / step) * step
        if multiple == place:
            place += (1 if side else -1) * step * STEP_TOLERANCE
    place *= factor
    return math.floor(place) + 1 if side else math.ceil(place)


def _instant(nanoseconds: int, about: Input, column: NumericColumn) -> int:
    """Return a local moment as an instant, for columns that have a time zone."""
    if column.tz is None or about.tz is None:
        return nanoseconds
    from zoneinfo import ZoneInfo

    moment = datetime_of_microseconds(nanoseconds // 1_000)
    if moment is None:
        return nanoseconds
    offset = moment.replace(tzinfo=ZoneInfo(about.tz)).utcoffset()
    assert offset is not None
    return nanoseconds - int(offset.total_seconds() * 1_000_000_000)
