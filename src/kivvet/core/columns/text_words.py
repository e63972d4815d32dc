"""Texts of at most eight bytes as machine words, and back."""

from __future__ import annotations

import re
import sys

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import CHUNK, Array, in_threads

Words = npt.NDArray[np.uint64]
#: What is kept of eight bytes for each length; longer texts are no short key.
_KEPT = np.array([(1 << (8 * n)) - 1 for n in range(9)], np.uint64)


class WordReader:
    """Reads the texts of an array as words: 0 for missing; texts of more than eight bytes are told apart."""

    def __init__(self, offsets: Array, data: Words, valid: npt.NDArray[np.bool_] | None) -> None:
        self.offsets = offsets
        self.data = data
        self.valid = valid

    @classmethod
    def of(cls, values: pa.Array) -> WordReader | None:
        """Return a reader; None where the text does not lie in memory as words can be read from."""
        is_large = pa.types.is_large_string(values.type)
        _, offset_buffer, data_buffer = values.buffers()
        if data_buffer is None or data_buffer.size < 16 or data_buffer.address % 8:
            return None
        offsets = np.frombuffer(
            offset_buffer,
            np.int64 if is_large else np.int32,
            len(values) + 1,
            values.offset * (8 if is_large else 4),
        )
        if len(offsets) and re.search(b"\0", memoryview(data_buffer)[int(offsets[0]) : int(offsets[-1])]):
            return None  # a text that ends in such a sign would be the same word as the text without it
        n_words = data_buffer.size // 8
        data = np.frombuffer(data_buffer, np.uint64, n_words)
        if len(offsets) and int(offsets[-1]) > n_words * 8 - 16:
            tail = np.frombuffer(data_buffer, np.uint8)
            data = np.zeros(n_words + 3, np.uint64)
            data.view(np.uint8)[: len(tail)] = tail
        valid = pc.is_valid(values).to_numpy(zero_copy_only=False) if values.null_count else None
        return cls(offsets, data, valid)

    def words(self, start: int, end: int, scratch: Scratch) -> tuple[Words, npt.NDArray[np.bool_] | None]:
        """Return the words of some rows (in scratch memory), and which are longer than a word (None: none
        is).
        """
        size = end - start
        at = scratch.at[:size]
        shift, words, high = (word[:size] for word in scratch.words)
        begins = self.offsets[start:end]
        lengths = self.offsets[start + 1 : end + 1] - begins
        np.right_shift(begins, 3, out=at, casting="unsafe")
        np.bitwise_and(begins, 7, out=shift, casting="unsafe")
        np.left_shift(shift, 3, out=shift)
        np.take(self.data, at, out=words, mode="clip")
        np.right_shift(words, shift, out=words)
        np.add(at, 1, out=at)
        np.take(self.data, at, out=high, mode="clip")
        # Shifting by 64 is not defined, so the upper part is shifted in two steps.
        np.left_shift(high, 1, out=high)
        np.subtract(63, shift, out=shift)
        np.left_shift(high, shift, out=high)
        np.bitwise_or(words, high, out=words)
        longest = int(lengths.max(initial=0))
        np.copyto(at, lengths if longest <= 8 else np.minimum(lengths, 8))
        np.take(_KEPT, at, out=high, mode="clip")
        np.bitwise_and(words, high, out=words)
        is_long = lengths > 8 if longest > 8 else None
        if self.valid is not None:
            gone = ~self.valid[start:end]
            words[gone] = 0
            if is_long is not None:
                is_long &= ~gone
        return words, is_long


class Scratch:
    """Memory that one thread uses again for each chunk."""

    def __init__(self) -> None:
        self.at = np.empty(CHUNK, np.intp)
        self.words = tuple(np.empty(CHUNK, np.uint64) for _ in range(3))


def words_of(values: pa.Array) -> Words | None:
    """Return texts as words, read in threads: 0 for missing ones and those of no characters; None where one is longer, or
    they do not lie in memory as words can be read from.

    Parameters
    ----------
    values : pyarrow string or large_string array, shape (n_rows,)
    """
    read = WordReader.of(values) if sys.byteorder == "little" else None
    if read is None:
        return None
    made = np.empty(len(values), np.uint64)
    longer: list[bool] = []

    def work(start: int, end: int) -> None:
        scratch = Scratch()
        for first in range(start, end, CHUNK):
            last = min(first + CHUNK, end)
            words, is_long = read.words(first, last, scratch)
            if longer or (is_long is not None and is_long.any()):
                longer.append(True)
                return
            made[first:last] = words

    in_threads(work, len(values))
    return None if longer else made


def texts_of(words: Words) -> pa.Array:
    """Return words as the texts that they were read from."""
    signs = np.ascontiguousarray(words).view(np.uint8).reshape(-1, 8)
    there = signs != 0
    offsets = np.zeros(len(words) + 1, np.int64)
    np.cumsum(there.sum(axis=1), out=offsets[1:])
    buffers = [None, pa.py_buffer(offsets), pa.py_buffer(signs[there])]
    return pa.Array.from_buffers(pa.large_string(), len(words), buffers)
