"""The cells of a workbook: which sheets there are, and the values of one, as they are stored."""

from __future__ import annotations

import datetime as dt
import fnmatch
import gc
import re
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path
from typing import Any

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place, cell_name, column_number
from kivvet.core.words.values import write_plain
from kivvet.core.words.wording import count, did_you_mean, listed, shown_path
from kivvet.io.files import unreadable
from kivvet.io.workbook_parts import refuse_far_apart, traps_of
from kivvet.io.workbook_traps import SheetTraps, Traps, broken, protected

#: Endings of workbooks whose parts show what deserves to be told.
_SHOWN_IN_PARTS = (".xlsx", ".xlsm", ".ods")
_CELLS = re.compile(r"\$?([A-Za-z]{1,3})\$?(\d{1,7})(?::\$?([A-Za-z]{1,3})\$?(\d{1,7}))?")
_COLUMNS = re.compile(r"\$?([A-Za-z]{1,3}):\$?([A-Za-z]{1,3})")
_IN_SHEET = re.compile(r"(?:'((?:[^']|'')+)'|([^'!]+))!(.+)")
_LAST_ROW, _LAST_COLUMN = 1_048_576, 16_384


@dataclass(frozen=True)
class CellRange:
    """A part of a sheet; rows and columns count from 1, ends included."""

    top: int = 1
    left: int = 1
    bottom: int = _LAST_ROW
    right: int = _LAST_COLUMN


@dataclass
class SheetCells:
    """The values of a sheet, or of a part of it.

    Attributes
    ----------
    name : str
    rows : list of list
        By row the values of all columns: str, float, int, bool, date, datetime, time, timedelta; None for a blank cell.
    top, left : int
        The row and the column of the first cell, counted from 1.
    traps : SheetTraps
    filled : dict of str to int
        Cells that were merged, as ``B3:D3``, and their last row; all of them hold the value of the first.
    """

    name: str
    rows: list[list[Any]]
    top: int
    left: int
    traps: SheetTraps
    filled: dict[str, int] = field(default_factory=dict)

    @property
    def width(self) -> int:
        return len(self.rows[0]) if self.rows else 0

    def within(self, part: CellRange) -> SheetCells:
        """Return what lies within a range."""
        begin, end = max(part.top - self.top, 0), max(part.bottom - self.top + 1, 0)
        left, right = max(part.left - self.left, 0), max(part.right - self.left + 1, 0)
        rows = [row[left:right] for row in self.rows[begin:end]]
        return replace(self, rows=rows, top=self.top + begin, left=self.left + left)


