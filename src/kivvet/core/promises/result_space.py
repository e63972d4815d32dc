"""The results of a table over its space, with what it gives where no row matches: places are sought where these are not as wanted."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping, Sequence

from kivvet.core.check.box_search import Steps, Verdict, place_sought
from kivvet.core.check.existing_places import Answer, ExistingPlaces
from kivvet.core.compare.box_difference import Side
from kivvet.core.compare.versions import NOTHING, Given, Joint, PriorityRow
from kivvet.core.space.boxes import Space, bits_of
from kivvet.core.tables.table import UNFINISHED, Computed, Table
from kivvet.core.words.conditions import AnyValue, Condition
from kivvet.core.words.values import Value

Judge = Callable[[int, int], Verdict]


class ResultSpace:
    """One output of a table over the space that its rows, and conditions of some inputs, divide.

    Parameters
    ----------
    table : Table
    output : str
    asked : mapping of str to Condition
        By input what cuts the space besides rows.
    budget : int
        Steps that all questions may take.

    Attributes
    ----------
    is_open : bool
        Whether a result that is worked out was met, which is not looked into.
    """

    def __init__(self, table: Table, output: str, asked: Mapping[str, Condition], budget: int) -> None:
        self.table, self.output = table, table.output(output)
        self.budget, self.steps = budget, Steps(budget)
        self.joint = joint = Joint.of(table, table, [output])
        rows = list(joint.new.rows)
        n_dimensions = len(joint.inputs) + len(joint.computed_inputs)
        conditions = [asked.get(input_.name, AnyValue()) for input_ in joint.inputs]
        rows.append(PriorityRow((*conditions, *[AnyValue()] * (n_dimensions - len(conditions))), (NOTHING,)))
        self.space = Space(joint.table_of(rows))
        self.about_row = len(rows) - 1  # it only cuts the space, and says which cells count
        self.side = Side(joint.new, dict(enumerate(rows[:-1])))
        self.masks = [dimension.masks for dimension in self.space.dimensions]
        self.existing = ExistingPlaces(self.space, budget)
        self.is_open = False

    def within(self) -> list[list[int]]:
        """Return for each dimension the cells that count: those of its domain that are asked for, and missing."""
        found = []
        for number, dimension in enumerate(self.space.dimensions):
            cells = dimension.cells_of_row[self.about_row] & dimension.possible
            cells &= dimension.inside | 1 << dimension.missing
            if number < len(self.table.inputs) and self.table.inputs[number].required:
                cells &= dimension.present
            found.append(list(bits_of(cells)))
        return found

    def judge(self, keeps: Callable[[Value], bool], *, none_is_fine: bool = True) -> Judge:
        """Return what judges boxes: done where every result is fine, and sought where one is not.

        Parameters
        ----------
        keeps : callable
            Whether a result is fine.
        none_is_fine : bool
            Whether no result is.
        """
        known: dict[Hashable, bool] = {}

        def is_fine(value: Hashable) -> bool:
            if value is NOTHING or value is None or value is UNFINISHED:
                return none_is_fine
            if isinstance(value, Computed):
                self.is_open = True
                return none_is_fine
            if value not in known:
                known[value] = keeps(value)  # type: ignore[arg-type]
            return known[value]

        fine = sum(1 << bit for bit, row in self.side.row_of.items() if is_fine(row.results[0]))

        def judge(alive: int, sure: int) -> Verdict:
            deciding = self.side.deciding(alive, sure)
            if not deciding & ~fine:
                return True
            settled = self.side.settled(deciding, sure)
            if settled is None:
                return deciding
            values = settled.results or tuple(settled.disputed[0])  # type: ignore[arg-type]
            return all(map(is_fine, values))

        return judge

    def place(self, within: Sequence[Sequence[int]], judge: Judge, apart: int = -1) -> list[int] | None:
        """Return a place that a judge seeks, one cell of each dimension; None where there is none.

        Parameters
        ----------
        apart : int
            A dimension that the judge itself looks at: it holds no row out.

        Raises
        ------
        BudgetSpentError
        """
        every_row = (1 << len(self.side.row_of)) - 1
        masks = [
            [every_row if number == apart else self.masks[number][cell] for cell in of_dimension]
            for number, of_dimension in enumerate(within)
        ]
        return place_sought(masks, within, every_row, judge, self.steps)

    def existing_place(
        self, within: Sequence[Sequence[int]], judge: Judge
    ) -> tuple[Answer, Sequence[int] | None]:
        """Return a place that a judge seeks, and whether statements let it exist; no place where there is none."""
        place = self.place(within, judge)
        if place is None or self.existing.tied is None:
            return Answer(True), place
        cells = [sum(1 << cell for cell in one) for one in within]
        every_row = (1 << len(self.side.row_of)) - 1
        answer = self.existing.of_question(
            lambda may_miss: self.existing.sought(cells, every_row, judge, may_miss=may_miss)
        )
        return answer, None if answer.place is None else answer.place.cells

    def given_at(self, place: Sequence[int]) -> Given:
        """Return what is given at a place."""
        alive = -1
        for masks, cell in zip(self.masks, place, strict=True):
            alive &= masks[cell]
        return self.side.at(alive & (1 << len(self.side.row_of)) - 1)
