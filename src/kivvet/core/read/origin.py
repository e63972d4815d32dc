"""What a table says it was drafted from."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from typing import Any

from kivvet.core.read.forms import DAY, TEXT, list_of, one_of, options_of, whole
from kivvet.core.read.options import Options
from kivvet.core.tables.origin import HOW, Origin

_WHOLE, _TEXTS = ("rows", "missing"), ("column", "method", "shape", "source", "lowest", "highest")
_REQUIRED = (*_WHOLE, "column", "method", "shape", "counts")
DRAFTED = options_of(
    {
        **dict.fromkeys(_WHOLE, whole(0)),
        **dict.fromkeys(_TEXTS, TEXT),
        "method": one_of(HOW),
        "counts": list_of(whole(0)),
        "on": DAY,
    },
    *_REQUIRED,
)


def read_origin(options: Options) -> Origin | None:
    """Return what a definition says it was drafted from; None where it says nothing, or what is wrong."""
    given = options.plain("drafted")
    if given is None:
        return None
    problem = _problem(given)
    if problem is None:
        return Origin(
            given["method"],
            given["column"],
            given["rows"],
            given["missing"],
            tuple(given["counts"]),
            given["shape"],
            given.get("lowest", ""),
            given.get("highest", ""),
            given.get("source", ""),
            str(given.get("on", "")),
        )
    options.fault(
        "drafted",
        f"drafted is what kivvet draft wrote of the data: {problem}",
        "leave it as it was written, or remove it",
    )
    return None


def _problem(given: Any) -> str | None:
    if not isinstance(given, Mapping):
        return f"found {given!r}"
    for word in _REQUIRED:
        if word not in given:
            return f"{word} is not there"
    if strange := [word for word in given if word not in (*_WHOLE, *_TEXTS, "counts", "on")]:
        return f"{strange[0]!r} is no keyword of it"
    if given["method"] not in HOW:
        return f"method is {given['method']!r}"
    counts = given["counts"]
    whole = [given[word] for word in _WHOLE]
    if not isinstance(counts, list) or not all(
        isinstance(one, int) and not isinstance(one, bool) and one >= 0 for one in (*counts, *whole)
    ):
        return "rows, missing and counts are whole numbers"
    if not all(isinstance(given.get(word, ""), str) for word in _TEXTS):
        return f"{', '.join(_TEXTS)} are texts"
    if "on" in given and not isinstance(given["on"], dt.date):
        return "on is a day"
    return None
