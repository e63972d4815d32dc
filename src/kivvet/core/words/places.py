"""Places in files."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True, slots=True)
class Place:
    """A place in a file; lines and columns count from 1, and `None` is not known.

    Attributes
    ----------
    file : str
    line, column : int, optional
        Of a sheet its row, and the column of the cell.
    sheet : str
        The name of the sheet in a workbook; empty for other files.
    """

    file: str
    line: int | None = None
    column: int | None = None
    sheet: str = field(default="", repr=False)

    def __str__(self) -> str:
        if self.sheet and self.line is not None:
            return f"{self.file}:{self.sheet}:{cell_name(self.line, self.column)}"
        parts = (self.file, self.sheet or None, self.line, self.column)
        return ":".join(str(part) for part in parts if part is not None)

    def as_dict(self) -> dict[str, Any]:
        """Return it as plain values."""
        said = {"file": self.file, "line": self.line, "column": self.column}
        return {**said, "sheet": self.sheet} if self.sheet else said


def cell_name(row: int, column: int | None) -> str:
    """Return a cell as workbooks name it, such as C7; a row alone by its number."""
    return f"{'' if column is None else column_letters(column)}{row}"


def column_letters(column: int) -> str:
    """Return a column of a sheet, counted from 1, by its letters: A to Z, then AA."""
    letters = ""
    while column:
        column, last = divmod(column - 1, 26)
        letters = chr(65 + last) + letters
    return letters


def column_number(letters: str) -> int:
    """Return the number of a column that is given by its letters, counted from 1."""
    number = 0
    for letter in letters.upper():
        number = number * 26 + ord(letter) - 64
    return number
