"""Looking through the parts of a workbook before anything reads its values: for what it holds besides them, and for whether
it unpacks to an absurd size.
"""

from __future__ import annotations

import re
import zipfile
import zlib
from collections import Counter
from collections.abc import Collection, Iterator
from pathlib import Path
from typing import Literal
from xml.etree import ElementTree as ET

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place, column_number
from kivvet.core.words.wording import shown_path
from kivvet.io.workbook_parts_ods import traps_of_ods
from kivvet.io.workbook_traps import (
    CHUNK,
    SheetTraps,
    Shown,
    Traps,
    broken,
    chunks_of,
    protected,
    refuse_wide,
    shown_by_code,
)

MOST_UNPACKED = 4 << 30
_MOST_RATIO, _SMALL = 300, 64 << 20  # a part that is packed more closely, and larger, is no sheet
_MOST_PART = 64 << 20  # of the parts that are read whole: names, styles
_FORMATS_LOOKED_AT = (
    4 << 20
)  # bytes at the beginning of a sheet, in which the formats of its columns are looked at
_NUMBER_FORMATS_OF_MONEY = frozenset({5, 6, 7, 8, 37, 38, 39, 40, 41, 42, 43, 44})  # built in
_NUMBER_FORMATS_OF_SHARES = frozenset({9, 10})


def traps_of(path: Path, sheets: Collection[str] | None = None) -> Traps:
    """Return what a workbook holds besides values.

    Parameters
    ----------
    path : Path
        Of a file in the forms of ISO/IEC 29500 (.xlsx, .xlsm) or 26300 (.ods).
    sheets : collection of str, optional
        Those that are looked through; all without it.

    Raises
    ------
    DataError
        If it is no such file, or unpacks to an absurd size.
    """
    try:
        with zipfile.ZipFile(path) as package:
            _refuse_bombs(path, package)
            if path.suffix.lower() == ".ods":
                return traps_of_ods(path, package, sheets)
            return _of_office_open(path, package, sheets)
    except (zipfile.BadZipFile, zlib.error, EOFError, KeyError, ET.ParseError, NotImplementedError) as error:
        raise broken(path, str(error)) from error
    except RuntimeError as error:  # of a part that is encrypted
        raise protected(path) from error


def _refuse_bombs(path: Path, package: zipfile.ZipFile) -> None:
    parts = package.infolist()
    whole = sum(part.file_size for part in parts)
    odd = [
        part
        for part in parts
        if part.file_size > _SMALL and part.file_size > _MOST_RATIO * max(1, part.compress_size)
    ]
    if whole > MOST_UNPACKED or odd:
        raise DataError(
            f"unpacks to {max(whole, 1) >> 20:,} MB",
            place=Place(shown_path(path)),
            expected=f"at most {MOST_UNPACKED >> 20:,} MB, and no part packed more than {_MOST_RATIO}-fold",
            fix="take out what is not needed, or save the sheet as CSV",
        )


def _tree(package: zipfile.ZipFile, part: str) -> ET.Element:
    """Return a small part as a tree; nothing it declares is expanded."""
    if package.getinfo(part).file_size > _MOST_PART:
        raise ET.ParseError(f"{part} is larger than it can be")
    text = package.read(part)
    if b"<!DOCTYPE" in text or b"<!ENTITY" in text:
        raise ET.ParseError(f"{part} declares entities")
    return ET.fromstring(text)


def _local(tag: str) -> str:
    return tag.rsplit("}", 1)[-1]


