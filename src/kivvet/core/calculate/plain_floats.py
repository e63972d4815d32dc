"""The quick way for formulas that only add, subtract, multiply and divide floats: missing is NaN all along.

The processor itself tells where a division by zero or an undefined operation happened; then, and only then,
the rows are worked out again with care.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from kivvet.core.calculate.vectors import Vector
from kivvet.core.columns.arrays import Array
from kivvet.core.columns.column import Column, NumericColumn
from kivvet.core.formulas.tree import Arithmetic, ColumnName, Constant, Tree, Window
from kivvet.core.formulas.types import type_of_constant

Leaf = Callable[[Tree, slice], Array]
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


def floats_of(leaf: NumericColumn | Vector, rows: slice) -> Array:
    """Return some rows of a column or a vector, NaN where one is missing."""
    values: Array = leaf.values[rows]
    if isinstance(leaf, Vector):
        gone = leaf.missing if leaf.missing is None or leaf.missing.ndim == 0 else leaf.missing[rows]
    else:
        gone = None if leaf.valid is None else ~leaf.valid[rows]
    if gone is None or not gone.any():
        return values
    made: Array = values.copy()
    np.copyto(made, np.nan, where=gone)
    return made


def worked_out_plainly(tree: Tree, floats: Callable[[Tree], Array]) -> Array | None:
    """Return the values of a plain tree, NaN where missing; None where an operation had no result, or what it
    read is infinite.
    """
    try:
        with np.errstate(invalid="raise", divide="raise", over="ignore", under="ignore"):
            return _values(tree, floats)
    except FloatingPointError:
        return None


def _values(tree: Tree, floats: Callable[[Tree], Array]) -> Array:
    if isinstance(tree, Arithmetic):
        made: Array = _WORK[tree.sign](_values(tree.left, floats), _values(tree.right, floats))
        return made
    if isinstance(tree, Constant):
        return np.array(float(tree.value))  # type: ignore[arg-type]
    return floats(tree)
