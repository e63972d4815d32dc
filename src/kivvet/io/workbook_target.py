"""Results written as a workbook: one sheet of rows, and one that lists the classes of columns in their order.

Everything around the rows comes from a library: styles, widths, the filter, colours. The rows, which are many, are made by
Arrow as text of ISO/IEC 29500 and put between. The same rows make the same bytes.
"""

from __future__ import annotations

import io
import json
import re
import zipfile
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.words.errors import OutputError
from kivvet.core.words.places import Place, column_letters
from kivvet.core.words.wording import shown_path
from kivvet.io.csv_target import as_text, write_record_beside
from kivvet.io.files import hash_bytes_of
from kivvet.io.source_and_target import AS_IT_IS_NAMED, COLOURS, Seal, Target, WriteOptions
from kivvet.io.workbook_library import fixed_workbook, ink_on

#: The sheet of the rows, and the one that lists classes.
ROWS_SHEET, CLASSES_SHEET = "rows", "classes"
_ROWS_AT_ONCE = 1 << 14
_LAST_ROW, _MOST_COLUMNS = 1_048_576, 16_384
_LONGEST_TEXT = 32_767
_WHOLE = 1 << 53
_DAYS_TO_1970 = 25_569
_FIRST_DAY = -25_508  # 1900-03-01, from which on all programs count days alike
_MICROSECONDS = 86_400_000_000
_WIDEST, _NARROWEST = 60, 6
_ODD_SIGNS = r"[\x00-\x08\x0b\x0c\x0e-\x1f]|_x[0-9A-Fa-f]{4}_"
_LIKE_FORMULA = r"^[=+\-@\t\r]"
_ZIP_DATE = (1980, 1, 1, 0, 0, 0)
_LEVEL = 1


@dataclass
class _Column:
    """One column of the sheet: how its cells are written."""

    name: str
    kind: pa.DataType
    letters: str
    colours: Mapping[str, str] = field(default_factory=dict)
    classes: list[str] = field(default_factory=list)
    is_ordered: bool = False

    @property
    def format(self) -> str:
        """The number format of its cells; empty: none of its own."""
        if pa.types.is_date(self.kind):
            return "yyyy-mm-dd"
        if pa.types.is_timestamp(self.kind) and self.kind.tz is None:
            return "yyyy-mm-dd hh:mm:ss"
        return ""


