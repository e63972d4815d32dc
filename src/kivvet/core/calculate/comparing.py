"""Comparing values: which is less, which are equal, whatever their type; whole numbers and floats exactly."""

from __future__ import annotations

import datetime as dt
from dataclasses import replace
from fractions import Fraction
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.calculate.vectors import Vector, as_kind, as_number, either, without_empty
from kivvet.core.columns.column import BoolArray
from kivvet.core.formulas.tree import Operator

Signs = npt.NDArray[np.int8]
_ROUNDING_ERRORS = 4  # units in the last place; as many as a short sum of decimals may be off
_EXACT_FLOATS = 2**53


class KindsDifferError(TypeError):
    """Values of types that cannot be compared: the two types."""


def common(vectors: list[Vector]) -> list[Vector]:
    """Return vectors as the one type that holds them all.

    Raises
    ------
    KindsDifferError
    """
    known = [
        vector
        for vector in vectors
        if not (vector.missing is not None and vector.missing.ndim == 0 and bool(vector.missing))
    ]
    kinds = dict.fromkeys(one.kind for one in known)
    if len(kinds) > 1 and not (set(kinds) <= {"integer", "number"} or set(kinds) <= {"date", "datetime"}):
        # A column without any value is of every type.
        kinds = dict.fromkeys(one.kind for one in known if one.missing is None or not one.missing.all())
    if not kinds:
        kinds = dict.fromkeys([vectors[0].kind])
    if len(kinds) == 1:
        (kind,) = kinds
    elif set(kinds) == {"integer", "number"}:
        kind = "number"
    elif set(kinds) == {"date", "datetime"}:
        kind = "datetime"
    else:
        raise KindsDifferError(*list(kinds)[:2])
    return _of_one_zone([as_kind(vector, kind) for vector in vectors])


def _of_one_zone(vectors: list[Vector]) -> list[Vector]:
    """Return times as instants, where some have a zone: constants without one are read in that zone."""
    zones = dict.fromkeys(vector.tz for vector in vectors if vector.tz is not None)
    if not zones:
        return vectors
    (zone, *_) = zones
    made = []
    for vector in vectors:
        one = vector
        if one.tz is None and one.is_single:
            moment = dt.datetime(1970, 1, 1) + dt.timedelta(microseconds=int(one.values))
            instant = moment.replace(tzinfo=ZoneInfo(zone)) - dt.datetime(1970, 1, 1, tzinfo=dt.UTC)
            one = replace(one, values=np.array(instant // dt.timedelta(microseconds=1)), tz=zone)
        elif one.tz is None and not (one.missing is not None and one.missing.all()):
            raise KindsDifferError(f"time with the zone {zone}", "time without a zone")
        made.append(replace(one, tz=zone))
    return made


def compared(operator: Operator, left: Vector, right: Vector) -> tuple[BoolArray, BoolArray | None]:
    """Return where a comparison holds, and where it is unknown; what holds there is arbitrary."""
    if {left.kind, right.kind} == {"integer", "number"}:
        signs, missing = signs_of(left, right)
        holds = {
            "<": signs < 0,
            "<=": signs <= 0,
            "=": signs == 0,
            "<>": signs != 0,
            ">=": signs >= 0,
            ">": signs > 0,
        }
        return np.asarray(holds[operator]), missing
    left, right = common([left, right])
    if left.kind == "text":
        left, right = _ranked(left, right)
    work = {
        "<": np.less,
        "<=": np.less_equal,
        "=": np.equal,
        "<>": np.not_equal,
        ">=": np.greater_equal,
        ">": np.greater,
    }[operator]
    with np.errstate(invalid="ignore"):
        return np.asarray(work(left.values, right.values)), either(left.missing, right.missing)


def signs_of(left: Vector, right: Vector, *, is_near_equal: bool = False) -> tuple[Signs, BoolArray | None]:
    """Return -1, 0 or 1 as left is below, equal to or above right, and where one of them is missing."""
    if {left.kind, right.kind} == {"integer", "number"} and not is_near_equal:
        below, above = _exactly(left.values, right.values)
    else:
        left, right = common([left, right])
        if left.kind == "text":
            left, right = _ranked(left, right)
        with np.errstate(invalid="ignore"):
            below, above = np.asarray(left.values < right.values), np.asarray(left.values > right.values)
    signs: Signs = np.asarray(above, np.int8) - np.asarray(below, np.int8)
    if is_near_equal and left.kind in ("integer", "number"):
        with np.errstate(invalid="ignore", over="ignore"):
            a, b = as_number(left), as_number(right)
            near = np.abs(a - b) <= _ROUNDING_ERRORS * np.spacing(np.maximum(np.abs(a), np.abs(b)))
            signs = np.where(near, np.int8(0), signs)
    return signs, either(left.missing, right.missing)


def _exactly(left: Any, right: Any) -> tuple[BoolArray, BoolArray]:
    """Return where left is below and where it is above right, one of them whole; exact beyond 2**53 too."""
    one, other = np.broadcast_arrays(left, right)
    with np.errstate(invalid="ignore"):
        below, above = np.array(one < other), np.array(one > other)
    whole, real = (one, other) if one.dtype.kind != "f" else (other, one)
    for row in np.argwhere((np.abs(whole.astype(np.float64)) >= _EXACT_FLOATS) & np.isfinite(real)):
        place = tuple(row)
        a, b = Fraction(one[place].item()), Fraction(other[place].item())
        below[place], above[place] = a < b, a > b
    return below, above


def _ranked(left: Vector, right: Vector) -> tuple[Vector, Vector]:
    """Return texts as their places in the order of code points; text of no characters is missing."""
    left, right = without_empty(left), without_empty(right)
    assert left.distinct is not None and right.distinct is not None
    if left.distinct is right.distinct:
        ranks = ranks_of(left.distinct)
        places = (ranks, ranks)
    else:
        ranks = ranks_of(pa.concat_arrays([left.distinct, right.distinct]))
        places = ranks[: len(left.distinct)], ranks[len(left.distinct) :]
    return (
        Vector("integer", np.asarray(places[0][left.values]), left.missing),
        Vector("integer", np.asarray(places[1][right.values]), right.missing),
    )


def ranks_of(texts: pa.Array) -> npt.NDArray[np.int64]:
    """Return the place of each text among the different ones, in the order of code points."""
    ranks: npt.NDArray[np.int64] = (
        pc.rank(texts, sort_keys="ascending", tiebreaker="dense")
        .to_numpy(zero_copy_only=False)
        .astype(np.int64)
    )
    return ranks
