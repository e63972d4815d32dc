"""The values at some places of each group in order, without sorting rows: whole keys are sorted, which is many times as quick.

A key holds the number of the group above and the first bits of the value below, as a whole number that is ordered as both are. What
the sorted keys say of a place is the first bits of the value there; the few rows that have just those are looked at whole.
"""

from __future__ import annotations

import numpy as np

from kivvet.core.columns.arrays import CHUNK, Array, Places, in_threads

#: Rows from which on this is sooner done than sorting the rows.
MANY_ROWS = 100_000
_SIGN = np.uint64(1 << 63)


class ValuesInOrder:
    """The values of each group in order.

    Parameters
    ----------
    numbers : ndarray of integers, shape (n_rows,)
        The group of each row.
    values : ndarray of float64, shape (n_rows,)
        Not NaN.
    n_groups : int
    """

    def __init__(self, numbers: Places, values: Array, n_groups: int) -> None:
        self.numbers, self.values, self.n_groups = numbers, values, n_groups
        n_bits = np.uint64(max(n_groups - 1, 0).bit_length())
        keys = self.keys = np.empty(len(values), np.uint64)

        def make(start: int, end: int) -> None:
            for first in range(start, end, CHUNK):
                rows = slice(first, min(first + CHUNK, end))
                bits = (values[rows] + 0.0).view(np.uint64)
                # Of negative numbers all bits turn round, of others the sign: so they are ordered as the numbers are.
                bits ^= (np.uint64(0) - (bits >> np.uint64(63))) | _SIGN
                keys[rows] = bits >> n_bits
                if n_bits:
                    keys[rows] |= numbers[rows].astype(np.uint64) << (np.uint64(64) - n_bits)

        in_threads(make, len(values))
        self.in_order = np.sort(keys)
        self.starts = np.concatenate([[0], np.cumsum(np.bincount(numbers, minlength=n_groups))[:-1]])

    def at(self, places: Places) -> Array:
        """Return of each group the value at a place, counted from 0; zeros are +0.0.

        Parameters
        ----------
        places : ndarray of integers, shape (n_groups,)
            Of a group without rows any, and what is given for it means nothing.
        """
        keys, numbers, n_groups = self.keys, self.numbers, self.n_groups
        whole = self.starts + places
        wanted = self.in_order[np.minimum(whole, len(keys) - 1)]
        has_key = np.empty(len(keys), bool)

        def look(start: int, end: int) -> None:
            for first in range(start, end, CHUNK):
                rows = slice(first, min(first + CHUNK, end))
                np.equal(keys[rows], wanted[numbers[rows]], out=has_key[rows])

        in_threads(look, len(keys))
        rows = np.flatnonzero(has_key)
        groups, near = numbers[rows], self.values[rows] + 0.0
        least, most = np.full(n_groups, np.inf), np.full(n_groups, -np.inf)
        np.minimum.at(least, groups, near)
        np.maximum.at(most, groups, near)
        differs = least < most
        if differs.any():  # values that are alike in their first bits: the rest decides
            some = np.flatnonzero(differs[groups])
            groups, near = groups[some], near[some]
            order = np.lexsort((near, groups))
            starts = np.searchsorted(groups[order], np.arange(n_groups))
            before = whole - np.searchsorted(self.in_order, wanted)
            odd = np.flatnonzero(differs)
            least[odd] = near[order[starts[odd] + before[odd]]]
        return least
