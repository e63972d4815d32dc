"""Regular expressions: which there are."""

from __future__ import annotations

import functools


@functools.lru_cache(maxsize=256)
def fault_of_regular(pattern: str) -> str:
    """Return what is wrong with a regular expression; nothing where it can be used.

    They are read and matched by Arrow's engine (RE2), whose time is linear in the text whatever the expression.
    """
    import pyarrow as pa
    import pyarrow.compute as pc

    try:
        pc.match_substring_regex(pa.array([""], pa.large_string()), pattern)
    except pa.ArrowInvalid as error:
        return str(error).split("\n")[0].removeprefix("Invalid regular expression: ")
    return ""
