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

from kivvet.core.columns.date_pattern import date_pattern
from kivvet.core.columns.field_form import FieldForm, boolean_words
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import toml_key
from kivvet.io.csv_records import encoding_by_mark, separator_said
from kivvet.io.no_data import find_no_data
from kivvet.io.source_and_target import ReadOptions

_HEAD_BYTES = 1 << 18
_PIECES, _PIECE_BYTES = 8, 1 << 14
_DELIMITERS = ",;\t|"
_MOST_RECORDS = 2_000
_LAST_LINES = 20  # in which notes are looked for
#: Decimal mark and mark of thousands, the plainest first.
_MARKS = (
    (".", ""),
    (",", ""),
    (".", ","),
    (",", "."),
    (",", " "),
    (",", "\u00a0"),
    (",", "\u202f"),
    (".", " "),
    (".", "'"),
    (".", "’"),
)
_DATES = (
    "%d.%m.%Y",
    "%m.%d.%Y",
    "%m/%d/%Y",
    "%d/%m/%Y",
    "%Y/%m/%d",
    "%Y.%m.%d",
    "%Y%m%d",
    "%d-%m-%Y",
    "%m-%d-%Y",
    "%d.%m.%y",
    "%d/%m/%y",
    "%m/%d/%y",
    "%d %b %Y",
    "%d-%b-%Y",
    "%d-%b-%y",
    "%b %d, %Y",
    "%b %d %Y",
    "%d. %b %Y",
    "%d. %B %Y",
    "%B %d %Y",
    "%d %B %Y",
    "%B %d, %Y",
)
_TIMES = ("%H:%M:%S", "%H:%M", "%I:%M %p", "%I:%M:%S %p")
_PATTERNS = (*_DATES, *(f"{day} {time}" for day, time in itertools.product(_DATES, _TIMES)))
#: Parts of days and times that are kept as texts, what they are called, and the pattern that reads them as first days.
_KEPT_AS_TEXT = (
    (re.compile(r"\d{4}-(0[1-9]|1[0-2])"), "months", "%Y-%m"),
    (re.compile(r"\d{4}-?Q[1-4]"), "quarters", "%Y-Q%q"),
    (re.compile(r"\d{4}-W\d\d"), "weeks", "%G-W%V"),
    (re.compile(r"\d{4}-W\d\d-[1-7]"), "days of weeks", "%G-W%V-%u"),
    (re.compile(r"([01]?\d|2[0-3]):[0-5]\d(:[0-5]\d)?"), "times of day", ""),
)
_RANGE_OF_TIMES = '"06:00" to <"18:00"'
_Marks = list[tuple[str, str]]
_ISO = re.compile(r"\d{4}-\d\d-\d\d(?:[T ]\d\d:\d\d(?::\d\d(?:\.\d{1,6})?)?(?:Z|[+-]\d\d(?::?\d\d)?)?)?")
_WITH_UNIT = re.compile(
    r"(?P<before>[^\d\s.,'’+-]{0,8}?)\s*(?P<number>[+-]?[\d.,'’\u00a0\u202f ]*\d)\s*(?P<after>[^\d\s]{0,12})"
)


