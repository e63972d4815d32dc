"""The quick way for formulas that only add, subtract, multiply and divide floats: missing is NaN all along.

The processor itself tells where a division by zero or an undefined operation happened; then, and only then,
the rows are worked out again with care.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from kivvet.core.calculate.vectors import Vector
from kivvet.core.columns.arrays import CHUNK, Array, in_threads
from kivvet.core.columns.column import Bitmap, Column, NumericColumn
from kivvet.core.formulas.tree import Arithmetic, ColumnName, Constant, Tree, Window, walk
from kivvet.core.formulas.types import type_of_constant

Bits = npt.NDArray[np.uint8]
_NOWHERE, _IN_DIVISORS, _EVERYWHERE = range(3)  # where what lies under missing values is replaced
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


def plain_column(tree: Tree, columns: Mapping[str, Column], n_rows: int) -> pa.Array | None:
    """Return the values of arithmetic of columns of floats as Arrow holds them; None where a tree is something else, or a
    row has to be looked at with care.
    """

    def of_leaf(leaf: Tree) -> NumericColumn:
        found = columns[leaf.name] if isinstance(leaf, ColumnName) else None
        assert isinstance(found, NumericColumn)
        return found

    is_of_columns = all(isinstance(leaf, (ColumnName, Constant, Arithmetic)) for leaf in walk(tree))
    if not n_rows or not is_of_columns or not isinstance(tree, Arithmetic):
        return None
    if not is_plain(tree, lambda leaf: columns[leaf.name] if isinstance(leaf, ColumnName) else None):
        return None
    held = pa.allocate_buffer(n_rows * 8)
    values, bits = np.frombuffer(held, np.float64), np.empty((n_rows + 7) // 8, np.uint8)
    plain = PlainTree(tree, of_leaf)
    n_there: list[int | None] = []  # of each chunk; None where one needs care

    def work(start: int, end: int) -> None:
        for first in range(start, end, CHUNK):
            last = min(first + CHUNK, end)
            there = plain.worked_out(slice(first, last), values[first:last])
            n_there.append(None if there is None else int(np.bitwise_count(there).sum()))
            if there is None:
                return
            bits[first // 8 : (last + 7) // 8] = there

    in_threads(work, n_rows)
    known = [one for one in n_there if one is not None]
    if len(known) < len(n_there):
        return None
    n_missing = n_rows - sum(known)
    valid = pa.py_buffer(bits) if n_missing else None
    return pa.Array.from_buffers(pa.float64(), n_rows, [valid, held], n_missing)


def there_in(leaf: NumericColumn | Vector, rows: slice) -> Bits | None:
    """Return in which of some rows a column or a vector has a value by its mask, one bit each; None where it has in all."""
    if isinstance(leaf, Vector):
        if leaf.missing is None:
            return None
        gone = leaf.missing[rows] if leaf.missing.ndim else np.full(rows.stop - rows.start, leaf.missing)
        return np.packbits(~gone, bitorder="little") if gone.any() else None
    if isinstance(leaf.validity, Bitmap):
        return leaf.validity.bits(rows)
    return None if leaf.validity is None else np.packbits(leaf.validity[rows], bitorder="little")


class PlainTree:
    """A plain tree worked out, some rows at a time, with what lies under missing values as it is while that does no harm.

    Where an operation has no result for it, and zeros often lie there, it is replaced in divisors, and then everywhere: for
    the rows that come as well, since what lies there is mostly alike all along.

    Parameters
    ----------
    tree : Tree
    of_leaf : callable
        Gives a leaf's column or vector.
    """

    def __init__(self, tree: Tree, of_leaf: Callable[[Tree], NumericColumn | Vector]) -> None:
        self.tree, self.of_leaf = tree, of_leaf
        self._replaced = _NOWHERE

    def worked_out(self, rows: slice, into: Array) -> Bits | None:
        """Write the values of some rows, and return which have one, one bit each; None where that is not all: an operation
        had no result, or what it read is infinite.

        Parameters
        ----------
        rows : slice
        into : ndarray of float64, one for each of the rows
            What stands in missing rows is arbitrary.
        """
        for replaced in range(self._replaced, _EVERYWHERE + 1):
            some = _Rows(self.of_leaf, rows, replaced)
            there = some.worked_out(self.tree, into)
            if there is not None:
                self._replaced = replaced
                return there
            if some.there is None:
                break  # nothing is missing
        return None


class _Rows:
    """Some rows of a plain tree, and where what lies under missing values is replaced."""

    def __init__(self, of_leaf: Callable[[Tree], NumericColumn | Vector], rows: slice, replaced: int) -> None:
        self.of_leaf, self.rows, self.replaced = of_leaf, rows, replaced
        #: One bit for each row in which all that was read has a value; None: in all.
        self.there: Bits | None = None

    def worked_out(self, tree: Tree, into: Array) -> Bits | None:
        try:
            with np.errstate(invalid="raise", divide="raise", over="ignore", under="ignore"):
                self._values(tree, into, is_filled=self.replaced == _EVERYWHERE)
        except FloatingPointError:
            return None
        made = np.packbits(~np.isnan(into), bitorder="little")
        return made if self.there is None else made & self.there

    def _values(self, tree: Tree, into: Array | None, *, is_filled: bool) -> Array:
        """Return the values of a part, written into an array if one is given, else into one that nothing else needs."""
        if isinstance(tree, Arithmetic):
            left = self._values(tree.left, into, is_filled=is_filled)
            is_left_made, is_right_made = (
                isinstance(tree.left, Arithmetic),
                isinstance(tree.right, Arithmetic),
            )
            is_divisor = tree.sign == "/" and self.replaced == _IN_DIVISORS
            right = self._values(
                tree.right, None if is_left_made else into, is_filled=is_filled or is_divisor
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
        there = there_in(leaf, self.rows)
        if there is None:
            return values
        self.there = there if self.there is None else self.there & there
        if not is_filled:
            return values
        values = values.copy()
        gone = np.unpackbits(~there, count=len(values), bitorder="little").view(np.bool_)
        np.copyto(values, np.nan, where=gone)
        return values
