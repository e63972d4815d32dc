"""Pairs of rows of data that differ in one input alone, which is greater in the second: the space that a promise of order is about.

The input stands twice among the columns, all others once; statements hold of both rows, and each row of the table is asked of
either. So a question about pairs is one about places, decided as all others are.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

from kivvet.core.check.existing_places import ExistingPlaces
from kivvet.core.compare.versions import Joint
from kivvet.core.formulas.tree import ColumnName, Comparison, with_other_column, write_formula
from kivvet.core.linear.linear_forms import statements_of
from kivvet.core.linear.tied_columns import form_of, types_of
from kivvet.core.linear.tied_search import anywhere
from kivvet.core.space.boxes import Space
from kivvet.core.tables.table import ComputedInput, Given, Row, Table
from kivvet.core.words.conditions import AnyValue, Condition

#: The rows that share a place with a box, and those that hold all of it, as bits.
Rows = tuple[int, int]
#: Says of the rows at the lower and at the higher value: kept (True), broken (False), or where either are to be told apart.
PairJudge = Callable[[Rows, Rows], bool | int | tuple[int, int]]


class RisingPairs:
    """The pairs of one table and one of its inputs.

    Parameters
    ----------
    joint : Joint
        The table, and what is given where no row matches as rows.
    table : Table
    number : int
        Of the input that rises.
    budget : int
        Steps that all questions may take.

    Attributes
    ----------
    is_exact : bool
        Whether all conditions and statements are linear, so that what is found exists.
    """

    def __init__(self, joint: Joint, table: Table, number: int, budget: int) -> None:
        self.name = joint.inputs[number].name
        taken = {*types_of(table)}
        self.other = next(one for k in range(len(taken) + 1) if (one := f"{self.name} {k + 2}") not in taken)
        self.rows = joint.new.rows
        self.space = Space(self._table(joint, table, number))
        self.existing = ExistingPlaces(self.space, budget)
        types = types_of(self.space.table)
        self.is_exact = all(
            dimension.is_plain or form_of(self.space.table, dimension) is not None
            for dimension in self.space.dimensions
        ) and not any(statements_of(one.condition, types)[1] for one in self.space.table.given)
        self.within = [
            dimension.possible
            & (dimension.inside & dimension.present if dimension.is_plain else dimension.present)
            for dimension in self.space.dimensions
        ]

    def _table(self, joint: Joint, table: Table, number: int) -> Table:
        """Return the rows as asked of the lower value, then as asked of the higher one, as a table without results."""
        again = [k for k, test in enumerate(joint.computed_inputs) if self.name in test.reads]
        inputs = (*joint.inputs, replace(joint.inputs[number], name=self.other))
        tests = (*joint.computed_inputs, *(self._of_higher(joint.computed_inputs[k]) for k in again))
        n_inputs, n_tests = len(joint.inputs), len(joint.computed_inputs)
        rows: list[Row] = []
        for is_higher in (False, True):
            for row in self.rows:
                cells: list[Condition] = [*row.conditions[:n_inputs], AnyValue()]
                asks: list[Condition] = [*row.conditions[n_inputs:], *[AnyValue()] * len(again)]
                if is_higher:
                    cells[number], cells[n_inputs] = cells[n_inputs], cells[number]
                    for at, k in enumerate(again):
                        asks[k], asks[n_tests + at] = asks[n_tests + at], asks[k]
                when = (*(AnyValue(),) * len(inputs), *asks)
                rows.append(Row(len(rows) + 1, tuple(cells), (), when_asks=when))
        given = [*table.given, *(self._given(one) for one in table.given if self.name in one.reads)]
        rises = Comparison("<", ColumnName(self.name), ColumnName(self.other))
        given.append(Given(write_formula(rises), rises, (self.name, self.other)))
        return Table(
            table.name, inputs, (), tuple(rows), match="first", computed_inputs=tests, given=tuple(given)
        )

    def _of_higher(self, test: ComputedInput) -> ComputedInput:
        reads = tuple(self.other if read == self.name else read for read in test.reads)
        about = replace(test.about, name=f"{test.about.name} of {self.other}")
        compared = test.compared and (
            with_other_column(test.compared[0], self.name, self.other),
            with_other_column(test.compared[1], self.name, self.other),
        )
        whole = None if test.whole is None else with_other_column(test.whole, self.name, self.other)
        return ComputedInput(about, compared, whole, reads)

    def _given(self, one: Given) -> Given:
        condition = with_other_column(one.condition, self.name, self.other)
        reads = tuple(self.other if name == self.name else name for name in one.reads)
        return Given(write_formula(condition), condition, reads)

    @property
    def exist(self) -> bool:
        """Whether there are pairs at all."""
        return self.existing.sought(self.within, 0, anywhere) is not None

    def sought(self, judge: PairJudge) -> list[tuple[int, Mapping[str, str]]] | None:
        """Return the rows that hold the lower and those that hold the higher value of a pair that a judge seeks, as bits, each
        with the values of its inputs; None where there is no such pair.

        Raises
        ------
        BudgetSpentError
        """
        n = len(self.rows)
        own = (1 << n) - 1

        def of_both(alive: int, sure: int) -> bool | int:
            verdict = judge((alive & own, sure & own), (alive >> n, sure >> n))
            return verdict[0] | verdict[1] << n if isinstance(verdict, tuple) else verdict

        place = self.existing.sought(self.within, (1 << 2 * n) - 1, of_both)
        if place is None:
            return None
        alive = -1
        for dimension, cell in zip(self.space.dimensions, place.cells, strict=True):
            alive &= dimension.masks[cell]
        values = self.existing.witness(place) or {
            one.about.name: one.write(1 << cell)
            for one, cell in zip(self.space.dimensions, place.cells, strict=True)
            if one.is_plain
        }
        lower = {name: text for name, text in values.items() if name != self.other}
        return [(alive & own, lower), (alive >> n & own, lower | {self.name: values[self.other]})]