def _of_office_open(path: Path, package: zipfile.ZipFile, sheets: Collection[str] | None) -> Traps:
    parts = set(package.namelist())
    if "xl/workbook.bin" in parts:
        return Traps(has_macros=_has_macros(parts), is_complete=False)
    book = _tree(package, "xl/workbook.xml")
    targets = {
        one.get("Id", ""): one.get("Target", "") for one in _tree(package, "xl/_rels/workbook.xml.rels")
    }
    traps = Traps(
        has_macros=_has_macros(parts),
        has_links=any(part.startswith("xl/externalLinks/") for part in parts),
    )
    styles = _shown_by_style(package) if "xl/styles.xml" in parts else []
    for element in book.iter():
        if _local(element.tag) == "workbookPr":
            traps.is_of_1904 = element.get("date1904") in ("1", "true")
        if _local(element.tag) == "definedName" and element.text and element.get("hidden") != "1":
            traps.names[element.get("name", "")] = element.text
        if _local(element.tag) != "sheet":
            continue
        name = element.get("name", "")
        target = next((value for key, value in element.attrib.items() if _local(key) == "id"), "")
        part = targets.get(target, "").lstrip("/")
        part = part if part.startswith("xl/") else f"xl/{part}"
        if part in parts and (sheets is None or name in sheets):
            traps.sheets[name] = _SheetScan(path, name, styles).of(chunks_of(package, part))
    return traps


def _has_macros(parts: Collection[str]) -> bool:
    return any(part.endswith("vbaProject.bin") for part in parts)


def _shown_by_style(package: zipfile.ZipFile) -> list[tuple[Shown | Literal[""], int]]:
    """Return by the number of a style how it shows numbers."""
    styles = _tree(package, "xl/styles.xml")
    codes = {
        int(one.get("numFmtId", "0")): one.get("formatCode", "")
        for one in styles.iter()
        if _local(one.tag) == "numFmt"
    }
    cells = next((one for one in styles if _local(one.tag) == "cellXfs"), None)
    found: list[tuple[Shown | Literal[""], int]] = []
    for one in () if cells is None else cells:
        number = int(one.get("numFmtId", "0"))
        if number in _NUMBER_FORMATS_OF_SHARES:
            found.append(("percent", 0))
        elif number in _NUMBER_FORMATS_OF_MONEY:
            found.append(("currency", 0))
        else:
            found.append(shown_by_code(codes.get(number, "")))
    return found


