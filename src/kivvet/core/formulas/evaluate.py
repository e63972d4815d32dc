"""Evaluating conditions on columns, whole columns at a time, in the logic of true, false and unknown."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from decimal import Decimal
from fractions import Fraction
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns import (
    BoolArray,
    CodedColumn,
    Column,
    NumericColumn,
    TextColumn,
    arrow_from_column,
    missing_mask,
)
from kivvet.core.formulas.tree import (
    SIGNS,
    And,
    Arithmetic,
    ColumnName,
    Comparison,
    Condition,
    Constant,
    Expression,
    IsNull,
    Not,
    Or,
    write_formula,
)
from kivvet.core.values import days_since_epoch, microseconds_since_epoch
from kivvet.errors import DataError

Signs = npt.NDArray[np.int8]
_ROUNDING_ERRORS = 4  # units in the last place; as many as a short sum of decimals may be off
_EXACT_FLOATS = 2**53


@dataclass(frozen=True)
class _Operand:
    """The values of an expression: an array, or one value for all rows; numbers, ticks or text."""

    kind: str  # "number", "text", "boolean" or "moment"
    values: Any
    missing: BoolArray


class Evaluator:
    """Evaluates trees on the columns of one batch.

    Parameters
    ----------
    column_named : callable
        Gives a column by name.
    n_rows : int
    is_near_equal : bool
        Whether numbers within rounding error of each other are equal, as in statements that always hold.
    """

    def __init__(
        self, column_named: Callable[[str], Column], n_rows: int, *, is_near_equal: bool = False
    ) -> None:
        self.column_named = column_named
        self.n_rows = n_rows
        self.is_near_equal = is_near_equal

    def truth(self, tree: Condition) -> tuple[BoolArray, BoolArray]:
        """Return where a condition is true, and where it is false; elsewhere it is unknown."""
        match tree:
            case Comparison(operator, left, right):
                signs, missing = self.signs(left, right)
                holds = np.isin(signs, SIGNS[operator])
                return holds & ~missing, ~holds & ~missing
            case IsNull(part, is_negated):
                missing = self._operand(part).missing
                return (~missing, missing) if is_negated else (missing, ~missing)
            case Not(part):
                yes, no = self.truth(part)
                return no, yes
            case And(parts) | Or(parts):
                yes, no = self.truth(parts[0])
                for part in parts[1:]:
                    more_yes, more_no = self.truth(part)
                    if isinstance(tree, And):
                        yes, no = yes & more_yes, no | more_no
                    else:
                        yes, no = yes | more_yes, no & more_no
                return yes, no

    def signs(self, left: Expression, right: Expression) -> tuple[Signs, BoolArray]:
        """Return -1, 0 or 1 as left is below, equal to or above right, and where one of them is missing."""
        one, other = self._operand(left), self._operand(right)
        missing = one.missing | other.missing
        if missing.all():
            return np.zeros(self.n_rows, np.int8), missing
        if one.kind != other.kind:
            raise DataError(
                f"{write_formula(left)} and {write_formula(right)} cannot be compared",
                expected="values of one type", found=f"{one.kind} and {other.kind}",
                fix="declare the types of the columns, or compare others",
            )  # fmt: skip
        if one.kind == "text":
            return _text_signs(one.values, other.values), missing
        below, above = _compared(one.values, other.values)
        signs: Signs = above.astype(np.int8) - below.astype(np.int8)
        if self.is_near_equal and one.kind == "number":
            with np.errstate(invalid="ignore", over="ignore"):
                a, b = np.asarray(one.values, np.float64), np.asarray(other.values, np.float64)
                largest = np.maximum(np.abs(a), np.abs(b))
                signs[np.abs(a - b) <= _ROUNDING_ERRORS * np.spacing(largest)] = 0
        return signs, missing

    def _operand(self, tree: Expression) -> _Operand:
        match tree:
            case ColumnName(name):
                return _of_column(self.column_named(name), name)
            case Constant(value):
                return self._of_value(value)
            case Arithmetic(sign, left, right):
                one, other = self._operand(left), self._operand(right)
                for side, operand in ((left, one), (right, other)):
                    if operand.kind != "number" and not operand.missing.all():
                        raise DataError(
                            f"{write_formula(side)} is no number", expected="a number", found=operand.kind,
                            fix=f"declare the column as number, or leave it out of {write_formula(tree)}",
                        )  # fmt: skip
                return _Operand(
                    "number", _worked_out(sign, one.values, other.values), one.missing | other.missing
                )

    def _of_value(self, value: Any) -> _Operand:
        missing = np.full(self.n_rows, value is None)
        if isinstance(value, bool):
            return _Operand("boolean", np.uint8(value), missing)
        if isinstance(value, str):
            return _Operand("text", value, missing | (value == ""))
        if isinstance(value, dt.datetime):
            return _Operand("moment", np.int64(microseconds_since_epoch(value)), missing)
        if isinstance(value, dt.date):
            return _Operand("moment", np.int64(days_since_epoch(value) * 86_400_000_000), missing)
        if value is None:
            return _Operand("number", np.int64(0), missing)
        exact = Decimal(value)
        is_whole = exact == exact.to_integral_value() and abs(exact) < 2**63
        return _Operand("number", np.int64(int(exact)) if is_whole else np.float64(exact), missing)


def _of_column(column: Column, name: str) -> _Operand:
    missing = missing_mask(column)
    if isinstance(column, TextColumn) or (isinstance(column, CodedColumn) and column.kind == "text"):
        return _Operand("text", arrow_from_column(column).cast(pa.large_string()), missing)
    if isinstance(column, CodedColumn):
        distinct = _of_column(column.distinct, name)
        codes = np.where(missing, 0, column.codes)
        values = distinct.values[codes] if len(distinct.values) else np.zeros(len(column))
        return _Operand(distinct.kind, values, missing)
    assert isinstance(column, NumericColumn)
    if column.kind == "boolean":
        return _Operand("boolean", column.values, missing)
    if column.kind == "date":
        return _Operand("moment", column.values.astype(np.int64) * 86_400_000_000, missing)
    if column.kind == "datetime":
        ticks = column.values.astype(np.int64)
        factor = {"s": 1_000_000, "ms": 1_000, "us": 1}.get(column.unit)
        if factor is None:  # nanoseconds: what lies between two microseconds is above the first
            return _Operand(
                "moment", ticks / 1_000 if bool((ticks % 1_000).any()) else ticks // 1_000, missing
            )
        return _Operand("moment", ticks * factor, missing)
    if column.kind == "decimal":
        whole = column.values if column.scale == 0 else None
        exact = (
            [float(Fraction(int(value), 10**column.scale)) for value in column.values]
            if whole is None
            else whole
        )
        return _Operand("number", np.asarray(exact, np.float64), missing)
    return _Operand("number", column.values, missing)


def _worked_out(sign: str, left: Any, right: Any) -> Any:
    """Return a sum, difference or product: of integers where it surely fits 64 bits, else of floats."""
    work = {"+": np.add, "-": np.subtract, "*": np.multiply}[sign]
    if np.asarray(left).dtype.kind in "iu" and np.asarray(right).dtype.kind in "iu":
        sizes = [
            max(abs(int(np.min(one, initial=0))), abs(int(np.max(one, initial=0)))) for one in (left, right)
        ]
        if (sizes[0] * sizes[1] if sign == "*" else sum(sizes)) < 2**63:
            return work(np.asarray(left, np.int64), np.asarray(right, np.int64))
    with np.errstate(all="ignore"):
        return work(np.asarray(left, np.float64), np.asarray(right, np.float64))


def _compared(left: Any, right: Any) -> tuple[BoolArray, BoolArray]:
    """Return where left is below and where it is above right; exact for whole numbers beyond 2**53 too."""
    one, other = np.broadcast_arrays(np.asarray(left), np.asarray(right))
    with np.errstate(invalid="ignore"):
        below, above = one < other, one > other
    kinds = {one.dtype.kind, other.dtype.kind}
    if kinds in ({"i", "f"}, {"u", "f"}):
        whole, real = (one, other) if one.dtype.kind != "f" else (other, one)
        large = np.flatnonzero((np.abs(whole.astype(np.float64)) >= _EXACT_FLOATS) & np.isfinite(real))
        below, above = np.array(below), np.array(above)
        for row in large:
            a, b = (Fraction(array[row].item()) for array in (one, other))
            below[row], above[row] = a < b, a > b
    return below, above


def _text_signs(left: Any, right: Any) -> Signs:
    """Return the signs by code point."""
    below, above = (
        np.asarray(pc.fill_null(compare(left, right), False).to_numpy(zero_copy_only=False))
        for compare in (pc.less, pc.greater)
    )
    signs: Signs = above.astype(np.int8) - below.astype(np.int8)
    return signs
