"""Looking through the parts of a workbook before anything reads its values: for what it holds besides them, and for whether
it unpacks to an absurd size.
"""

from __future__ import annotations

import re
import zipfile
import zlib
from collections import Counter
from collections.abc import Collection, Iterator
from contextlib import contextmanager
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

_BINARY = "xl/workbook.bin"
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
    with opened_package(path) as package:
        if path.suffix.lower() == ".ods":
            return traps_of_ods(path, package, sheets)
        parts = set(package.namelist())
        if _BINARY in parts:
            return Traps(has_macros=_has_macros(parts), is_complete=False)
        book, part_of = _book(package)
        styles = _shown_by_style(package) if "xl/styles.xml" in parts else []
        traps = Traps(
            _names(book),
            has_macros=_has_macros(parts),
            has_links=any(part.startswith("xl/externalLinks/") for part in parts),
            is_of_1904=any(
                _local(one.tag) == "workbookPr" and one.get("date1904") in ("1", "true")
                for one in book.iter()
            ),
        )
        for name, part in part_of.items():
            if sheets is None or name in sheets:
                traps.sheets[name] = _Look(styles).of(_pieces(path, name, chunks_of(package, part)))
        return traps


def refuse_far_apart(path: Path, sheet: str) -> None:
    """Raise `DataError` where the cells of a sheet lie so far apart that a reader would hold more than there can be.

    An OpenDocument sheet is looked at by `traps_of`.
    """
    with opened_package(path) as package:
        if path.suffix.lower() == ".ods" or _BINARY in package.namelist():
            return
        _, part_of = _book(package)
        if sheet in part_of:
            extent = _Extent()
            for piece in _pieces(path, sheet, chunks_of(package, part_of[sheet])):
                extent.see(piece)
            refuse_wide(path, sheet, (extent.low[0], extent.low[1]), (extent.high[0], extent.high[1]))


def pieces_of_sheet(path: Path, package: zipfile.ZipFile, sheet: str) -> Iterator[bytes] | None:
    """Return the bytes of a sheet in pieces that end with a whole cell; None where the form of the file has no such part."""
    if _BINARY in package.namelist() or "xl/workbook.xml" not in package.namelist():
        return None
    _, part_of = _book(package)
    return _pieces(path, sheet, chunks_of(package, part_of[sheet])) if sheet in part_of else None


@contextmanager
def opened_package(path: Path) -> Iterator[zipfile.ZipFile]:
    """Give a workbook as the package of parts that it is; what is wrong with it as errors for people."""
    try:
        with zipfile.ZipFile(path) as package:
            _refuse_bombs(path, package)
            yield package
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


def _book(package: zipfile.ZipFile) -> tuple[ET.Element, dict[str, str]]:
    """Return the part that lists sheets, and by sheet the part that holds it."""
    book = _tree(package, "xl/workbook.xml")
    relations = _tree(package, "xl/_rels/workbook.xml.rels")
    targets = {relation.get("Id", ""): relation.get("Target", "") for relation in relations}
    part_of = {}
    for one in book.iter():
        if _local(one.tag) == "sheet":
            given = next((value for key, value in one.attrib.items() if _local(key) == "id"), "")
            part = targets.get(given, "").lstrip("/")
            part_of[one.get("name", "")] = part if part.startswith("xl/") else f"xl/{part}"
    known = set(package.namelist())
    return book, {name: part for name, part in part_of.items() if part in known}


def _names(book: ET.Element) -> dict[str, str]:
    """Return by the name of a range its cells."""
    return {
        one.get("name", ""): one.text
        for one in book.iter()
        if _local(one.tag) == "definedName" and one.text and one.get("hidden") != "1"
    }


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
    cells = next((style for style in styles if _local(style.tag) == "cellXfs"), None)
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


def _pieces(path: Path, sheet: str, chunks: Iterator[bytes]) -> Iterator[bytes]:
    """Yield the bytes of a sheet in pieces that end with a whole cell, written in one way: elements without a prefix, blanks
    after their names, values in double quotes.
    """
    left, prefix = b"", None
    for chunk in chunks:
        whole = left + chunk
        if prefix is None:
            match = re.search(rb"<((?:\w+:)?)worksheet[\s>]", whole)
            prefix = match[1] if match else b""
        cut = max(0, whole.rfind(b"<" + prefix + b"c"))
        left, piece = whole[cut:], whole[:cut]
        if len(left) > 16 * CHUNK:
            raise broken(path, f"a cell of sheet {sheet!r} does not end")
        if piece:
            yield _plainly(piece, prefix)
    if left:
        yield _plainly(left, prefix or b"")


