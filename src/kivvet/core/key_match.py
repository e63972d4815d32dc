"""From the column of a lookup's key to the row of the lookup that holds it."""

from __future__ import annotations

from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.check_lookup import key_codes
from kivvet.core.columns import (
    CodedColumn,
    Column,
    NumericColumn,
    TextColumn,
    arrow_from_column,
    missing_mask,
)
from kivvet.core.input_coder import is_all_missing, misfit
from kivvet.core.kernels import Array, label_by_code
from kivvet.core.tables import RuleTable
from kivvet.core.text_keys import TextKeys
from kivvet.core.values import fold_text


class KeyMatch:
    """The keys of a lookup made ready for columns.

    Outcomes are the row that holds the key, `n_rows` where none does, ``n_rows + 1`` for missing.
    """

    def __init__(self, table: RuleTable) -> None:
        assert table.lookup is not None
        self.lookup = table.lookup
        self.about = table.inputs[0]
        self.unmatched = table.n_rows
        self.missing = table.n_rows + 1

    def outcomes(self, column: Column, name: str = "") -> npt.NDArray[np.intp]:
        """Return the outcome of each row of a column.

        Raises
        ------
        DataError
            If the key does not read columns of this type.
        """
        base = column.distinct if isinstance(column, CodedColumn) else column
        if not is_all_missing(base):
            tz = base.tz if isinstance(base, NumericColumn) else None
            if (error := misfit(self.about, column.kind, tz, name or self.about.name)) is not None:
                raise error
        if isinstance(column, CodedColumn):
            of_distinct = np.append(self.outcomes(column.distinct), self.missing)
            codes = column.codes if column.valid is None else np.where(column.valid, column.codes, -1)
            return label_by_code(codes, of_distinct, with_counts=False)[0]
        if isinstance(column, TextColumn):
            return self._of_text(column.values)
        return self._of_numbers(column)

    def _of_text(self, values: pa.Array) -> npt.NDArray[np.intp]:
        keys, outcomes = self._text_keys
        if not self.about.fold:
            return keys.find(values, outcomes)
        encoded = pc.dictionary_encode(values)
        distinct = pa.array(
            [fold_text(text, self.about.fold) for text in encoded.dictionary.to_pylist()], pa.large_string()
        )
        of_every = np.append(keys.find(distinct, outcomes), self.missing)
        codes = pc.fill_null(encoded.indices, -1).to_numpy(zero_copy_only=False)
        return label_by_code(codes, of_every, with_counts=False)[0]

    @cached_property
    def _keys(self) -> tuple[pa.Array, npt.NDArray[np.intp]]:
        """The different keys, and the first row of each."""
        codes, distinct = key_codes(self.lookup.key)
        first = np.full(len(distinct) + 1, -1, np.intp)
        first[codes[::-1]] = np.arange(len(codes))[::-1]  # the first row of each key stays
        return distinct, first[:-1]

    @cached_property
    def _text_keys(self) -> tuple[TextKeys, npt.NDArray[np.intp]]:
        keys, outcomes = self._keys
        return TextKeys(keys.cast(pa.large_string())), np.append(outcomes, [self.missing, self.unmatched])

    def _of_numbers(self, column: NumericColumn) -> npt.NDArray[np.intp]:
        keys, outcomes = self._keys
        gone = missing_mask(column)
        values = _comparable(arrow_from_column(column))
        wanted = _comparable(keys)
        if values.type != wanted.type:
            values, wanted, kept = _aligned(values, wanted)
            outcomes = outcomes[kept]
        found: npt.NDArray[np.intp] = np.append(outcomes, self.unmatched)[
            pc.fill_null(pc.index_in(values, value_set=wanted, skip_nulls=True), len(outcomes)).to_numpy(
                zero_copy_only=False
            )
        ]
        found[gone] = self.missing
        return found


def _comparable(array: pa.Array) -> pa.Array:
    """Return keys or data in a type that hashes equal values alike: -0 as 0, NaN as null."""
    if pa.types.is_floating(array.type):
        array = array.cast(pa.float64())
        return pc.if_else(pc.is_nan(array), pa.scalar(None, pa.float64()), pc.add(array, 0.0))
    if pa.types.is_integer(array.type) and not pa.types.is_uint64(array.type):
        return array.cast(pa.int64())
    return array


def _aligned(values: pa.Array, keys: pa.Array) -> tuple[pa.Array, pa.Array, Array]:
    """Return data and keys of two types in one that both fit exactly, and which keys were kept."""
    everything = np.arange(len(keys))
    if pa.types.is_decimal(values.type) or pa.types.is_decimal(keys.type) or pa.types.is_uint64(values.type):
        # Exact, whatever the digits: both sides in one canonical writing.
        from decimal import Decimal

        def written(array: pa.Array) -> pa.Array:
            encoded = pc.dictionary_encode(array)
            texts = [str(Decimal(one).normalize()) for one in encoded.dictionary.to_pylist()]
            return pa.array(texts, pa.string()).take(encoded.indices)

        return written(values), written(keys), everything
    if pa.types.is_integer(values.type) and pa.types.is_floating(keys.type):
        numbers = keys.to_numpy(zero_copy_only=False)
        whole = np.flatnonzero((numbers == np.trunc(numbers)) & (np.abs(numbers) < 2.0**63))
        return values, pa.array(numbers[whole].astype(np.int64)), whole
    if pa.types.is_floating(values.type) and pa.types.is_integer(keys.type):
        numbers = keys.to_numpy(zero_copy_only=False)
        exact = np.flatnonzero(numbers.astype(np.float64).astype(object) == numbers.astype(object))
        return values, keys.take(pa.array(exact)).cast(pa.float64()), exact
    return values, keys.cast(values.type), everything
