"""Rows of several inputs as boxes of cells: which meet, which hold all of another, and how findings about places are told.

Inputs are taken as independent of each other; what ties some of them is asked of `existing_places`.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import cached_property

from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.check.dependent import may_be_empty
from kivvet.core.check.existing_places import Answer, ExistingPlaces
from kivvet.core.check.row_findings import RowFindings
from kivvet.core.space.boxes import Space, bits_of
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place


class BoxRows(RowFindings):
    """The rows of a table of several dimensions as boxes of cells, counted from 0 within, and what findings about them share."""

    def __init__(self, table: Table, budget: int = DEFAULT_BUDGET) -> None:
        super().__init__(table)
        self.budget = budget
        self.space = Space(table)
        self.dimensions = self.space.dimensions
        self.all_rows = (1 << len(self.rows)) - 1
        self.boxes = [
            [dimension.cells_of_row[row] for dimension in self.dimensions] for row in range(len(self.rows))
        ]
        self.is_empty = [not all(box) for box in self.boxes]
        self.existing = ExistingPlaces(self.space, budget)
        self._touching: list[dict[int, int]] = [{} for _ in self.dimensions]
        self._holding: list[dict[int, int]] = [{} for _ in self.dimensions]

    @cached_property
    def same_results(self) -> dict[object, int]:
        """By results, the rows that have them, row k as bit k."""
        found: dict[object, int] = {}
        for row, one in enumerate(self.rows):
            found[one.results] = found.get(one.results, 0) | 1 << row
        return found

    @cached_property
    def same_boxes(self) -> dict[tuple[int, ...], int]:
        """By box, the rows that hold just it, row k as bit k."""
        found: dict[tuple[int, ...], int] = {}
        for row, box in enumerate(self.boxes):
            found[tuple(box)] = found.get(tuple(box), 0) | 1 << row
        return found

    @property
    def more_steps(self) -> int:
        """The budget to try next."""
        return max(DEFAULT_BUDGET, self.budget * 10)

    @property
    def table_place(self) -> tuple[Place, ...]:
        """Where the table is, for findings about no row of it."""
        place = self.table.place
        return () if place is None else (Place(place.file),)

    # Boxes

    def rows_meeting(self, box: Sequence[int]) -> int:
        """Return the rows that share a place with a box."""
        rows = self.all_rows
        for dimension, known, cells in zip(self.dimensions, self._touching, box, strict=True):
            if cells not in known:
                known[cells] = dimension.touching(cells)
            rows &= known[cells]
        return rows

    def rows_holding(self, box: Sequence[int]) -> int:
        """Return the rows that hold all of a box."""
        rows = self.all_rows
        for dimension, known, cells in zip(self.dimensions, self._holding, box, strict=True):
            if cells not in known:
                known[cells] = dimension.holding(cells)
            rows &= known[cells]
        return rows

    def is_whole(self, box: Sequence[int]) -> list[bool]:
        """Return which dimensions a box leaves free."""
        return [cells == dimension.whole for dimension, cells in zip(self.dimensions, box, strict=True)]

    def is_possible(self, is_whole: Sequence[bool]) -> bool:
        """Whether it is in doubt that a place exists: the dimensions it constrains depend on each other as nothing here decides."""
        return may_be_empty(self.space, is_whole, only_loose=True)

    def place_of(self, box: Sequence[int]) -> Answer:
        """Return whether a box holds a place, as far as it takes linear statements and comparisons to say."""
        return self.existing.in_box(box)

    def of_region(
        self,
        kind: str,
        message: str,
        rows: Sequence[int],
        is_whole: Sequence[bool],
        *,
        is_open: bool = False,
        **parts: object,
    ) -> Finding:
        """Return a finding about a region, possible where its inputs may depend on each other in ways that are not decided."""
        made = self.of_rows(kind, message, rows, **parts)
        if is_open or self.is_possible(is_whole):
            severity = "warning" if made.severity == "error" else made.severity
            return replace(made, possible=True, severity=severity)
        return made

    def place_in(self, box: Sequence[int]) -> list[int]:
        """Return one cell of each dimension of a box: of the domain, and present, where there is one."""
        place = []
        for dimension, cells in zip(self.dimensions, box, strict=True):
            place.append(next(bits_of(cells & dimension.inside or cells)))
        return place

    def not_settled(self, question: str, rows: Sequence[int]) -> Finding:
        return self.of_rows(
            "not-proven",
            f"{question} is not settled within {self.budget:,} steps",
            rows[:20],
            remedy=f"allow more with --budget {self.more_steps}; the notes on unused rows say what data never reaches",
        )
