"""What a sheet of a workbook of rules says of a table, as edits of the text that went out."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from kivvet.books.asks.rules_layout import ROW
from kivvet.books.files.row_edits import RowEdit
from kivvet.books.files.table_files import TableFiles
from kivvet.core.words.errors import BookError
from kivvet.core.words.places import cell_name
from kivvet.core.words.wording import listed

if TYPE_CHECKING:
    from kivvet.io.workbook_cells import SheetCells, Workbook

_FORMULA = ":="  # how a formula of a result begins in a workbook
_MOST_TOLD = 6


@dataclass(frozen=True)
class _SheetRow:
    """A row of the sheet: which of the table's rows it is, None of a new one; its cells, one for each heading; its place."""

    number: int | None
    cells: Sequence[str]
    line: int


class SheetBack:
    """A table's sheet as it comes back.

    Parameters
    ----------
    workbook : Workbook
    sheet : str
    base : TableFiles
        The table as it went out.
    """

    def __init__(self, workbook: Workbook, sheet: str, base: TableFiles) -> None:
        self.workbook, self.sheet, self.base = workbook, sheet, base
        self.columns: list[int] = []  # of each heading the column of the sheet, from 1

    def changed(self) -> TableFiles:
        """Return the files as the sheet has them.

        Raises
        ------
        BookError
            With the cell, where it says nothing that can be.
        """
        headings, records = self.base.headings, self.base.records
        edits: dict[int, RowEdit] = {}
        order: list[int] = []
        new: list[_SheetRow] = []
        rows = self._rows(headings, len(records))
        for row in rows:
            if row.number is None:
                new.append(row)
                order.append(len(records) + len(new))
                continue
            before = records[row.number - 1]
            cells = {at: text for at, text in enumerate(row.cells) if text.strip() != before[at].strip()}
            if cells:
                edits[row.number] = RowEdit(cells)
            order.append(row.number)
        gone = set(range(1, len(records) + 1)) - set(order)
        if gone and not order:
            raise BookError(
                f"sheet {self.sheet!r} has no row any more",
                place=self.workbook.place(self.sheet),
                fix="a table that is not wanted is taken out of the book by hand",
            )
        try:
            edited = self.base.with_rows(
                [one.cells for one in new]
            )  # first, so that the others keep their numbers
            if edits or gone:
                edited = edited.with_edits({**edits, **dict.fromkeys(gone, RowEdit())})
        except BookError as error:
            raise self._with_cells(error, rows, edits) from error
        places = {number: place for place, number in enumerate(sorted(order), 1)}
        return edited.with_order([places[number] for number in order])

    def _with_cells(
        self, error: BookError, rows: Sequence[_SheetRow], edits: Mapping[int, RowEdit]
    ) -> BookError:
        """Return the error with the cells that bring it, each tried alone."""
        bad: list[tuple[_SheetRow, int, BookError]] = []
        width = len(self.columns)
        for row in rows:
            edit = None if row.number is None else edits.get(row.number)
            tried = range(width) if row.number is None else (edit.cells or {}) if edit is not None else ()
            for at in tried:
                text = row.cells[int(at)]
                try:
                    if row.number is None:
                        self.base.with_rows([[text if place == at else "" for place in range(width)]])
                    else:
                        self.base.with_edits({row.number: RowEdit({int(at): text})})
                except BookError as found:
                    bad.append((row, int(at), found))
        if not bad:
            return error
        first, at, cause = bad[0]
        said = [f"{cell_name(one.line, self.columns[of])} {one.cells[of]!r}" for one, of, _ in bad]
        return BookError(
            f"cannot be read: {listed(said, _MOST_TOLD)}",
            place=self.workbook.place(self.sheet, first.line, self.columns[at]),
            fix=cause.fix or cause.problem,
        )

    def _rows(self, headings: Sequence[str], n_rows: int) -> list[_SheetRow]:
        """Return the rows of the sheet; one whose number stands above already is a copy, which is new."""
        from kivvet.io.workbook_cells import cell_text

        cells = self.workbook.cells(self.sheet)
        top = self._find_columns(cells, headings)
        made: list[_SheetRow] = []
        seen: set[int] = set()
        for line, row in enumerate(cells.rows[top + 1 :], cells.top + top + 1):
            texts = [cell_text(row[column - cells.left]) for column in self.columns]
            texts = [text[1:] if text.startswith(_FORMULA) else text for text in texts]
            number = self._number(row[0], line, n_rows)
            if number is None and not any(text.strip() for text in texts):
                continue
            made.append(_SheetRow(None if number in seen else number, texts, line))
            seen.update([] if number is None else [number])
        return made

    def _find_columns(self, cells: SheetCells, headings: Sequence[str]) -> int:
        """Note the column of each heading; return where these stand among the rows."""
        for at, row in enumerate(cells.rows if cells.left == 1 else ()):
            first, *texts = ["" if value is None else str(value).strip() for value in row]
            if first != ROW:
                continue
            if lacking := list((Counter(headings) - Counter(texts)).elements()):
                raise BookError(
                    f"the column {lacking[0]!r} is not there any more",
                    place=self.workbook.place(self.sheet, cells.top + at),
                    expected=listed([ROW, *headings], 20),
                    fix="give it its heading back; columns of a table come and go in its file",
                )
            free = list(texts)
            for name in headings:  # where two have one name, they keep their order
                self.columns.append(free.index(name) + 2)
                free[free.index(name)] = ""
            return at
        raise BookError(
            f"sheet {self.sheet!r} has no row of headings any more",
            place=self.workbook.place(self.sheet),
            expected=listed([ROW, *headings], 20),
            fix="give it back: the first column is called 'row'",
        )

    def _number(self, value: object, line: int, n_rows: int) -> int | None:
        if value is None or (isinstance(value, str) and not value.strip()):
            return None
        try:
            number = int(value)  # type: ignore[call-overload]
        except (TypeError, ValueError):
            number = 0
        if not 1 <= number <= n_rows or (isinstance(value, float) and value != number):
            raise BookError(
                f"{cell_name(line, 1)} is no number of a row",
                place=self.workbook.place(self.sheet, line, 1),
                expected=f"1 to {n_rows}, or nothing for a new row",
                found=str(value),
            )
        return int(number)
