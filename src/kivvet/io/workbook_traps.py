"""What a workbook holds besides values: sheets and names, hidden rows, errors, formulas without values, formats of numbers.

It is looked for in the parts of the file itself, which also shows whether the file unpacks to an absurd size, before
anything reads its values.
"""

from __future__ import annotations

import re
import zipfile
import zlib
from collections import Counter
from collections.abc import Collection, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal
from xml.etree import ElementTree as ET

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place, cell_name, column_number
from kivvet.core.words.wording import count, shown_path

MOST_UNPACKED = 4 << 30
_MOST_RATIO, _SMALL = 300, 64 << 20  # a part that is packed more closely, and larger, is no sheet
MOST_CELLS = 50_000_000  # from the first to the last one that is filled; a reader holds all between
_CHUNK = 1 << 20
_MOST_PART = 64 << 20  # of the parts that are read whole: names, styles
_FORMATS_LOOKED_AT = (
    4 << 20
)  # bytes at the beginning of a sheet, in which the formats of its columns are looked at

#: How a column of numbers is shown: as a share, as money, as a code with leading zeros.
Shown = Literal["percent", "currency", "zeros"]
_NUMBER_FORMATS_OF_MONEY = frozenset({5, 6, 7, 8, 37, 38, 39, 40, 41, 42, 43, 44})  # built in
_NUMBER_FORMATS_OF_SHARES = frozenset({9, 10})


@dataclass
class SheetTraps:
    """What one sheet holds besides its values; rows and columns count from 1.

    Attributes
    ----------
    errors : dict of (int, int) to str
        By row and column, the error that a cell shows.
    unvalued : list of (int, int)
        Cells with a formula whose result the file does not hold.
    hidden_rows : int
    hidden_columns : int
    shown : dict of int to Counter
        By column how its numbers are shown: `Shown`, and for codes with their digits.
    """

    errors: dict[tuple[int, int], str] = field(default_factory=dict)
    unvalued: list[tuple[int, int]] = field(default_factory=list)
    hidden_rows: int = 0
    hidden_columns: int = 0
    shown: dict[int, Counter[tuple[Shown | Literal[""], int]]] = field(default_factory=dict)


@dataclass
class Traps:
    """What a workbook holds besides values.

    Attributes
    ----------
    names : dict of str to str
        By the name of a range its cells, such as ``Stations!$A$3:$C$90``.
    sheets : dict of str to SheetTraps
    has_macros, has_links : bool
        Whether it holds programs, and values that come from other files; neither is ever run or followed.
    is_of_1904 : bool
        Whether days are counted from 1904-01-01.
    is_complete : bool
        False where the format does not show errors and formulas without values: they are read as blank.
    """

    names: dict[str, str] = field(default_factory=dict)
    sheets: dict[str, SheetTraps] = field(default_factory=dict)
    has_macros: bool = False
    has_links: bool = False
    is_of_1904: bool = False
    is_complete: bool = True


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
                from kivvet.io.workbook_traps_ods import traps_of_ods

                return traps_of_ods(path, package, sheets)
            return _of_office_open(path, package, sheets)
    except (zipfile.BadZipFile, zlib.error, EOFError, KeyError, ET.ParseError, NotImplementedError) as error:
        raise broken(path, str(error)) from error
    except RuntimeError as error:  # of a part that is encrypted
        raise protected(path) from error


def broken(path: Path, why: str) -> DataError:
    """Return the error for a file that is no workbook."""
    return DataError(
        "is no workbook, or is damaged",
        place=Place(shown_path(path)),
        found=why.strip().split("\n")[0][:200] or None,
        fix="open it in the program that wrote it, and save it anew",
    )


def protected(path: Path) -> DataError:
    """Return the error for a workbook that opens with a password only."""
    return DataError(
        "is protected by a password",
        place=Place(shown_path(path)),
        fix="save a copy without a password, and read that",
    )


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


def chunks_of(package: zipfile.ZipFile, part: str) -> Iterator[bytes]:
    """Yield the bytes of a part, as it is unpacked."""
    with package.open(part) as file:
        while chunk := file.read(_CHUNK):
            yield chunk


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


def shown_by_code(code: str) -> tuple[Shown | Literal[""], int]:
    """Return what a code of a number format shows numbers as, and the digits of a code with leading zeros."""
    first = code.split(";", maxsplit=1)[0]
    plain = re.sub(r'"[^"]*"|\\.', "", first)
    if "%" in plain:
        return "percent", 0
    if re.search(r"\[\$[^-\]]|[$€£¥]", first) or re.search(r'"\s*(?:[A-Z]{3}|[$€£¥])\s*"', first):
        return "currency", 0
    if re.fullmatch("0{2,}", plain):
        return "zeros", len(plain)
    return "", 0


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
            if len(left) > 16 * _CHUNK:
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


def refuse_wide(path: Path, sheet: str, first: tuple[int, int], last: tuple[int, int]) -> None:
    """Raise where too many cells lie between the first and the last that are filled, each by row and column."""
    n_cells = max(0, last[0] - first[0] + 1) * max(0, last[1] - first[1] + 1)
    if n_cells > MOST_CELLS:
        raise DataError(
            f"the cells that are filled lie up to {cell_name(*last)} apart: {count(n_cells, 'cell')} between them",
            place=Place(shown_path(path), sheet=sheet),
            expected=f"at most {MOST_CELLS:,}",
            fix="delete what lies far from the table, or save the sheet as CSV",
        )
