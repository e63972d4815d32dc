"""Reading the text files of a book: TOML with places, CSV rows with lines; faults become findings."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pyarrow as pa

from kivvet.books.files.long_rows import read_document
from kivvet.books.files.toml_places import TomlPlaces
from kivvet.core.read.options import Locate
from kivvet.core.words.errors import DataError
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, repeated, shown_path
from kivvet.io.csv_records import BrokenRecordError, encoding_by_mark, separator_said, without_last
from kivvet.io.csv_records import records as csv_records
from kivvet.io.formats import delimiter_of
from kivvet.io.left_out import Sieve
from kivvet.io.source_and_target import AS_IT_SAYS, ReadOptions
from kivvet.io.stand_ins import stand_in

_MOST_PARTS = 50  # of a key with dots
_KEY_PART = r"""(?:[\w-]+|"[^"\n]*"|'[^'\n]*')"""
# Three marks, of which the middle one alone may be something else.
_UNMERGED = re.compile(rb"^<<<<<<<(?: [^\n]*)?\r?\n(?:.*\n)*?=======\r?\n", re.MULTILINE)
_DEEP_KEY = re.compile(rf"^[ \t\[]*{_KEY_PART}(?:[ \t]*\.[ \t]*{_KEY_PART}){{{_MOST_PARTS}}}", re.MULTILINE)
_LONG_TEXT = re.compile(r"""["'][^"'\n]{1000000}|(?<![\w-])[\w-]{100000}""")
_LONG_NUMBER = re.compile(r"(?<!\d)\d{4301}")  # longer ones are not read as numbers


@dataclass(frozen=True)
class Document:
    """A TOML file as plain values, decimals exact, with the place of everything in it."""

    values: dict[str, Any]
    locate: Locate


def read_text(path: Path, table: str = "", encoding: str = "utf-8") -> tuple[str, list[Finding]]:
    """Return the text of a file without its byte-order mark, or a finding that says why not."""
    try:
        raw = stand_in(path).read_bytes()
    except OSError as error:
        return "", [
            finding(
                "unreadable",
                f"cannot be read: {error.strerror}",
                table=table,
                places=(Place(shown_path(path)),),
            )
        ]
    if encoding == "utf-8":
        encoding = encoding_by_mark(raw) or encoding
    try:
        return raw.decode("utf-8-sig" if encoding == "utf-8" else encoding), []
    except UnicodeDecodeError as error:
        before = raw[: error.start]
        place = Place(shown_path(path), before.count(b"\n") + 1, error.start - (before.rfind(b"\n") + 1) + 1)
        return "", [
            finding(
                "unreadable",
                f"byte 0x{raw[error.start]:02x} is not {encoding.upper()}",
                table=table,
                places=(place,),
                remedy="save the file as UTF-8",
            )
        ]


def unmerged(path: Path, text: str | bytes, table: str = "") -> list[Finding]:
    """Return a finding where a file still holds the marks that a version control puts around what it could not merge."""
    held = text.encode() if isinstance(text, str) else text
    found = _UNMERGED.search(held)
    if found is None:
        return []
    place = Place(shown_path(path), held.count(b"\n", 0, found.start()) + 1)
    message = "the marks of a merge are left: two versions of these lines are still to be made one"
    fix = "keep one of the versions, or what holds of both, and take out the lines of the marks"
    return [finding("syntax", message, table=table, places=(place,), remedy=fix)]


def read_toml(path: Path, table: str = "") -> tuple[Document | None, list[Finding]]:
    """Return a TOML file, or the finding that says where it is broken."""
    text, faults = read_text(path, table)
    if faults:
        return None, faults
    if faults := unmerged(path, text, table):
        return None, faults
    text = text.replace("\r\n", "\n")
    name = shown_path(path)
    if deep := _DEEP_KEY.search(text):
        place = Place(name, text.count("\n", 0, deep.start()) + 1)
        message = f"a key has more than {_MOST_PARTS} parts"
        return None, [
            finding(
                "syntax",
                message,
                table=table,
                places=(place,),
                remedy="put it in quotes if dots belong to it",
            )
        ]
    if long := _LONG_TEXT.search(text):
        return None, [_too_long("a text or a word that is very long", text, long, name, table)]
    try:
        values = read_document(text)
    except tomllib.TOMLDecodeError as error:
        message = str(error)
        match = re.search(r" \(at (?:line (\d+), column (\d+)|end of document)\)$", message)
        place = (
            Place(name, int(match[1]), int(match[2]))
            if match and match[1]
            else Place(name, text.count("\n") + 1)
        )
        message = message[: match.start()] if match else message
        return None, [
            finding(
                "syntax",
                f"not valid TOML: {message[:1].lower()}{message[1:]}",
                table=table,
                places=(place,),
                remedy=_toml_remedy(text, place),
            )
        ]
    except ValueError:  # of a number, by the interpreter
        if (long := _LONG_NUMBER.search(text)) is None:
            raise
        return None, [_too_long("a number of more than 4,300 digits", text, long, name, table)]
    except RecursionError:
        return None, [finding("syntax", "lists are nested too deeply", table=table, places=(Place(name),))]
    return Document(values, TomlPlaces(text, name).locate), []


