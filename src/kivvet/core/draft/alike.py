"""Texts that are spelled like others: a letter left out, put in, exchanged, or two that changed places.

Pairs are found by what is left of texts when letters are left out of them, so that not every text has to be held against every
other (T. Bocek, E. Hunt, B. Stiller: Fast Similarity Search in Large Dictionaries, 2007), and measured by the number of such changes
(optimal string alignment).
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from itertools import combinations

from kivvet.core.tables.table import Result, Table
from kivvet.core.words.conditions import AnyOf, Equals
from kivvet.core.words.values import FOLDS, fold_text

_SHORTEST = 5  # texts of fewer letters are too near to each other
_LONG = 9  # from so many letters on two changes are allowed
_LONGEST = 40
_DIGITS = re.compile(r"\d+")


class Alike:
    """Finds among known texts the one that another is spelled like.

    Parameters
    ----------
    known : iterable of str
        The first of those that are equally near is taken.
    """

    def __init__(self, known: Iterable[str]) -> None:
        self.known: dict[str, str] = {}
        for text in known:
            if _is_word(text):
                self.known.setdefault(_plain(text), text)
        self._by_rest: dict[str, list[str]] = {}
        for plain in self.known:
            for rest in _rests(plain):
                self._by_rest.setdefault(rest, []).append(plain)

    def nearest(self, text: str, may_be: Callable[[str], bool] = lambda _: True) -> str | None:
        """Return the known text that one is spelled like; None where there is none, or it is known itself.

        Parameters
        ----------
        may_be : callable
            Whether a known text counts.
        """
        from rapidfuzz.distance import OSA

        plain = _plain(text)
        if not _is_word(text):
            return None
        if plain in self.known and may_be(self.known[plain]):
            return self.known[plain] if self.known[plain] != text else None
        best: tuple[int, str] | None = None
        seen: set[str] = set()
        for rest in _rests(plain):
            for other in self._by_rest.get(rest, ()):
                if other in seen:
                    continue
                seen.add(other)
                if not may_be(self.known[other]):
                    continue
                most = _most_changes(min(len(plain), len(other)))
                changes = OSA.distance(plain, other, score_cutoff=most)
                if changes <= most and _is_misspelling(plain, other) and (best is None or changes < best[0]):
                    best = changes, self.known[other]
        return None if best is None else best[1]


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
    least = min((n for _, n in values), default=0)
    frequent = Alike(text for text, n in values if n >= times * least)
    found = []
    for text, n in values:
        near = frequent.nearest(text, lambda other, least=times * n: rows[other] >= least)  # type: ignore[misc]
        if near is not None and _plain(near) != _plain(text):
            found.append((text, n, near, rows[near]))
    return found


_FOLDS = ("case", "space", "unicode")


def _plain(text: str) -> str:
    return fold_text(text, _FOLDS)


def _is_word(text: str) -> bool:
    """Whether a text has letters enough to be misspelled; codes are known or are not."""
    return len(text) <= _LONGEST and sum(sign.isalpha() for sign in text) >= _SHORTEST


def _most_changes(length: int) -> int:
    return 2 if length >= _LONG else 1


def _rests(plain: str) -> Iterable[str]:
    """Return what is left of a text when as many letters as may change are left out of it."""
    yield plain
    for n_out in range(1, _most_changes(len(plain)) + 1):
        for places in combinations(range(len(plain)), n_out):
            kept, begun = [], 0
            for place in places:
                kept.append(plain[begun:place])
                begun = place + 1
            yield "".join(kept) + plain[begun:]


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


def results_by_text(table: Table) -> dict[str, tuple[Result, ...]]:
    """Return by text the results of a table of one text input that lists texts, a mapping or a lookup; else nothing."""
    if table.lookup is not None:
        keys = table.lookup.keys
        if len(keys) != 1 or table.lookup.ranges or keys[0].about.type != "text":
            return {}
        results = zip(*(array.to_pylist() for array in table.lookup.results), strict=True)
        return {
            text: row
            for text, row in zip(keys[0].shown.to_pylist(), results, strict=True)
            if text is not None
        }
    if len(table.inputs) != 1 or table.inputs[0].type != "text" or any(row.when for row in table.rows):
        return {}
    found: dict[str, tuple[Result, ...]] = {}
    for row in table.rows:
        (asked,) = row.conditions
        for part in asked.parts if isinstance(asked, AnyOf) else (asked,):
            if isinstance(part, Equals) and isinstance(part.value, str):
                found.setdefault(part.value, row.results)
    return found


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
