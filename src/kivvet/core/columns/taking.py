"""Taking values by outcome, for any number of outputs: in threads, with one map of what is missing for all
alike.
"""

from __future__ import annotations

from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from kivvet.core.columns.arrays import CHUNK, Array, in_threads


class Taker:
    """The outcomes of one batch, from which each output takes.

    Parameters
    ----------
    outcomes : ndarray of integers, shape (n_rows,)
    """

    def __init__(self, outcomes: Array) -> None:
        self.outcomes = outcomes
        self._validity: dict[bytes, tuple[pa.Buffer | None, int]] = {}

    def take(self, of_outcome: Array) -> Array:
        """Return for each row the value of its outcome.

        Parameters
        ----------
        of_outcome : ndarray, shape (n_outcomes,)
        """
        out = np.empty(len(self.outcomes), of_outcome.dtype)

        def work(start: int, end: int) -> None:
            places = np.empty(CHUNK, np.intp)
            for first in range(start, end, CHUNK):
                last = min(first + CHUNK, end)
                place = places[: last - first]
                place[:] = self.outcomes[first:last]
                np.take(of_outcome, place, out=out[first:last], mode="clip")

        in_threads(work, len(out))
        return out

    def validity(self, is_valid: npt.NDArray[np.bool_]) -> tuple[pa.Buffer | None, int]:
        """Return Arrow's bitmap of the rows whose outcome has a value, and how many have none (no bitmap: 0).

        Parameters
        ----------
        is_valid : ndarray of bool, shape (n_outcomes,)
        """
        key = np.packbits(is_valid).tobytes()
        if key not in self._validity:
            n_rows = len(self.outcomes)
            bits = np.empty((n_rows + 7) // 8, np.uint8)
            missing: list[int] = []

            def work(start: int, end: int) -> None:
                # Threads share no byte: each begins at a multiple of eight rows.
                start, end = start // 8 * 8, n_rows if end == n_rows else end // 8 * 8
                n_missing = 0
                for first in range(start, end, CHUNK):
                    last = min(first + CHUNK, end)
                    held = is_valid[self.outcomes[first:last]]
                    n_missing += len(held) - int(np.count_nonzero(held))
                    bits[first // 8 : (last + 7) // 8] = np.packbits(held, bitorder="little")
                missing.append(n_missing)

            in_threads(work, n_rows)
            n_missing = sum(missing)
            self._validity[key] = (pa.py_buffer(bits) if n_missing else None), n_missing
        return self._validity[key]

    def take_arrow(self, of_outcome: pa.Array) -> pa.Array:
        """Return for each row the value of its outcome, as an Arrow array of the same type."""
        type_: Any = of_outcome.type
        is_plain = (
            pa.types.is_integer(type_)
            or pa.types.is_floating(type_)
            or pa.types.is_date32(type_)
            or pa.types.is_timestamp(type_)
        )
        if not is_plain or of_outcome.buffers()[1] is None:
            return of_outcome.take(pa.array(self.outcomes))
        dtype = np.dtype(f"i{type_.bit_width // 8}")
        values = np.frombuffer(
            of_outcome.buffers()[1], dtype, len(of_outcome), of_outcome.offset * dtype.itemsize
        )
        taken = self.take(values)
        bitmap, n_missing = None, 0
        if of_outcome.null_count:
            bitmap, n_missing = self.validity(of_outcome.is_valid().to_numpy(zero_copy_only=False))
        return pa.Array.from_buffers(type_, len(taken), [bitmap, pa.py_buffer(taken)], n_missing)
