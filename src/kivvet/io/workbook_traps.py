"""What a workbook holds besides values: sheets and names, hidden rows, errors, formulas without values, formats of numbers.

It is looked for in the parts of the file itself: `workbook_parts` has who looks, by the form of the file.
"""

from __future__ import annotations

import re
import zipfile
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place, cell_name
from kivvet.core.words.wording import count, shown_path

MOST_CELLS = 50_000_000  # from the first to the last one that is filled; a reader holds all between
CHUNK = 1 << 20

#: How a column of numbers is shown: as a share, as money, as a code with leading zeros.
Shown = Literal["percent", "currency", "zeros"]


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


def chunks_of(package: zipfile.ZipFile, part: str) -> Iterator[bytes]:
    """Yield the bytes of a part, as it is unpacked."""
    with package.open(part) as file:
        while chunk := file.read(CHUNK):
            yield chunk


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


def refuse_wide(path: Path, sheet: str, first: tuple[int, int], last: tuple[int, int]) -> None:
    """Raise where too many cells lie between the first and the last that are filled, each by row and column."""
    n_cells = max(0, last[0] - first[0] + 1) * max(0, last[1] - first[1] + 1)
    if n_cells > MOST_CELLS:
        raise DataError(
            f"cells are filled from {cell_name(*first)} to {cell_name(*last)}: {count(n_cells, 'cell')} lie between",
            place=Place(shown_path(path), sheet=sheet),
            expected=f"at most {MOST_CELLS:,}",
            fix="delete what lies far from the table, or save the sheet as CSV",
        )