def _plainly(piece: bytes, prefix: bytes) -> bytes:
    if prefix:
        piece = piece.replace(b"<" + prefix, b"<").replace(b"</" + prefix, b"</")
    if b" r='" in piece or b" t='" in piece or b" hidden='" in piece:
        piece = piece.replace(b"'", b'"')
    if any(sign in piece for sign in (b"<c\t", b"<c\n", b"<c\r")):
        piece = re.sub(rb"<c\s+", b"<c ", piece)
    return piece


class _Extent:
    """Between which rows and columns the cells of a sheet lie, so that what a reader would hold is known before one reads.

    References of one letter and up to six digits lie in 26 columns: the last says enough. All others are looked at one by
    one, and cells without a reference are counted row by row.
    """

    odd = re.compile(rb'<c (?!r="[A-Z]\d{1,6}")')
    cell = re.compile(rb'<c [^>]*?\br="([A-Z]+)(\d+)"')

    def __init__(self) -> None:
        self.n_rows = 0
        self.low, self.high = [1 << 30, 1 << 30], [0, 0]

    def see(self, piece: bytes) -> None:
        """Take in a piece of the sheet."""
        if self.odd.search(piece) is None:
            last = self.cell.match(piece, max(0, piece.rfind(b"<c ")))
            if last is not None:
                self._reach(1, 1, int(last[2]), 26)
            return
        references = self.cell.findall(piece)
        if references:
            rows = [int(row) for _, row in references]
            columns = [column_number(one.decode()) for one in {letters for letters, _ in references}]
            self._reach(min(rows), min(columns), max(rows), max(columns))
        if len(references) < piece.count(b"<c "):
            lines = piece.split(b"<row")
            self.n_rows += len(lines) - 1
            self._reach(1, 1, max(self.n_rows, 1), max(line.count(b"<c ") for line in lines))

    def _reach(self, top: int, left: int, bottom: int, right: int) -> None:
        self.low = [min(self.low[0], top), min(self.low[1], left)]
        self.high = [max(self.high[0], bottom), max(self.high[1], right)]


class _Look:
    """What a sheet holds besides values: hidden rows, errors, formulas without values, formats of numbers."""

    row_hidden = re.compile(rb'<row [^>]*\bhidden="(?:1|true)"')
    columns_hidden = re.compile(rb'<col [^>]*\bhidden="(?:1|true)"[^>]*>')
    error = re.compile(rb'<c ([^>]*\bt="e"[^>]*)>(?:<f[^>]*/>|<f[^>]*>[^<]*</f>)?<v>([^<]*)<')
    unvalued = re.compile(rb"<c ([^>]*)>(?:<f[^>]*/>|<f[^>]*>[^<]*</f>)(?:<v></v>|<v\s*/>)?</c>")
    style = re.compile(
        rb'<c (?=[^>]*\bs="(\d+)")(?![^>]*\bt="(?:s|str|inlineStr|b|e)")[^>]*?\br="([A-Z]+)\d+"'
    )

    def __init__(self, styles: list[tuple[Shown | Literal[""], int]]) -> None:
        self.styles = styles
        self.found = SheetTraps()

    def of(self, pieces: Iterator[bytes]) -> SheetTraps:
        """Return what all pieces of a sheet show."""
        seen = 0
        for piece in pieces:
            self._see(piece)
            if self.styles and seen < _FORMATS_LOOKED_AT:
                for style, letters in self.style.findall(piece):
                    shown = self.styles[int(style)] if int(style) < len(self.styles) else ("", 0)
                    self.found.shown.setdefault(column_number(letters.decode()), Counter())[shown] += 1
            seen += len(piece)
        return self.found

    def _see(self, piece: bytes) -> None:
        found = self.found
        if b"hidden=" in piece:
            found.hidden_rows += len(self.row_hidden.findall(piece))
            for one in self.columns_hidden.finditer(piece):
                ends = [int(n) for n in re.findall(rb'\b(?:min|max)="(\d+)"', one[0])]
                found.hidden_columns += (max(ends) - min(ends) + 1) if ends and max(ends) <= 16384 else 0
        if b't="e"' in piece:
            for one in self.error.finditer(piece):
                found.errors[_at(one[1])] = one[2].decode("utf-8", "replace")
        if b"<f" in piece:
            for one in self.unvalued.finditer(piece):
                if not (b't="str"' in one[1] and (b"v>" in one[0] or b"v/>" in one[0])):
                    found.unvalued.append(_at(one[1]))


def _at(attributes: bytes) -> tuple[int, int]:
    match = re.search(rb'\br="([A-Z]{1,3})(\d{1,7})"', attributes)
    return (int(match[2]), column_number(match[1].decode())) if match else (0, 0)
