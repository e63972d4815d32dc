"""A small set of boxes over several columns that holds each class apart: the columns are divided again and again where that
parts the classes best, until each part has one class. Parts do not overlap, and together hold all values seen.

Division by the gain in information: J. R. Quinlan, Induction of Decision Trees, Machine Learning 1 (1986).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from kivvet.core.draft.cases import CaseColumn

_Codes = npt.NDArray[np.int64]
_Counts = npt.NDArray[np.float64]


@dataclass(frozen=True)
class Part:
    """What is asked of one column.

    Attributes
    ----------
    low, high : int or None
        Of a column in order the first value that is in, and the first beyond it; and `below` and `before`, the values
        that lie next to these bounds on the other side.
    values : frozenset of int, or None
        Of any other column the values that are in.
    missing : bool or None
        Whether missing is in; None where that was never asked.
    """

    low: int | None = None
    high: int | None = None
    below: int | None = None
    before: int | None = None
    values: frozenset[int] | None = None
    missing: bool | None = None
    is_missing_only: bool = False

    @property
    def asks(self) -> bool:
        return self != Part()


@dataclass(frozen=True)
class Leaf:
    """A box with one class: what is asked of each column, and the class."""

    parts: tuple[Part, ...]
    label: int


def leaves(
    columns: Sequence[CaseColumn],
    labels: _Codes,
    n_labels: int,
    most: int,
    purity: Callable[[_Counts], _Counts],
) -> list[Leaf] | None:
    """Return boxes that hold each class apart; None where more than `most` are needed.

    Parameters
    ----------
    columns : sequence of CaseColumn
    labels : ndarray of int64
        The class of each case.
    purity : callable
        How mixed classes are, from their counts in the last dimension.
    """
    codes = (
        np.stack([column.codes for column in columns]) if columns else np.zeros((0, len(labels)), np.int64)
    )
    found: list[Leaf] = []
    waiting = [(np.arange(len(labels)), tuple(Part() for _ in columns))]
    while waiting:
        cases, parts = waiting.pop()
        own = labels[cases]
        if (own == own[0]).all():
            found.append(Leaf(parts, int(own[0])))
            if len(found) + len(waiting) > most:
                return None
            continue
        waiting += reversed(_divided(columns, codes, labels, n_labels, cases, parts, purity))
    return found


def entropy(counts: _Counts) -> _Counts:
    """Return how many bits tell the class, times the cases."""
    total = counts.sum(-1, keepdims=True)
    with np.errstate(divide="ignore", invalid="ignore"):
        share = counts / total
        bits = -np.where(share > 0, share * np.log2(share), 0.0).sum(-1)
    return np.asarray(bits * total[..., 0])


def wrong(counts: _Counts) -> _Counts:
    """Return how many cases have another class than most."""
    return np.asarray(counts.sum(-1) - counts.max(-1))


def impurity(counts: _Counts) -> _Counts:
    """Return how often two cases drawn have different classes, times the cases."""
    total = counts.sum(-1)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.asarray(np.where(total > 0, total - (counts**2).sum(-1) / total, 0.0))


def _divided(
    columns: Sequence[CaseColumn],
    codes: _Codes,
    labels: _Codes,
    n_labels: int,
    cases: _Codes,
    parts: tuple[Part, ...],
    purity: Callable[[_Counts], _Counts],
) -> list[tuple[_Codes, tuple[Part, ...]]]:
    """Return the parts that a box is divided into, where classes are parted best."""
    best: tuple[float, int, int, _Division] | None = None
    for number, column in enumerate(columns):
        own, known = codes[number, cases], labels[cases]
        everything = frozenset([*range(len(column.values)), *([-1] if (column.codes < 0).any() else [])])
        if column.is_ordered:
            ways = _by_bound(own, known, n_labels, parts[number], purity, may_be_missing=-1 in everything)
        else:
            ways = _by_value(own, known, n_labels, parts[number].values or everything, purity)
        for mixed, divided in ways:
            key = (round(mixed, 9), len(divided))
            if best is None or key < best[:2]:
                best = (*key, number, divided)
    assert best is not None, "cases that differ can be divided"
    _, _, at, divided = best
    return [(cases[mask], (*parts[:at], part, *parts[at + 1 :])) for mask, part in divided]


_Division = list[tuple[npt.NDArray[np.bool_], Part]]


def _by_bound(
    own: _Codes,
    labels: _Codes,
    n_labels: int,
    part: Part,
    purity: Callable[[_Counts], _Counts],
    *,
    may_be_missing: bool,
) -> Iterator[tuple[float, _Division]]:
    """Yield the best division of a column in order at a bound; missing values, where there are any, are a part of their
    own. Where there are some elsewhere in the data, they go to the larger side, so that no value seen is left without.
    """
    gone = own < 0
    present = own[~gone]
    if not len(present):
        return
    apart: _Division = [(gone, Part(is_missing_only=True, missing=True))] if gone.any() else []
    mixed_missing = (
        float(purity(np.bincount(labels[gone], minlength=n_labels).astype(float))) if apart else 0.0
    )
    if apart:
        here = np.bincount(labels[~gone], minlength=n_labels).astype(float)
        yield mixed_missing + float(purity(here)), [(~gone, replace(part, missing=False)), *apart]
    different, place = np.unique(present, return_inverse=True)
    if len(different) < 2:
        return
    counts = np.zeros((len(different), n_labels))
    np.add.at(counts, (place.reshape(-1), labels[~gone]), 1.0)
    left = counts.cumsum(0)[:-1]
    right = counts.sum(0) - left
    mixed = purity(left) + purity(right) + mixed_missing
    # Of bounds that part the classes equally well, the one that leaves the sides most alike in size.
    balance = np.abs(left.sum(1) - right.sum(1))
    at = int(np.lexsort((balance, np.round(mixed, 9)))[0])
    low, high = int(different[at]), int(different[at + 1])
    takes = may_be_missing and not apart and part.missing is not False
    is_below_larger = bool(left[at].sum() >= right[at].sum())
    below = replace(part, high=high, before=low, missing=takes and is_below_larger)
    above = replace(part, low=high, below=low, missing=takes and not is_below_larger)
    yield float(mixed[at]), [(~gone & (own <= low), below), (~gone & (own >= high), above), *apart]


def _by_value(
    own: _Codes,
    labels: _Codes,
    n_labels: int,
    allowed: frozenset[int],
    purity: Callable[[_Counts], _Counts],
) -> Iterator[tuple[float, _Division]]:
    """Yield divisions of a column by lists of values: those of each class that most of their cases have; each against the
    rest. Values that occur elsewhere only go to the largest part.
    """
    different, place = np.unique(own, return_inverse=True)
    if len(different) < 2:
        return
    counts = np.zeros((len(different), n_labels))
    np.add.at(counts, (place.reshape(-1), labels), 1.0)
    everything = np.arange(len(different))
    main = counts.argmax(1)
    groups = [np.flatnonzero(main == label) for label in np.unique(main)]
    divisions = [groups] if len(groups) > 1 else []
    divisions += [[group, np.setdiff1d(everything, group)] for group in groups if len(groups) > 2]
    pure = np.flatnonzero((counts > 0).sum(1) == 1)  # values all of whose cases have one class
    if 0 < len(pure) < len(different):
        divisions.append([pure, np.setdiff1d(everything, pure)])
    if not divisions:
        order = np.argsort(-counts.max(1) / counts.sum(1), kind="stable")
        divisions = [[order[:1], order[1:]]]
    elsewhere = allowed - frozenset(different.tolist())
    for division in divisions:
        largest = max(range(len(division)), key=lambda one: float(counts[division[one]].sum()))
        yield (
            sum(float(purity(counts[group].sum(0))) for group in division),
            [
                (
                    np.isin(own, different[group]),
                    Part(
                        values=frozenset(different[group].tolist())
                        | (elsewhere if n == largest else frozenset())
                    ),
                )
                for n, group in enumerate(division)
            ],
        )
