"""Texts that are spelled like others: words that are near each other, and may be one that was misspelled."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from itertools import combinations

import numpy as np

from kivvet.core.columns.near_texts import NearTexts
from kivvet.core.words.values import FOLDS, fold_text

_SHORTEST = 5  # texts of fewer letters are too near to each other
_LONGEST = 40
_DIGITS = re.compile(r"\d+")


class Alike:
    """Finds among known texts the one that another is spelled like.

    Parameters
    ----------
    known : iterable of str
        The first of those that are equally near is taken.
    rows : sequence of int, optional
        How many rows each has.
    """

    def __init__(self, known: Iterable[str], rows: Sequence[int] | None = None) -> None:
        self.known: dict[str, str] = {}
        kept: list[int] = []
        for place, text in enumerate(known):
            if _is_word(text) and (plain := _plain(text)) not in self.known:
                self.known[plain] = text
                kept.append(place)
        self._plain = list(self.known)
        self._rows = None if rows is None else np.asarray(rows, np.int64)[kept]
        self._near = NearTexts(self._plain)

    def nearest(self, texts: Sequence[str], least: Sequence[int] | None = None) -> list[str | None]:
        """Return for each text the known one that it is spelled like; None where there is none, or it is known itself.

        Parameters
        ----------
        least : sequence of int, optional
            For each text, how many rows a known one must have to count.
        """
        needed = None if least is None else np.asarray(least, np.int64)
        found: list[str | None] = [None] * len(texts)
        place_of = {plain: place for place, plain in enumerate(self._plain)} if needed is not None else {}
        wanted: list[int] = []
        plains: list[str] = []
        for place, text in enumerate(texts):
            if not _is_word(text):
                continue
            plain = _plain(text)
            known = self.known.get(plain)
            if known is not None and (
                needed is None or self._rows is None or self._rows[place_of[plain]] >= needed[place]
            ):
                found[place] = known if known != text else None
                continue
            wanted.append(place)
            plains.append(plain)
        best: dict[int, tuple[int, int]] = {}
        pairs = self._near.pairs(
            plains, known_rows=self._rows, least=None if needed is None else needed[wanted]
        )
        for own, other, changes in pairs:
            for one, near, n in zip(own.tolist(), other.tolist(), changes.tolist(), strict=True):
                rank = (n, near)
                if rank < best.get(one, (3, 0)) and _is_misspelling(plains[one], self._plain[near]):
                    best[one] = rank
        for one, (_, near) in best.items():
            found[wanted[one]] = self.known[self._plain[near]]
        return found


def alike_pairs(values: Sequence[tuple[str, int]], times: int = 10) -> list[tuple[str, int, str, int]]:
    """Return rare texts that are spelled like frequent ones: the text, its rows, the other, its rows.

    Parameters
    ----------
    values : sequence of (str, int)
        Different texts with their rows, the most frequent first.
    times : int
        How many times as many rows the frequent one has.
    """
    rows = dict(values)
    fewest = min(rows.values(), default=0)
    frequent = [(text, n) for text, n in values if n >= times * fewest]
    if not frequent:
        return []
    most = frequent[0][1]
    rare = [(text, n) for text, n in values if times * n <= most]
    finder = Alike([text for text, _ in frequent], [n for _, n in frequent])
    near = finder.nearest([text for text, _ in rare], [times * n for _, n in rare])
    return [
        (text, n, other, rows[other])
        for (text, n), other in zip(rare, near, strict=True)
        if other is not None and _plain(other) != _plain(text)
    ]


_FOLDS = ("case", "space", "unicode")


def _plain(text: str) -> str:
    return fold_text(text, _FOLDS)


def _is_word(text: str) -> bool:
    """Whether a text has letters enough to be misspelled; codes are known or are not."""
    return len(text) <= _LONGEST and sum(sign.isalpha() for sign in text) >= _SHORTEST


def _is_misspelling(one: str, other: str) -> bool:
    """Whether two near texts may be one: their figures and their single letters are the same, and they begin alike or end
    alike.
    """
    if _DIGITS.findall(one) != _DIGITS.findall(other):
        return False
    words, others = one.split(), other.split()
    if len(words) == len(others):
        changed = [(a, b) for a, b in zip(words, others, strict=True) if a != b]
        if any(min(len(a), len(b)) <= 2 for a, b in changed):
            return False
    return one[0] == other[0] or one[-2:] == other[-2:]


def fewest_spellings(texts: Sequence[str]) -> tuple[tuple[str, ...], int]:
    """Return the fewest differences that, not counted, leave the fewest texts, and how many these are."""
    found = min(
        (
            (len({fold_text(text, folds) for text in texts}), len(folds), folds)
            for n_folds in range(len(FOLDS) + 1)
            for folds in combinations(FOLDS, n_folds)
        ),
    )
    return found[2], found[0]
