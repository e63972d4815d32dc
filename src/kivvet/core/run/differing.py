"""In which rows two versions of a column hold other values."""

from __future__ import annotations

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.kernels import label_by_code
from kivvet.core.columns.made_column import MadeColumn

_ROUNDING = 1e-12


def differing(old: MadeColumn, new: MadeColumn) -> npt.NDArray[np.bool_]:
    """Return the rows in which two columns made hold other values; a missing value is like another only.

    Floats that differ by rounding alone, by less than a billionth of a thousandth of their size, count as equal.
    """
    if old.codes is not None and new.codes is not None:
        assert old.classes is not None and new.classes is not None
        if old.classes.equals(new.classes) and old.codes.dtype == new.codes.dtype:
            return np.asarray(old.codes != new.codes)
        joint = pc.index_in(old.classes, value_set=new.classes).fill_null(-2).to_numpy(zero_copy_only=False)
        place = np.append(joint, -1).astype(new.codes.dtype)  # -1, missing, is the last
        moved, _ = label_by_code(old.codes, place, with_counts=False)
        return np.asarray(moved != new.codes)
    one, other = plain_values(old), plain_values(new)
    if pa.types.is_nested(one.type) != pa.types.is_nested(other.type):  # a list is no single value
        gone = [pc.is_null(each).to_numpy(zero_copy_only=False) for each in (one, other)]
        return np.asarray(~(gone[0] & gone[1]))
    if one.type != other.type and not (_is_number(one.type) and _is_number(other.type)):
        one, other = one.cast(pa.string()), other.cast(pa.string())
    gone = pc.is_null(one).to_numpy(zero_copy_only=False) != pc.is_null(other).to_numpy(zero_copy_only=False)
    unlike = pc.fill_null(_not_equal(one, other), False)
    return np.asarray(gone | unlike.to_numpy(zero_copy_only=False))


def plain_values(made: MadeColumn) -> pa.Array:
    """Return the values of a column made, classes as texts."""
    array = made.as_arrow()
    if isinstance(array, pa.ChunkedArray):
        array = array.combine_chunks()
    return array.dictionary_decode() if isinstance(array, pa.DictionaryArray) else array


def _is_number(kind: pa.DataType) -> bool:
    return bool(pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind))


def _not_equal(one: pa.Array, other: pa.Array) -> pa.Array:
    if pa.types.is_nested(one.type):
        return _lists_differ(one, other)
    if pa.types.is_floating(one.type) and pa.types.is_floating(other.type):
        left, right = (each.to_numpy(zero_copy_only=False) for each in (one, other))
        with np.errstate(invalid="ignore"):
            is_near = np.abs(left - right) <= _ROUNDING * np.maximum(np.abs(left), np.abs(right))
        return pa.array((left != right) & ~is_near & ~(np.isnan(left) & np.isnan(right)))
    return pc.not_equal(one, other)


def _lists_differ(one: pa.Array, other: pa.Array) -> pa.Array:
    lengths = [pc.fill_null(pc.list_value_length(each), 0).to_numpy() for each in (one, other)]
    differs = np.asarray(lengths[0] != lengths[1])
    alike = np.flatnonzero(~differs)
    left, right = (each.take(pa.array(alike)).flatten() for each in (one, other))
    unlike = pc.fill_null(_not_equal(left, right), False).to_numpy(zero_copy_only=False)
    differs[np.repeat(alike, lengths[0][alike])[unlike]] = True
    return pa.array(differs)