@dataclass(frozen=True)
class ColumnForm:
    """What was recognised of a column: its type and form, or why that is left open.

    Attributes
    ----------
    type : str
    form : FieldForm
    patterns : tuple of str
        Of dates, every pattern that fits; with several it is ambiguous, and none is taken.
    """

    type: ValueType
    form: FieldForm
    patterns: tuple[str, ...] = ()

    @property
    def is_ambiguous(self) -> bool:
        return len(self.patterns) > 1


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
    """

    options: ReadOptions
    columns: Mapping[str, ColumnForm] = field(default_factory=dict)
    remarks: tuple[str, ...] = ()


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
    line, headings = _headings(records)
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
    columns = _columns(names, no_data.rows)
    decimal, thousands, remark = _file_marks(columns)
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
    found: dict[str, ColumnForm] = {}
    remarks: list[str] = [*no_data.remarks, *([remark] if remark else [])]
    for name, (texts, marks) in columns.items():
        form, remark = _column_form(name, texts, marks, (decimal, thousands))
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
        if all(_ISO.fullmatch(text) for text in texts):
            found[name] = ColumnForm(
                "datetime" if any(len(text) > 10 for text in texts) else "date", FieldForm()
            )
            continue
        form, remark = _column_form(name, texts, _fitting_marks(texts), (".", ""))
        if form is not None:
            found[name] = form
        if remark:
            remarks.append(remark)
    return Recognised(ReadOptions(), found, tuple(remarks))


def forms_of_fields(texts: Sequence[str], kind: ValueType) -> list[FieldForm]:
    """Return the forms in which every one of some fields can be read as a type, the likeliest first."""
    if kind in ("date", "datetime"):
        wanted = kind == "datetime"
        return [
            FieldForm(pattern=pattern)
            for pattern in _fitting_patterns(texts)
            if date_pattern(pattern).has_time == wanted
        ]
    if kind == "boolean":
        pair = boolean_words(texts)
        return [] if pair is None else [FieldForm(true_words=(pair[0],), false_words=(pair[1],))]
    if kind in ("integer", "number", "decimal"):
        marks = _needed(_fitting_marks(texts), texts)
        if marks:
            return [FieldForm(*pair) for pair in marks]
        unit = _unit(texts)
        if unit is not None:
            bare = [text.replace(unit, "").strip() for text in texts]
            return [FieldForm(*pair, unit=unit) for pair in _needed(_fitting_marks(bare), bare)]
    return []


def _needed(marks: _Marks, texts: Sequence[str]) -> _Marks:
    """Return the marks that fields hold, so that none is said without need."""
    held = set().union(*texts)
    return [pair for pair in marks if not pair[1] or pair[1] in held]


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


def _headings(records: Sequence[Sequence[str]]) -> tuple[int, list[str]]:
    """Return the line of the headings, and headings to give where the file seems to have none."""
    if not records:
        return 1, []
    ((width, _),) = Counter(len(record) for record in records if record).most_common(1)
    line = next(
        (
            number
            for number, one in enumerate(records[:20], 1)
            if _is_as_wide(one, width, records)
            and (width == 1 or sum(not text.strip() for text in one[:width]) * 2 < width)
        ),
        1,
    )
    record = records[line - 1]
    following = [one for one in records[line : line + 50] if len(one) == width]
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
    others = [one for one in records if len(one) == width]
    return len(record) == width - 1 > 1 and not any(one[-1].strip() for one in others)


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
        or _ISO.fullmatch(text)
        or re.fullmatch(r"\d{1,4}[./-]\d{1,2}[./-]\d{1,4}.*", text)
    )


def _columns(names: Sequence[str], rows: Sequence[Sequence[str]]) -> dict[str, tuple[list[str], _Marks]]:
    """Return by column its different fields, and the marks with which all of them are numbers."""
    found = {}
    for at, name in enumerate(names):
        texts = list(dict.fromkeys(row[at].strip() for row in rows if at < len(row) and row[at].strip()))
        if texts and name:
            found[name] = texts, _fitting_marks(texts)
    return found


def _fitting_marks(texts: Sequence[str]) -> _Marks:
    """Return the pairs of decimal mark and mark of thousands with which all fields are numbers."""
    fitting = []
    for decimal, thousands in _MARKS:
        grouped = rf"\d{{1,3}}(?:{re.escape(thousands)}\d{{3}})+|" if thousands else ""
        number = re.compile(
            rf"[+-]?(?:(?:{grouped}\d+)(?:{re.escape(decimal)}\d*)?|{re.escape(decimal)}\d+)(?:[eE][+-]?\d{{1,3}})?",
            re.ASCII,
        )
        if all(number.fullmatch(text) for text in texts):
            fitting.append((decimal, thousands))
    return fitting


def _file_marks(columns: Mapping[str, tuple[list[str], _Marks]]) -> tuple[str, str, str]:
    """Return the marks that suit most columns of numbers, the plainest first, and what could not be decided."""
    of_column = {name: marks for name, (_, marks) in columns.items() if marks}
    for name, (texts, marks) in columns.items():
        if not marks and (unit := _unit(texts)) is not None:
            of_column[name] = _fitting_marks([text.replace(unit, "").strip() for text in texts])
    counted = Counter(pair for marks in of_column.values() for pair in marks)
    if not counted:
        return ".", "", ""
    most = max(counted.values())
    best = [pair for pair in _MARKS if counted[pair] == most]
    if best[0] == (",", "") and (".", ",") in best:  # 1,234 is either
        name, example = next(
            (name, text)
            for name, marks in of_column.items()
            if (".", "") not in marks
            for text in columns[name][0]
            if "," in text
        )
        return (
            ".",
            "",
            f'column {name} holds numbers such as {example}, in which the comma may be the decimal mark or stand between thousands: say decimal = "," or thousands = ","',
        )
    return *best[0], ""


def _column_form(
    name: str, texts: Sequence[str], marks: _Marks, of_file: tuple[str, str]
) -> tuple[ColumnForm | None, str]:
    """Return the form of a column where it has one of its own, and what could not be decided of it."""
    if marks:
        if all(re.fullmatch(r"\d{8}", text) for text in texts) and (days := _fitting_patterns(texts)):
            return None, f"column {name} may hold dates written as {days[0]}, or whole numbers"
        if of_file in marks or _are_codes(texts):
            return None, ""
        return ColumnForm("number", FieldForm(*marks[0])), ""
    if all(_ISO.fullmatch(text) for text in texts):
        return None, ""
    if patterns := _fitting_patterns(texts):
        kind: ValueType = "datetime" if date_pattern(patterns[0]).has_time else "date"
        if len(patterns) == 1:
            century = f"column {name} has years of two digits: 69 to 99 are of 1900, 00 to 68 of 2000"
            said = century if "%y" in patterns[0] else ""
            return ColumnForm(kind, FieldForm(pattern=patterns[0]), tuple(patterns)), said
        said = " or ".join(patterns)
        return (
            ColumnForm(kind, FieldForm(), tuple(patterns)),
            f"column {name} holds dates such as {texts[0]}, which may be {said}: say which",
        )
    if said := _kept_as_text(name, texts):
        return None, said
    pair = boolean_words(texts)
    if pair is not None and pair != ("true", "false") and len({text.casefold() for text in texts}) == 2:
        return ColumnForm("boolean", FieldForm(true_words=(pair[0],), false_words=(pair[1],))), ""
    if (unit := _unit(texts)) is not None:
        bare = [text.replace(unit, "").strip() for text in texts]
        fitting = _fitting_marks(bare)
        if of_file in fitting:
            return ColumnForm("number", FieldForm(*of_file, unit=unit)), ""
        if fitting:
            return ColumnForm("number", FieldForm(*fitting[0], unit=unit)), ""
    return None, ""


def _kept_as_text(name: str, texts: Sequence[str]) -> str:
    """Return what is said of a column of months, quarters, weeks or times of day, which are no type of their own."""
    for expression, words, pattern in _KEPT_AS_TEXT:
        if not all(expression.fullmatch(text) for text in texts):
            continue
        said = f"column {name} holds {words} such as {texts[0]}, which are kept as text"
        if not pattern:
            are_ordered = len({len(text) for text in texts}) == 1
            return f"{said}; ranges of them: {_RANGE_OF_TIMES}" if are_ordered else said
        of_which = "as dates" if "days" in words else "each as its first day"
        form = pattern if "-" in texts[0] else pattern.replace("-", "")
        return f'{said}; to read them {of_which}: types.{toml_key(name)} = {{ type = "date", pattern = "{form}" }}'
    return ""


def _are_codes(texts: Sequence[str]) -> bool:
    """Whether numbers are codes: some begin with a zero that does not count."""
    return any(re.fullmatch(r"0\d+", text) for text in texts)


def _fitting_patterns(texts: Sequence[str]) -> list[str]:
    """Return the patterns that all fields fit; of those that say the same by another name the first."""
    if not texts or not all(any(sign.isdigit() for sign in text) for text in texts):
        return []
    fitting: list[str] = []
    seen: set[tuple[object, ...]] = set()
    for pattern in _PATTERNS:
        made = date_pattern(pattern)
        if made.value(texts[0]) is None:
            continue
        values = tuple(made.value(text) for text in texts)
        if None not in values and values not in seen:
            seen.add(values)
            fitting.append(pattern)
    return fitting


def _unit(texts: Sequence[str]) -> str | None:
    """Return the one unit that stands before or after all numbers; None where there is none.

    Letters right beside digits are taken for a code, as in S001 or 12A, unless numbers have decimals.
    """
    units = set()
    is_apart = has_decimals = False
    for text in texts:
        match = _WITH_UNIT.fullmatch(text)
        if match is None or bool(match["before"]) == bool(match["after"]):
            return None
        if re.fullmatch(r"[+-]?0\d+", match["number"]):
            return None
        units.add(match["before"] or match["after"])
        if len(units) > 1:
            return None
        is_apart |= any(sign.isspace() for sign in text.replace(match["number"], ""))
        has_decimals |= not match["number"].lstrip("+-").isdigit()
    if not units:
        return None
    (unit,) = units
    is_sign = not any(sign.isalnum() for sign in unit)
    return unit if is_sign or is_apart or (has_decimals and text.endswith(unit)) else None
