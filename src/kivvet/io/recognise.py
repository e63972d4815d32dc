"""Working out how a file of text is written: encoding, delimiter, headings, marks of numbers, forms of values.

A part of the file is looked at, its beginning and pieces of the rest, so that the work does not grow with the file.
What is found is told and can be pasted into a book; a dataset itself never guesses.
"""

from __future__ import annotations

import csv
import gzip
import io
import itertools
import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import IO, cast

from kivvet.core.columns.field_form import FieldForm
from kivvet.io.column_forms import (
    ISO_DATE,
    ColumnForm,
    fields_by_column,
    fitting_marks,
    form_of_column,
    marks_of_file,
)
from kivvet.io.csv_records import encoding_by_mark, separator_said
from kivvet.io.no_data import find_no_data
from kivvet.io.source_and_target import ReadOptions

_HEAD_BYTES = 1 << 18
_PIECES, _PIECE_BYTES = 8, 1 << 14
_DELIMITERS = ",;\t|"
_MOST_RECORDS = 2_000
_LAST_LINES = 20  # in which notes are looked for


@dataclass(frozen=True)
class Recognised:
    """How a file seems to be written.

    Attributes
    ----------
    options : ReadOptions
    columns : mapping of str to ColumnForm
        Those whose values are written otherwise than Kivvet itself writes them.
    remarks : tuple of str
        What could not be decided.
    by : str
        The file of metadata beside it that says so; empty: it was found by looking.
    """

    options: ReadOptions
    columns: Mapping[str, ColumnForm] = field(default_factory=dict)
    remarks: tuple[str, ...] = ()
    by: str = ""


def recognise(path: Path) -> Recognised:
    """Return how a CSV or TSV file seems to be written; what does not differ from the default is as it is by default.

    Raises
    ------
    OSError, EOFError
        If it cannot be read.
    """
    is_compressed = path.name.lower().endswith(".gz")
    head, pieces, is_cut = _sample(path, is_compressed=is_compressed)
    encoding = _encoding(head, pieces)
    by_default = "\t" if ".tsv" in [suffix.lower() for suffix in path.suffixes] else ","
    text = _text(head, encoding)
    said = separator_said(text.split("\n", 1)[0] + "\n")
    skipped = 0 if said is None else 1
    delimiter = said or _delimiter(text, by_default)
    records = _records(text, delimiter)[skipped:]
    line, headings = headings_line(records)
    rows = records[line - 1 + (0 if headings else 1) :]
    names = headings or [name.strip() for name in (records[line - 1] if records else [])]
    last = rows
    for piece in pieces:
        last = _records(_text(piece, encoding), delimiter)[1:]  # the first may be cut
        rows += [
            record for record in (last if piece is pieces[-1] else last[:-1]) if len(record) == len(names)
        ]
    if not pieces and is_cut:
        rows, last = rows[:-1], []
    no_data = find_no_data(
        names,
        rows,
        can_have_units=not headings,
        last_lines=[record for record in last if any(text.strip() for text in record)][-_LAST_LINES:],
    )
    columns = fields_by_column(names, no_data.rows)
    decimal, thousands, remark = marks_of_file(columns)
    marked = encoding_by_mark(head)
    options = ReadOptions(
        encoding="utf-8" if marked is not None else encoding,
        delimiter=None if said is not None or delimiter == by_default else delimiter,
        headings_on_line=line + skipped if line > 1 else None,
        headings=tuple(headings),
        decimal=decimal,
        thousands=thousands,
        skip_below_headings=no_data.skip_below_headings,
        skip_last=no_data.skip_last,
        skip_blank=no_data.skip_blank,
        leave_out=no_data.leave_out,
    )
    are_all = not pieces and not is_cut and len(records) + skipped < _MOST_RECORDS
    found: dict[str, ColumnForm] = {}
    remarks: list[str] = [*no_data.remarks, *([remark] if remark else [])]
    for name, (texts, marks) in columns.items():
        form, remark = form_of_column(name, texts, marks, (decimal, thousands), are_all=are_all)
        if form is not None:
            found[name] = form
        if remark:
            remarks.append(remark)
    return Recognised(options, found, tuple(remarks))


def recognise_texts(columns: Mapping[str, Iterable[str]]) -> Recognised:
    """Return what some columns seem to hold that a file keeps as text, though it knows other types: dates, and values in
    forms of their own. Texts of plain digits stay texts.
    """
    found: dict[str, ColumnForm] = {}
    remarks: list[str] = []
    for name, given in columns.items():
        texts = list(dict.fromkeys(text.strip() for text in given if text.strip()))
        if not texts:
            continue
        if all(ISO_DATE.fullmatch(text) for text in texts):
            found[name] = ColumnForm(
                "datetime" if any(len(text) > 10 for text in texts) else "date", FieldForm()
            )
            continue
        form, remark = form_of_column(name, texts, fitting_marks(texts), (".", ""))
        if form is not None:
            found[name] = form
        if remark:
            remarks.append(remark)
    return Recognised(ReadOptions(), found, tuple(remarks))


