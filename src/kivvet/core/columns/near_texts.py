"""Which pairs of texts are near each other: a letter or two left out, put in, exchanged, or changed places.

Pairs are found by what is left of texts when letters are left out of them, so that not every text has to be held against every
other (T. Bocek, E. Hunt, B. Stiller: Fast Similarity Search in Large Dictionaries, 2007): what is left is hashed, for all texts of
one length at once, and pairs of equal hashes are measured by the number of such changes (optimal string alignment).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import combinations
from zlib import crc32

import numpy as np
import numpy.typing as npt

_LONG = 9  # from so many letters on two changes are allowed
_TEXTS_AT_ONCE = 20_000
_PAIRS_AT_ONCE = 2_000_000
_DIGITS = re.compile(r"\d+")
_FACTOR = np.uint64(0x9E3779B97F4A7C15)

Places = npt.NDArray[np.int64]
Hashes = npt.NDArray[np.uint64]


def most_changes(length: int) -> int:
    """Return how many changes make one text of another, of which the shorter has so many letters."""
    return 2 if length >= _LONG else 1


class NearTexts:
    """Finds among known texts those that others are near.

    Parameters
    ----------
    known : sequence of str
        Different ones.
    """

    def __init__(self, known: Sequence[str]) -> None:
        self.known = known
        hashes, places = _rests(known)
        order = np.argsort(hashes, kind="stable")
        self._hashes, self._places = hashes[order], places[order]

    def pairs(
        self, texts: Sequence[str], *, known_rows: Places | None = None, least: Places | None = None
    ) -> Iterator[tuple[Places, Places, Places]]:
        """Yield places of texts, of known texts that they are near, and the number of changes between them, each pair once.

        Parameters
        ----------
        known_rows, least : ndarray of int64, optional
            The rows of each known text, and for each text how many a known one must have.
        """
        for begin in range(0, len(texts), _TEXTS_AT_ONCE):
            some = texts[begin : begin + _TEXTS_AT_ONCE]
            hashes, places = _rests(some)
            low = np.searchsorted(self._hashes, hashes, side="left")
            n_found = np.searchsorted(self._hashes, hashes, side="right") - low
            kept = n_found > 0
            hashes, places, low, n_found = hashes[kept], places[kept], low[kept], n_found[kept]
            order = np.argsort(places, kind="stable")  # so that the pairs of a text come together
            places, low, n_found = places[order], low[order], n_found[order]
            for part in _parts(places, n_found):
                own = np.repeat(places[part], n_found[part])
                first = np.repeat(low[part] - (np.cumsum(n_found[part]) - n_found[part]), n_found[part])
                other = self._places[first + np.arange(len(own))]
                if known_rows is not None and least is not None:
                    enough = known_rows[other] >= least[begin + own]
                    own, other = own[enough], other[enough]
                pair = np.unique(own * len(self.known) + other)
                own, other = np.divmod(pair, len(self.known))
                yield self._measured(some, own, other, begin)

    def _measured(
        self, texts: Sequence[str], own: Places, other: Places, begin: int
    ) -> tuple[Places, Places, Places]:
        from rapidfuzz.distance import OSA
        from rapidfuzz.process import cpdist

        if not len(own):
            return own, other, own
        ours, others = (
            [texts[value] for value in own.tolist()],
            [self.known[value] for value in other.tolist()],
        )
        changes = cpdist(ours, others, scorer=OSA.distance, score_cutoff=2, dtype=np.int64)
        shorter = np.fromiter((min(len(a), len(b)) for a, b in zip(ours, others, strict=True)), np.int64)
        near = changes <= np.where(shorter >= _LONG, 2, 1)
        return own[near] + begin, other[near], changes[near].astype(np.int64)


def _parts(places: Places, n_found: Places) -> Iterator[slice]:
    """Yield slices of about so many pairs as are held at once; what belongs to one text stays together."""
    if not len(places):
        return
    total = np.cumsum(n_found)
    begin = 0
    while begin < len(places):
        held = int(total[begin - 1]) if begin else 0
        end = max(begin + 1, int(np.searchsorted(total, held + _PAIRS_AT_ONCE, side="right")))
        end = int(np.searchsorted(places, places[end - 1], side="right"))
        yield slice(begin, end)
        begin = end


def _rests(texts: Sequence[str]) -> tuple[Hashes, Places]:
    """Return hashes of what is left of texts when as many letters as may change are left out, and whose each is; figures stay as
    they are, and count twice.
    """
    by_length: dict[int, list[int]] = {}
    for place, text in enumerate(texts):
        by_length.setdefault(len(text), []).append(place)
    hashes: list[Hashes] = [np.zeros(0, np.uint64)]
    places: list[Places] = [np.zeros(0, np.int64)]
    for length, held in by_length.items():
        own = np.array(held, np.int64)
        same = [texts[place] for place in held]
        signs = np.array(same, f"U{length}").view(np.uint32).reshape(len(same), length).astype(np.uint64)
        seeds = np.fromiter((crc32("|".join(_DIGITS.findall(text)).encode()) for text in same), np.uint64)
        for n_out in range(most_changes(length) + 1):
            for left_out in combinations(range(length), n_out):
                made = seeds.copy()
                for place in range(length):
                    if place not in left_out:
                        made = (made ^ signs[:, place]) * _FACTOR
                        made ^= made >> np.uint64(29)
                hashes.append(made)
                places.append(own)
    return np.concatenate(hashes), np.concatenate(places)
