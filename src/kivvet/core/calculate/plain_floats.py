"""The quick way for formulas that only add, subtract, multiply and divide floats: missing is NaN all along.

The processor itself tells where a division by zero or an undefined operation happened; then, and only then,
the rows are worked out again with care.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from kivvet.core.calculate.vectors import Vector
from kivvet.core.columns.arrays import Array
from kivvet.core.columns.column import BoolArray, Column, NumericColumn
from kivvet.core.formulas.tree import Arithmetic, ColumnName, Constant, Tree, Window
from kivvet.core.formulas.types import type_of_constant

_WORK = {"+": np.add, "-": np.subtract, "*": np.multiply, "/": np.divide}


def is_plain(tree: Tree, of_leaf: Callable[[Tree], Column | Vector | None]) -> bool:
    """Whether a tree is nothing but arithmetic of floats, each operation with one that is no constant."""
    match tree:
        case Arithmetic(_, left, right):
            both = isinstance(left, Constant) and isinstance(right, Constant)
            return not both and is_plain(left, of_leaf) and is_plain(right, of_leaf)
        case Constant(value):
            return type_of_constant(value) in ("integer", "number")
        case ColumnName() | Window():
            leaf = of_leaf(tree)
            if not isinstance(leaf, (NumericColumn, Vector)):
                return False
            return leaf.kind == "number" and leaf.values.dtype == np.float64 and leaf.values.ndim == 1
    return False


def missing_in(leaf: NumericColumn | Vector, rows: slice) -> BoolArray | None:
    """Return which of some rows of a column or a vector have no value by its mask; None where all have."""
    if isinstance(leaf, Vector):
        if leaf.missing is None or leaf.missing.ndim == 0:
            return None if leaf.missing is None or not leaf.missing else np.ones(rows.stop - rows.start, bool)
        gone = leaf.missing[rows]
    elif leaf.valid is None:
        return None
    else:
        gone = ~leaf.valid[rows]
    return gone if gone.any() else None


class PlainRows:
    """Some rows of a plain tree, worked out with what lies under missing values as it is.

    Only under divisors that is replaced, since zeros often stand there.

    Parameters
    ----------
    of_leaf : callable
        Gives a leaf's column or vector.
    rows : slice
    """

    def __init__(self, of_leaf: Callable[[Tree], NumericColumn | Vector], rows: slice) -> None:
        self.of_leaf, self.rows = of_leaf, rows
        self.gone: BoolArray | None = None

    def worked_out(self, tree: Tree, into: Array, missing: BoolArray, *, is_careful: bool = False) -> bool:
        """Write the values and which of them are missing, and return whether that was all: it is not where an operation
        had no result, or what it read is infinite.

        Parameters
        ----------
        tree : Tree
        into : ndarray of float64, one for each of the rows
            What stands in missing rows is arbitrary.
        missing : ndarray of bool, one for each of the rows
        is_careful : bool
            Whether all that lies under missing values is replaced.
        """
        self.gone = None
        try:
            with np.errstate(invalid="raise", divide="raise", over="ignore", under="ignore"):
                self._values(tree, into, is_filled=is_careful)
        except FloatingPointError:
            is_worth_a_try = not is_careful and self.gone is not None
            return is_worth_a_try and self.worked_out(tree, into, missing, is_careful=True)
        np.isnan(into, out=missing)
        if self.gone is not None:
            missing |= self.gone
        return True

    def _values(self, tree: Tree, into: Array | None, *, is_filled: bool) -> Array:
        """Return the values of a part, written into an array if one is given, else into one that nothing else needs."""
        if isinstance(tree, Arithmetic):
            left = self._values(tree.left, into, is_filled=is_filled)
            is_left_made, is_right_made = (
                isinstance(tree.left, Arithmetic),
                isinstance(tree.right, Arithmetic),
            )
            right = self._values(
                tree.right, None if is_left_made else into, is_filled=is_filled or tree.sign == "/"
            )
            if into is None:
                into = left if is_left_made else right if is_right_made else None
            made: Array = _WORK[tree.sign](left, right, out=into)
            # The processor says nothing where infinity is divided by zero, which has no result.
            if tree.sign == "/" and np.isinf(made).any():
                raise FloatingPointError
            return made
        if isinstance(tree, Constant):
            return np.array(float(tree.value))  # type: ignore[arg-type]
        leaf = self.of_leaf(tree)
        values: Array = leaf.values[self.rows]
        gone = missing_in(leaf, self.rows)
        if gone is None:
            return values
        self.gone = gone if self.gone is None else self.gone | gone
        if not is_filled:
            return values
        values = values.copy()
        np.copyto(values, np.nan, where=gone)
        return values
