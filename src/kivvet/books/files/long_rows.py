"""TOML with long rows read quickly: the rows of most tables are JSON too, which is read many times sooner.

What is not certain to mean the same in both is left to the reader of TOML.
"""

from __future__ import annotations

import json
import re
import tomllib
from decimal import Decimal
from typing import Any

_BEGINNING = re.compile(r"^rows[ \t]*=[ \t]*\[[ \t]*\n", re.MULTILINE)
_END = re.compile(r"^\][ \t]*$", re.MULTILINE)
#: Escapes, literal strings, comments, and signs that one of them does not allow.
_NOT_THE_SAME = re.compile(r"[\\'#{}\r\x7f]|\b(?:null|NaN|Infinity)\b")
_SHORT = 20_000  # characters, of which TOML is read in no time
_STANDS_FOR = "the rows of the table, read as JSON"


def read_document(text: str) -> dict[str, Any]:
    """Return a TOML document with its numbers as exact decimals.

    Raises
    ------
    tomllib.TOMLDecodeError
        If it is none.
    RecursionError
        If lists are nested too deeply.
    """
    quickly = _read_quickly(text) if len(text) > _SHORT else None
    return tomllib.loads(text, parse_float=Decimal) if quickly is None else quickly


def _read_quickly(text: str) -> dict[str, Any] | None:
    """Return the document, its rows read as JSON; None where that is not certain to give the same."""
    begins = _BEGINNING.search(text)
    ends = None if begins is None else _END.search(text, begins.end())
    if begins is None or ends is None:
        return None
    inner = text[begins.end() : ends.start()].rstrip(" \t\n").removesuffix(",")
    if _NOT_THE_SAME.search(inner) or "[" not in inner:
        return None
    try:
        rows = json.loads(f"[{inner}]", parse_float=Decimal)
        rest = tomllib.loads(
            f'{text[: begins.start()]}rows = ["{_STANDS_FOR}"]{text[ends.end() :]}', parse_float=Decimal
        )
    except (ValueError, RecursionError):  # told with its place by the reader of TOML
        return None
    if rest.get("rows") != [_STANDS_FOR]:  # it stood under another heading, or within a text
        return None
    rest["rows"] = rows
    return rest
