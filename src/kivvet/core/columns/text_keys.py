"""Finding texts among known ones, whole columns at a time: through Arrow's hash table, in threads."""

from __future__ import annotations

from functools import cached_property

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import CHUNK, Array, in_threads
from kivvet.core.columns.column import Bitmap

_FEW_ROWS = 1_000  # are found one by one, sooner than what whole columns need is made ready


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
        wanted = pa.concat_arrays([self.keys, pa.array([""], self.keys.type)]).cast(values.type)
        among = pc.SetLookupOptions(wanted, skip_nulls=True)

        def work(start: int, end: int) -> None:
            part, made = values.slice(start, end - start), out[start:end]
            places = pc.index_in(part, options=among)
            numbers = np.frombuffer(places.buffers()[1], np.int32, len(part), 4 * places.offset)
            known, there = Bitmap.of(places), Bitmap.of(part)
            for first in range(0, len(part), CHUNK):
                rows = slice(first, first + CHUNK)
                np.take(of_key, numbers[rows], out=made[rows], mode="clip")
                if known is not None:  # under others any number may stand
                    made[first + np.flatnonzero(~known[rows])] = of_key[-1]
                if there is not None:
                    made[first + np.flatnonzero(~there[rows])] = of_key[-2]

        in_threads(work, len(values))
        return out

    @cached_property
    def _place_of(self) -> dict[str | None, int]:
        """The place of each key, and of what is missing, for a few values at a time."""
        known: dict[str | None, int] = {key: place for place, key in enumerate(self.keys.to_pylist())}
        return {**known, "": len(self.keys), None: len(self.keys)}
