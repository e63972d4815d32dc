"""The record in the footer of a Parquet target, and the hash that seals all the rest of the file: columns and footer."""

from __future__ import annotations

import json
from typing import Any

from kivvet.io.parquet_footer import (
    KEY_VALUES,
    N_ROWS,
    Fields,
    binary,
    footer_bytes,
    listed_in,
    structures,
)
from kivvet.io.source_and_target import Seal

#: The name under which a target carries the record of how it was made.
RECORD_KEY = b"kivvet"
_KEY, _VALUE = 1, 2  # of a pair in the footer


def sealed_footer(digest: Any, footer: Fields, seal: Seal) -> bytes:
    """Return the end of a file: its footer with the record.

    Parameters
    ----------
    digest : xxhash.xxh3_128
        Of all bytes that precede the footer.
    footer : Fields
    seal : callable
        Gives the record for the hash of these bytes and the footer.
    """
    plain = _without_record(footer)
    record = json.dumps(seal(hash_of(digest, plain)), ensure_ascii=False)
    pairs = [*listed_in(plain, KEY_VALUES), {_KEY: binary(RECORD_KEY), _VALUE: binary(record.encode())}]
    return footer_bytes({**plain, KEY_VALUES: structures(pairs)})


def hash_of(digest: Any, footer: Fields) -> str:
    """Return the hash of what precedes a footer, and of the footer without the record."""
    digest.update(footer_bytes(_without_record(footer)))
    made: str = digest.hexdigest()
    return made


def record_in(footer: Fields) -> Any:
    """Return the record that a footer carries, as plain values; None where there is none."""
    held = [pair for pair in listed_in(footer, KEY_VALUES) if _is_record(pair)]
    try:
        return json.loads(held[0][_VALUE][1]) if held else None
    except (ValueError, RecursionError, KeyError, TypeError):
        return None


def is_of_its_rows(record: Any, footer: Fields) -> bool:
    """Whether a record speaks of as many rows as the file holds."""
    try:
        return bool(record["rows"] - record.get("left_out", 0) == footer[N_ROWS][1])
    except (KeyError, TypeError, AttributeError):
        return False


def _without_record(footer: Fields) -> Fields:
    pairs = [pair for pair in listed_in(footer, KEY_VALUES) if not _is_record(pair)]
    return {**footer, KEY_VALUES: structures(pairs)}


def _is_record(pair: Fields) -> bool:
    return bool(_KEY in pair and pair[_KEY][1] == RECORD_KEY)
