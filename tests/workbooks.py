"""Workbooks for the tests, written by several independent writers: cells by place, as plain values."""

from __future__ import annotations

import datetime as dt
import io
import shutil
import subprocess
import zipfile
from pathlib import Path

import openpyxl
import pytest
import xlsxwriter
from odf.opendocument import OpenDocumentSpreadsheet
from odf.table import Table as OdfTable
from odf.table import TableCell, TableRow
from odf.text import P

from kivvet.core.words.places import column_number

OFFICE = shutil.which("soffice")


def place_of(cell):
    """Return the row and column, from 0, of a cell such as C7."""
    letters = cell.rstrip("0123456789")
    return int(cell[len(letters) :]) - 1, column_number(letters) - 1


def with_xlsxwriter(path, sheets, formats=()):
    """Write sheets, each cells by name such as ``{"B3": "site"}``; formats of numbers by sheet and column."""
    book = xlsxwriter.Workbook(path, {"strings_to_formulas": False, "strings_to_urls": False})
    dates, times = (
        book.add_format({"num_format": "yyyy-mm-dd"}),
        book.add_format({"num_format": "yyyy-mm-dd hh:mm:ss"}),
    )
    shown = {column: book.add_format({"num_format": code}) for column, code in dict(formats).items()}
    for name, cells in sheets.items():
        sheet = book.add_worksheet(name)
        for cell, value in cells.items():
            row, column = place_of(cell)
            given = shown.get(cell.rstrip("0123456789"))
            if isinstance(value, bool):
                sheet.write_boolean(row, column, value)
            elif isinstance(value, str):
                sheet.write_string(row, column, value)
            elif isinstance(value, dt.datetime):
                sheet.write_datetime(row, column, value, times)
            elif isinstance(value, dt.date):
                sheet.write_datetime(row, column, value, dates)
            elif value is not None:
                sheet.write_number(row, column, value, given)
    book.close()
    return path


def with_openpyxl(path, sheets):
    book = openpyxl.Workbook()
    book.remove(book.active)
    for name, cells in sheets.items():
        sheet = book.create_sheet(name)
        for cell, value in cells.items():
            sheet[cell] = value
            if isinstance(value, str):
                sheet[cell].data_type = "s"
    book.save(path)
    return path


def with_odfpy(path, sheets):
    document = OpenDocumentSpreadsheet()
    for name, cells in sheets.items():
        table = OdfTable(name=name)
        by_place = {place_of(cell): value for cell, value in cells.items()}
        rows = max((row for row, _ in by_place), default=-1) + 1
        columns = max((column for _, column in by_place), default=-1) + 1
        for row in range(rows):
            line = TableRow()
            for column in range(columns):
                line.addElement(_odf_cell(by_place.get((row, column))))
            table.addElement(line)
        document.spreadsheet.addElement(table)
    document.save(str(path))
    return path


def _odf_cell(value):
    if value is None:
        return TableCell()
    if isinstance(value, bool):
        cell = TableCell(valuetype="boolean", booleanvalue=str(value).lower())
    elif isinstance(value, str):
        cell = TableCell(valuetype="string")
    elif isinstance(value, dt.date):
        cell = TableCell(valuetype="date", datevalue=value.isoformat())
    else:
        cell = TableCell(valuetype="float", value=repr(value))
    cell.addElement(P(text=str(value)))
    return cell


def by_office(path, ending):
    """Return a workbook as an office program saves it in another form; the test is skipped where there is none."""
    if OFFICE is None:
        pytest.skip("no office program is installed")
    folder = path.parent / f"saved_as_{ending}"
    command = [
        OFFICE,
        f"-env:UserInstallation=file://{path.parent}/profile",
        "--headless",
        "--convert-to",
        ending,
    ]
    subprocess.run([*command, "--outdir", folder, path], check=True, capture_output=True, timeout=120)
    return folder / f"{path.stem}.{ending}"


def edited_parts(path, changes, more=()):
    """Write a workbook anew with parts changed, each by a function of its bytes, and parts more."""
    parts = {}
    with zipfile.ZipFile(path) as package:
        for name in package.namelist():
            content = package.read(name)
            parts[name] = changes[name](content) if name in changes else content
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as package:
        for name, content in {**parts, **dict(more)}.items():
            package.writestr(name, content)
    return path


def in_memory(write):
    """Return the bytes of a workbook that a function writes with the library."""
    buffer = io.BytesIO()
    book = xlsxwriter.Workbook(buffer)
    write(book)
    book.close()
    return buffer.getvalue()


def grid(top, left, rows):
    """Return rows of values as cells by name, from a row and a column on, counted from 1."""
    made = {}
    for row, values in enumerate(rows, top):
        for column, value in enumerate(values, left):
            if value is not None:
                made[f"{_letters(column)}{row}"] = value
    return made


def _letters(column):
    letters = ""
    while column:
        column, last = divmod(column - 1, 26)
        letters = chr(65 + last) + letters
    return letters


def read(path: Path, **options):
    """Return a sheet as Kivvet reads it, as rows by column."""
    from kivvet.io.source_and_target import ReadOptions
    from kivvet.io.workbook_source import WorkbookSource

    source = WorkbookSource(path, ReadOptions(**options))
    return source, [row for batch in source.batches() for row in batch.to_pylist()]
