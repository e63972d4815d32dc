"""Finding texts among known ones, whole columns at a time.

Texts of at most eight bytes are compared as machine words: a multiplicative hash (Knuth, The Art of
Computer Programming 3, section 6.4) gives the slot of a table, and the few keys that fall into one slot go
on to a next table with another multiplier. Longer ones go through Arrow's hash table, in two threads.
"""

from __future__ import annotations

import sys
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import CHUNK, Array, in_threads
from kivvet.core.columns.text_words import Scratch, WordReader, Words

_MULTIPLIERS = (0x9E3779B97F4A7C15, 0xC2B2AE3D27D4EB4F, 0xD6E8FEB86659FD93, 0xA0761D6478BD642F)
_FEW_ROWS = 1_000  # are found one by one, sooner than what whole columns need is made ready
_SLOTS_A_KEY = 8
_MOST_WORDS = 1 << 20


class TextKeys:
    """Known texts, each once.

    Parameters
    ----------
    keys : pyarrow large_string array, shape (n_keys,)
        Not null and not empty.
    """

    def __init__(self, keys: pa.Array) -> None:
        self.keys = keys

    def find(self, values: pa.Array, of_key: Array) -> Array:
        """Return for each value what belongs to its key.

        Parameters
        ----------
        values : pyarrow string or large_string array, shape (n_rows,)
        of_key : ndarray, shape (n_keys + 2,)
            One for each key; then for a missing value (null, or text of no characters), then for all others.

        Returns
        -------
        ndarray of the dtype of of_key, shape (n_rows,)
        """
        if len(values) <= _FEW_ROWS:
            places = [self._place_of.get(text, len(self.keys) + 1) for text in values.to_pylist()]
            found: Array = of_key[np.array(places, np.intp)]
            return found
        out = np.empty(len(values), of_key.dtype)
        tables = self._word_tables
        if tables is not None and (read := WordReader.of(values)) is not None:
            in_threads(lambda start, end: _find_words(read, tables, of_key, out, start, end), len(values))
            return out
        wanted = pa.concat_arrays([self.keys, pa.array([""], self.keys.type)]).cast(values.type)

        def work(start: int, end: int) -> None:
            part = values.slice(start, end - start)
            places = pc.index_in(part, value_set=wanted, skip_nulls=True)
            out[start:end] = of_key[pc.fill_null(places, len(wanted)).to_numpy(zero_copy_only=False)]
            if part.null_count:
                out[start:end][pc.is_null(part).to_numpy(zero_copy_only=False)] = of_key[-2]

        in_threads(work, len(values))
        return out

    @cached_property
    def _place_of(self) -> dict[str | None, int]:
        """The place of each key, and of what is missing, for a few values at a time."""
        known: dict[str | None, int] = {key: place for place, key in enumerate(self.keys.to_pylist())}
        return {**known, "": len(self.keys), None: len(self.keys)}

    @cached_property
    def _word_tables(self) -> list[_WordTable] | None:
        """Tables that hold all keys as words; None where a key is longer, or there are too many."""
        if not len(self.keys) or len(self.keys) > _MOST_WORDS or sys.byteorder != "little":
            return None
        lengths = pc.binary_length(self.keys).to_numpy(zero_copy_only=False)
        if int(lengths.max()) > 8 or any("\0" in key for key in self.keys.to_pylist()):
            return None
        words = np.frombuffer(
            b"".join(key.encode().ljust(8, b"\0") for key in self.keys.to_pylist()), np.uint64
        )
        places = np.arange(len(words))
        tables = []
        for multiplier in _MULTIPLIERS:
            table, left = _WordTable.of(words[places], places, multiplier)
            tables.append(table)
            places = places[left]
            if not len(places):
                return tables
        return None


class _WordTable:
    """Words at the slots their hash gives; an empty slot holds a word that hashes elsewhere, or 0."""

    def __init__(self, multiplier: int, n_bits: int, words: Words, places: npt.NDArray[np.int64]) -> None:
        self.multiplier = np.uint64(multiplier)
        self.shift = np.uint64(64 - n_bits)
        self.words = words
        self.places = places

    @classmethod
    def of(
        cls, words: Words, places: npt.NDArray[np.intp], multiplier: int
    ) -> tuple[_WordTable, npt.NDArray[np.intp]]:
        """Return a table of the words that come first at their slot, and the positions of those left over."""
        n_bits = max(4, int(len(words) * _SLOTS_A_KEY - 1).bit_length())
        made = cls(multiplier, n_bits, np.zeros(1 << n_bits, np.uint64), np.full(1 << n_bits, -1, np.int64))
        slots = made.slots(words)
        _, first = np.unique(slots, return_index=True)
        made.words[slots[first]] = words[first]
        made.places[slots[first]] = places[first]
        left = np.ones(len(words), bool)
        left[first] = False
        return made, np.flatnonzero(left)

    def slots(self, words: Words) -> npt.NDArray[np.intp]:
        """Return the slot of each word."""
        return ((words * self.multiplier) >> self.shift).astype(np.intp)


def _find_words(
    read: WordReader, tables: list[_WordTable], of_key: Array, out: Array, start: int, end: int
) -> None:
    # In each table's slots what belongs to the key there; an empty slot's word 0 is what missing reads as.
    of_slot = [np.where(table.places < 0, of_key[-2], of_key[table.places]) for table in tables]
    main, scratch = tables[0], Scratch()
    for first in range(start, end, CHUNK):
        last = min(first + CHUNK, end)
        words, is_long = read.words(first, last, scratch)
        made, hashed, slots = out[first:last], scratch.hashed[: last - first], scratch.slots[: last - first]
        np.multiply(words, main.multiplier, out=hashed)
        np.right_shift(hashed, main.shift, out=slots, casting="unsafe")
        np.take(of_slot[0], slots, out=made, mode="clip")
        np.take(main.words, slots, out=hashed, mode="clip")
        other = hashed != words
        if is_long is not None:
            other |= is_long
        rows = np.flatnonzero(other)
        if not len(rows):
            continue
        for table, belongs in zip(tables[1:], of_slot[1:], strict=True):
            places = table.slots(words[rows])
            found = table.words[places] == words[rows]
            made[rows[found]] = belongs[places[found]]
            rows = rows[~found]
        made[rows] = of_key[-1]
        if is_long is not None:
            made[is_long] = of_key[-1]
            made[(words == 0) & ~is_long] = of_key[-2]
        else:
            made[words == 0] = of_key[-2]
