"""Lines of a CSV file: those above its last ones, and the one on which headings stand."""

from __future__ import annotations

import gzip
import io
import itertools
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from kivvet.io.csv_records import CsvForm, records, without_last
from kivvet.io.source_and_target import ReadOptions

LINES_LOOKED_AT = 20  # for headings that do not stand in the first line
_LINES_AT_ONCE = 1 << 12
_BLOCK_BYTES = 1 << 18


def line_of_headings(path: Path, options: ReadOptions, wanted: Sequence[str]) -> int | None:
    """Return the line on which some headings stand, in any order and however they are spelled but for case and blanks; None
    where they stand where the options say, or nowhere near the beginning.
    """
    known = sorted(" ".join(name.casefold().split()) for name in wanted)
    opener: Any = gzip.open if path.name.lower().endswith(".gz") else open
    with opener(path, "rt", encoding=_read_as(options.encoding), newline="") as file:
        delimiter = options.delimiter or delimiter_by_name(path)
        for line, record in itertools.islice(records(file, delimiter, quote=options.quote), LINES_LOOKED_AT):
            if sorted(" ".join(field.casefold().split()) for field in record) == known:
                return None if line == (options.headings_on_line or 1) else line
    return None


def _read_as(encoding: str) -> str:
    return "utf-8-sig" if encoding.lower().replace("_", "-") in ("utf-8", "utf8") else encoding


class LinesAbove(io.RawIOBase):
    """The bytes of a file's lines above the last ones, in an encoding, read as they are asked for."""

    def __init__(self, form: CsvForm, path: Path, encoding: str) -> None:
        super().__init__()
        self._file = replace(form, lines_above=0).open(path)
        self._lines = without_last(self._file, form.skip_last)
        self._encoding = encoding
        self._rest = b""

    def readable(self) -> bool:
        return True

    def read(self, size: int = -1) -> bytes:
        parts, held = [self._rest], len(self._rest)
        while size < 0 or held < size:
            text = "".join(itertools.islice(self._lines, _LINES_AT_ONCE))
            if not text:
                break
            parts.append(text.encode(self._encoding))
            held += len(parts[-1])
        made = b"".join(parts)
        end = len(made) if size < 0 else size
        self._rest = made[end:]
        return made[:end]

    def close(self) -> None:
        self._file.close()
        super().close()


def delimiter_by_name(path: Path) -> str:
    """Return what stands between fields by the name of a file."""
    return "\t" if ".tsv" in [suffix.lower() for suffix in path.suffixes] else ","


def count_of_sign(file: io.BufferedIOBase, sign: bytes) -> int:
    """Return how often a sign stands in the rest of a file."""
    block = bytearray(_BLOCK_BYTES)
    signs, are_it, n_found = np.frombuffer(block, np.uint8), np.empty(_BLOCK_BYTES, bool), 0
    while n_read := file.readinto(block):
        if len(sign) == 1:
            np.equal(signs[:n_read], sign[0], out=are_it[:n_read])
            n_found += int(np.count_nonzero(are_it[:n_read]))
        else:
            n_found += block.count(sign, 0, n_read)
    return n_found
