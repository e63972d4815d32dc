"""How text is read, as a book says it: the options of a file, and the forms of the values of its columns."""

from __future__ import annotations

import codecs
from typing import Any

from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.parser import parse_formula
from kivvet.core.read.fields_read import number_marks, pattern_of
from kivvet.core.read.file_keywords import MOST_LINES_SKIPPED, READ_KEYWORDS
from kivvet.core.read.forms import FILLED, Keywords, options_of
from kivvet.core.read.options import Options, is_line_number
from kivvet.core.read.when import formula_fault
from kivvet.core.words.wording import repeated
from kivvet.io.csv_records import is_delimiter, is_text_encoding
from kivvet.io.source_and_target import AS_IT_IS_NAMED, ReadOptions, WriteOptions

#: Those that are for text alone, and those that are for workbooks alone.
TEXT_KEYWORDS = ("encoding", "delimiter", "quote")
SHEET_KEYWORDS = ("sheet", "cells", "sheet_column")
_READ_TOO = ("delimiter", "encoding", "decimal")
_WRITE_KEYWORDS: Keywords = {
    **{word: READ_KEYWORDS[word] for word in _READ_TOO},
    "dates": FILLED.says("how days are written, such as %d.%m.%Y"),
    "times": FILLED.says("how times are written, such as %d.%m.%Y %H:%M"),
}
WRITTEN_AS = options_of(_WRITE_KEYWORDS)


def read_options(options: Options) -> ReadOptions:
    """Return how a file is read; what is wrong is told, and then as it is by default."""
    encoding = options.plain("encoding", "utf-8")
    if not isinstance(encoding, str) or not is_text_encoding(encoding):
        options.fault("encoding", f"{encoding!r} is no encoding of text", 'for example "utf-8" or "cp1252"')
        encoding = "utf-8"
    delimiter = options.plain("delimiter")
    if delimiter is not None and not is_delimiter(delimiter):
        options.fault("delimiter", f"delimiter is one sign; found {delimiter!r}", 'for example ";" or "\\t"')
        delimiter = None
    quote = options.plain("quote", '"')
    if not is_delimiter(quote) and quote != '"':
        options.fault("quote", f"quote is one sign; found {quote!r}", 'for example "\'"')
        quote = '"'
    if quote == delimiter:
        options.fault("quote", f"quote and delimiter are both {quote!r}", "they are two signs")
        quote = '"'
    line = options.plain("headings_on_line")
    if line is not None and not is_line_number(line):
        options.line()
        line = None
    decimal, thousands = number_marks(options)
    headings = _headings(options)
    below, last = _n_lines(options, "skip_below_headings"), _n_lines(options, "skip_last")
    if below and headings and line is None:
        message = "skip_below_headings is for files with a line of headings"
        options.fault("skip_below_headings", message, "say where it stands: headings_on_line = 1")
    blank = options.plain("skip_blank", False)
    if not isinstance(blank, bool):
        options.fault("skip_blank", f"skip_blank is true or false; found {blank!r}", "skip_blank = true")
        blank = False
    return ReadOptions(
        encoding,
        delimiter,
        line,
        headings,
        quote,
        decimal,
        thousands,
        below,
        last,
        blank,
        _left_out(options),
        _sheets(options),
        options.text(
            "cells", "cells says where the table lies", default="", fix='for example cells = "B3:H90"'
        )
        or "",
        options.text("sheet_column", "sheet_column is the name of a column", fix='for example "year"'),
    )


def _sheets(options: Options) -> tuple[str, ...]:
    """Return the names of sheets; none where they are no good, which is told."""
    given = options.plain("sheet")
    sheets = [given] if isinstance(given, str) else given
    if sheets is None:
        return ()
    if isinstance(sheets, list) and sheets and all(isinstance(sheet, str) and sheet for sheet in sheets):
        return tuple(sheets)
    options.fault(
        "sheet",
        f"sheet is the name of a sheet, a pattern, or a list of them; found {given!r}",
        'for example sheet = "Stations"',
    )
    return ()


def _n_lines(options: Options, word: str) -> int:
    """Return a number of lines that are no data; none where it is wrong, which is told."""
    given = options.plain(word, 0)
    if isinstance(given, int) and not isinstance(given, bool) and 0 <= given <= MOST_LINES_SKIPPED:
        return given
    options.fault(
        word, f"{word} is a number of lines, at most {MOST_LINES_SKIPPED:,}; found {given!r}", f"{word} = 1"
    )
    return 0


def _left_out(options: Options) -> str:
    """Return the condition of rows that are no data; none where it cannot be read, which is told."""
    text = options.text(
        "leave_out",
        "leave_out is a condition over the fields of a row",
        default="",
        fix="for example leave_out = \"station = 'Total'\"",
    )
    try:
        if text:
            parse_formula(text)
    except FormulaError as error:
        formula_fault(options.faults, error, text or "", (*options.path, "leave_out"), "in leave_out")
        return ""
    return text or ""


def _headings(options: Options) -> tuple[str, ...]:
    given = options.texts("headings", "headings is a list of texts", 'for example headings = ["id", "flow"]')
    if twice := repeated(given):
        options.fault("headings", f"two of the headings are {twice[0]!r}", "rename one of them")
        return ()
    if any(not one.strip() for one in given):
        options.fault("headings", "a heading is blank", "give each column a heading")
        return ()
    return given


def write_options(options: Options, target: str | None) -> WriteOptions:
    """Return how the target is written that `written_as` describes."""
    given = options.by_name(
        "written_as",
        "written_as says how a CSV target is written",
        'for example written_as = { delimiter = ";" }',
    )
    if not given:
        return AS_IT_IS_NAMED
    if target is None or not target.lower().endswith((".csv", ".tsv")):
        options.fault("written_as", "written_as has a meaning for .csv and .tsv targets only", "leave it out")
    said = Options(given, options.faults, (*options.path, "written_as"))
    said.unknown(_WRITE_KEYWORDS, "written_as")
    read = read_options(
        Options({word: given[word] for word in _READ_TOO if word in given}, options.faults, said.path)
    )
    patterns = {}
    for word, kind in (("dates", "date"), ("times", "datetime")):
        one = Options({"pattern": given[word]} if word in given else {}, options.faults, (*said.path, word))
        patterns[word] = pattern_of(one, kind)
    return WriteOptions(read.delimiter, read.encoding, read.decimal, **patterns)


def options_recorded(options: ReadOptions, delimiter: str) -> dict[str, Any]:
    """Return all that decides how a file is read, in one way of writing."""
    said = options.said()
    if said.get("headings_on_line") == 1 and not options.headings:
        del said["headings_on_line"]
    return {
        **said,
        "encoding": codecs.lookup(options.encoding).name,
        "delimiter": options.delimiter or delimiter,
    }
