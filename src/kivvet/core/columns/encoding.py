"""Columns as codes into their different values, encoded in threads where there are many rows.

Each thread numbers the values of its share; what several shares met is then put together. Texts of at most eight
bytes are numbered as machine words, which is half of the work.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from itertools import pairwise

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import ROWS_FOR_THREADS, THREADS, Places
from kivvet.core.columns.text_words import texts_of, words_of

_SAMPLED = 1_000  # first texts, one longer than a word of which says that words are not worth trying
_WORD = 8


def encoded(values: pa.Array) -> tuple[Places, pa.Array]:
    """Return the code of each value, and the different values in the order in which they are met.

    Parameters
    ----------
    values : pyarrow array, shape (n_rows,)

    Returns
    -------
    codes : ndarray of integers, shape (n_rows,)
        Of a null any code that there is.
    distinct : pyarrow array
        Text as large_string; the text of no characters may stand where nulls were first met.
    """
    is_text = pa.types.is_string(values.type) or pa.types.is_large_string(values.type)
    words = words_of(values) if is_text and _may_be_short(values) else None
    if words is not None:
        codes, distinct = _shared(pa.array(words.view(np.int64)))
        return codes, texts_of(distinct.to_numpy().view(np.uint64))
    codes, distinct = _shared(values)
    if is_text:
        distinct = distinct.cast(pa.large_string())
        if not len(distinct):
            distinct = pa.array([""], pa.large_string())
    return codes, distinct


def _may_be_short(values: pa.Array) -> bool:
    if len(values) < ROWS_FOR_THREADS or isinstance(values, pa.ChunkedArray):
        return False
    longest = pc.max(pc.binary_length(values.slice(0, _SAMPLED))).as_py()
    return longest is None or longest <= _WORD


def _shared(values: pa.Array) -> tuple[Places, pa.Array]:
    """Encode an array by shares, and put these together."""
    n = THREADS if len(values) >= ROWS_FOR_THREADS else 1
    ends = [len(values) * part // n for part in range(n + 1)]
    with ThreadPoolExecutor(n) as pool:
        parts = list(
            pool.map(
                lambda at: pc.dictionary_encode(values.slice(at[0], at[1] - at[0])),
                pairwise(ends),
            )
        )
    chunks = [
        chunk for part in parts for chunk in (part.chunks if isinstance(part, pa.ChunkedArray) else [part])
    ]
    made = pa.chunked_array(chunks).unify_dictionaries()
    held = [chunk.indices for chunk in made.chunks]
    codes = [(pc.fill_null(one, 0) if one.null_count else one).to_numpy(zero_copy_only=False) for one in held]
    if len(codes) == 1:
        return codes[0], made.chunk(0).dictionary
    joined: Places = np.empty(len(values), np.int32)
    ends = np.cumsum([0, *map(len, codes)]).tolist()
    with ThreadPoolExecutor(n) as pool:
        list(
            pool.map(
                lambda place: np.copyto(joined[ends[place] : ends[place + 1]], codes[place]),
                range(len(codes)),
            )
        )
    return joined, made.chunk(0).dictionary