def _too_long(what: str, text: str, found: re.Match[str], name: str, table: str) -> Finding:
    place = Place(name, text.count("\n", 0, found.start()) + 1)
    message = f"{what} stands here: {found[0][:20]}..."
    return finding("syntax", message, table=table, places=(place,), remedy="make it shorter")


def _toml_remedy(text: str, place: Place) -> str:
    lines = text.split("\n")
    line = lines[(place.line or 1) - 1] if (place.line or 1) <= len(lines) else ""
    previous = lines[(place.line or 1) - 2].rstrip() if (place.line or 1) >= 2 else ""
    if previous.endswith("]") and line.lstrip().startswith("["):
        return "put a comma at the end of the line before"
    return "text stands in quotes, lists in [ ], with a comma between their parts"


@dataclass(frozen=True)
class CsvRows:
    """The records of a CSV file, header first, the line each begins on, and what separates their fields; of a sheet its
    name, the rows, and the columns of the cells.
    """

    records: list[list[str]]
    lines: list[int]
    delimiter: str
    sheet: str = ""
    columns: Sequence[int] = ()

    def place(self, file: str, record: int, field: int | None = None) -> Place:
        """Return the place of a record, or of one of its fields where fields have places."""
        column = self.columns[field] if field is not None and field < len(self.columns) else None
        return Place(file, self.lines[record], column, self.sheet)


def read_csv_rows(
    path: Path, table: str = "", options: ReadOptions = AS_IT_SAYS
) -> tuple[CsvRows | None, list[Finding]]:
    """Return all records of a CSV file that holds rows of a table, or the findings about it."""
    name = shown_path(path)
    if not path.exists():
        return None, [
            finding(
                "unreadable",
                "there is no such file",
                table=table,
                places=(Place(name),),
                remedy="correct the name, or write the file",
            )
        ]
    text, faults = read_text(path, table, options.encoding)
    if faults:
        return None, faults
    if faults := unmerged(path, text, table):
        return None, faults
    if not text.strip():
        return None, [
            finding(
                "syntax",
                "the file is empty",
                table=table,
                places=(Place(name),),
                remedy="begin with a line of headings",
            )
        ]
    records: list[list[str]] = []
    lines: list[int] = []
    all_lines = text.splitlines(keepends=True)
    if options.skip_last:
        all_lines = list(without_last(all_lines, options.skip_last))
        if not all_lines:
            return None, [finding("syntax", "there are no rows", table=table, places=(Place(name),))]
    said = separator_said(all_lines[0])
    delimiter = options.delimiter or said or delimiter_of(path)
    above = max(options.lines_above, 0 if said is None else 1)
    try:
        for line, record in csv_records(
            all_lines[above:], delimiter, first_line=above + 1, is_strict=True, quote=options.quote
        ):
            if record:
                records.append(record)
                lines.append(line)
    except BrokenRecordError as error:
        return None, [
            finding(
                "syntax",
                f"not valid CSV: {error}",
                table=table,
                places=(Place(name, error.line),),
                remedy='a quote within a quoted field is doubled: ""',
            )
        ]
    if options.skip_below_headings and options.has_heading_line:
        del records[1 : 1 + options.skip_below_headings], lines[1 : 1 + options.skip_below_headings]
    if options.headings:
        records[: int(options.has_heading_line)] = [list(options.headings)]
        lines[: int(options.has_heading_line)] = [above + 1]
    if not records:
        return None, [finding("syntax", "there are no rows", table=table, places=(Place(name),))]
    width = len(records[0])
    ragged = [index for index, record in enumerate(records) if len(record) != width]
    if ragged:
        first = ragged[0]
        more = f"; so have {count(len(ragged) - 1, 'more line')}" if len(ragged) > 1 else ""
        faults.append(
            finding(
                "syntax",
                f"{count(len(records[first]), 'field')} where the headings have {width}{more}",
                table=table,
                places=(Place(name, lines[first]),),
                remedy="a field that holds a comma stands in quotes",
            )
        )
    headings = [heading.strip() for heading in records[0]]
    sieve = Sieve(options.leave_out, options.skip_blank)
    if sieve and not faults:
        try:
            stays = _rows_that_stay(sieve, headings, records[1:], Place(name))
        except DataError as error:
            remedy = error.fix or ""
            fault = finding("syntax", error.problem, table=table, places=(Place(name),), remedy=remedy)
            return None, [fault]
        records[1:] = [record for record, one in zip(records[1:], stays, strict=True) if one]
        lines[1:] = [line for line, one in zip(lines[1:], stays, strict=True) if one]
    for heading in repeated(headings):
        faults.append(
            finding(
                "syntax",
                f"two columns are named {heading!r}",
                table=table,
                places=(Place(name, 1),),
                remedy="rename one of them",
            )
        )
    return (None if faults else CsvRows([headings, *records[1:]], lines, delimiter)), faults


def _rows_that_stay(sieve: Sieve, headings: list[str], rows: list[list[str]], place: Place) -> list[bool]:
    """Return for each row whether it is one of the table."""
    sieve.check(headings, place)
    columns = [pa.array([row[at] for row in rows], pa.string()) for at in range(len(headings))]
    batch = pa.RecordBatch.from_arrays(columns, names=headings)
    return [bool(one) for one in sieve.split(batch, headings)[0]]
