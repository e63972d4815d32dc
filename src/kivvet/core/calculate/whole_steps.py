"""Comparisons of sums of inputs that have a step, worked out in whole steps: exactly, as checks prove them.

A column whose values are multiples of a step is a column of whole numbers. A comparison of two expressions that are sums
of such columns, each times a constant, is the sign of a sum of whole numbers, which needs no rounding.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from math import lcm

import numpy as np
import numpy.typing as npt

from kivvet.core.calculate.vectors import Vector
from kivvet.core.columns.column import BoolArray
from kivvet.core.formulas.tree import Arithmetic, ColumnName, Constant, Tree

#: A value this part of a step away from a multiple is taken for it.
STEP_TOLERANCE = Fraction(1, 1_000_000)
_MOST = 1 << 62
#: By column its step, and the value that multiples are counted from.
Steps = Mapping[str, tuple[Decimal, Decimal]]
Signs = npt.NDArray[np.int8]


@dataclass(frozen=True)
class _Sum:
    """A sum of columns, each times a constant, and a constant."""

    times: Mapping[str, Fraction]
    constant: Fraction

    def plus(self, other: _Sum, factor: int = 1) -> _Sum:
        names = {**self.times, **other.times}
        times = {
            name: self.times.get(name, Fraction(0)) + factor * other.times.get(name, 0) for name in names
        }
        return _Sum(times, self.constant + factor * other.constant)

    def by(self, factor: Fraction) -> _Sum:
        return _Sum({name: one * factor for name, one in self.times.items()}, self.constant * factor)


def _sum_of(tree: Tree) -> _Sum | None:
    """Return an expression as a sum; None where it is none."""
    match tree:
        case ColumnName(name):
            return _Sum({name: Fraction(1)}, Fraction(0))
        case Constant(value) if isinstance(value, (int, Decimal)) and not isinstance(value, bool):
            return _Sum({}, Fraction(value))
        case Arithmetic(sign, left, right):
            one, other = _sum_of(left), _sum_of(right)
            if one is None or other is None:
                return None
            if sign in ("+", "-"):
                return one.plus(other, 1 if sign == "+" else -1)
            if sign == "*" and not (one.times and other.times):
                return other.by(one.constant) if not one.times else one.by(other.constant)
            if sign == "/" and not other.times and other.constant:
                return one.by(1 / other.constant)
    return None


def signs_in_steps(
    left: Tree, right: Tree, steps: Steps, vector: Callable[[str], Vector], n_rows: int
) -> tuple[Signs, BoolArray, BoolArray] | None:
    """Return -1, 0 or 1 as left is below, equal to or above right; where a value is missing; and where this is so exactly.

    Parameters
    ----------
    steps : mapping of str to (Decimal, Decimal)
    vector : callable
        Gives the values of a column.

    Returns
    -------
    tuple of three ndarrays of shape (n_rows,), or None
        None where the expressions are no sums of columns that have steps. Rows with a value between two steps are not exact,
        and have no sign.
    """
    sides = _sum_of(left), _sum_of(right)
    if sides[0] is None or sides[1] is None:
        return None
    difference = sides[0].plus(sides[1], -1)
    times = {name: one for name, one in difference.times.items() if one}
    if not times or not set(difference.times) <= set(steps):
        return None
    scaled = {name: one * Fraction(steps[name][0]) for name, one in times.items()}
    rest = difference.constant + sum(one * Fraction(steps[name][1]) for name, one in times.items())
    unit = lcm(rest.denominator, *(one.denominator for one in scaled.values()))
    missing, is_exact = np.zeros(n_rows, bool), np.ones(n_rows, bool)
    total: npt.NDArray[np.int64] = np.full(n_rows, 0, np.int64)
    bound = abs(rest * unit)
    for name in difference.times:
        column = vector(name).of_rows(n_rows)
        if column.kind not in ("integer", "number"):
            return None
        gone = column.missing_rows(n_rows)
        missing |= gone
        if name not in times:
            continue
        whole, fits = _in_steps(column.values, *steps[name])
        is_exact &= fits | gone
        whole = np.where(fits & ~gone, whole, 0)
        factor = int(scaled[name] * unit)
        bound += abs(factor) * int(np.abs(whole).max(initial=0))
        if bound >= _MOST:
            return None
        total += factor * whole
    return np.sign(total + int(rest * unit)).astype(np.int8), missing, is_exact


def _in_steps(
    values: npt.NDArray[np.generic], step: Decimal, offset: Decimal
) -> tuple[npt.NDArray[np.int64], BoolArray]:
    """Return the whole number of steps of each value, and whether it is a multiple of the step."""
    if values.dtype.kind != "f" and step == 1 and not offset:
        return values.astype(np.int64), np.ones(len(values), bool)
    plain = values.astype(np.float64)
    size, start = float(step), float(offset)
    with np.errstate(invalid="ignore", over="ignore"):
        near = np.rint((plain - start) / size)
        reach = np.maximum(size * float(STEP_TOLERANCE), 4 * np.spacing(np.abs(plain)))
        fits = (np.abs(plain - (near * size + start)) <= reach) & (np.abs(near) < 2**53)
    return np.where(fits, near, 0).astype(np.int64), np.asarray(fits)
