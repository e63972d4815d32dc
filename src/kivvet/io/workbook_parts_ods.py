"""What an OpenDocument workbook holds besides values; see `workbook_parts`."""

from __future__ import annotations

import re
import zipfile
from collections import Counter
from collections.abc import Collection
from pathlib import Path
from xml.parsers import expat

from kivvet.io.workbook_traps import (
    SheetTraps,
    Traps,
    broken,
    chunks_of,
    protected,
    refuse_wide,
    shown_by_code,
)

_MOST_FORMATS = 20_000  # cells whose form is looked at


def traps_of_ods(path: Path, package: zipfile.ZipFile, sheets: Collection[str] | None) -> Traps:
    """Return what an OpenDocument workbook holds besides values; `DataError` where it is broken or absurdly large."""
    parts = set(package.namelist())
    if "META-INF/manifest.xml" in parts and b"encryption-data" in package.read("META-INF/manifest.xml"):
        raise protected(path)
    scan = _Scan(path, sheets)
    parser = expat.ParserCreate()
    parser.buffer_text = True
    parser.StartElementHandler, parser.EndElementHandler = scan.start, scan.end
    parser.CharacterDataHandler = scan.text
    parser.StartDoctypeDeclHandler = scan.refuse_entities
    try:
        for chunk in chunks_of(package, "content.xml"):
            parser.Parse(chunk, False)
        parser.Parse(b"", True)
    except (expat.ExpatError, ValueError) as error:  # numbers of repeated cells that are none
        raise broken(path, str(error)) from error
    return scan.traps


class _Scan:
    """Handlers for the elements of content.xml, which count rows and columns as they are repeated."""

    def __init__(self, path: Path, sheets: Collection[str] | None) -> None:
        self.path, self.wanted = path, sheets
        self.traps = Traps()
        self.sheet: SheetTraps | None = None
        self.name = ""
        self.row = self.column = self.rows = self.columns = 0
        self.low, self.high = [1 << 30, 1 << 30], [0, 0]
        self.written: list[str] | None = None  # the text of a cell that is looked at
        self.kind = ""
        self.n_seen = 0

    def refuse_entities(self, *_: object) -> None:
        raise broken(self.path, "content.xml declares entities")

    def start(self, tag: str, said: dict[str, str]) -> None:
        if tag == "table:table-cell":
            self._cell(said)
        elif tag == "table:covered-table-cell":
            self.columns = int(said.get("table:number-columns-repeated", "1"))
            self.column += self.columns
        elif tag == "table:table-row":
            self.rows = int(said.get("table:number-rows-repeated", "1"))
            self.row, self.column = self.row + self.rows, 0
            is_hidden = said.get("table:visibility") in ("collapse", "filter")
            if is_hidden and self.sheet is not None and self.rows < 100_000:
                self.sheet.hidden_rows += self.rows
        elif tag == "table:table-column":
            repeated = int(said.get("table:number-columns-repeated", "1"))
            if said.get("table:visibility") in ("collapse", "filter") and self.sheet and repeated < 10_000:
                self.sheet.hidden_columns += repeated
        elif tag == "table:table":
            self.name = said.get("table:name", "")
            self.row = self.column = 0
            self.low, self.high = [1 << 30, 1 << 30], [0, 0]
            self.sheet = SheetTraps() if self.wanted is None or self.name in self.wanted else None
            if self.sheet is not None:
                self.traps.sheets[self.name] = self.sheet
        elif tag == "table:named-range":
            self.traps.names[said.get("table:name", "")] = _as_range(said.get("table:cell-range-address", ""))

    def _cell(self, said: dict[str, str]) -> None:
        first = self.column + 1
        self.columns = int(said.get("table:number-columns-repeated", "1"))
        self.column += self.columns
        self.kind = said.get("office:value-type", "")
        if self.sheet is None or not (self.kind or "table:formula" in said):
            return
        self.low = [min(self.low[0], self.row - self.rows + 1), min(self.low[1], first)]
        self.high = [max(self.high[0], self.row), max(self.high[1], self.column)]
        if said.get("calcext:value-type") == "error":
            self.kind = "error"
        elif "table:formula" in said and not self.kind:
            self.sheet.unvalued.append((self.row, first))
        if self.kind == "error" or (
            self.kind in ("percentage", "currency", "float") and self.n_seen < _MOST_FORMATS
        ):
            self.written = []

    def text(self, text: str) -> None:
        if self.written is not None:
            self.written.append(text)

    def end(self, tag: str) -> None:
        if tag == "table:table-cell" and self.written is not None and self.sheet is not None:
            text = "".join(self.written).strip()
            self.written = None
            first = self.column - self.columns + 1
            if self.kind == "error":
                for row in range(self.row - self.rows + 1, self.row + 1):
                    for column in range(first, self.column + 1):
                        if len(self.sheet.errors) < 1_000_000:
                            self.sheet.errors[row, column] = text or "#ERROR"
                return
            self.n_seen += 1
            shown = {"percentage": ("percent", 0), "currency": ("currency", 0)}.get(self.kind)
            if shown is None:
                is_code = len(text) > 1 and text.startswith("0") and text.isdigit()
                shown = ("zeros", len(text)) if is_code else shown_by_code("")
            for column in range(first, min(self.column, first + 1000) + 1):
                self.sheet.shown.setdefault(column, Counter())[shown] += 1  # type: ignore[index]
        elif tag == "table:table" and self.sheet is not None:
            refuse_wide(self.path, self.name, (self.low[0], self.low[1]), (self.high[0], self.high[1]))
            self.sheet = None


def _as_range(address: str) -> str:
    """Return the address of a range as the other format writes it: ``$Sheet.$A$1:.$C$9`` as ``Sheet!$A$1:$C$9``."""
    sheet, dot, cells = (
        address.rpartition(":")[0].rpartition(".") if ":" in address else address.rpartition(".")
    )
    last = address.rpartition(":")[2].rpartition(".")[2] if ":" in address else ""
    name = sheet.removeprefix("$")
    return f"{name}!{cells}{':' + last if last else ''}" if dot else re.sub(r"^\.", "", address)
