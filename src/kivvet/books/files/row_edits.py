"""Rows of a table's file taken out or changed in a cell; every other character stays as it was."""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from kivvet.books.files.readers import read_csv_rows, read_text
from kivvet.books.files.toml_places import TomlPlaces
from kivvet.core.tables.inputs import columns_of
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError
from kivvet.core.words.wording import shown_path
from kivvet.io.source_and_target import AS_IT_SAYS, ReadOptions

_COMMA = re.compile(r"\s*,")
_COMMENT = re.compile(r"[ \t]*(?:#([^\n]*))?(?:\n|$)")


@dataclass(frozen=True)
class RowEdit:
    """What becomes of a row: it goes, or cells of it are written anew, and it takes in the comments of others.

    Attributes
    ----------
    cells : mapping of str or int to str, or None
        By heading, or by the place of the column, from 0, where two have one name. None: the row goes.
    took : tuple of int
        The rows, from 1, whose comments it takes.
    """

    cells: Mapping[str, str] | Mapping[int, str] | None = None
    took: tuple[int, ...] = field(default=())


def edited_rows(
    table: Table,
    path: Path,
    rows_file: Path | None,
    edits: Mapping[int, RowEdit],
    options: ReadOptions = AS_IT_SAYS,
) -> tuple[Path, str]:
    """Return the file that holds the rows of a table, and its text with rows edited.

    Parameters
    ----------
    table : Table
    path : Path
        Its TOML file.
    rows_file : Path or None
        The file beside it that holds the rows, if they do not stand in it.
    edits : mapping of int to RowEdit
        By the number of a row, from 1.
    options : ReadOptions
        How the file of the rows is read.

    Raises
    ------
    BookError
        If the file cannot be read any more.
    """
    file = rows_file or path
    text, faults = read_text(file, encoding=options.encoding)
    if faults:
        raise BookError(faults[0].message, place=faults[0].places[0])
    line_end = "\r\n" if "\r\n" in text else "\n"
    plain = text.replace("\r\n", "\n")
    made = (
        _of_toml(table, path, plain, edits)
        if rows_file is None
        else _of_csv(table, rows_file, plain, edits, options)
    )
    return file, made.replace("\n", line_end) if line_end != "\n" else made


def _headings(table: Table) -> list[str]:
    return list(table.header) or [column.name for column in columns_of(table.inputs, table.outputs)]


def _of_toml(table: Table, path: Path, text: str, edits: Mapping[int, RowEdit]) -> str:
    places = TomlPlaces(text, shown_path(path))
    shift = 1 if table.header else 0
    headings = _headings(table)
    spans: list[tuple[int, int, str]] = []
    for number, edit in edits.items():
        row = number - 1 + shift
        if edit.cells is None:
            spans.append((*_whole_row(text, places, row), ""))
            continue
        for name, cell in edit.cells.items():
            at = ("rows", row, name if isinstance(name, int) else headings.index(name))
            spans.append(_of_cell(text, places.start(at), places.end(at), cell))
        taken = [_comment(text, places, one - 1 + shift)[0] for one in edit.took]
        if said := "; ".join(one for one in dict.fromkeys(taken) if one):
            own, at_end = _comment(text, places, row)
            spans.append((at_end, at_end, f"; {said}" if own else f"  # {said}"))
    for start, end, new in sorted(spans, reverse=True):
        text = text[:start] + new + text[end:]
    return text


def _of_cell(text: str, offset: int, end: int, cell: str) -> tuple[int, int, str]:
    """Return the span of a cell with its comma and the blanks after it, and what stands there then."""
    start = offset - (text[offset - 1] in "\"'")
    new = json.dumps(cell, ensure_ascii=False)
    match = re.compile(r"([ \t]*,)([ \t]*)").match(text, end)
    if match is None:
        return start, end, new
    grown = len(new) - (end - start)
    blanks = max(1, len(match[2]) - grown) if match[2] else 0
    return start, match.end(), new + match[1] + " " * blanks


def _whole_row(text: str, places: TomlPlaces, row: int) -> tuple[int, int]:
    """Return the span of a row and its comma: all of its lines and their comment, unless another begins before it."""
    start = places.start(("rows", row))
    line = text.rfind("\n", 0, start) + 1
    if not text[line:start].strip():
        end = _after_comma(text, places, row)
        rest = _COMMENT.match(text, end)
        return line, end if rest is None else rest.end()
    end = _after_comma(text, places, row)
    return line + len(text[line:start].rstrip()), end


def _after_comma(text: str, places: TomlPlaces, row: int) -> int:
    end = places.end(("rows", row))
    comma = _COMMA.match(text, end)
    return end if comma is None else comma.end()


def _comment(text: str, places: TomlPlaces, row: int) -> tuple[str, int]:
    """Return the comment that stands after a row on its line, and where it ends, or could begin."""
    end = _after_comma(text, places, row)
    rest = _COMMENT.match(text, end)
    said = "" if rest is None else (rest[1] or "").rstrip()
    return said.strip(), end if rest is None or not said else rest.start(1) + len(said)


def row_comments(table: Table, path: Path, text: str) -> list[str]:
    """Return the comment that stands after each row of a TOML file on its line; nothing where there is none."""
    places = TomlPlaces(text, shown_path(path))
    shift = 1 if table.header else 0
    return [_comment(text, places, row + shift)[0] for row in range(len(table.rows))]


def _of_csv(table: Table, file: Path, text: str, edits: Mapping[int, RowEdit], options: ReadOptions) -> str:
    rows, faults = read_csv_rows(file, table.name, options)
    if rows is None:
        raise BookError(faults[0].message, place=faults[0].places[0])
    lines = text.splitlines(keepends=True)
    starts = [line - 1 for line in rows.lines] + [len(lines)]
    headings = [one.strip() for one in rows.records[0]]
    columns = {
        column.name: column.column or column.name for column in columns_of(table.inputs, table.outputs)
    }
    note = headings.index("note") if "note" in headings and "note" not in columns else None
    made = "".join(lines[: starts[1] if len(starts) > 1 else 0])
    for number in range(1, len(rows.records)):
        own = "".join(lines[starts[number] : starts[number + 1]])
        edit = edits.get(number)
        if edit is None:
            made += own
        elif edit.cells is not None:
            record = list(rows.records[number])
            for name, cell in edit.cells.items():
                record[_column(headings, name, columns)] = cell
            if note is not None:
                notes = [record[note], *(rows.records[one][note] for one in edit.took)]
                record[note] = "; ".join(filter(None, dict.fromkeys(map(str.strip, notes))))
            made += _csv_line(record, rows.delimiter, options.quote)
    return made


def _column(headings: Sequence[str], name: str | int, columns: Mapping[str, str]) -> int:
    if isinstance(name, int):
        return name
    return headings.index(name if name in headings else columns[name])


def _csv_line(record: Sequence[str], delimiter: str, quote: str) -> str:
    buffer = io.StringIO()
    csv.writer(buffer, delimiter=delimiter, lineterminator="\n", quotechar=quote).writerow(record)
    return buffer.getvalue()
