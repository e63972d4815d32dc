"""A table on a sheet: where its headings and rows stand, blank rows and columns left out."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import column_letters
from kivvet.core.words.wording import count, listed
from kivvet.io.source_and_target import ReadOptions
from kivvet.io.workbook_cells import SheetCells, Workbook, cell_text


@dataclass
class SheetTable:
    """A table on a sheet: its headings, and the rows below them that hold something.

    Attributes
    ----------
    cells : SheetCells
    headings : list of str
        One for each column that is not wholly blank.
    columns : list of int
        By heading the place of the column among those of `cells`.
    rows : list of list
        Of all columns of `cells`.
    numbers : list of int
        The row of the sheet of each.
    line : int
        The row of the headings.
    """

    cells: SheetCells
    headings: list[str]
    columns: list[int]
    rows: list[list[Any]]
    numbers: list[int]
    line: int
    names: list[str] = field(default_factory=list)
    left_out: dict[str, int] = field(default_factory=dict)

    def values(self, name: str) -> list[Any]:
        """Return the values of a column; None in every row where there is none of that name."""
        if name not in self.names:
            return [None] * len(self.rows)
        at = self.columns[self.names.index(name)]
        return [row[at] for row in self.rows]

    def letters(self, name: str) -> str:
        """Return a column as the sheet calls it."""
        return column_letters(self.cells.left + self.columns[self.names.index(name)])


def table_on(cells: SheetCells, options: ReadOptions, workbook: Workbook) -> SheetTable:
    """Return the table on a sheet: what stands from the headings on, blank rows and columns left out."""
    rows = cells.rows
    is_filled = [row.count(None) < len(row) for row in rows]
    if True not in is_filled:
        raise DataError(
            "the sheet holds nothing" if not options.cells else f"the cells {options.cells} hold nothing",
            place=workbook.place(cells.name),
            expected="a row of headings, then one row for each row of data",
        )
    first = is_filled.index(True)
    if options.headings_on_line is not None:
        first = options.headings_on_line - cells.top
        has_row = 0 <= first < len(rows) and is_filled[first]
        if not has_row and options.has_heading_line and not (options.headings and first < 0):
            raise DataError(
                f"row {options.headings_on_line} holds no headings",
                place=workbook.place(cells.name, options.headings_on_line),
                fix=f"the first row that holds something is row {cells.top + is_filled.index(True)}",
            )
    has_line = options.has_heading_line
    begin = first + 1 if has_line else first
    kept = [at for at in range(max(begin, 0), len(rows)) if is_filled[at]]
    kept = kept[options.skip_below_headings if has_line else 0 :]
    kept = kept[: len(kept) - options.skip_last] if options.skip_last else kept
    head = rows[first] if has_line and first >= 0 else [None] * cells.width
    width = range(cells.width)
    columns = [at for at in width if head[at] is not None or any(rows[row][at] is not None for row in kept)]
    headings = [" ".join(cell_text(head[at]).split()) for at in columns]
    if options.headings:
        if len(options.headings) != len(columns):
            raise DataError(
                f"has {count(len(columns), 'column')}, and {count(len(options.headings), 'heading')} "
                f"{'is' if len(options.headings) == 1 else 'are'} given",
                place=workbook.place(cells.name, cells.top + max(first, 0)),
                found=listed([heading or "(blank)" for heading in headings], 6),
                fix="give one heading for each column",
            )
        headings = list(options.headings)
    return SheetTable(
        cells,
        headings,
        columns,
        [rows[at] for at in kept],
        [cells.top + at for at in kept],
        cells.top + first,
    )