class Workbook:
    """A workbook, opened; its sheets are read when they are asked for.

    Parameters
    ----------
    path : Path

    Raises
    ------
    DataError
        If it cannot be read, is protected by a password, damaged, or unpacks to an absurd size.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        _refuse_text(path)
        calamine = _reader()
        try:
            if path.suffix.lower() in _SHOWN_IN_PARTS:
                # Before anything else unpacks it; of an OpenDocument workbook the reader holds all sheets at once.
                self._known = traps_of(path, None if self._is_of_one_part else ())
            self._book = calamine.CalamineWorkbook.from_path(path)
        except OSError as error:
            raise unreadable(path, error) from error
        except calamine.PasswordError as error:
            raise protected(path) from error
        except calamine.CalamineError as error:
            raise broken(path, str(error)) from error
        self.sheets = [one.name for one in self._book.sheets_metadata if str(one.typ).endswith("WorkSheet")]
        self.hidden = [
            one.name for one in self._book.sheets_metadata if not str(one.visible).endswith("Visible")
        ]

    @cached_property
    def traps(self) -> Traps:
        """What it holds besides values, but for its sheets."""
        return self._known if self.path.suffix.lower() in _SHOWN_IN_PARTS else Traps(is_complete=False)

    @property
    def _is_of_one_part(self) -> bool:
        return self.path.suffix.lower() == ".ods"

    @property
    def visible(self) -> list[str]:
        """The sheets that its readers see."""
        return [name for name in self.sheets if name not in self.hidden]

    def place(self, sheet: str = "", row: int | None = None, column: int | None = None) -> Place:
        """Return a place in it."""
        return Place(shown_path(self.path), row, column, sheet)

    def chosen(self, patterns: Sequence[str]) -> list[str]:
        """Return the sheets that some names or patterns name, in their order; `DataError` where one names none."""
        made: list[str] = []
        for pattern in patterns:
            found = [pattern] if pattern in self.sheets else []
            if not found and any(sign in pattern for sign in "*?["):
                found = [name for name in self.sheets if fnmatch.fnmatchcase(name, pattern)]
            if not found:
                raise DataError(
                    f"has no sheet {pattern!r}",
                    place=self.place(),
                    expected=f"one of: {listed(map(repr, self.sheets), 20)}",
                    fix=did_you_mean(pattern, self.sheets),
                )
            made += found
        return list(dict.fromkeys(made))

    def range_of(self, cells: str) -> tuple[str | None, CellRange]:
        """Return the sheet that a range names, if it does, and the range; `DataError` where it is none."""
        named = next((value for name, value in self.traps.names.items() if name == cells), None)
        text = named if named is not None else cells
        sheet = None
        if match := _IN_SHEET.fullmatch(text.strip()):
            sheet, text = (match[1] or match[2]).replace("''", "'"), match[3]
        found = _parsed(text)
        if found is None:
            names = list(self.traps.names)
            raise DataError(
                f"{cells!r} is no range of cells, and no name of one"
                if named is None
                else f"the range {cells!r} is {named!r}, which is not one block of cells",
                place=self.place(),
                expected="such as B3:H90, or B:H"
                + (f", or a name: {listed(map(repr, names), 12)}" if names else ""),
                fix=did_you_mean(cells, names),
            )
        return sheet, found

    def cells(self, sheet: str, within: CellRange | None = None) -> SheetCells:
        """Return the values of a sheet, or of a part of it, errors and merged cells filled in.

        Raises
        ------
        DataError
            If it cannot be read, or a formula has no value in the file.
        """
        read, traps = self._read(sheet)
        with _without_collecting():
            rows = _blank_as_none(read.to_python())
        top, left = (read.start[0] + 1, read.start[1] + 1) if read.start else (1, 1)
        found = SheetCells(sheet, rows, top, left, traps)
        for (row, column), text in traps.errors.items():
            _put(found, row, column, text)
        self._fill_merged(found, read.merged_cell_ranges or ())
        if within is not None:
            found = found.within(within)
        self._refuse_unvalued(found)
        return found

    def _read(self, sheet: str) -> tuple[Any, SheetTraps]:
        """Return a sheet as the reader has it, and what it holds besides values; of large ones both are worked out at once."""
        is_shown = self.path.suffix.lower() in _SHOWN_IN_PARTS and not self._is_of_one_part
        if is_shown:
            refuse_far_apart(self.path, sheet)
        with ThreadPoolExecutor(1) as other:
            looked = other.submit(traps_of, self.path, (sheet,)) if is_shown else None
            try:
                read = self._book.get_sheet_by_name(sheet)
            except Exception as error:  # the reader raises one kind for each format
                raise broken(self.path, f"sheet {sheet!r}: {error}") from error
            known = self.traps if looked is None else looked.result()
        return read, known.sheets.get(sheet) or SheetTraps()

    def _fill_merged(self, found: SheetCells, merged: Sequence[Any]) -> None:
        for (top, left), (bottom, right) in merged:
            at = top + 1 - found.top, left + 1 - found.left
            if not (0 <= at[0] < len(found.rows) and 0 <= at[1] < found.width):
                continue
            value = found.rows[at[0]][at[1]]
            if value is None:
                continue
            for row in found.rows[at[0] : bottom + 2 - found.top]:
                for column in range(at[1], min(right + 2 - found.left, len(row))):
                    if row[column] is None:
                        row[column] = value
            cells = f"{cell_name(top + 1, left + 1)}:{cell_name(bottom + 1, right + 1)}"
            found.filled[cells] = bottom + 1

    def _refuse_unvalued(self, found: SheetCells) -> None:
        lost = [
            (row, column)
            for row, column in found.traps.unvalued
            if 0 <= row - found.top < len(found.rows) and 0 <= column - found.left < found.width
        ]
        if lost:
            raise DataError(
                f"{count(len(lost), 'cell')} {'holds' if len(lost) == 1 else 'hold'} a formula without its value",
                place=self.place(found.name, *lost[0]),
                fix="open it in a program that calculates, and save it; formulas are not worked out here",
            )


@contextmanager
def _without_collecting() -> Iterator[None]:
    """Let no search for circles of objects run meanwhile: it takes longer than to make millions of cells, which have none."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()


