"""What a finding's remedy would change in a file, where that is one change that can be made by a machine."""

from __future__ import annotations

import csv
import difflib
import io
import json
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kivvet.books.files.database_rows import rows_in_database
from kivvet.books.files.read_table import how_rows_are_read, row_files
from kivvet.books.files.readers import read_csv_rows, read_text
from kivvet.books.files.row_edits import RowEdit, edited_rows
from kivvet.books.files.toml_rows import with_row_added
from kivvet.core.tables.inputs import columns_of
from kivvet.core.tables.table import WHEN, Table
from kivvet.core.words.findings import Finding
from kivvet.io.formats import ROW_ENDINGS
from kivvet.io.source_and_target import AS_IT_SAYS, ReadOptions

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

#: Kinds whose cure is to take out the first row that they name.
_NEEDLESS = ("duplicate", "shadowed", "impossible")


@dataclass(frozen=True, slots=True)
class LinesReplaced:
    """Lines of a file, from 1, that are replaced: `first` to the one before `end`; none where the two are the same."""

    first: int
    end: int
    text: str


@dataclass(frozen=True)
class SuggestedChange:
    """A change of one file."""

    file: Path
    lines: tuple[LinesReplaced, ...]


def suggested_change(book: OpenBook, found: Finding) -> SuggestedChange | None:
    """Return the change that would cure a finding; None where it takes more than a row, or somebody has to choose."""
    table = book.tables.get(found.table)
    if table is None or table.lookup is not None or found.is_of_formula or found.possible:
        return None
    if not table.is_complete or book.is_used(table.name):
        return None
    path = book.file_of_table(table.name)
    if rows_in_database(path):
        return None
    rows_file = next(iter(row_files(path)), None) if table.has_rows_file else None
    file = rows_file or path
    options = AS_IT_SAYS if rows_file is None else how_rows_are_read(path)[0]
    text, faults = read_text(file, encoding=options.encoding)
    if faults or (rows_file is not None and not rows_file.name.lower().endswith(ROW_ENDINGS)):
        return None
    if found.kind in _NEEDLESS and found.rows:
        _, made = edited_rows(table, path, rows_file, {found.rows[0]: RowEdit()}, options)
    elif found.kind == "gap" and found.region is not None and table.rows:
        cells = _cells(table, found.region)
        if cells is None:
            return None
        plain = text.replace("\r\n", "\n")
        made = _with_row(table, path, rows_file, plain, cells, options)
        made = made.replace("\n", "\r\n") if "\r\n" in text else made
    else:
        return None
    return SuggestedChange(file, _lines_replaced(text, made))


def _cells(table: Table, region: Mapping[str, str]) -> dict[str, str] | None:
    """Return the cells of a row that covers a region, results blank; None where a column for it is not there."""
    headings = table.header or tuple(one.name for one in columns_of(table.inputs, table.outputs))
    if WHEN in region and WHEN not in headings:
        return None
    return {name: region.get(name, "") for name in headings}


def _with_row(
    table: Table,
    path: Path,
    rows_file: Path | None,
    text: str,
    cells: Mapping[str, str],
    options: ReadOptions,
) -> str:
    if rows_file is not None:
        columns = {one.name: one.column or one.name for one in columns_of(table.inputs, table.outputs)}
        record = dict(cells)
        rows, _ = read_csv_rows(rows_file, table.name, options)
        assert rows is not None, "it was read before"
        of_heading = {heading: name for name, heading in columns.items()}
        buffer = io.StringIO()
        fields = [record.get(of_heading.get(name.strip(), name.strip()), "") for name in rows.records[0]]
        csv.writer(buffer, delimiter=rows.delimiter, lineterminator="\n", quotechar=options.quote).writerow(
            fields
        )
        return text + ("" if text.endswith("\n") else "\n") + buffer.getvalue()
    line = f"  [{', '.join(json.dumps(cell, ensure_ascii=False) for cell in cells.values())}],"
    return with_row_added(text, path, "rows", len(table.rows) + bool(table.header), line)


def _lines_replaced(before: str, after: str) -> tuple[LinesReplaced, ...]:
    old, new = before.splitlines(keepends=True), after.splitlines(keepends=True)
    return tuple(
        LinesReplaced(start + 1, end + 1, "".join(new[low:high]))
        for tag, start, end, low, high in difflib.SequenceMatcher(
            None, old, new, autojunk=False
        ).get_opcodes()
        if tag != "equal"
    )
