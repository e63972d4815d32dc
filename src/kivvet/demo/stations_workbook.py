"""The stations as the field office keeps them: a workbook with all that workbooks have that people keep."""

from __future__ import annotations

import csv
import datetime as dt
from importlib import resources
from pathlib import Path

from kivvet.io.own_files import write_whole
from kivvet.io.workbook_library import fixed_workbook

_TOP, _LEFT = 3, 1  # the cell of the first heading, from 0


def write_stations(path: Path) -> Path:
    """Write the stations as a workbook: a title, a blank row and column around, merged cells, dates as days, a hidden row, a
    row of totals, other sheets, one of them hidden.
    """
    text = (resources.files("kivvet.demo") / "survey/tables/station.csv").read_text(encoding="utf-8")
    heads, *rows = csv.reader(text.splitlines())
    known: dict[str, list[str]] = {}
    for row in rows:
        known.setdefault(row[0], row)  # one station stands twice
    with fixed_workbook() as (book, buffer):
        sheet = book.add_worksheet("Stations")
        bold, day = book.add_format({"bold": True}), book.add_format({"num_format": "dd/mm/yyyy"})
        sheet.write_string(0, _LEFT, "Stations of the river survey", bold)
        sheet.write_string(1, _LEFT, "kept by the field office")
        sheet.write_row(_TOP, _LEFT, heads, bold)
        for number, row in enumerate(known.values(), _TOP + 1):
            for column, (head, field) in enumerate(zip(heads, row, strict=True), _LEFT):
                if head == "altitude_m":
                    sheet.write_number(number, column, int(field))
                elif head == "opened" and field:
                    sheet.write_datetime(number, column, dt.datetime.fromisoformat(field), day)
                elif field and head != "keeper":
                    sheet.write_string(number, column, field)
        _write_keepers(
            sheet, [row[heads.index("keeper")] for row in known.values()], _LEFT + heads.index("keeper")
        )
        last = _TOP + 1 + len(known)
        sheet.write_row(last, _LEFT, ["Total", len(known)], bold)
        sheet.set_row(_TOP + 4, None, None, {"hidden": True})
        sheet.set_column(_LEFT, _LEFT + len(heads) - 1, 15)
        book.add_worksheet("Field book").write_string(0, 0, "see the shelf in room 12")
        book.add_worksheet("old").hide()
    write_whole(path, buffer.getvalue())
    return path


def _write_keepers(sheet: object, keepers: list[str], column: int) -> None:
    """Write who keeps each station, cells of one keeper merged."""
    start = 0
    for at in range(1, len(keepers) + 1):
        if at == len(keepers) or keepers[at] != keepers[start]:
            first, last = _TOP + 1 + start, _TOP + at
            if last > first:
                sheet.merge_range(first, column, last, column, keepers[start])  # type: ignore[attr-defined]
            else:
                sheet.write_string(first, column, keepers[start])  # type: ignore[attr-defined]
            start = at
