"""Rows that meet, written apart: a remedy that leaves what others hold to them, in words that are read as just that.

All that are told in one check can be followed together: what a row yields is left to rows that stay as they are.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Protocol

from kivvet.core.space.boxes import Dimension, Space, bits_of
from kivvet.core.space.cells import CellCut, joined_spans
from kivvet.core.tables.table import WHEN
from kivvet.core.words.regions import Region, union

if TYPE_CHECKING:
    from kivvet.core.check.box_gaps import Box
    from kivvet.core.tables.table import Row, Table


class Yielding:
    """Which rows were told to yield places, and to which others they are left."""

    def __init__(self) -> None:
        self._yields: set[int] = set()
        self._is_relied_on: set[int] = set()

    def may(self, row: int, to: Iterable[int]) -> bool:
        """Whether a row may yield to others: none relies on it, and these stay as they are."""
        return row not in self._is_relied_on and self._yields.isdisjoint(to)

    def told(self, row: int, to: Iterable[int]) -> None:
        """Note that a row was told to yield to others."""
        self._yields.add(row)
        self._is_relied_on.update(to)


class Boxes(Protocol):
    """Rows as boxes of cells, and which of them share or hold the places of a box, row k as bit k."""

    table: Table
    rows: tuple[Row, ...]
    dimensions: tuple[Dimension, ...]
    boxes: list[Box]

    @property
    def same_results(self) -> Mapping[object, int]: ...
    def rows_meeting(self, box: Sequence[int]) -> int: ...
    def rows_holding(self, box: Sequence[int]) -> int: ...


class BoxParting:
    """How rows of several inputs are written apart; rows are counted from 0."""

    def __init__(self, check: Boxes) -> None:
        self.check = check
        self.table = check.table
        self.yielding = Yielding()

    def rewriting(self, candidates: Iterable[int]) -> str:
        """Return how the first of some rows that can is written so that it leaves all rows that differ their places; nothing
        where none can.
        """
        check = self.check
        for row in candidates:
            box, same = check.boxes[row], check.same_results[check.rows[row].results]
            others = list(bits_of(check.rows_meeting(box) & ~same))
            if not self.yielding.may(row, others):
                continue  # together with an earlier remedy it would leave a gap
            sticks_out = self._sticks_out(box, others)
            if len(sticks_out) != 1:
                continue
            (number,) = sticks_out
            rest = [*box]
            for other in others:
                rest[number] &= ~check.boxes[other][number]
            twins = check.rows_holding(rest) & same & ~(1 << row)
            dimension = check.dimensions[number]
            if twins or not rest[number] & (dimension.inside | 1 << dimension.missing):
                continue
            is_input = number < len(self.table.inputs) and not check.rows[row].when
            if dimension.test is None and is_input:
                what, text = dimension.about.name, dimension.write(rest[number])
            elif dimension.test is None:
                continue  # a cell and its `when` ask together
            else:
                whens = [
                    one.write(cells)
                    for one, cells in zip(check.dimensions, rest, strict=True)
                    if one.test is not None and cells != one.whole
                ]
                what, text = WHEN, " AND ".join(whens)
            if self.reads_as(row, what, text, rest):
                self.yielding.told(row, others)
                return f"write {what} of row {check.rows[row].number} as {text}, or "
        return ""

    def _sticks_out(self, box: Box, others: Iterable[int]) -> set[int]:
        """Return the inputs in which a box holds what one of some rows does not; two of them are enough to know."""
        found: set[int] = set()
        for other in others:
            for number, (mine, its) in enumerate(zip(box, self.check.boxes[other], strict=True)):
                if mine & ~its:
                    found.add(number)
            if len(found) > 1:
                break
        return found

    def reads_as(self, row: int, what: str, text: str, box: Box) -> bool:
        """Whether a row with one cell written otherwise holds just a box."""
        from kivvet.core.read.table_rewrite import with_cell

        table = with_cell(self.table, row, what, text)
        if table is None or table.dimensions != self.table.dimensions:
            return False
        space = Space(table)
        made = [dimension.cells_of_row[row] for dimension in space.dimensions]
        return all(
            _same_cells(mine, one, its, other)
            for mine, one, its, other in zip(box, self.check.dimensions, made, space.dimensions, strict=True)
        )


def _same_cells(mine: int, dimension: Dimension, its: int, other: Dimension) -> bool:
    """Whether cells of one cutting of an input hold the same values as cells of another."""

    def region(cells: int, of: Dimension) -> Region:
        held = [of.cut.cells[cell] for cell in bits_of(cells & of.present)]
        bands = range(of.axis.n_bands)
        return Region(
            tuple(union((one.low, one.high) for one in held if one.band == band) for band in bands),
            bool(cells >> of.missing & 1),
        )

    if dimension.axis.n_bands != other.axis.n_bands:
        return False
    one, two = region(mine, dimension), region(its, other)
    cut = CellCut.of(other.axis, [one, two], other.axis.domain)
    return joined_spans(cut.spans[0]) == joined_spans(cut.spans[1]) and one.missing == two.missing