class _SheetScan:
    """Looks through the bytes of one sheet, a piece that ends with a whole cell after the other."""

    def __init__(self, path: Path, name: str, styles: list[tuple[Shown | Literal[""], int]]) -> None:
        self.path, self.name, self.styles = path, name, styles
        self.found = SheetTraps()
        self.seen = self.n_rows = 0
        self.low, self.high = [1 << 30, 1 << 30], [0, 0]  # between which rows and columns cells are filled

    def of(self, chunks: Iterator[bytes]) -> SheetTraps:
        left, prefix = b"", None
        for chunk in chunks:
            piece = left + chunk
            if prefix is None:
                prefix = self._prefix(piece)
                self._compile(prefix)
            cut = piece.rfind(b"<" + prefix + b"c ")
            cut = cut if cut > 0 else 0
            left, piece = piece[cut:], piece[:cut]
            if len(left) > 16 * CHUNK:
                raise broken(self.path, f"a cell of sheet {self.name!r} does not end")
            self._see(piece)
        self._see(left)
        refuse_wide(self.path, self.name, (self.low[0], self.low[1]), (self.high[0], self.high[1]))
        return self.found

    @staticmethod
    def _prefix(piece: bytes) -> bytes:
        """Return what stands before the names of elements: nothing, or a prefix with its colon."""
        match = re.search(rb"<((?:\w+:)?)worksheet[\s>]", piece)
        return match[1] if match else b""

    def _compile(self, prefix: bytes) -> None:
        p = re.escape(prefix)
        self.row_hidden = re.compile(rb"<" + p + rb'row [^>]*\bhidden="(?:1|true)"')
        self.columns_hidden = re.compile(rb"<" + p + rb'col [^>]*\bhidden="(?:1|true)"[^>]*>')
        self.error = re.compile(
            rb"<" + p + rb'c ([^>]*\bt="e"[^>]*)>(?:<' + p + rb"f[^>]*/>|<" + p + rb"f[^>]*>[^<]*</" + p
            + rb"f>)?<" + p + rb"v>([^<]*)<"
        )  # fmt: skip
        self.unvalued = re.compile(
            rb"<" + p + rb"c ([^>]*)>(?:<" + p + rb"f[^>]*/>|<" + p + rb"f[^>]*>[^<]*</" + p + rb"f>)(?:<" + p
            + rb"v></" + p + rb"v>|<" + p + rb"v\s*/>)?</" + p + rb"c>"
        )  # fmt: skip
        self.cell = re.compile(rb"<" + p + rb'c [^>]*?\br="([A-Z]+)(\d+)"')
        self.plain_cell = b"<" + prefix + b'c r="'
        self.any_cell = b"<" + prefix + b"c "
        self.formula = b"<" + prefix + b"f"
        self.row = b"<" + prefix + b"row"
        self.long = re.compile(re.escape(self.plain_cell) + rb"(?:[A-Z]{2}|[A-Z]\d{7})")
        self.style = re.compile(
            rb"<"
            + p
            + rb'c (?=[^>]*\bs="(\d+)")(?![^>]*\bt="(?:s|str|inlineStr|b|e)")[^>]*?\br="([A-Z]+)\d+"'
        )

    def _see(self, piece: bytes) -> None:
        if not piece:
            return
        found = self.found
        if b"hidden=" in piece:
            found.hidden_rows += len(self.row_hidden.findall(piece))
            for one in self.columns_hidden.finditer(piece):
                ends = [int(n) for n in re.findall(rb'\b(?:min|max)="(\d+)"', one[0])]
                found.hidden_columns += (max(ends) - min(ends) + 1) if ends and max(ends) <= 16384 else 0
        if b't="e"' in piece:
            for one in self.error.finditer(piece):
                found.errors[self._at(one[1])] = one[2].decode("utf-8", "replace")
        if self.formula in piece:
            for one in self.unvalued.finditer(piece):
                if not (b't="str"' in one[1] and (b"v>" in one[0] or b"v/>" in one[0])):
                    found.unvalued.append(self._at(one[1]))
        if self.styles and self.seen < _FORMATS_LOOKED_AT:
            for style, letters in self.style.findall(piece):
                shown = self.styles[int(style)] if int(style) < len(self.styles) else ("", 0)
                found.shown.setdefault(column_number(letters.decode()), Counter())[shown] += 1
        self.seen += len(piece)
        self._measure(piece)

    @staticmethod
    def _at(attributes: bytes) -> tuple[int, int]:
        match = re.search(rb'\br="([A-Z]{1,3})(\d{1,7})"', attributes)
        return (int(match[2]), column_number(match[1].decode())) if match else (0, 0)

    def _measure(self, piece: bytes) -> None:
        """Bound where the cells of a piece lie, so that what a reader would hold is known before one reads it.

        References of one letter and up to six digits lie in 26 columns: the last says enough. All others are looked at
        one by one, and cells without a reference are counted row by row.
        """
        n_cells, n_plain = piece.count(self.any_cell), piece.count(self.plain_cell)
        if n_cells == n_plain and self.long.search(piece) is None:
            last = self.cell.match(piece, max(0, piece.rfind(self.plain_cell)))
            if last is not None:
                self._reach(1, 1, int(last[2]), 26)
            return
        references = self.cell.findall(piece)
        if references:
            rows = [int(row) for _, row in references]
            columns = [column_number(one.decode()) for one in {letters for letters, _ in references}]
            self._reach(min(rows), min(columns), max(rows), max(columns))
        if len(references) < n_cells:
            lines = piece.split(self.row)
            self.n_rows += len(lines) - 1
            self._reach(1, 1, max(self.n_rows, 1), max(one.count(self.any_cell) for one in lines))

    def _reach(self, top: int, left: int, bottom: int, right: int) -> None:
        self.low = [min(self.low[0], top), min(self.low[1], left)]
        self.high = [max(self.high[0], bottom), max(self.high[1], right)]
