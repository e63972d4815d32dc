"""Numbers worked with: sums, products, quotients, rounding, roots and logarithms; what has no result is
missing and counted.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from kivvet.core.calculate.elementary import exponential, logarithm, logarithm_10, power
from kivvet.core.calculate.vectors import Vector, as_number, either, nothing
from kivvet.core.columns.arrays import Array
from kivvet.core.columns.column import BoolArray

#: Told where values that were there have no result: why, and in which rows.
Note = Callable[[str, BoolArray], None]

ZERO_DIVISION = "division by zero"
OVERFLOW = "beyond 64 bits"
UNDEFINED = "no number"
_MICROSECONDS_A_DAY = 86_400_000_000
#: Powers of ten as a float holds them, those beyond it infinite.
_TENS = np.array([float(f"1e{n}") for n in range(401)])


def worked_out(sign: str, left: Vector, right: Vector, note: Note) -> Vector:
    """Return a sum, difference, product or quotient; dates may have days added, and differ by days."""
    if left.kind in ("date", "datetime") or right.kind in ("date", "datetime"):
        return _of_moments(sign, left, right, note)
    missing = either(left.missing, right.missing)
    if sign == "/":
        over, under = as_number(left), as_number(right)
        with np.errstate(all="ignore"):
            values = np.asarray(np.divide(over, under))
        is_zero = np.asarray(under == 0)
        if not is_zero.any():
            return _of_floats(values, missing, note)
        return _lacking(values, missing, [(ZERO_DIVISION, is_zero), (UNDEFINED, np.isnan(values))], note)
    if left.kind == right.kind == "integer":
        return _of_integers(sign, left, right, missing, note)
    work = {"+": np.add, "-": np.subtract, "*": np.multiply}[sign]
    with np.errstate(all="ignore"):
        values = np.asarray(work(as_number(left), as_number(right)))
    return _of_floats(values, missing, note)


def _of_floats(values: Array, missing: BoolArray | None, note: Note) -> Vector:
    """Return floats; what is not a number though nothing was missing is missing and noted."""
    nan = np.isnan(values)
    if (missing is None and not nan.any()) or (missing is not None and np.array_equal(nan, missing)):
        return Vector("number", values, missing)
    return _lacking(values, missing, [(UNDEFINED, nan)], note)


def _lacking(
    values: Array,
    missing: BoolArray | None,
    causes: list[tuple[str, BoolArray]],
    note: Note,
    kind: Any = "number",
) -> Vector:
    """Return values, missing also where a cause holds; each such row is noted under the first of its causes."""
    for cause, rows in causes:
        if not rows.any():
            continue
        new = rows if missing is None else rows & ~missing
        if new.any():
            note(cause, np.broadcast_to(new, values.shape))
            missing = rows if missing is None else missing | rows
    return Vector(kind, values, missing)


def _of_integers(sign: str, left: Vector, right: Vector, missing: BoolArray | None, note: Note) -> Vector:
    a, b = left.values, right.values
    work = {"+": np.add, "-": np.subtract, "*": np.multiply}[sign]
    with np.errstate(all="ignore"):
        values = np.asarray(work(a, b))
    sizes = [max(abs(int(one.min(initial=0))), abs(int(one.max(initial=0)))) for one in (a, b)]
    if (sizes[0] * sizes[1] if sign == "*" else sum(sizes)) < 2**63:
        return Vector("integer", values, missing)
    if sign == "+":
        beyond = ((a ^ values) & (b ^ values)) < 0
    elif sign == "-":
        beyond = ((a ^ b) & (a ^ values)) < 0
    else:
        beyond = np.abs(a.astype(np.float64) * b.astype(np.float64)) >= 2.0**62
        near = np.argwhere(beyond)
        one, other = np.broadcast_arrays(a, b)
        beyond = np.array(np.broadcast_to(beyond, values.shape))
        for row in near:
            place = tuple(row)
            beyond[place] = not -(2**63) <= int(one[place]) * int(other[place]) < 2**63
    return _lacking(values, missing, [(OVERFLOW, np.asarray(beyond))], note, "integer")


def _of_moments(sign: str, left: Vector, right: Vector, note: Note) -> Vector:
    missing = either(left.missing, right.missing)
    if left.kind == right.kind:
        with np.errstate(all="ignore"):
            values = np.asarray(left.values - right.values)
        if left.kind == "date":
            return Vector("integer", values, missing)
        return Vector("number", values / float(_MICROSECONDS_A_DAY), missing)
    moment, days = (left, right) if left.kind in ("date", "datetime") else (right, left)
    if missing is not None and missing.all():
        return nothing(moment.kind).of_rows(len(missing)) if missing.ndim else nothing(moment.kind)
    unit = 1 if moment.kind == "date" else _MICROSECONDS_A_DAY
    limit = 2**62 // unit
    beyond = np.abs(days.values) >= limit
    step = np.where(beyond, 0, days.values) * np.int64(unit)
    values = np.asarray(moment.values + step if sign == "+" else moment.values - step)
    beyond = beyond | outside_calendar(values, moment.kind)
    made = _lacking(values, missing, [("beyond the calendar", np.asarray(beyond))], note, moment.kind)
    return Vector(moment.kind, made.values, made.missing, tz=moment.tz)


def outside_calendar(values: Array, kind: str) -> BoolArray:
    """Return where days or microseconds lie outside the years 1 to 9999."""
    low, high = -719_162, 2_932_896
    days = values if kind == "date" else values // _MICROSECONDS_A_DAY
    return np.asarray((days < low) | (days > high))


# Functions


def _absolute(vector: Vector, note: Note) -> Vector:
    if vector.kind == "number":
        return Vector("number", np.asarray(np.abs(vector.values)), vector.missing)
    lowest = np.asarray(vector.values == np.iinfo(np.int64).min)
    with np.errstate(over="ignore"):
        return _lacking(
            np.asarray(np.abs(vector.values)), vector.missing, [(OVERFLOW, lowest)], note, "integer"
        )


def _sign(vector: Vector, _: Note) -> Vector:
    with np.errstate(invalid="ignore"):
        signs = np.sign(vector.values)
    gone = vector.missing
    return Vector(
        "integer",
        np.asarray(np.where(np.isnan(signs), 0, signs) if vector.kind == "number" else signs).astype(
            np.int64
        ),
        gone,
    )


def _rounded(vector: Vector, digits: Vector | None, note: Note, *, cuts: bool) -> Vector:
    places = np.array(0) if digits is None else digits.values
    missing = either(vector.missing, None if digits is None else digits.missing)
    if vector.kind == "integer":
        if not (places < 0).any():
            return Vector("integer", np.asarray(np.broadcast_arrays(vector.values, places)[0]), missing)
        return _rounded_integers(vector.values, places, missing, note, cuts=cuts)
    values, places = np.broadcast_arrays(vector.values, np.clip(places, -400, 400))
    with np.errstate(all="ignore"):
        factor = _TENS[np.abs(places)]
        scaled = np.where(places >= 0, values * factor, values / factor)
        # A decimal such as 2.345 lies a little beside itself as a float, and more so scaled: it is taken as
        # what it is written as.
        slack = np.where(places == 0, 0.0, 2 * np.spacing(np.abs(scaled)))
        whole = np.trunc(scaled)
        fraction = np.abs(scaled - whole)
        is_up = fraction >= (1.0 if cuts else 0.5) - slack
        whole = np.where(is_up, whole + np.copysign(1.0, scaled), whole)
        made = np.where(places >= 0, whole / factor, whole * factor)
    # Beyond what a float holds after the point there is nothing to round.
    made = np.where(np.isfinite(scaled) & (np.abs(scaled) < 2.0**52) & np.isfinite(made), made, values)
    if not cuts:
        made = np.where((places < 0) & (np.abs(values) * 2 < factor), np.copysign(0.0, values), made)
    return Vector("number", np.asarray(made), missing)


def _rounded_integers(
    values: Array, places: Array, missing: BoolArray | None, note: Note, *, cuts: bool
) -> Vector:
    one, digits = np.broadcast_arrays(values, places)
    made = np.array(one)
    beyond = np.zeros(made.shape, bool)
    for n in np.unique(digits[digits < 0]).tolist():
        rows = digits == n
        step = 10 ** min(-n, 19)
        if step > 2**62:
            half = 5 * 10**18
            made[rows] = 0
            if not cuts and -n == 19:  # the next multiple is beyond 64 bits
                beyond |= rows & ((one >= half) | (one <= -half))
            continue
        part = one[rows]
        rest = np.fmod(part, step)
        low = part - rest
        if not cuts:
            up = (
                (2 * np.abs(rest.astype(object)) >= step).astype(bool)
                if step > 2**61
                else 2 * np.abs(rest) >= step
            )
            with np.errstate(over="ignore"):
                moved = low + np.where(up, np.sign(rest) * step, 0)
            beyond[rows] = up & (np.sign(moved) * np.sign(rest) < 0)
            low = moved
        made[rows] = low
    return _lacking(made, missing, [(OVERFLOW, beyond)], note, "integer")


def _whole(work: Callable[[Any], Any]) -> Callable[[Vector, Note], Vector]:
    def apply(vector: Vector, _: Note) -> Vector:
        if vector.kind == "integer":
            return vector
        return Vector("number", np.asarray(work(vector.values)), vector.missing)

    return apply


def _remainder(left: Vector, right: Vector, note: Note) -> Vector:
    missing = either(left.missing, right.missing)
    is_whole = left.kind == right.kind == "integer"
    a, b = (left.values, right.values) if is_whole else (as_number(left), as_number(right))
    zero = np.asarray(b == 0)
    with np.errstate(all="ignore"):
        values = np.asarray(np.fmod(a, np.where(zero, 1, b)))
    if is_whole:  # the one quotient that does not fit, -2**63 by -1, leaves nothing
        return _lacking(values, missing, [(ZERO_DIVISION, zero)], note, "integer")
    return _lacking(values, missing, [(ZERO_DIVISION, zero), (UNDEFINED, np.isnan(values))], note)


def _power(left: Vector, right: Vector, note: Note) -> Vector:
    a, b = as_number(left), as_number(right)
    with np.errstate(all="ignore"):
        values = power(a, b)
    missing = either(left.missing, right.missing)
    zero = np.asarray((a == 0) & (b < 0))
    return _lacking(values, missing, [(ZERO_DIVISION, zero), (UNDEFINED, np.isnan(values))], note)


def _real(
    work: Callable[[Any], Any], cause: str, lowest: float, *, is_in: bool
) -> Callable[[Vector, Note], Vector]:
    """Return a function of floats that has no result at or below a number."""

    def apply(vector: Vector, note: Note) -> Vector:
        given = as_number(vector)
        with np.errstate(all="ignore"):
            values = np.asarray(work(given))
            beyond = np.asarray(given < lowest if is_in else given <= lowest)
        return _lacking(values, vector.missing, [(cause, beyond)], note)

    return apply


#: By name, what makes a vector of vectors.
NUMERIC: dict[str, Callable[..., Vector]] = {
    "ABS": _absolute,
    "SIGN": _sign,
    "FLOOR": _whole(np.floor),
    "CEILING": _whole(np.ceil),
    "ROUND": lambda vector, *more: _rounded(vector, more[0] if len(more) > 1 else None, more[-1], cuts=False),
    "TRUNCATE": lambda vector, *more: _rounded(
        vector, more[0] if len(more) > 1 else None, more[-1], cuts=True
    ),
    "MOD": _remainder,
    "POWER": _power,
    "SQRT": _real(np.sqrt, "root of a negative number", 0.0, is_in=True),
    "EXP": _real(exponential, UNDEFINED, -np.inf, is_in=True),
    "LN": _real(logarithm, "logarithm of 0 or below", 0.0, is_in=False),
    "LOG10": _real(logarithm_10, "logarithm of 0 or below", 0.0, is_in=False),
}
