"""The records of a CSV text and the lines they begin on: the one place where lines of CSV are counted."""

from __future__ import annotations

import codecs
import csv
import gzip
import re
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import IO

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place

#: The longest row of a CSV file, in characters, and the longest field of one.
LONGEST_ROW = 1 << 24

csv.field_size_limit(LONGEST_ROW)


class LongRowError(ValueError):
    """A row that is longer than any row may be: where it begins."""

    def __init__(self, line: int) -> None:
        self.line = line
        super().__init__(f"the row on line {line} has more than {LONGEST_ROW:,} characters")


class BrokenRecordError(ValueError):
    """A record that is no CSV: why, and the line on which it begins."""

    def __init__(self, problem: str, line: int) -> None:
        self.line = line
        super().__init__(problem)


@dataclass(frozen=True, slots=True)
class CsvForm:
    """How a CSV file is written.

    Attributes
    ----------
    delimiter, encoding : str
    is_compressed : bool
        With gzip.
    lines_above : int
        Lines above the headings, which are left out.
    quote : str
    """

    delimiter: str = ","
    encoding: str = "utf-8"
    is_compressed: bool = False
    lines_above: int = 0
    quote: str = '"'
    skip_below_headings: int = 0
    skip_last: int = 0

    def records(self, file: IO[str], *, is_strict: bool = False) -> Iterator[tuple[int, list[str]]]:
        """Yield the records of a file that was opened so, headings first, without the lines that are left out."""
        found = records(
            without_last(file, self.skip_last, keeps_first=True) if self.skip_last else file,
            self.delimiter,
            first_line=self.lines_above + 1,
            is_strict=is_strict,
            quote=self.quote,
        )
        for number, one in enumerate(found):
            if not 0 < number <= self.skip_below_headings:
                yield one

    def open(self, path: Path) -> IO[str]:
        """Return the text of a file from its headings on; a byte-order mark is left out."""
        is_plain = self.encoding.lower().replace("_", "-") in ("utf-8", "utf8")
        encoding = "utf-8-sig" if is_plain else self.encoding
        file: IO[str] = (
            gzip.open(path, "rt", encoding=encoding, newline="")  # noqa: SIM115 - the caller closes it
            if self.is_compressed
            else path.open(encoding=encoding, newline="")
        )
        for _ in range(self.lines_above):
            file.readline(LONGEST_ROW)
        return file


def is_text_encoding(name: str) -> bool:
    """Whether it is the name of an encoding of text."""
    try:
        return bool(getattr(codecs.lookup(name), "_is_text_encoding", True))
    except (LookupError, ValueError):
        return False


def is_delimiter(sign: object) -> bool:
    """Whether fields can be separated by it."""
    return (
        isinstance(sign, str)
        and len(sign) == 1
        and sign.isascii()
        and not sign.isalnum()
        and sign not in '"\r\n\0'
    )


def records(
    lines: Iterable[str],
    delimiter: str,
    *,
    first_line: int = 1,
    is_strict: bool = False,
    quote: str = '"',
) -> Iterator[tuple[int, list[str]]]:
    """Yield the line on which each record begins, and the record; a blank line is a record of no fields.

    Raises
    ------
    BrokenRecordError, LongRowError, UnicodeError
    """
    reader = csv.reader(_short(lines, first_line), delimiter=delimiter, strict=is_strict, quotechar=quote)
    line = first_line
    while True:
        try:
            record = next(reader)
        except StopIteration:
            return
        except csv.Error as error:
            raise BrokenRecordError(str(error), line) from error
        yield line, record
        line = first_line + reader.line_num


def without_last(lines: IO[str] | Iterable[str], number: int, *, keeps_first: bool = False) -> Iterator[str]:
    """Yield the lines above the last ones; blank lines are not counted, and the first, of headings, may stay whatever follows."""
    held: deque[str] = deque()
    n_held = 0
    for line in _short(lines, 1):
        if keeps_first and line.strip():
            keeps_first = False
            yield line
            continue
        held.append(line)
        n_held += bool(line.strip())
        while n_held > number:
            n_held -= bool(held[0].strip())
            yield held.popleft()


def _short(lines: Iterable[str], first_line: int) -> Iterator[str]:
    """Yield lines, none of them longer than a row may be; of a file they are not read whole before that is
    known.
    """
    readline = getattr(lines, "readline", None)
    if readline is None:
        yield from lines
        return
    line = first_line
    while text := readline(LONGEST_ROW + 1):
        if len(text) > LONGEST_ROW:
            raise LongRowError(line)
        yield text
        line += 1


#: The marks at the beginning of a file that say its encoding; the longer ones first.
_MARKS = (
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF32_BE, "utf-32"),
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)
_SEPARATOR_LINE = re.compile(r"\ufeff?sep=(.)\r?\n?")


def encoding_by_mark(head: bytes) -> str | None:
    """Return the encoding that the first bytes of a file mark; None where they mark none."""
    return next((name for mark, name in _MARKS if head.startswith(mark)), None)


def separator_said(first_line: str) -> str | None:
    """Return the delimiter that the first line of a file says, as in ``sep=;``; None where it is no such line."""
    match = _SEPARATOR_LINE.fullmatch(first_line)
    return match[1] if match is not None and is_delimiter(match[1]) else None


@dataclass(frozen=True, slots=True)
class LinesOfRows:
    """The places of the rows of a CSV file, read when the first is asked for.

    Attributes
    ----------
    path : Path
    shown : str
        Its name in messages.
    form : callable
        Gives how it is written.
    """

    path: Path
    shown: str
    form: Callable[[], CsvForm]

    def __call__(self, row: int) -> Place | None:
        """Return the place of a row, counted from 1."""
        try:
            lines = _lines(self.path, self.form())
        except (OSError, EOFError, ValueError, DataError):
            return Place(self.shown)
        return Place(self.shown, lines[row] if row < len(lines) else None)


@cache
def _lines(path: Path, form: CsvForm) -> list[int]:
    with form.open(path) as file:
        return [line for line, record in form.records(file) if record]
