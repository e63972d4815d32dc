"""Values of rows counted over many batches: each becomes text once, however often and in however many it occurs."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from kivvet.core.columns.column import Column
from kivvet.core.run.value_texts import DifferentRows, codes_of, different_rows, named_texts


class ValueTally:
    """The different combinations of values of some rows, how often each occurs, and the first row that has it.

    Parameters
    ----------
    most : int
        Combinations that are told apart: those met first.
    """

    def __init__(self, most: int) -> None:
        self.most = most
        self._waiting: list[DifferentRows] = []
        self._counts: Counter[str] = Counter()
        self._first_rows: dict[str, int] = {}

    def see(self, columns: Mapping[str, Column], rows: npt.NDArray[np.int64], rows_before: int = 0) -> None:
        """Count the values of some rows of a batch.

        Parameters
        ----------
        columns : mapping of str to Column
            The same names in each batch.
        rows : ndarray of int64
            Rows of the batch, from 0, in order.
        rows_before : int
            Rows of all batches before.
        """
        if not len(rows):
            return
        found = different_rows(columns, rows)
        found.firsts = found.firsts + rows_before + 1
        if self._waiting and found.types != self._waiting[0].types:
            self._settle()
        self._waiting.append(found)
        if sum(map(len, self._waiting)) > 4 * self.most:
            self._waiting = [_together(self._waiting, self.most)]

    def _settle(self) -> None:
        """Make texts of what was met."""
        if not self._waiting:
            return
        found = _together(self._waiting, self.most)
        self._waiting = []
        for texts, n, row in zip(found.texts(), found.counts.tolist(), found.firsts.tolist(), strict=True):
            text = named_texts(found.names, texts)
            if text in self._counts or len(self._counts) < self.most:
                self._counts[text] += n
                self._first_rows.setdefault(text, row)

    @property
    def counts(self) -> Counter[str]:
        """How often each combination occurs, as text; in the order in which they were met."""
        self._settle()
        return self._counts

    @property
    def first_rows(self) -> dict[str, int]:
        """The first row that has each, counted from 1."""
        self._settle()
        return self._first_rows


def _together(parts: Sequence[DifferentRows], most: int) -> DifferentRows:
    """Return the combinations of several batches as those of one, no more than the first so many."""
    first = parts[0]
    if len(parts) == 1:
        return first.first(most)
    values = [
        pa.concat_arrays([part.values[number] for part in parts]) for number in range(len(first.values))
    ]
    counts = np.concatenate([part.counts for part in parts])
    firsts = np.concatenate([part.firsts for part in parts])
    _, places, numbers = np.unique(codes_of(values), return_index=True, return_inverse=True)
    totals = np.zeros(len(places), np.int64)
    np.add.at(totals, numbers.reshape(-1), counts)
    order = np.argsort(places)[:most]
    taken = pa.array(places[order])
    return DifferentRows(
        first.names, [value.take(taken) for value in values], totals[order], firsts[places[order]]
    )
