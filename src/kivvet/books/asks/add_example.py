"""Adding the case that an explanation speaks of to the examples of its table."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kivvet.books.asks.draft_table import csv_text, write_files
from kivvet.books.files.open_book import OpenBook
from kivvet.books.files.read_table import read_table
from kivvet.books.files.readers import read_csv_rows, read_text, read_toml
from kivvet.books.files.table_files import as_files
from kivvet.books.files.toml_places import TomlPlaces
from kivvet.books.files.toml_rows import with_row_added
from kivvet.core.read.examples import NOTE
from kivvet.core.read.table_text import result_text
from kivvet.core.run.explanation import Explanation
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError
from kivvet.core.words.places import Place
from kivvet.core.words.values import write_plain
from kivvet.core.words.wording import shown_path
from kivvet.io.formats import delimiter_of


@dataclass(frozen=True)
class ExampleAdded:
    """An example that was added to a table.

    Attributes
    ----------
    table : str
    file : Path
    number : int
        Counted from 1.
    cells : mapping of str to str
        By heading.
    is_new : bool
        False where the table had the example already, so that nothing was written.
    """

    table: str
    file: Path
    number: int
    cells: Mapping[str, str]
    is_new: bool = True

    def as_dict(self) -> dict[str, Any]:
        return {
            "table": self.table,
            "file": shown_path(self.file),
            "number": self.number,
            "cells": dict(self.cells),
            "new": self.is_new,
        }


def add_example(book: OpenBook, explained: Explanation, note: str = "") -> ExampleAdded:
    """Add what was explained to the examples of its table, which are written beside its rows, or in the file that they name.

    Raises
    ------
    BookError
        If the file cannot be changed.
    """
    table = book.table(explained.table)
    path = book.file_of_table(table.name)
    cells = _cells(table, explained, note)
    document, faults = read_toml(path)
    if document is None:
        raise BookError(faults[0].message, place=faults[0].places[0])
    given = document.values.get("examples")
    number = 1 + (max((example.number for example in table.examples), default=0))
    file = path.parent / given if isinstance(given, str) else path
    headings, lacking = _headings(given, file, table, cells)
    for example in table.examples:
        if _is_that(example.values, example.expected, explained):
            return ExampleAdded(table.name, file, example.number, cells, is_new=False)
    record = [cells.get(name, "") for name in headings]
    text, faults = read_text(file)
    if faults:
        raise BookError(faults[0].message, place=faults[0].places[0])
    line_end = "\r\n" if "\r\n" in text else "\n"
    if isinstance(given, str):
        made = _csv_with(text, file, headings, record, lacking, line_end)
    else:
        plain = text.replace("\r\n", "\n")
        made = _toml_with(plain, path, headings, record, given, lacking).replace("\n", line_end)
    with as_files(path, file, made) as (there, _):
        again, _, _ = read_table(there)
    if again is None or len(again.examples) != len(table.examples) + 1:
        raise BookError("an example cannot be added here", place=Place(shown_path(file)))
    mark = "\ufeff" if file.read_bytes().startswith(b"\xef\xbb\xbf") else ""
    write_files({file: mark + made})
    return ExampleAdded(table.name, file, number, cells)


def _cells(table: Table, explained: Explanation, note: str) -> dict[str, str]:
    values = {
        name: "" if name in explained.without else result_text(value) if _is_text(table, name) else value
        for name, value in explained.values.items()
    }
    results = {name: _expected(value) for name, value in explained.results.items()}
    return {**values, **results, **({NOTE: note} if note else {})}


def _is_text(table: Table, name: str) -> bool:
    about = table.reads.get(name)
    return about is None or about.type == "text"


def _expected(value: Any) -> str:
    if value is None:
        return "missing"
    if isinstance(value, list):
        return "; ".join(map(write_plain, value)) or "missing"
    return result_text(value) if isinstance(value, str) else write_plain(value)


def _is_that(values: Mapping[str, Any], expected: Mapping[str, Any], explained: Explanation) -> bool:
    """Whether an example has the values explained and expects just these results."""
    said = {name: write_plain(value) for name, value in values.items() if value is not None}
    same = all(
        name not in said if name in explained.without else said.get(name) == value
        for name, value in explained.values.items()
    )
    wanted = {name: write_plain(value) for name, value in expected.items()}
    return same and wanted == {name: write_plain(value) for name, value in explained.results.items()}


def _headings(given: Any, file: Path, table: Table, cells: Mapping[str, str]) -> tuple[list[str], list[str]]:
    """Return the headings of the examples, and those of them that are not there yet."""
    there: list[str] = []
    if isinstance(given, str):
        rows, faults = read_csv_rows(file, table.name)
        if rows is None:
            raise BookError(faults[0].message, place=faults[0].places[0])
        there = rows.records[0]
    elif given:
        there = [str(one).strip() for one in given[0]]
    else:
        return list(cells), []
    lacking = [name for name, cell in cells.items() if cell and name not in there]
    return [*there, *lacking], lacking


def _csv_with(
    text: str,
    file: Path,
    headings: Sequence[str],
    record: Sequence[str],
    lacking: Sequence[str],
    line_end: str,
) -> str:
    """Return a CSV text with an example more; where there are new headings, all of its lines are written anew."""
    rows, _ = read_csv_rows(file)
    delimiter = delimiter_of(file) if rows is None else rows.delimiter
    if lacking and rows is not None:
        others = [[*record, *[""] * len(lacking)] for record in rows.records[1:]]
        return csv_text([headings, *others, record], delimiter, line_end)
    end = "" if text.endswith("\n") or not text else line_end
    return text + end + csv_text([record], delimiter, line_end)


def _toml_with(
    text: str,
    path: Path,
    headings: Sequence[str],
    record: Sequence[str],
    given: Sequence[Any] | None,
    lacking: Sequence[str],
) -> str:
    """Return a TOML text with an example more, every other character as it was."""
    line = f"  [{', '.join(map(_quoted, record))}],"
    places = TomlPlaces(text, shown_path(path))
    if not given:
        block = f"examples = [\n  [{', '.join(map(_quoted, headings))}],\n{line}\n]\n"
        if given is not None:
            start, end = places.start(("examples",)), places.end(("examples",)) + 1
            return text[:start] + block.rstrip("\n") + text[end:]
        # An option of the whole table stands before the first heading in brackets.
        at = len(text) if places.first_heading is None else places.first_heading
        before = "" if not text[:at].strip() or text[:at].endswith("\n\n") else "\n"
        before = before if text[:at].endswith("\n") else f"\n{before}"
        after = f"\n{text[at:]}" if text[at:] else ""
        return f"{text[:at]}{before}{block}{after}"
    more = []
    for number in range(len(given) if lacking else 0):
        inside = places.end(("examples", number)) - 1  # before the bracket that closes the row
        cells = lacking if number == 0 else [""] * len(lacking)
        filled = text[:inside].rstrip()
        comma = "" if filled.endswith(",") else ","
        more.append((len(filled), f"{comma} {', '.join(map(_quoted, cells))}"))
    return with_row_added(text, path, "examples", len(given), line, more)


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
