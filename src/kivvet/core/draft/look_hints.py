"""What deserves another look in a column, in words, with what to do."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import combinations
from typing import Literal

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from kivvet.core.columns.alike import alike_pairs
from kivvet.core.columns.counting import (
    FEWEST_BESIDE_A_STRAY,
    KINDS_OF_FIELDS,
    MOST_STRAYS,
    FloatArray,
    strays,
)
from kivvet.core.words.values import ValueType, fold_text
from kivvet.core.words.wording import count

_MOST_FOLDED = 20_000  # of those, held against each other
_MOST_SHOWN = 5
#: Whole numbers of no more different values are likely a category.
FEW_INTEGERS = 20
_WORDS_LIKE_MISSING = frozenset(
    {"na", "n/a", "n.a.", "nan", "null", "none", "nil", "-", "--", "?", ".", "missing", "unknown", "#n/a"}
)


def few_strays(odd: Sequence[tuple[str, int]], n_fields: int) -> tuple[tuple[str, int], ...]:
    """Return the fields that are not as all others, where they are few; else nothing."""
    is_few = len(odd) <= MOST_STRAYS and sum(n for _, n in odd) * FEWEST_BESIDE_A_STRAY <= n_fields
    return tuple(odd) if is_few else ()


def type_but_for_strays(
    values: pa.Array, counts: npt.NDArray[np.int64]
) -> tuple[ValueType, tuple[tuple[str, int], ...]] | None:
    """Return the type that all fields of a text column are but a few, and these with their rows; None where there are more. Among
    numbers a stray is a word: a code that holds a figure tells that all are codes.
    """
    kinds: tuple[ValueType, ...] = ("integer", "number", "date", "datetime")
    by_kind = [(kind, few_strays(strays(values, counts, kind), int(counts.sum()))) for kind in kinds]
    fitting = [
        (kind, odd)
        for kind, odd in by_kind
        if odd
        and (kind in ("date", "datetime") or not any(sign.isdigit() for text, _ in odd for sign in text))
    ]
    return min(fitting, key=lambda one: len(one[1]), default=None)


def stray_hint(text: str, rows: int, kind: ValueType | Literal["other"]) -> str:
    """Return what is said of a field that is not of the type of all others."""
    return f"{text!r} ({count(rows, 'row')}) is {no_such_field(kind)}"


def no_such_field(kind: ValueType | Literal["other"]) -> str:
    """Return what is said of a field that is not of the type of all others."""
    one = KINDS_OF_FIELDS[kind][0] if kind in KINDS_OF_FIELDS else f"of type {kind}"  # type: ignore[index]
    return f"not {one}, as all others are"


def number_hints(
    numbers: FloatArray | None,
    weights: npt.NDArray[np.int64] | None,
    kind: ValueType,
    n_distinct: int,
    rows: int,
) -> list[str]:
    """Return what is odd about numbers: few whole ones, and ends that look like a word for missing."""
    if numbers is None or weights is None or kind not in ("integer", "number"):
        return []
    hints = []
    if kind == "integer" and n_distinct <= FEW_INTEGERS and rows >= 10 * n_distinct:
        hints.append(f"{count(n_distinct, 'distinct whole number')}: likely a category, not an amount")
    if len(numbers) > 2:
        low, high = numbers[0], numbers[-1]
        if low < 0 <= numbers[1] and _is_all_nines(low):
            hints.append(_sentinel(low, int(weights[0])))
        if high > 10 * max(numbers[-2], 1) and _is_all_nines(high):
            hints.append(_sentinel(high, int(weights[-1])))
    return hints


def _is_all_nines(number: float) -> bool:
    return set(f"{abs(number):g}") == {"9"}


def _sentinel(number: float, rows: int) -> str:
    return f'{number:g} ({count(rows, "row")}) lies apart from all others: does it mean missing? Then missing_words = ["{number:g}"]'


def text_hints(values: tuple[tuple[str, int], ...]) -> list[str]:
    """Return what is odd about texts: spellings of one value, misspelt ones, words for missing."""
    hints: list[str] = []
    groups: dict[str, list[tuple[str, int]]] = {}
    for text, rows in values[:_MOST_FOLDED]:
        groups.setdefault(fold_text(text, ("case", "space", "unicode")), []).append((text, rows))
    alike = [group for group in groups.values() if len(group) > 1]
    for same in alike[:_MOST_SHOWN]:
        listed = " and ".join(f"{text!r} ({rows:,})" for text, rows in same[:4])
        hints.append(f"{listed} differ only by {_difference([text for text, _ in same])}")
    if len(alike) > _MOST_SHOWN:
        n_texts = sum(map(len, alike))
        hints.append(
            f"in all {n_texts:,} values are {len(alike):,} but for case, blanks and Unicode form: fold = [...] of an input takes them as one"
        )
    held = _held_against_each_other(values)
    pairs = alike_pairs(held)
    for text, rows, near, n_near in pairs[:_MOST_SHOWN]:
        hints.append(f"{text!r} ({rows:,}) is spelled like {near!r} ({n_near:,})")
    if len(pairs) > _MOST_SHOWN:
        hints.append(f"and {len(pairs) - _MOST_SHOWN:,} more values are spelled like frequent ones")
    if pairs and len(held) < len(values):
        hints.append(f"spellings were compared of {len(held):,} of {len(values):,} values")
    for text, rows in values:
        if text.strip().casefold() in _WORDS_LIKE_MISSING:
            hints.append(
                f'{text!r} ({count(rows, "row")}) looks like missing and is kept as text; if it is missing: missing_words = ["{text}"]'
            )
    return hints[: 3 * _MOST_SHOWN]


def _held_against_each_other(values: tuple[tuple[str, int], ...]) -> Sequence[tuple[str, int]]:
    """Return the values whose spellings are compared: of very many the most frequent, and every n-th of the others."""
    if len(values) <= _MOST_FOLDED:
        return values
    most = _MOST_FOLDED // 2
    return [*values[:most], *values[most :: -(-(len(values) - most) // most)]]


def _difference(texts: list[str]) -> str:
    """Return in words the fewest differences that, not counted, make the texts one."""
    words = {"space": "blanks", "case": "upper and lower case", "unicode": "their Unicode form"}
    for n_folds in (1, 2, 3):
        for folds in combinations(words, n_folds):
            if len({fold_text(text, folds) for text in texts}) == 1:
                return " and ".join(words[fold] for fold in folds)
    raise AssertionError("these texts were grouped because they fold to one")
