"""Functions of text: worked out once for each different text, or combination of texts, however many rows have it."""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.formulas.arithmetic import Note
from kivvet.core.formulas.vectors import Array, Vector, either, without_empty
from kivvet.core.values import ValueType, fold_text


def mapped(
    work: Callable[..., Any], vectors: Sequence[Vector], kind: ValueType, note: Note, cause: str
) -> Vector:
    """Return what a function gives for each row; rows for which it gives None are noted under a cause.

    Parameters
    ----------
    work : callable
        Takes one value of each vector, as Python knows it; None is missing.
    vectors : sequence of Vector
    kind : str
        The type of what it gives.
    note : callable
    cause : str
    """
    missing = either(*(one.missing for one in vectors))
    columns = [one for one in vectors if not one.is_single]
    if not columns:
        if missing is not None and bool(missing):
            made = [None]
        else:
            made = [work(*(_values(one)[0] for one in vectors))]
        codes: Array = np.array(0)
    else:
        codes, combinations = _combinations(columns, missing)
        sources = [_values(one) for one in vectors]
        made = []
        for combination in combinations:
            given, place = [], 0
            for one, values in zip(vectors, sources, strict=True):
                if one.is_single:
                    given.append(values[0])
                else:
                    given.append(values[combination[place]])
                    place += 1
            made.append(work(*given))
        if not made:
            made = [None]
    none = np.array([one is None for one in made])
    if none.any():
        gone = np.asarray(none[codes])
        new = gone if missing is None else gone & ~missing
        if new.any():
            note(cause, new)
        missing = gone if missing is None else missing | gone
    if kind == "text":
        encoded = pc.dictionary_encode(pa.array([one or "" for one in made], pa.large_string()))
        places = encoded.indices.to_numpy(zero_copy_only=False)
        return without_empty(Vector("text", np.asarray(places[codes]), missing, encoded.dictionary))
    dtype = bool if kind == "boolean" else np.int64 if kind == "integer" else np.float64
    results: Array = np.array([0 if one is None else one for one in made], dtype)
    return Vector(kind, np.asarray(results[codes]), missing)


def _values(vector: Vector) -> Sequence[Any]:
    """Return the different values of a vector, by number; for one value for all rows, just that."""
    if vector.kind == "text":
        texts = vector.texts()
        return [texts[int(vector.values)]] if vector.is_single else texts
    if vector.is_single:
        return [vector.values.item()]
    found: Sequence[Any] = np.unique(vector.values).tolist()
    return found


def _codes(vector: Vector) -> tuple[Array, int]:
    if vector.kind == "text":
        assert vector.distinct is not None
        return vector.values, len(vector.distinct)
    different, codes = np.unique(vector.values, return_inverse=True)
    return codes.reshape(-1), len(different)


def _combinations(columns: Sequence[Vector], missing: Any) -> tuple[Array, list[list[int]]]:
    """Return the number of each row's combination of values, and what each combination is made of."""
    parts = [_codes(one) for one in columns]
    if len(parts) == 1:
        return parts[0][0], [[code] for code in range(parts[0][1])]
    combined = np.zeros(len(parts[0][0]), np.int64)
    for codes, size in parts:
        combined = (
            combined * size + codes
        )  # a product of sizes beyond 2**63 would need more rows than fit in memory
    if missing is not None:
        combined = np.where(missing, -1, combined)
    encoded = pc.dictionary_encode(pa.array(combined))
    numbers = encoded.dictionary.to_numpy(zero_copy_only=False)
    made: list[list[int]] = []
    known = np.where(numbers < 0, 0, numbers)
    split = []
    for _, size in reversed(parts):
        known, rest = np.divmod(known, size)
        split.append(rest.tolist())
    made = [list(one) for one in zip(*reversed(split), strict=True)]
    return encoded.indices.to_numpy(zero_copy_only=False), made


# What each function does with Python's values


def _substring(text: str, start: int, length: int | None = None) -> str | None:
    if length is not None and length < 0:
        return None
    end = None if length is None else max(0, start - 1 + length)
    return text[max(0, start - 1) : end]


def _left(text: str, n: int) -> str:
    return text[: max(0, n)]


def _right(text: str, n: int) -> str:
    return text[max(0, len(text) - max(0, n)) :] if n > 0 else ""


_LONGEST_PADDED = 100_000


def _padded(text: str, n: int, filling: str, *, on_left: bool) -> str | None:
    if n > _LONGEST_PADDED:
        return None
    if len(text) >= n:
        return text[: max(0, n)]
    if not filling:
        return text
    more = (filling * (n - len(text)))[: n - len(text)]
    return more + text if on_left else text + more


def _trimmed(side: str, signs: str, text: str) -> str:
    if not signs:
        return text
    if side in ("BOTH", "LEADING"):
        while text.startswith(signs):
            text = text[len(signs) :]
    if side in ("BOTH", "TRAILING"):
        while text.endswith(signs):
            text = text[: -len(signs)]
    return text


@functools.lru_cache(maxsize=256)
def like_pattern(pattern: str, escape: str | None) -> re.Pattern[str] | None:
    """Return the regular expression of a LIKE pattern; None where the escape sign stands before another sign or at the end."""
    made, signs = [], iter(pattern)
    for sign in signs:
        if sign == escape:
            following = next(signs, None)
            if following is None or following not in ("%", "_", escape):
                return None
            made.append(re.escape(following))
        else:
            made.append(".*" if sign == "%" else "." if sign == "_" else re.escape(sign))
    return re.compile("".join(made), re.DOTALL)


@functools.lru_cache(maxsize=256)
def _regular(pattern: str) -> re.Pattern[str] | None:
    try:
        return re.compile(pattern)
    except re.error:
        return None


def _like(text: str, pattern: str, escape: str | None = None) -> bool | None:
    made = like_pattern(pattern, escape)
    return None if made is None else made.fullmatch(text) is not None


def _like_regex(text: str, pattern: str) -> bool | None:
    made = _regular(pattern)
    return None if made is None else made.search(text) is not None


#: By name, the function of Python's values and the type of what it gives.
TEXT: dict[str, tuple[Callable[..., Any], ValueType]] = {
    "||": (lambda a, b: a + b, "text"),
    "LOWER": (str.lower, "text"),
    "UPPER": (str.upper, "text"),
    "TRIM": (lambda *given: given[0].strip(" ") if len(given) == 1 else _trimmed(*given), "text"),
    "SUBSTRING": (_substring, "text"),
    "LEFT": (_left, "text"),
    "RIGHT": (_right, "text"),
    "POSITION": (lambda part, text: text.find(part) + 1, "integer"),
    "CHAR_LENGTH": (len, "integer"),
    "REPLACE": (lambda text, old, new: text.replace(old, new) if old else text, "text"),
    "LPAD": (lambda text, n, filling=" ": _padded(text, n, filling, on_left=True), "text"),
    "RPAD": (lambda text, n, filling=" ": _padded(text, n, filling, on_left=False), "text"),
    "FOLD": (lambda text, *folds: fold_text(text, folds), "text"),
    "LIKE": (_like, "boolean"),
    "LIKE_REGEX": (_like_regex, "boolean"),
}
