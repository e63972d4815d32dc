"""The keywords that say how a file of a table's rows, or of a source, is read, or where in a database it lies."""

from __future__ import annotations

from kivvet.core.read.fields_read import MARK_KEYWORDS
from kivvet.core.read.forms import (
    ANYTHING,
    FILLED,
    FILLED_AT_ALL,
    FLAG,
    LINE,
    Form,
    Keywords,
    exactly,
    list_of,
    options_of,
    whole,
)

MOST_LINES_SKIPPED = 10_000
_ONE_SIGN = Form({"type": "string", "minLength": 1, "maxLength": 1})
#: How a file is read.
READ_KEYWORDS: Keywords = {
    "encoding": FILLED.says("the encoding of the text, such as cp1252"),
    "delimiter": _ONE_SIGN.says("what stands between the fields"),
    "quote": _ONE_SIGN.says("what stands around fields"),
    "headings_on_line": LINE.says("the line that holds the headings, counted from 1"),
    "headings": list_of(FILLED, each_once=True).says("the headings, where the file has none or others"),
    **MARK_KEYWORDS,
    "skip_below_headings": whole(0, MOST_LINES_SKIPPED).says("lines below the headings that are no data"),
    "skip_last": whole(0, MOST_LINES_SKIPPED).says("last lines that are no data"),
    "skip_blank": FLAG.says("whether blank lines are no data"),
    "leave_out": FILLED.says("a condition of the rows that are no data"),
    "sheet": (FILLED_AT_ALL | list_of(FILLED_AT_ALL, at_least=1)).says(
        "the sheet of a workbook, a pattern, or a list of them"
    ),
    "cells": FILLED.says("where in the sheet the table lies, such as B3:H90"),
    "sheet_column": FILLED.says("the column that holds the name of the sheet"),
}
#: Those of them that a table may say of the file that holds its rows; what reads it looks at them.
FILE_KEYWORDS: Keywords = {
    word: form for word, form in READ_KEYWORDS.items() if word not in ("headings_on_line", "sheet_column")
}
#: Where in a database something is read.
PLACE_KEYWORDS: Keywords = {
    "database": FILLED.says("a name under [databases]"),
    "table": FILLED.says("a table or view of it"),
    "schema": FILLED.says("the schema that holds the table"),
    "query": FILLED.says("a SELECT, in place of a table"),
    "version": FILLED.says("a column whose highest value grows with each change"),
}
PLACE = options_of(PLACE_KEYWORDS, "database", one_of_these=("table", "query"))
#: Where in a database something is written.
WRITTEN_PLACE_KEYWORDS: Keywords = {
    **{word: PLACE_KEYWORDS[word] for word in ("database", "table", "schema")},
    "view": FILLED.says("a view that makes the columns there"),
    "beside": exactly("table").says("that what the view cannot make is written to a table beside it"),
}
WRITTEN_PLACE = options_of(WRITTEN_PLACE_KEYWORDS, "database", one_of_these=("table", "view"))
#: Words for readers, which anything of a book may have.
TITLE, NOTE = (
    ANYTHING.says("what it is called, for readers"),
    ANYTHING.says("words for readers"),
)
