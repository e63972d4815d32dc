"""Several inputs together: from the code of each input to the outcome of a row.

A code stands for a set of rows of the table that accept the value. Three ways lead to the rows that
accept all values of a row of data, and all give the same answer:

- where the product of the codes is small, one table over all combinations, and one take from it;
- else a decision diagram: a state is the set of rows still alive, one take for each input leads to the
  next; the most constrained input goes first, and under a first match what comes after a row that accepts
  all the rest is dropped, so that states meet again and stay few;
- else masks of the rows alive, ANDed over the inputs, the lowest bit wins.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence, Set
from dataclasses import dataclass
from math import prod
from threading import RLock
from types import MappingProxyType
from typing import Any

import numpy as np
import numpy.typing as npt

from kivvet.core.classify.input_coder import InputCoder, RowSets
from kivvet.core.classify.outcomes import Outcomes
from kivvet.core.columns.arrays import CHUNK, Array, Counts, in_threads, smallest_unsigned
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import AnyValue

#: Up to so many combinations of codes are tabulated, and up to so many entries are written doing so.
MOST_COMBINATIONS = 4_000_000
MOST_WRITES = 60_000_000
#: Up to so many entries a decision diagram may have.
MOST_TRANSITIONS = 3_000_000
_MASK_BYTES = 1 << 22  # of the masks of one chunk


@dataclass(frozen=True)
class _Product:
    """One outcome for each combination of codes."""

    strides: tuple[int, ...]
    outcomes: Array


@dataclass(frozen=True)
class _Diagram:
    """For each input, in the order asked, the next state by state and code; at the end outcomes."""

    order: tuple[int, ...]
    widths: tuple[int, ...]
    transitions: tuple[Array, ...]


@dataclass(frozen=True)
class _Masks:
    """For each input the rows that accept each code, 64 a word."""

    words: tuple[npt.NDArray[np.uint64], ...]


class BoxClassifier:
    """The rows of a table over several inputs.

    Parameters
    ----------
    table : Table
    coders : sequence of InputCoder
        One a dimension, labelling with `RowSets`.
    outcomes : Outcomes
        Those of the table; sets of several rows are added to them.
    gathers : bool
        Whether all rows that match are wanted, not just the first.
    lock : RLock
        Held while what all who use the table share is added to.
    yielding : mapping of int to set of int
        By row the earlier ones beside which it does not count.
    """

    def __init__(
        self,
        table: Table,
        coders: Sequence[InputCoder],
        outcomes: Outcomes,
        *,
        gathers: bool,
        lock: RLock,
        yielding: Mapping[int, Set[int]] = MappingProxyType({}),
    ) -> None:
        self.yielding = yielding
        self.table = table
        self.n_rows = table.n_rows
        self.gathers = gathers
        self.sets = [coder.labelling for coder in coders]
        self.is_constrained = [
            about.required or any(not isinstance(table.asked(row, number), AnyValue) for row in table.rows)
            for number, about in enumerate(table.dimensions)
        ]
        self.outcomes = outcomes
        self._lock = lock
        self._outcome_of_set: dict[int, int] = {}
        self._compiled: tuple[tuple[int, ...], _Product | _Diagram | _Masks] | None = None

    @property
    def _masks(self) -> list[list[int]]:
        return [one.masks for one in self.sets if isinstance(one, RowSets)]

    @property
    def way(self) -> _Product | _Diagram | _Masks:
        """The way taken for the codes known by now."""
        with (
            self._lock
        ):  # others may make codes ready for other columns meanwhile, which tell more sets of rows apart
            sizes = tuple(map(len, self._masks))
            if self._compiled is None or self._compiled[0] != sizes:
                self._compiled = sizes, self._choose(sizes)
            return self._compiled[1]

    def _choose(self, sizes: tuple[int, ...]) -> _Product | _Diagram | _Masks:
        if not self.gathers and prod(sizes) <= MOST_COMBINATIONS:
            made = self._product(sizes)
            if made is not None:
                return made
        return self._diagram() or _Masks(tuple(_words(masks, self.n_rows) for masks in self._masks))

    # Compiling

    def _product(self, sizes: tuple[int, ...]) -> _Product | None:
        accepted = [_bits(masks, self.n_rows) for masks in self._masks]
        writes = np.prod([bits.sum(axis=0, dtype=np.float64) for bits in accepted], axis=0).sum()
        if writes > MOST_WRITES:
            return None
        outcomes = np.full(sizes, self.outcomes.unmatched, smallest_unsigned(self.outcomes.first_set))
        for dimension, is_constrained in enumerate(self.is_constrained):
            if is_constrained:
                np.moveaxis(outcomes, dimension, 0)[0] = self.outcomes.missing
        for row in reversed(range(self.n_rows)):
            outcomes[np.ix_(*(np.flatnonzero(bits[:, row]) for bits in accepted))] = row
        strides = tuple(int(prod(sizes[number + 1 :])) for number in range(len(sizes)))
        return _Product(strides, outcomes.reshape(-1))

    def _diagram(self) -> _Diagram | None:
        masks = self._masks
        order = tuple(sorted(range(len(masks)), key=lambda number: (self._n_free(number), number)))
        accepts_rest = self._accepting_the_rest(order)
        # The highest bits of a state tell that a constrained input was missing.
        was_missing = 1 << self.n_rows
        states: dict[int, int] = {self._pruned((1 << self.n_rows) - 1, accepts_rest[0]): 0}
        transitions, size = [], 0
        for level, number in enumerate(order):
            codes = masks[number]
            size += len(states) * len(codes)
            if size > MOST_TRANSITIONS:
                return None
            following: dict[int, int] = {}
            made = np.empty((len(states), len(codes)), np.int64)
            for state, index in states.items():
                for code, mask in enumerate(codes):
                    alive = state & mask
                    gone = (state & was_missing) | (
                        was_missing if code == 0 and self.is_constrained[number] else 0
                    )
                    alive = self._pruned(alive, accepts_rest[level + 1])
                    if not alive & accepts_rest[level + 1]:
                        alive |= gone
                    made[index, code] = following.setdefault(alive, len(following))
            transitions.append(made)
            states = following
        outcomes = np.array([self._outcome(state) for state in states], np.int64)
        transitions[-1] = outcomes[transitions[-1]]
        limits = [len(masks[number]) for number in order]
        narrow = [
            transition.astype(smallest_unsigned(int(transition.max(initial=0)) + 1)).reshape(-1)
            for transition in transitions
        ]
        return _Diagram(order, tuple(limits), tuple(narrow))

    def _n_free(self, number: int) -> int:
        """Return how many rows leave an input free."""
        everywhere = (1 << self.n_rows) - 1
        for mask in self._masks[number]:
            everywhere &= mask
        return everywhere.bit_count()

    def _accepting_the_rest(self, order: Sequence[int]) -> list[int]:
        """Return for each level the rows that accept every code of the inputs still to be asked."""
        accepting = [(1 << self.n_rows) - 1]
        for number in reversed(order):
            whole = accepting[-1]
            for mask in self._masks[number]:
                whole &= mask
            accepting.append(whole)
        return accepting[::-1]

    def _pruned(self, alive: int, accepts_rest: int) -> int:
        """Return the rows alive without those that can never win."""
        sure = alive & accepts_rest
        if self.gathers or not sure:
            return alive
        return alive & ((sure & -sure) * 2 - 1)

    def _outcome(self, state: int) -> int:
        """Return the outcome of the rows alive at the end, with the bit above them for missing."""
        alive = state & ((1 << self.n_rows) - 1)
        if not alive:
            return self.outcomes.missing if state >> self.n_rows else self.outcomes.unmatched
        first = (alive & -alive).bit_length() - 1
        if not self.gathers or alive == 1 << first:
            return first
        rows = tuple(row for row in range(self.n_rows) if alive >> row & 1)
        if self.yielding:
            there = set(rows)
            rows = tuple(row for row in rows if not there & self.yielding.get(row, frozenset()))
        if self.table.match == "one" and len({self.table.rows[row].results for row in rows}) == 1:
            return first
        if alive not in self._outcome_of_set:
            self._outcome_of_set[alive] = self.outcomes.of_set(rows)
        return self._outcome_of_set[alive]

    # Classifying

    def classify(
        self, codes: Sequence[Array], labels: Array | None, *, with_counts: bool
    ) -> tuple[Array, Counts | None]:
        """Return the label of each row's outcome, and the rows of each outcome.

        Parameters
        ----------
        codes : sequence of ndarray of unsigned integers, each of shape (n_rows,)
            One a dimension.
        labels : ndarray of unsigned integers or None
            The label of each outcome; None: the outcome itself.
        """
        way = self.way
        if isinstance(way, _Masks):
            outcomes = self._by_masks(codes, way)
        else:
            table = way.outcomes if isinstance(way, _Product) else way.transitions[-1]
            final = table if labels is None or with_counts else labels[table]
            outcomes = np.empty(len(codes[0]), final.dtype)
            if isinstance(way, _Product):
                _by_product(codes, way.strides, final, outcomes)
            else:
                _by_diagram(codes, way, final, outcomes)
        counts = None
        if with_counts:
            counts = np.bincount(outcomes, minlength=self.outcomes.number)
        if labels is not None and (with_counts or isinstance(way, _Masks)):
            outcomes = labels[outcomes]
        return outcomes, counts

    def _by_masks(self, codes: Sequence[Array], way: _Masks) -> Array:
        n_words = way.words[0].shape[1]
        chunk = max(256, min(CHUNK, _MASK_BYTES // (8 * n_words)))
        n_data = len(codes[0])
        missing = np.zeros(n_data, bool)
        for number, code in enumerate(codes):
            if self.is_constrained[number]:
                missing |= code == 0
        outcomes = np.where(missing, self.outcomes.missing, self.outcomes.unmatched)

        def work(start: int, end: int) -> None:
            for first in range(start, end, chunk):
                last = min(first + chunk, end)
                alive = way.words[0][codes[0][first:last]]
                for words, code in zip(way.words[1:], codes[1:], strict=True):
                    alive &= words[code[first:last]]
                if self.gathers:
                    self._gather(alive, outcomes[first:last])
                else:
                    write_lowest(alive, outcomes[first:last])

        if self.gathers:
            work(0, n_data)
        else:
            in_threads(work, n_data)
        return outcomes

    def _gather(self, alive: npt.NDArray[np.uint64], outcomes: Array) -> None:
        """Write the outcome of each row's set of rows alive."""
        sets, places = np.unique(alive, axis=0, return_inverse=True)
        of_set = np.empty(len(sets), np.int64)
        with self._lock:
            for index, words in enumerate(sets):
                mask = int.from_bytes(words.astype("<u8").tobytes(), "little")
                of_set[index] = self._outcome(mask) if mask else -1
        found = of_set[places.reshape(-1)]
        np.copyto(outcomes, found, where=found >= 0)


