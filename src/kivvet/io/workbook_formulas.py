"""The formulas of one column of a sheet, as the workbook holds them."""

from __future__ import annotations

import html
import re
from dataclasses import dataclass, field
from pathlib import Path
from xml.parsers import expat

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place, column_letters
from kivvet.core.words.wording import shown_path
from kivvet.io.workbook_parts import opened_package, pieces_of_sheet
from kivvet.io.workbook_traps import chunks_of


@dataclass
class ColumnFormulas:
    """Formulas by row of the sheet.

    Attributes
    ----------
    texts : dict of int to str
    copies : dict of int to int
        By row that holds a copy the row of the formula that it is a copy of.
    """

    texts: dict[int, str] = field(default_factory=dict)
    copies: dict[int, int] = field(default_factory=dict)


def formulas_of(path: Path, sheet: str, column: int) -> ColumnFormulas:
    """Return the formulas of a column, counted from 1.

    Raises
    ------
    DataError
        If the file cannot be read, its form does not show formulas, or one is of an array.
    """
    with opened_package(path) as package:
        if path.suffix.lower() == ".ods":
            scan = _OdsFormulas(sheet, column)
            parser = expat.ParserCreate()
            parser.StartElementHandler = scan.start
            for chunk in chunks_of(package, "content.xml"):
                parser.Parse(chunk, False)
            parser.Parse(b"", True)
            return scan.found
        pieces = pieces_of_sheet(path, package, sheet)
        if pieces is None:
            raise DataError(
                f"formulas are read from .xlsx, .xlsm and .ods, not from {path.suffix}",
                place=Place(shown_path(path)),
                fix="save it as .xlsx",
            )
        letters = column_letters(column).encode()
        cell = re.compile(rb'<c r="' + letters + rb'(\d+)"[^>]*>\s*<f([^>]*?)(?:/>|>([^<]*)</f>)')
        found = ColumnFormulas()
        shared: dict[bytes, int] = {}
        for piece in pieces:
            for row_text, said, text in cell.findall(piece):
                row = int(row_text)
                if b't="array"' in said or b't="dataTable"' in said:
                    raise DataError(
                        "an array formula stands here, which is not taken over",
                        place=Place(shown_path(path), row, column, sheet),
                    )
                group = re.search(rb'\bsi="(\d+)"', said)
                if group is not None and group[1] in shared and not text:
                    found.copies[row] = shared[group[1]]
                    continue
                if group is not None:
                    shared[group[1]] = row
                found.texts[row] = html.unescape(text.decode("utf-8", "replace"))
        return found


class _OdsFormulas:
    """Handlers that count rows and columns as they are repeated, and note the formulas of one column."""

    def __init__(self, sheet: str, column: int) -> None:
        self.sheet, self.wanted = sheet, column
        self.is_there = False
        self.row = self.rows = self.column = 0
        self.found = ColumnFormulas()

    def start(self, tag: str, said: dict[str, str]) -> None:
        if tag == "table:table":
            self.is_there = said.get("table:name") == self.sheet
            self.row = self.rows = 0
        elif not self.is_there:
            return
        elif tag == "table:table-row":
            self.row += self.rows or 0
            self.rows = int(said.get("table:number-rows-repeated", "1"))
            self.row, self.column = self.row + (1 if self.row == 0 else 0), 0
        elif tag in ("table:table-cell", "table:covered-table-cell"):
            first = self.column + 1
            self.column += int(said.get("table:number-columns-repeated", "1"))
            if first <= self.wanted <= self.column and "table:formula" in said:
                self.found.texts[self.row] = said["table:formula"]
