"""Rows of a table that stand on a sheet of a workbook: conditions and results as texts, with their cells."""

from __future__ import annotations

from pathlib import Path

from kivvet.books.files.readers import CsvRows
from kivvet.core.words.errors import DataError
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.source_and_target import ReadOptions


def read_sheet_rows(path: Path, table: str, options: ReadOptions) -> tuple[CsvRows | None, list[Finding]]:
    """Return the rows of a sheet, headings first, or the findings about it.

    A result that begins with ``:=`` is a formula of Kivvet: what begins with ``=`` alone is one of the workbook, whose value
    is read.
    """
    from kivvet.io.workbook_cells import cell_text
    from kivvet.io.workbook_source import WorkbookSource

    try:
        source = WorkbookSource(path, options)
    except DataError as error:
        place = error.place or Place(shown_path(path))
        fault = finding("syntax", error.problem, table=table, places=(place,), remedy=error.fix or "")
        return None, [fault]
    if len(source.tables) > 1:
        message = "rows of one table stand on one sheet"
        return None, [finding("syntax", message, table=table, places=(Place(shown_path(path)),))]
    found = source.tables[0]
    records = [list(found.names)]
    records += [[_plain(cell_text(row[at])) for at in found.columns] for row in found.rows]
    columns = [found.cells.left + at for at in found.columns]
    notes = [
        finding(note.kind, note.message, table=table, places=(note.place,), remedy=note.fix)
        for note in source.notes
        if note.kind != "mixed-cells"
    ]
    return CsvRows(records, [found.line, *found.numbers], ",", found.cells.name, columns), notes


def _plain(text: str) -> str:
    return text.removeprefix(":") if text.startswith(":=") else text