def _blank_as_none(rows: list[list[Any]]) -> list[list[Any]]:
    """Return rows of cells, blank ones, which the reader gives as texts without characters, as None."""
    return [[None if value == "" else value for value in row] if "" in row else row for row in rows]


def _reader() -> Any:
    try:
        import python_calamine
    except ImportError as error:
        raise DataError(
            "workbooks are read with the extra 'workbook', which is not installed",
            fix='pip install "kivvet[workbook]"',
        ) from error
    return python_calamine


def _refuse_text(path: Path) -> None:
    """Raise where a file that is called a workbook is something else, such as text or a page of the web."""
    try:
        with path.open("rb") as file:
            head = file.read(512)
    except OSError as error:
        raise unreadable(path, error) from error
    if not head:
        raise DataError("the file is empty", place=Place(shown_path(path)), expected="a workbook")
    if head[:4] == b"PK\x03\x04":
        return
    if head[:8] == b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1":
        if path.suffix.lower() != ".xls":
            if b"E\0n\0c\0r\0y\0p\0t" in path.read_bytes()[: 1 << 20]:
                raise protected(path)
            raise DataError(
                "holds a workbook of the older form",
                place=Place(shown_path(path)),
                fix=f"name it {path.stem}.xls, or save it anew as {path.suffix}",
            )
        return
    is_text = b"\0" not in head
    raise DataError(
        "is no workbook" + (", but text" if is_text else ""),
        place=Place(shown_path(path)),
        found=repr(head[:40].decode("utf-8", "replace")),
        fix=f"name it as what it is, such as {path.stem}.csv" if is_text else "save it anew",
    )


def _parsed(text: str) -> CellRange | None:
    """Return the range that a text names; None where it is none."""
    if match := _COLUMNS.fullmatch(text.strip()):
        left, right = sorted((column_number(match[1]), column_number(match[2])))
        return CellRange(1, left, _LAST_ROW, right) if right <= _LAST_COLUMN else None
    match = _CELLS.fullmatch(text.strip())
    if match is None:
        return None
    columns = sorted((column_number(match[1]), column_number(match[3] or match[1])))
    rows = sorted((int(match[2]), int(match[4] or match[2])))
    if match[3] is None:  # one cell: the table begins there
        return CellRange(rows[0], columns[0])
    is_there = rows[0] > 0 and rows[1] <= _LAST_ROW and columns[1] <= _LAST_COLUMN
    return CellRange(rows[0], columns[0], rows[1], columns[1]) if is_there else None


def _put(found: SheetCells, row: int, column: int, value: str) -> None:
    """Set a cell, as far as it lies where others are filled: a block grows to hold it."""
    if not found.rows:
        found.top, found.left, found.rows = row, column, [[value]]
        return
    if row < found.top:
        found.rows[:0] = [[None] * found.width for _ in range(found.top - row)]
        found.top = row
    if column < found.left:
        more = found.left - column
        found.rows[:] = [[*([None] * more), *row] for row in found.rows]
        found.left = column
    while row >= found.top + len(found.rows):
        found.rows.append([None] * found.width)
    if column >= found.left + found.width:
        more = column - found.left - found.width + 1
        found.rows[:] = [[*row, *([None] * more)] for row in found.rows]
    found.rows[row - found.top][column - found.left] = value


def cell_text(value: Any) -> str:
    """Return the value of a cell as Kivvet writes it; a blank cell is a text without characters."""
    if value is None:
        return ""
    if isinstance(value, dt.timedelta):
        seconds = int(value.total_seconds())
        return f"{seconds // 3600}:{seconds // 60 % 60:02d}:{seconds % 60:02d}"
    return value.isoformat() if isinstance(value, dt.time) else write_plain(value)