def _bits(masks: Sequence[int], n_rows: int) -> npt.NDArray[np.bool_]:
    """Return masks as an array of shape (n_masks, n_rows)."""
    size = (n_rows + 7) // 8
    packed = np.frombuffer(b"".join(mask.to_bytes(size, "little") for mask in masks), np.uint8)
    return np.unpackbits(packed.reshape(len(masks), size), axis=1, bitorder="little")[:, :n_rows].view(bool)


def _words(masks: Sequence[int], n_rows: int) -> npt.NDArray[np.uint64]:
    """Return masks as an array of words, shape (n_masks, n_words)."""
    size = max(8, (n_rows + 63) // 64 * 8)
    packed = b"".join(mask.to_bytes(size, "little") for mask in masks)
    return np.frombuffer(packed, "<u8").reshape(len(masks), size // 8).astype(np.uint64)


def _by_product(codes: Sequence[Array], strides: Sequence[int], table: Array, out: Array) -> None:
    kind: Any = np.uint16 if len(table) <= 1 << 16 else np.int64

    def work(start: int, end: int) -> None:
        places: Array = np.empty(CHUNK, kind)
        part: Array = np.empty(CHUNK, kind)
        for first in range(start, end, CHUNK):
            last = min(first + CHUNK, end)
            place, one = places[: last - first], part[: last - first]
            np.multiply(codes[0][first:last], kind(strides[0]), out=place, casting="unsafe", dtype=kind)
            for code, stride in zip(codes[1:], strides[1:], strict=True):
                if stride == 1:
                    np.add(place, code[first:last], out=place, casting="unsafe", dtype=kind)
                else:
                    np.multiply(code[first:last], kind(stride), out=one, casting="unsafe", dtype=kind)
                    np.add(place, one, out=place)
            np.take(table, place, out=out[first:last], mode="clip")

    in_threads(work, len(out))


def _by_diagram(codes: Sequence[Array], way: _Diagram, final: Array, out: Array) -> None:
    def work(start: int, end: int) -> None:
        places = np.empty(CHUNK, np.int64)
        for first in range(start, end, CHUNK):
            last = min(first + CHUNK, end)
            place = places[: last - first]
            place[:] = codes[way.order[0]][first:last]
            for level in range(1, len(way.order)):
                state = np.take(way.transitions[level - 1], place, mode="clip")
                np.multiply(state, np.int64(way.widths[level]), out=place, casting="unsafe")
                np.add(place, codes[way.order[level]][first:last], out=place, casting="unsafe")
            np.take(final, place, out=out[first:last], mode="clip")

    in_threads(work, len(out))


def write_lowest(alive: npt.NDArray[np.uint64], outcomes: Array) -> None:
    """Write the lowest row alive where there is one."""
    is_alive = alive != 0
    some = np.flatnonzero(is_alive.any(axis=1))
    if not len(some):
        return
    word = is_alive[some].argmax(axis=1)
    found = alive[some, word]
    lowest = np.bitwise_count((found & (~found + np.uint64(1))) - np.uint64(1))
    outcomes[some] = word * 64 + lowest
