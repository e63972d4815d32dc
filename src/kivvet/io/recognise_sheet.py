"""Working out where the table lies in a workbook: which sheet, which block of it, which row of headings, what is no data.

What is found is told and can be pasted into a book, as for files of text; see `recognise`.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from kivvet.core.words.places import cell_name
from kivvet.core.words.wording import count, listed
from kivvet.io.no_data import find_no_data
from kivvet.io.recognise import Recognised, headings_line, recognise_texts
from kivvet.io.source_and_target import ReadOptions
from kivvet.io.workbook_cells import CellRange, SheetCells, Workbook, cell_text

_NUMBER = re.compile(r"[+-]?(?:0|[1-9]\d*)(?:\.\d+)?")  # no zeros before it, as codes have
_MOST_ROWS = 20_000  # that are looked at for what is no data
_LAST_ROWS = 20


@dataclass(frozen=True)
class Block:
    """A part of a sheet with blank cells around; rows and columns count from 1."""

    top: int
    left: int
    bottom: int
    right: int
    n_filled: int

    @property
    def is_table(self) -> bool:
        """Whether it can be one: at least two rows and two columns."""
        return self.bottom > self.top and self.right > self.left

    @property
    def cells(self) -> str:
        """It as workbooks name it."""
        return f"{cell_name(self.top, self.left)}:{cell_name(self.bottom, self.right)}"


def recognise_sheet(path: Path) -> Recognised:
    """Return where the table of a workbook seems to lie, and what of it is no data.

    Raises
    ------
    DataError
        If it cannot be read.
    """
    book = Workbook(path)
    remarks: list[str] = []
    read = {name: book.cells(name) for name in book.visible or book.sheets}
    filled = {name: sum(value is not None for row in one.rows for value in row) for name, one in read.items()}
    sheet = max(filled, key=lambda name: filled[name], default="")
    if not sheet:
        return Recognised(ReadOptions())
    options = ReadOptions()
    others = [repr(name) for name, number in filled.items() if name != sheet and number]
    if others:
        options = replace(options, sheet=(sheet,))
        remarks.append(f"sheet {sheet!r} is read, of {len(others) + 1}; the others: {listed(others, 6)}")
    if book.visible and book.hidden:
        n_hidden = count(len(book.hidden), "sheet is hidden", "sheets are hidden")
        remarks.append(f"{n_hidden}: {listed(map(repr, book.hidden), 6)}")
    cells = read[sheet]
    blocks = _blocks(cells)
    main = max(blocks, key=lambda one: (one.is_table, one.n_filled), default=None)
    if main is None:
        return Recognised(options, remarks=tuple(remarks))
    rest = [
        block.cells
        for block in blocks
        if block is not main and ((block.is_table and block.n_filled > 3) or _is_beside(block, main))
    ]
    if rest:
        options = replace(options, cells=main.cells)
        remarks.append(f"the table in {main.cells} is read; more stands in {listed(rest, 4)}")
        cells = _part(cells, main)
    return _with_rows(options, cells, main, remarks)


def _with_rows(options: ReadOptions, cells: SheetCells, main: Block, remarks: list[str]) -> Recognised:
    """Return it with the row of the headings, the rows that are no data, and the forms of columns of texts."""
    numbers = [
        cells.top + at
        for at, row in enumerate(cells.rows)
        if any(value is not None for value in row) and cells.top + at >= main.top
    ]
    columns = [
        at
        for at in range(cells.width)
        if any(cells.rows[number - cells.top][at] is not None for number in numbers)
    ]
    grid = [[cells.rows[number - cells.top][at] for at in columns] for number in numbers]
    texts = [[cell_text(value) for value in row] for row in grid[:_MOST_ROWS]]
    line, given = headings_line(texts)
    doubled = [] if given else _doubled(grid, texts, line)
    if doubled:
        line += 1
        remarks.append(
            f"headings stand in two rows, {numbers[line - 2]} and {numbers[line - 1]}: they are put together"
        )
    first_filled = next(
        (cells.top + at for at, row in enumerate(cells.rows) if any(value is not None for value in row)), 1
    )
    if doubled or given or numbers[line - 1] != first_filled:
        options = replace(options, headings_on_line=None if given else numbers[line - 1])
    if doubled or given:
        options = replace(options, headings=tuple(doubled or given))
    begin = line if not given else line - 1
    names = list(doubled or given) or [" ".join(text.split()) for text in texts[line - 1]]
    last = [[cell_text(value) for value in row] for row in grid[begin:][-_LAST_ROWS:]]
    no_data = find_no_data(names, texts[begin:], can_have_units=not given, last_lines=last)
    options = replace(
        options,
        skip_below_headings=no_data.skip_below_headings,
        skip_last=no_data.skip_last,
        leave_out=no_data.leave_out,
    )
    kept = {id(row) for row in no_data.rows}
    rows = [row for row, text in zip(grid[begin:], texts[begin:], strict=False) if id(text) in kept]
    of_text = {
        name: [value for value in (row[at] for row in rows) if value is not None]
        for at, name in enumerate(names)
        if _is_of_text([row[at] for row in rows])
    }
    found = recognise_texts(of_text)
    stored = [
        name
        for name, values in of_text.items()
        if len(values) > 1 and all(_NUMBER.fullmatch(value.strip()) for value in values)
    ]
    if stored:
        remarks.append(
            f"numbers are stored as texts in {listed(stored, 6)}: texts they stay, unless types says otherwise"
        )
    return replace(found, options=options, remarks=(*remarks, *no_data.remarks, *found.remarks))


def _is_of_text(values: Sequence[Any]) -> bool:
    kinds = {type(value) for value in values if value is not None}
    return kinds == {str}


def _doubled(grid: list[list[Any]], texts: list[list[str]], line: int) -> list[str]:
    """Return headings put together of two rows, where the second holds headings too: those of a group above, each below."""
    if line >= len(grid) - 1:
        return []
    upper, lower = texts[line - 1], texts[line]
    filled = [one.strip() for one in upper if one.strip()]
    if len(set(filled)) == len(filled) or not all(
        isinstance(one, str) for one in grid[line] if one is not None
    ):
        return []  # no heading stands over several columns
    together = [
        below.strip()
        if not above.strip() or above == below
        else above.strip()
        if not below.strip()
        else f"{above.strip()} {below.strip()}"
        for above, below in zip(upper, lower, strict=True)
    ]
    return together if all(together) and len(set(together)) == len(together) else []


def _blocks(cells: SheetCells) -> list[Block]:
    """Return the parts of a sheet that blank rows and columns divide. Rows that go on below a blank one, in the same
    columns and of the same kinds, belong to the part above.
    """
    rows, width = cells.rows, cells.width
    used = [any(row[at] is not None for row in rows) for at in range(width)]
    found: list[Block] = []
    for left, right in _runs(used):
        is_filled = [any(value is not None for value in row[left:right]) for row in rows]
        parts = [_block(cells, top, bottom, left, right) for top, bottom in _runs(is_filled)]
        joined: list[Block] = []
        for one in parts:
            part = one
            if joined and _goes_on(cells, joined[-1], part):
                before = joined.pop()
                part = Block(
                    before.top,
                    min(before.left, part.left),
                    part.bottom,
                    max(before.right, part.right),
                    before.n_filled + part.n_filled,
                )
            joined.append(part)
        found += joined
    return found


def _runs(flags: Sequence[bool]) -> list[tuple[int, int]]:
    """Return where flags are set, as places from and up to, the end left out."""
    made: list[tuple[int, int]] = []
    for at, flag in enumerate(flags):
        if flag and made and made[-1][1] == at:
            made[-1] = made[-1][0], at + 1
        elif flag:
            made.append((at, at + 1))
    return made


def _block(cells: SheetCells, top: int, bottom: int, left: int, right: int) -> Block:
    part = [row[left:right] for row in cells.rows[top:bottom]]
    used = [at for at in range(right - left) if any(row[at] is not None for row in part)]
    return Block(
        cells.top + top,
        cells.left + left + used[0],
        cells.top + bottom - 1,
        cells.left + left + used[-1],
        sum(value is not None for row in part for value in row),
    )


def _goes_on(cells: SheetCells, above: Block, below: Block) -> bool:
    """Whether a part is more rows of the table above: of the same kinds in each column, and no headings of its own."""
    if not above.is_table or below.left < above.left or below.right > above.right:
        return False
    first = cells.rows[below.top - cells.top]
    last = cells.rows[above.bottom - cells.top]
    places = range(above.left - cells.left, above.right - cells.left + 1)
    both = [(first[at], last[at]) for at in places if first[at] is not None and last[at] is not None]
    numbers = [isinstance(value, str) for _, value in both]
    return bool(both) and all(type(a) is type(b) for a, b in both) and not all(numbers)


def _is_beside(one: Block, main: Block) -> bool:
    """Whether a part stands beside the table, so that its columns would be taken for some of it."""
    return (
        (one.right < main.left or one.left > main.right) and one.bottom >= main.top and one.top <= main.bottom
    )


def _part(cells: SheetCells, block: Block) -> SheetCells:
    within = CellRange(block.top, block.left, block.bottom, block.right)
    return cells.within(within)
