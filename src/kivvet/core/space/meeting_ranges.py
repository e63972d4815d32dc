"""Rows of one key of a lookup whose ranges share values."""

from __future__ import annotations

import heapq
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from kivvet.core.space.lookup_index import LookupIndex, RangeCells

if TYPE_CHECKING:
    from kivvet.core.tables.lookup_rows import LookupRows

#: Lookups with several ranges hold at most so many rows.
MOST_ROWS_OF_BOXES = 20_000
_MOST_PARTNERS = 20  # rows that one row is said to meet


def meeting_rows(index: LookupIndex, results: npt.NDArray[np.int64]) -> Iterator[tuple[int, list[int]]]:
    """Yield each row that meets rows of its key which start before it, with some of these; rows count from 0.

    Those with other results and those with the same come apart.

    Parameters
    ----------
    results : ndarray, shape (n_rows,)
        A number for each row, the same where results are the same; see `result_numbers`.
    """
    order = index.by_group
    groups = index.groups[order]
    main = index.ranges[0]
    meets = (groups[1:] == groups[:-1]) & (
        main.starts[order][1:]
        < np.maximum.accumulate(main.ends[order] + groups * (main.n_cells + 1))[:-1]
        - groups[1:] * (main.n_cells + 1)
    )
    is_empty = np.logical_or.reduce([cells.starts >= cells.ends for cells in index.ranges])
    for group in np.unique(groups[1:][meets]):
        (of_group,) = index.rows_of_groups([int(group)])
        yield from _partners(of_group[~is_empty[of_group]], index.ranges, results)


def has_conflicts(index: LookupIndex, results: npt.NDArray[np.int64]) -> bool:
    """Whether rows of one key meet that have other results, so that their order decides."""
    return any(results[late] != results[earlier[0]] for late, earlier in meeting_rows(index, results))


def result_numbers(rows: LookupRows) -> npt.NDArray[np.int64]:
    """Return a number for each row: rows of the same results have the same."""
    made = np.zeros(rows.n_rows, np.int64)
    for array in rows.results:
        codes = pc.fill_null(pc.dictionary_encode(array).indices, -1).to_numpy(zero_copy_only=False)
        made = np.unique(np.column_stack([made, codes]), axis=0, return_inverse=True)[1].reshape(-1)
    return made


def _partners(
    of_group: npt.NDArray[np.int64], ranges: Sequence[RangeCells], results: npt.NDArray[np.int64]
) -> Iterable[tuple[int, list[int]]]:
    """Yield each row of a group that meets rows which start before it, by the first range, with some of
    these.

    Those with other results and those with the same come apart. Rows are passed by their starts, those that
    have not ended yet at hand, so that few are held against each other.
    """
    main, *others = ranges
    active: list[tuple[int, int]] = []  # ends and rows
    of_result: Counter[int] = Counter()  # how many of them have each result
    for row in map(int, of_group):  # by start
        start, result = int(main.starts[row]), int(results[row])
        while active and active[0][0] <= start:
            of_result[int(results[heapq.heappop(active)[1]])] -= 1
        found: tuple[list[int], list[int]] = ([], [])
        n_left = len(active) - of_result[result], of_result[result]
        wanted = tuple(min(_MOST_PARTNERS, n) for n in n_left)
        for _, other in active:
            if len(found[0]) >= wanted[0] and len(found[1]) >= wanted[1]:
                break
            is_same = int(results[other]) == result
            if len(found[is_same]) < _MOST_PARTNERS and all(
                c.starts[other] < c.ends[row] and c.starts[row] < c.ends[other] for c in others
            ):
                found[is_same].append(other)
        yield from ((row, sorted(one)) for one in found if one)
        heapq.heappush(active, (int(main.ends[row]), row))
        of_result[result] += 1
