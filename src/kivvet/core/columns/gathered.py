"""One column of all rows, put together as its parts come, so that no more of it is held than once, and the room that it grows into."""

from __future__ import annotations

from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import Array

_FIRST_ROOM = 1 << 16  # rows
_LARGEST_DICTIONARY = (
    1 << 17
)  # beyond which to look up the texts of each part again would cost more than to join them at the end


class Gathered:
    """Arrays of one type, of rows that follow one another."""

    def __init__(self) -> None:
        self._grown: _Values | _Codes | None = None
        self._parts: list[pa.Array] = []  # of what is not grown, or no longer
        self.n_parts = 0

    def add(self, array: pa.Array) -> None:
        if not self.n_parts:
            self._grown = _grown_of(array.type)
        self.n_parts += 1
        if self._grown is not None:
            self._grown.add(array)
            if self._grown.is_full:
                self._parts, self._grown = [self._grown.whole()], None
        else:
            self._parts.append(_with_wide_codes(array) if pa.types.is_dictionary(array.type) else array)

    def whole(self) -> pa.Array:
        """Return all parts as one array, and let go of them."""
        grown, parts, self._grown, self._parts = self._grown, self._parts, None, []
        if grown is not None:
            return grown.whole()
        return _joined(parts)


def _grown_of(kind: pa.DataType) -> _Values | _Codes | None:
    """Return what grows by arrays of a type; None for those that are joined at the end."""
    if pa.types.is_dictionary(kind):
        return _Codes(kind)
    is_of_bytes = pa.types.is_primitive(kind) and not pa.types.is_boolean(kind) and kind.bit_width <= 64
    return _Values(kind) if is_of_bytes else None


class _Values:
    """Values of one width."""

    is_full = False

    def __init__(self, kind: pa.DataType) -> None:
        self.kind = kind
        self.values: Array = np.empty(0, f"u{kind.bit_width // 8}")
        self.there: Array | None = None  # which are not missing; None while all are there
        self.n_rows = 0

    def add(self, array: pa.Array) -> None:
        start, end = self.n_rows, self.n_rows + len(array)
        self.values = _with_room(self.values, start, end)
        self.n_rows = end
        if start == end:
            return
        held = np.frombuffer(array.buffers()[1], self.values.dtype)
        self.values[start:end] = held[array.offset : array.offset + len(array)]
        if array.null_count and self.there is None:
            self.there = np.ones(len(self.values), bool)
        if self.there is not None:
            self.there = _with_room(self.there, start, end)
            self.there[start:end] = array.is_valid().to_numpy(zero_copy_only=False)

    def whole(self) -> pa.Array:
        bits = None
        if self.there is not None:
            bits = pa.py_buffer(np.packbits(self.there[: self.n_rows], bitorder="little"))
        return pa.Array.from_buffers(self.kind, self.n_rows, [bits, pa.py_buffer(self.values[: self.n_rows])])


class _Codes:
    """Codes into a dictionary that grows with them."""

    def __init__(self, kind: pa.DataType) -> None:
        self.kind = kind
        self.codes = _Values(pa.int32())
        self.dictionary = pa.array([], kind.value_type)

    @property
    def is_full(self) -> bool:
        return len(self.dictionary) > _LARGEST_DICTIONARY

    def add(self, array: pa.Array) -> None:
        codes, own = array.indices, array.dictionary
        if not own.equals(self.dictionary):
            is_new = pc.invert(pc.is_in(own, self.dictionary))
            self.dictionary = pa.concat_arrays([self.dictionary, own.filter(is_new).unique()])
            codes = pc.index_in(own, self.dictionary).take(codes)
        self.codes.add(codes.cast(pa.int32()))

    def whole(self) -> pa.Array:
        return _coded(self.codes.whole(), self.dictionary, self.kind)


def _with_wide_codes(array: pa.Array) -> pa.Array:
    return _coded(array.indices.cast(pa.int32()), array.dictionary, array.type)


def _coded(codes: pa.Array, dictionary: pa.Array, kind: pa.DataType) -> pa.Array:
    return pa.DictionaryArray.from_arrays(codes, dictionary, ordered=kind.ordered, safe=False)


def _with_room(values: Array, n_held: int, n_rows: int) -> Array:
    """Return values with room for so many rows: twice as much as before at least, of which what is not used costs no memory."""
    if n_rows <= len(values):
        return values
    grown: Array = np.empty(max(_FIRST_ROOM, 2 * len(values), n_rows), values.dtype)
    grown[:n_held] = values[:n_held]
    return grown


def _joined(arrays: list[Any]) -> pa.Array:
    """Return arrays of one type as one."""
    if not arrays:
        return pa.nulls(0)
    chunks = pa.chunked_array(arrays)
    if pa.types.is_string(chunks.type):
        chunks = chunks.cast(pa.large_string())  # there may be more text than the other kind of array holds
    made = chunks.unify_dictionaries().combine_chunks()
    return made if isinstance(made, pa.Array) else made.chunk(0)