def _sample(path: Path, *, is_compressed: bool) -> tuple[bytes, list[bytes], bool]:
    """Return the beginning of a file, pieces from the rest of it, and whether there is more than that beginning."""
    with cast("IO[bytes]", gzip.open(path, "rb")) if is_compressed else path.open("rb") as file:
        head = file.read(_HEAD_BYTES)
        if is_compressed or len(head) < _HEAD_BYTES:
            return head, [], len(head) == _HEAD_BYTES
        size = path.stat().st_size
        pieces = []
        for number in range(1, _PIECES + 1):
            file.seek(max(_HEAD_BYTES, (size - _PIECE_BYTES) * number // _PIECES) // 4 * 4)
            pieces.append(file.read(_PIECE_BYTES))
        return head, pieces, True


def _encoding(head: bytes, pieces: Iterable[bytes]) -> str:
    if marked := encoding_by_mark(head):
        return marked
    pairs = head[: len(head) // 2 * 2]
    if pairs and pairs[1::2].count(0) * 3 > len(pairs) // 2:
        return "utf-16-le"
    if pairs and pairs[::2].count(0) * 3 > len(pairs) // 2:
        return "utf-16-be"
    parts = [head, *(piece.split(b"\n", 1)[-1] for piece in pieces)]
    for encoding in ("utf-8", "cp1252"):
        try:
            for part in parts:
                _decoded(part, encoding)
        except UnicodeDecodeError:
            continue
        return encoding
    return "latin-1"


def _decoded(part: bytes, encoding: str) -> str:
    """Return the text of a part of a file, whose last sign may be cut."""
    try:
        return part.decode(encoding)
    except UnicodeDecodeError as error:
        if error.start < len(part) - 4:
            raise
        return part[: error.start].decode(encoding)


def _text(part: bytes, encoding: str) -> str:
    return part.decode(encoding, "replace").removeprefix("\ufeff").replace("\r\n", "\n").replace("\r", "\n")


def _records(text: str, delimiter: str) -> list[list[str]]:
    reader = csv.reader(io.StringIO(text), delimiter=delimiter)
    made: list[list[str]] = []
    with suppress(csv.Error):
        made.extend(itertools.islice(reader, _MOST_RECORDS))
    return made


def _delimiter(text: str, by_default: str) -> str:
    """Return the sign at which most lines have the same number of fields, and the more the better."""
    best, best_score = by_default, 1.0
    for delimiter in dict.fromkeys([by_default, *_DELIMITERS]):
        widths = [len(record) for record in _records(text, delimiter)[:-1] if record] or [
            len(record) for record in _records(text, delimiter)
        ]
        if not widths:
            continue
        ((width, often),) = Counter(widths).most_common(1)
        if width == 1:
            continue
        score = often / len(widths) * (1 + width / 100) + 0.5
        if score > best_score + 0.005:
            best, best_score = delimiter, score
    return best


def headings_line(records: Sequence[Sequence[str]]) -> tuple[int, list[str]]:
    """Return the line of the headings, and headings to give where the file seems to have none."""
    if not records:
        return 1, []
    ((width, _),) = Counter(len(record) for record in records if record).most_common(1)
    line = next(
        (
            number
            for number, record in enumerate(records[:20], 1)
            if _is_as_wide(record, width, records)
            and (width == 1 or sum(not text.strip() for text in record[:width]) * 2 < width)
        ),
        1,
    )
    record = records[line - 1]
    following = [record for record in records[line : line + 50] if len(record) == width]
    first = [one.strip() for one in record]
    if following and line == 1 and len(set(first)) > 1 and _are_values(first, following):
        return line, [f"column_{number}" for number in range(1, width + 1)]
    return line, []


def _is_as_wide(record: Sequence[str], width: int, records: Sequence[Sequence[str]]) -> bool:
    """Whether a record has as many fields as most, but for a delimiter at the end of it alone, or of all others alone."""
    if len(record) == width:
        return True
    if len(record) == width + 1 > 2:
        return not record[-1].strip()
    others = [record for record in records if len(record) == width]
    return len(record) == width - 1 > 1 and not any(other[-1].strip() for other in others)


def _are_values(first: Sequence[str], following: Sequence[Sequence[str]]) -> bool:
    """Whether a record is data as those that follow it: in some column all are numbers or dates, and it is too."""
    return any(
        _looks_like_value(text)
        and all(_looks_like_value(record[at].strip()) for record in following if record[at].strip())
        for at, text in enumerate(first)
    )


def _looks_like_value(text: str) -> bool:
    return bool(
        re.fullmatch(r"[+-]?[\d.,'’ \u00a0]*\d", text)
        or ISO_DATE.fullmatch(text)
        or re.fullmatch(r"\d{1,4}[./-]\d{1,2}[./-]\d{1,4}.*", text)
    )