class WorkbookTarget(Target):
    """Writes a workbook of the form of ISO/IEC 29500, and its record beside it; missing is a cell without a value."""

    def __init__(self, path: Path, target: Path, schema: pa.Schema, _: WriteOptions = AS_IT_IS_NAMED) -> None:
        if len(schema) > _MOST_COLUMNS:
            raise self._cannot(target, f"has {len(schema):,} columns, and a sheet {_MOST_COLUMNS:,}")
        self.path, self.target = path, target
        self.columns = [
            _Column(
                field.name,
                field.type,
                column_letters(number),
                json.loads((field.metadata or {}).get(COLOURS, b"{}")),
                is_ordered=pa.types.is_dictionary(field.type) and bool(field.type.ordered),
            )
            for number, field in enumerate(schema, 1)
        ]
        self.n_rows = 0
        self.package: zipfile.ZipFile | None = None
        self.widths: list[int] = []

    @staticmethod
    def _cannot(target: Path, why: str) -> OutputError:
        return OutputError(
            f"cannot be written as a workbook: {why}",
            place=Place(shown_path(target)),
            fix="write it as .csv or .parquet; nothing was changed",
        )

    def write(self, columns: Sequence[pa.Array]) -> None:
        n_rows = len(columns[0])
        if self.n_rows + n_rows > _LAST_ROW - 1:
            raise self._cannot(
                self.target, f"it has more than {_LAST_ROW - 1:,} rows, and a sheet ends there"
            )
        for one, array in zip(self.columns, columns, strict=True):
            if pa.types.is_dictionary(array.type):
                known = set(one.classes)
                one.classes += [text for text in array.dictionary.to_pylist() if text not in known]
        if self.package is None:
            self._begin(columns)
        for start in range(0, n_rows, _ROWS_AT_ONCE):
            part = [column.slice(start, _ROWS_AT_ONCE) for column in columns]
            self.sheet.write(self._lines(part))
            self.n_rows += len(part[0])

    def _begin(self, columns: Sequence[pa.Array]) -> None:
        """Begin the file: all that stands before the rows, with widths as the first rows need them."""
        self.widths = [
            _width(one, column.slice(0, _ROWS_AT_ONCE))
            for one, column in zip(self.columns, columns, strict=True)
        ]
        shell = self._shell()
        self.styles = shell.styles
        self.package = zipfile.ZipFile(self.path, "w", zipfile.ZIP_DEFLATED, compresslevel=_LEVEL)
        self.sheet = self.package.open(_entry(shell.sheet_part), "w", force_zip64=True)
        self.sheet.write(shell.before)

    def _shell(self) -> _Shell:
        """Return everything around the rows, for as many as there are now."""
        with fixed_workbook() as (book, buffer):
            bold = book.add_format({"bold": True, "bottom": 1, "valign": "top"})
            sheet = book.add_worksheet(ROWS_SHEET)
            quoted = book.add_format({"quote_prefix": True})
            for number, (one, width) in enumerate(zip(self.columns, self.widths, strict=True)):
                style = book.add_format({"num_format": one.format}) if one.format else None
                sheet.write_string(0, number, one.name, bold)
                sheet.write_blank(1, number, None, style)
                sheet.set_column(number, number, width)
                for text, colour in one.colours.items():
                    paint = book.add_format({"bg_color": colour, "font_color": ink_on(colour)})
                    shown = text.replace('"', '""')
                    sheet.conditional_format(
                        1,
                        number,
                        max(self.n_rows, 1),
                        number,
                        {"type": "cell", "criteria": "==", "value": f'"{shown}"', "format": paint},
                    )
            sheet.write_blank(1, len(self.columns), None, quoted)
            sheet.freeze_panes(1, 0)
            sheet.set_landscape()
            sheet.set_paper(9)
            sheet.fit_to_pages(1, 0)
            sheet.repeat_rows(0)
            sheet.autofilter(0, 0, max(self.n_rows, 1), len(self.columns) - 1)
            self._list_classes(book, bold)
        return _Shell.of(buffer.getvalue(), [bool(column.format) for column in self.columns])

    def _list_classes(self, book: Any, bold: Any) -> None:
        """Write the sheet of classes, where a column has some in order, or with colours."""
        listed = [column for column in self.columns if column.is_ordered or column.colours]
        if not listed:
            return
        sheet = book.add_worksheet(CLASSES_SHEET)
        for at, heading in enumerate(("column", "place", "class")):
            sheet.write_string(0, at, heading, bold)
        row = 1
        for one in listed:
            for place, text in enumerate(one.classes or list(one.colours), 1):
                sheet.write_string(row, 0, one.name)
                sheet.write_number(row, 1, place)
                colour = one.colours.get(str(text))
                paint = (
                    book.add_format({"bg_color": colour, "font_color": ink_on(colour)}) if colour else None
                )
                sheet.write_string(row, 2, str(text), paint)
                row += 1
        sheet.set_column(0, 0, 24)
        sheet.set_column(2, 2, 40)
        sheet.freeze_panes(1, 0)

    def _lines(self, columns: Sequence[pa.Array]) -> bytes:
        """Return rows as the text of a sheet."""
        n_rows = len(columns[0])
        first = self.n_rows + 2
        numbers = pc.cast(pa.array(range(first, first + n_rows), pa.int32()), pa.string())
        cells = [
            self._cells(one, style, column, numbers)
            for one, style, column in zip(self.columns, self.styles, columns, strict=False)
        ]
        joined = pc.binary_join_element_wise('<row r="', numbers, '">', *cells, "</row>", "")
        offsets, data = joined.buffers()[1:]
        ends = memoryview(offsets).cast("i")
        return bytes(memoryview(data)[ends[0] : ends[n_rows]])

    def _cells(self, one: _Column, style: str, column: pa.Array, numbers: pa.Array) -> pa.Array:
        """Return the cells of a column; a missing value is none."""
        said = f' s="{style}"' if style else ""
        head = f'<c r="{one.letters}'
        kind = column.type
        if pa.types.is_boolean(kind):
            texts = pc.if_else(column, "1", "0")
            cells = pc.binary_join_element_wise(head, numbers, f'"{said} t="b"><v>', texts, "</v></c>", "")
            return pc.fill_null(cells, "")
        values = self._numbers(one, column)
        if values is not None:
            cells = pc.binary_join_element_wise(head, numbers, f'"{said}><v>', values, "</v></c>", "")
            return pc.fill_null(cells, "")
        coded = column if pa.types.is_dictionary(kind) else None
        texts = as_text(column.dictionary if coded is not None else column, AS_IT_IS_NAMED)
        texts = self._escaped(texts, one)
        styles = pc.if_else(
            pc.match_substring_regex(texts, _LIKE_FORMULA), f'" s="{self.styles[-1]}"{_INLINE}', f'"{_INLINE}'
        )
        inner = pc.binary_join_element_wise(styles, texts, "</t></is></c>", "")
        if coded is not None:
            inner = inner.take(coded.indices)
        return pc.fill_null(pc.binary_join_element_wise(head, numbers, inner, ""), "")

    def _numbers(self, one: _Column, column: pa.Array) -> pa.Array | None:
        """Return values as the numbers that a sheet holds; None where they are texts."""
        kind = column.type
        if pa.types.is_null(kind):
            return pa.nulls(len(column), pa.string())
        if pa.types.is_integer(kind):
            ends = pc.min_max(column).as_py() if kind.bit_width == 64 else {}
            if any(abs(end or 0) > _WHOLE for end in ends.values()):
                raise self._cannot(
                    self.target,
                    f"column {one.name!r} holds whole numbers that a sheet rounds, over {_WHOLE:,}",
                )
            return column.cast(pa.string())
        if pa.types.is_floating(kind):
            column = pc.if_else(pc.is_nan(column), pa.scalar(None, kind), column)
            if pc.any(pc.is_inf(column)).as_py():
                raise self._cannot(
                    self.target, f"column {one.name!r} holds an infinity, which a sheet does not have"
                )
            return column.cast(pa.float64()).cast(pa.string())
        if pa.types.is_decimal(kind):
            texts = column.cast(pa.string())
            digits = pc.utf8_length(pc.utf8_ltrim(pc.replace_substring_regex(texts, "[-.]", ""), "0"))
            if pc.any(pc.greater(digits, 15)).as_py():
                raise self._cannot(
                    self.target, f"column {one.name!r} holds more than 15 digits, which a sheet rounds"
                )
            return texts
        if pa.types.is_date(kind):
            days = column.cast(pa.date32()).cast(pa.int32())
            self._refuse_early(one, pc.min(days).as_py())
            return pc.add(days, _DAYS_TO_1970).cast(pa.string())
        if pa.types.is_timestamp(kind) and kind.tz is None:
            moments = column.cast(pa.timestamp("us"), safe=False).cast(pa.int64())
            least = pc.min(moments).as_py()
            self._refuse_early(one, None if least is None else least // _MICROSECONDS)
            days = pc.divide(moments.cast(pa.float64()), float(_MICROSECONDS))
            return pc.add(days, float(_DAYS_TO_1970)).cast(pa.string())
        return None

    def _refuse_early(self, one: _Column, least: int | None) -> None:
        if least is not None and least < _FIRST_DAY:
            raise self._cannot(
                self.target,
                f"column {one.name!r} holds days before March 1900, which sheets do not count alike",
            )

    def _escaped(self, texts: pa.Array, one: _Column) -> pa.Array:
        """Return texts as they stand in XML; signs that it does not have by their codes."""
        if len(texts) and (pc.max(pc.utf8_length(texts)).as_py() or 0) > _LONGEST_TEXT:
            raise self._cannot(
                self.target, f"column {one.name!r} holds a text of more than {_LONGEST_TEXT:,} characters"
            )
        if pc.any(pc.match_substring_regex(texts, _ODD_SIGNS)).as_py():
            texts = pa.array(
                [None if text is None else re.sub(_ODD_SIGNS, _by_code, text) for text in texts.to_pylist()],
                pa.string(),
            )
        for sign, stands in (("&", "&amp;"), ("<", "&lt;"), (">", "&gt;"), ("\r", "&#13;")):
            if pc.any(pc.match_substring(texts, sign)).as_py():
                texts = pc.replace_substring(texts, sign, stands)
        return texts

    def commit(self, seal: Seal) -> None:
        if self.package is None:
            self._begin([pa.nulls(0, column.kind) for column in self.columns])
        assert self.package is not None
        shell = self._shell()
        self.sheet.write(shell.after)
        self.sheet.close()
        for name, content in shell.others:
            self.package.writestr(_entry(name), content, compresslevel=_LEVEL)
        self.package.close()
        write_record_beside(self.target, seal(hash_bytes_of(self.path)))

    def abandon(self) -> None:
        if self.package is not None:
            self.sheet.close()
            self.package.close()


_INLINE = ' t="inlineStr"><is><t xml:space="preserve">'


@dataclass(frozen=True)
class _Shell:
    """A workbook without its rows.

    Attributes
    ----------
    before, after : bytes
        What stands around the rows in their sheet.
    styles : tuple of str
        The number of the style of each column, empty where it has none; last, that of texts which look like formulas.
    others : list of (str, bytes)
        All other parts.
    """

    sheet_part: str
    before: bytes
    after: bytes
    styles: tuple[str, ...]
    others: list[tuple[str, bytes]]

    @classmethod
    def of(cls, content: bytes, has_style: Sequence[bool]) -> _Shell:
        """Take apart a workbook whose second row holds a blank cell of each style."""
        part = "xl/worksheets/sheet1.xml"
        with zipfile.ZipFile(io.BytesIO(content)) as package:
            text = package.read(part)
            others = [(name, package.read(name)) for name in package.namelist() if name != part]
        text = re.sub(rb"<dimension [^>]*/>", b"", text)
        match = re.search(rb'<row r="2".*?</row>', text, re.DOTALL)
        assert match is not None
        found = re.findall(rb'<c r="[A-Z]+2" s="(\d+)"', match[0])
        styles = iter(one.decode() for one in found)
        each = tuple(next(styles) if one else "" for one in has_style)
        return cls(part, text[: match.start()], text[match.end() :], (*each, next(styles)), others)


def _entry(name: str) -> zipfile.ZipInfo:
    entry = zipfile.ZipInfo(name, _ZIP_DATE)
    entry.compress_type = zipfile.ZIP_DEFLATED
    entry.external_attr = 0o600 << 16
    return entry


def _by_code(match: re.Match[str]) -> str:
    return f"_x005F{match[0]}" if match[0].startswith("_x") else f"_x{ord(match[0]):04X}_"


def _width(one: _Column, column: pa.Array) -> int:
    """Return the width of a column, in signs: of its heading, and of its first values."""
    texts = as_text(column.dictionary if pa.types.is_dictionary(column.type) else column, AS_IT_IS_NAMED)
    longest = pc.max(pc.utf8_length(texts)).as_py() if len(texts) else 0
    return min(_WIDEST, max(_NARROWEST, len(one.name) + 4, (longest or 0) + 2))
