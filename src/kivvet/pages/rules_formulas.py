"""Tables as a workbook that classifies by itself: cells for the inputs, and beside them formulas that give what the tables give."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from kivvet.books.asks.rules_layout import sheet_names
from kivvet.core.adopt.to_sheet import ROW, SheetRules, rules_of_sheet
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.places import column_letters
from kivvet.io.workbook_library import fixed_workbook

_ROWS = 500
_KEYS = "keys of "
_HEADINGS = 3  # the row of the headings, from 1


def workbook_of_formulas(tables: Sequence[Table]) -> bytes:
    """Return a workbook with a sheet for each table, and one for the keys of each that looks in some.

    Raises
    ------
    DataError
        If tables cannot be said as formulas: all of them together.
    """
    names = sheet_names([name for table in tables for name in (table.name, f"{_KEYS}{table.name}")])
    made: list[tuple[Table, SheetRules]] = []
    faults: list[DataError] = []
    for table in tables:
        try:
            made.append((table, rules_of_sheet(table, names[f"{_KEYS}{table.name}"])))
        except DataError as error:
            faults.append(error)
    if faults:
        said = "; ".join(fault.problem for fault in faults)
        raise DataError(said, expected=faults[0].expected, fix=faults[0].fix)
    with fixed_workbook() as (book, buffer):
        writer = _Writer(book)
        for table, rules in made:
            writer.write_table(table, rules, names[table.name])
        for table, rules in made:
            if rules.keys:
                writer.write_keys(table, rules, names[f"{_KEYS}{table.name}"])
    return buffer.getvalue()


class _Writer:
    """Writes sheets of one workbook, with its formats."""

    def __init__(self, book: Any) -> None:
        self.book = book
        self.title = book.add_format({"bold": True, "font_size": 14})
        self.said = book.add_format({"font_color": "#666666", "italic": True})
        self.head = book.add_format({"bold": True, "bottom": 1, "bg_color": "#e8eef2"})
        self.made = book.add_format({"bold": True, "bottom": 1, "bg_color": "#f2efe4"})
        self.by_type = {
            "text": book.add_format({"num_format": "@"}),
            "date": book.add_format({"num_format": "yyyy-mm-dd"}),
        }

    def write_table(self, table: Table, rules: SheetRules, name: str) -> None:
        """Write cells for the inputs of a table, and its formulas."""
        sheet = self.book.add_worksheet(name)
        sheet.write_string(0, 0, table.title or table.name, self.title)
        sheet.write_string(
            1,
            0,
            "Paste values below the first headings; the others are worked out. Copy the last row further down.",
            self.said,
        )
        top, n_inputs = _HEADINGS - 1, len(rules.inputs)
        for at, (heading, about) in enumerate(zip(rules.inputs, table.inputs, strict=True)):
            sheet.write_string(top, at, heading, self.head)
            sheet.set_column(at, at, max(12, len(heading) + 2), self.by_type.get(about.type))
        last = column_letters(n_inputs)
        for at, (heading, output, formula) in enumerate(
            zip(rules.outputs, table.outputs, rules.formulas, strict=True), n_inputs
        ):
            sheet.write_string(top, at, heading, self.made)
            shown = self.by_type.get(output.type) if output.type == "date" else None
            sheet.set_column(at, at, max(16, len(heading) + 2), shown)
            for row in range(_HEADINGS + 1, _HEADINGS + 1 + _ROWS):
                text = f'=IF(COUNTA($A{row}:${last}{row})=0,"",{formula.replace(ROW, str(row))})'
                sheet.write_formula(row - 1, at, text, shown, "")
        sheet.freeze_panes(_HEADINGS, 0)

    def write_keys(self, table: Table, rules: SheetRules, name: str) -> None:
        """Write the keys that formulas look in, a row each, from the first row on."""
        sheet = self.book.add_worksheet(name)
        sheet.set_column(0, len(rules.keys[0]) - 1, 18)
        for row, line in enumerate(rules.keys):
            for at, value in enumerate(line):
                self._write(sheet, row, at, value)

    def _write(self, sheet: Any, row: int, at: int, value: Any) -> None:
        if value is None:
            return
        if isinstance(value, bool):
            sheet.write_boolean(row, at, value)
        elif isinstance(value, str):
            sheet.write_string(row, at, value, self.by_type["text"])
        elif isinstance(value, dt.date):
            sheet.write_datetime(row, at, value, self.by_type["date"])
        elif isinstance(value, (int, float, Decimal)):
            sheet.write_number(row, at, float(value))
