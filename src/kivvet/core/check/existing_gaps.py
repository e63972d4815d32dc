"""What no row covers among tied columns, as boxes that are as large as can be."""

from __future__ import annotations

from collections.abc import Sequence

from kivvet.core.check.box_gaps import Box
from kivvet.core.check.box_search import BudgetSpentError
from kivvet.core.check.existing_places import ExistingPlaces
from kivvet.core.linear.tied_columns import TiedColumns
from kivvet.core.linear.tied_search import FoundPlace, anywhere, uncovered
from kivvet.core.space.boxes import bits_of


class ExistingGaps:
    """Searches the gaps of a space whose columns are tied.

    Parameters
    ----------
    places : ExistingPlaces
    tied : TiedColumns
    sought : sequence of sequences of int
        For each dimension the cells where gaps are sought; missing is one of them where rows name it.

    Attributes
    ----------
    is_settled, has_more : bool
        After a search: whether all questions were settled, and whether more gaps remain than were wanted.
    """

    def __init__(self, places: ExistingPlaces, tied: TiedColumns, sought: Sequence[Sequence[int]]) -> None:
        self.places, self.space = places, places.space
        self.is_settled, self.has_more = True, False
        self.may_miss = frozenset(
            name
            for form, dimension in zip(tied.forms, self.space.dimensions, strict=True)
            if form is not None and dimension.names_missing
            for name in form.coefficients
        )
        self.sought = [
            sum(1 << cell for cell in cells)
            | (1 << dimension.missing if form is not None and form.coefficients.keys() & self.may_miss else 0)
            for form, dimension, cells in zip(tied.forms, self.space.dimensions, sought, strict=True)
        ]

    def boxes(self, most: int) -> list[tuple[Box, FoundPlace]]:
        """Return uncovered boxes, the cells of each dimension as bits, each with a place in it; boxes may share places."""
        found: list[tuple[Box, FoundPlace]] = []
        try:
            while (place := self.uncovered([box for box, _ in found])) is not None:
                if len(found) == most:
                    self.has_more = True
                    break
                found.append((self.widened(place.cells), place))
        except BudgetSpentError:
            self.is_settled = False
        return found

    def uncovered(self, boxes: Sequence[Box]) -> FoundPlace | None:
        """Return a place that neither a row nor one of some boxes covers.

        Raises
        ------
        BudgetSpentError
        """
        rows = (1 << len(self.space.table.rows) + len(boxes)) - 1
        return self.places.sought(self.sought, rows, uncovered, may_miss=self.may_miss, boxes=boxes)

    def widened(self, place: Sequence[int]) -> Box:
        """Return the box around a place, each dimension widened as far as no row shares a place with it, last to first."""
        box = [1 << cell for cell in place]
        try:
            for number in reversed(range(len(box))):
                self._widen(box, number)
        except BudgetSpentError:
            pass  # the box is smaller than it could be
        return box

    def _widen(self, box: list[int], number: int) -> None:
        dimension, sought = self.space.dimensions[number], self.sought[number]
        here = box[number].bit_length() - 1
        if not dimension.is_plain and here != dimension.missing:
            sought &= dimension.present  # that an input is missing is said of the input

        def is_free(cells: int) -> bool:
            wider = [*box[:number], cells, *box[number + 1 :]]
            if self._meets_a_row(wider):
                return False
            box[number] = cells
            return True

        if is_free(sought):
            return
        if dimension.is_ordered and here != dimension.missing:
            for step in (-1, 1):
                cell = here + step
                while (
                    0 <= cell < dimension.missing and sought >> cell & 1 and is_free(box[number] | 1 << cell)
                ):
                    cell += step
            return
        for cell in bits_of(sought & ~box[number]):
            is_free(box[number] | 1 << cell)

    def _meets_a_row(self, box: Sequence[int]) -> bool:
        box = [  # a comparison that is left out says nothing of missing values either
            one.whole if not one.is_plain and cells == one.present else cells
            for one, cells in zip(self.space.dimensions, box, strict=True)
        ]
        rows = (1 << len(self.space.table.rows)) - 1
        for dimension, cells in zip(self.space.dimensions, box, strict=True):
            rows &= dimension.touching(cells)
        for row in bits_of(rows):
            shared = [
                cells & one.cells_of_row[row] for cells, one in zip(box, self.space.dimensions, strict=True)
            ]
            if self.places.sought(shared, 0, anywhere, may_miss=self.may_miss) is not None:
                return True
        return False
