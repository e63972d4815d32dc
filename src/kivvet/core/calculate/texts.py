"""Functions of text: worked out once for each different text, or combination of texts, however many rows have
it.
"""

from __future__ import annotations

import functools
import re
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.calculate.arithmetic import Note
from kivvet.core.calculate.vectors import Vector, either, nothing, without_empty
from kivvet.core.columns.arrays import Array
from kivvet.core.formulas.regular import fault_of_regular
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import ValueType, fold_text


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
    missing = either(*(vector.missing for vector in vectors))
    if missing is not None and missing.all():  # whatever types the others are
        n_rows = next((len(vector.values) for vector in vectors if not vector.is_single), None)
        return nothing(kind) if n_rows is None else nothing(kind).of_rows(n_rows)
    columns = [vector for vector in vectors if not vector.is_single]
    if not columns:
        if missing is not None and bool(missing):
            made = [None]
        else:
            made = [work(*(_values(vector)[0] for vector in vectors))]
        codes: Array = np.array(0)
    else:
        codes, combinations = _combinations(columns, missing)
        sources = [_values(vector) for vector in vectors]
        made, n_made = [], 0
        for combination in combinations:
            given, place = [], 0
            for one, values in zip(vectors, sources, strict=True):
                if one.is_single:
                    given.append(values[0])
                else:
                    given.append(values[combination[place]])
                    place += 1
            made.append(work(*given))
            if kind == "text":
                n_made += len(made[-1] or "")
                if n_made > _MOST_TEXT:
                    raise DataError(
                        f"a function of text would make more than {_MOST_TEXT:,} characters",
                        fix="work on shorter texts, or on fewer different ones",
                    )
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
    parts = [_codes(column) for column in columns]
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


#: The longest text that a function may make, and all that one function may make of a column, in characters.
LONGEST_TEXT = 100_000
_MOST_TEXT = 1 << 30


def _need_room(n: int, name: str) -> None:
    if n > LONGEST_TEXT:
        raise DataError(
            f"{name} would make a text of {n:,} characters",
            expected=f"at most {LONGEST_TEXT:,}",
            fix="leave it out for such values: CASE WHEN CHAR_LENGTH(...) < 1000 THEN ... END",
        )


def _joined(left: str, right: str) -> str:
    _need_room(len(left) + len(right), "||")
    return left + right


def _replaced(text: str, old: str, new: str) -> str:
    if not old:
        return text
    if len(new) > len(old):
        _need_room(len(text) + text.count(old) * (len(new) - len(old)), "REPLACE")
    return text.replace(old, new)


def _padded(text: str, n: int, filling: str, *, on_left: bool) -> str | None:
    if n > LONGEST_TEXT:
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


class LikePattern:
    """A pattern of LIKE: pieces between its ``%``, each as long as what it stands for.

    The first piece stands at the beginning, the last at the end, and each of the others where it is first
    found after the one before: nothing is ever tried again, so the time goes with the length of the text.
    """

    def __init__(self, pieces: Sequence[re.Pattern[str]], lengths: Sequence[int]) -> None:
        self.pieces = pieces
        self.lengths = lengths

    def holds(self, text: str) -> bool:
        """Whether a text is like the pattern."""
        first, *others = self.pieces
        if first.match(text) is None:
            return False
        at = self.lengths[0]
        if not others:
            return at == len(text)
        *inner, last = others
        for piece, length in zip(inner, self.lengths[1:-1], strict=True):
            found = piece.search(text, at)
            if found is None:
                return False
            at = found.start() + length
        start = len(text) - self.lengths[-1]
        return start >= at and last.match(text, start) is not None


@functools.lru_cache(maxsize=256)
def like_pattern(pattern: str, escape: str | None) -> LikePattern | None:
    """Return a LIKE pattern made ready; None where the escape sign stands before another sign or at the end."""
    pieces: list[list[str]] = [[]]
    signs = iter(pattern)
    for sign in signs:
        if sign == escape:
            following = next(signs, None)
            if following is None or following not in ("%", "_", escape):
                return None
            pieces[-1].append(re.escape(following))
        elif sign == "%":
            pieces.append([])
        else:
            pieces[-1].append("." if sign == "_" else re.escape(sign))
    return LikePattern(
        [re.compile("".join(piece), re.DOTALL) for piece in pieces], [len(piece) for piece in pieces]
    )


def _like(text: str, pattern: str, escape: str | None = None) -> bool | None:
    made = like_pattern(pattern, escape)
    return None if made is None else made.holds(text)


def like_regex(texts: Vector, pattern: Vector, note: Note) -> Vector:
    """Return whether a regular expression is found in texts; an expression that is none gives no result, and
    is noted.
    """
    if (
        pattern.is_single
        and pattern.kind == "text"
        and texts.kind == "text"
        and not fault_of_regular(pattern.texts()[0])
    ):
        found = pc.match_substring_regex(texts.distinct, pattern.texts()[0]).to_numpy(zero_copy_only=False)
        return Vector("boolean", np.asarray(found[texts.values]), either(texts.missing, pattern.missing))
    return mapped(_found, [texts, pattern], "boolean", note, "LIKE_REGEX has no result")


def _found(text: str, pattern: str) -> bool | None:
    if fault_of_regular(pattern):
        return None
    return bool(pc.match_substring_regex(pa.array([text], pa.large_string()), pattern)[0].as_py())


#: By name, the function of Python's values and the type of what it gives.
TEXT: dict[str, tuple[Callable[..., Any], ValueType]] = {
    "||": (_joined, "text"),
    "LOWER": (str.lower, "text"),
    "UPPER": (str.upper, "text"),
    "TRIM": (lambda *given: given[0].strip(" ") if len(given) == 1 else _trimmed(*given), "text"),
    "SUBSTRING": (_substring, "text"),
    "LEFT": (_left, "text"),
    "RIGHT": (_right, "text"),
    "POSITION": (lambda part, text: text.find(part) + 1, "integer"),
    "CHAR_LENGTH": (len, "integer"),
    "REPLACE": (_replaced, "text"),
    "LPAD": (lambda text, n, filling=" ": _padded(text, n, filling, on_left=True), "text"),
    "RPAD": (lambda text, n, filling=" ": _padded(text, n, filling, on_left=False), "text"),
    "FOLD": (lambda text, *folds: fold_text(text, folds), "text"),
    "LIKE": (_like, "boolean"),
}
