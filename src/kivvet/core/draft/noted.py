"""What is noted beside the values of a drafted mapping: how else they are spelled, and what stands beside them in the data."""

from __future__ import annotations

from collections import Counter

import numpy as np
import numpy.typing as npt

from kivvet.core.draft.from_examples import PairCounter, typed_plainly
from kivvet.core.draft.typed_values import TypedValues
from kivvet.core.words.values import write_plain

_MOST_NOTED = 3
_LONGEST = 60


def spellings(given: TypedValues, row_of: npt.NDArray[np.int64], n_rows: int) -> dict[int, str]:
    """Return by row the texts that it holds, where they are several, the most frequent first.

    Parameters
    ----------
    row_of : ndarray of int64
        The row of the table that each value meets.
    """
    by_row: dict[int, list[tuple[int, str]]] = {}
    for text, row, n in zip(given.values.to_pylist(), row_of.tolist(), given.rows.tolist(), strict=True):
        if row < n_rows:
            by_row.setdefault(row, []).append((-n, text))
    return {
        row: "also written " + _listed([repr(text) for _, text in sorted(texts)[1:]])
        for row, texts in by_row.items()
        if len(texts) > 1
    }


def values_beside(counter: PairCounter, given: TypedValues, row_of: npt.NDArray[np.int64]) -> dict[int, str]:
    """Return by row the values of another column that stand beside its values most often."""
    place_of = dict(zip(given.values.to_pylist(), row_of.tolist(), strict=True))
    by_row: dict[int, Counter[str]] = {}
    for value, other, n, _ in counter.pairs():
        row = place_of.get(typed_plainly(value, given.kind))
        if row is not None and other is not None:
            by_row.setdefault(row, Counter())[other] += n
    return {
        row: _listed([text for text, _ in sorted(found.items(), key=lambda one: (-one[1], one[0]))])
        for row, found in by_row.items()
    }


def _listed(texts: list[str]) -> str:
    shown = [write_plain(text if len(text) <= _LONGEST else text[:_LONGEST] + "...") for text in texts]
    more = f" and {len(texts) - _MOST_NOTED:,} more" if len(texts) > _MOST_NOTED else ""
    return ", ".join(shown[:_MOST_NOTED]) + more
