"""What a colleague works out in a sheet: nested conditions down a column, with a case that nobody thought of and a cell typed over."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from kivvet.io.own_files import write_whole
from kivvet.io.workbook_library import fixed_workbook

_TYPED_OVER = 17  # the row, from 1
_GROUPS = (("KN", "net"), ("SS", "net"), ("GB", "bottle"), ("CB", "bottle"), ("PR", "instrument"))


def write_verdicts(path: Path, samples: Sequence[tuple[str, str, str]]) -> Path:
    """Write some samples (id, ph, method) with a column of nested conditions, and one that looks codes up in a list."""
    with fixed_workbook() as (book, buffer):
        sheet, lists = book.add_worksheet("Verdicts"), book.add_worksheet("Lists")
        lists.write_row(0, 0, ["code", "group"])
        for row, pair in enumerate(_GROUPS, 1):
            lists.write_row(row, 0, pair)
        sheet.write_row(0, 0, ["sample_id", "ph", "method", "verdict", "group"])
        last = len(_GROUPS) + 1
        for number, (sample, ph, method) in enumerate(samples, 1):
            row = number + 1
            sheet.write_string(number, 0, sample)
            if ph:
                sheet.write_number(number, 1, float(ph))
            sheet.write_string(number, 2, method)
            asked = f'=IF(B{row}="","not measured",IF(B{row}<6.5,"acidic",IF(B{row}<=8,"neutral",IF(B{row}>8.5,"alkaline"))))'
            if number == _TYPED_OVER:
                sheet.write_string(number, 3, "see Ida")
            else:
                sheet.write_formula(number, 3, asked, None, _verdict(ph))
            found = dict(_GROUPS).get(method.upper(), "unknown")
            sheet.write_formula(
                number, 4, f'=IFERROR(VLOOKUP(C{row},Lists!$A$2:$B${last},2,FALSE),"unknown")', None, found
            )
        sheet.set_column(3, 3, 16)
    write_whole(path, buffer.getvalue())
    return path


def _verdict(ph: str) -> str | bool:
    if not ph:
        return "not measured"
    value = float(ph)
    return "acidic" if value < 6.5 else "neutral" if value <= 8 else "alkaline" if value > 8.5 else False
