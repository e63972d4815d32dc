"""Which examples come out as they say, for many versions of a table that differ in few rows: what a row holds is asked once for each
condition that it is given.
"""

from __future__ import annotations

from collections.abc import Sequence

from kivvet.core.calculate.computed_inputs import computed_column
from kivvet.core.classify.input_coder import InputCoder, RowSets
from kivvet.core.columns.column import Column, missing_mask
from kivvet.core.run.examples import columns_of_examples, is_same
from kivvet.core.space.boxes import bits_of
from kivvet.core.space.make_axis import make_axis
from kivvet.core.space.table_space import axes_of
from kivvet.core.tables.table import UNFINISHED, Row, Table
from kivvet.core.words.conditions import AnyValue, Condition


class ExamplesHeld:
    """The examples of a table, held against versions of its rows.

    Parameters
    ----------
    table : Table
        Its inputs and examples count; rows are given apart.
    """

    def __init__(self, table: Table) -> None:
        self.table = table
        columns = columns_of_examples(table, table.examples)
        self.columns: list[Column] = [columns[about.name] for about in table.inputs]
        self.columns += [computed_column(test, columns, table.steps) for test in table.computed_inputs]
        self.everyone = (1 << len(table.examples)) - 1
        self._meets: dict[tuple[int, Condition], int] = {}
        self._held: dict[int, tuple[Row, int]] = {}  # by the identity of a row, which stays with it
        asked = [
            about.required or any(not isinstance(table.asked(row, number), AnyValue) for row in table.rows)
            for number, about in enumerate(table.dimensions)
        ]
        self.missing = 0
        for column, is_asked in zip(self.columns, asked, strict=True):
            if is_asked:
                self.missing |= sum(1 << k for k, gone in enumerate(missing_mask(column)) if gone)

    def meets(self, number: int, condition: Condition) -> int:
        """Return the examples whose value of a dimension meets a condition, example k as bit k."""
        if isinstance(condition, AnyValue) and not self.table.dimensions[number].required:
            return self.everyone
        key = number, condition
        if key not in self._meets:
            about = self.table.dimensions[number]
            is_input = number < len(self.table.inputs)
            axis = make_axis(about, [condition]) if is_input else axes_of(self.table)[number]
            region = axis.region(condition)
            regions = [region.without_missing() if about.required else region]
            labelling = RowSets(regions)
            numbers, _ = InputCoder(about, axis, regions, labelling).label(self.columns[number])
            self._meets[key] = sum(
                1 << k for k, number in enumerate(numbers) if labelling.masks[int(number)] & 1
            )
        return self._meets[key]

    def held_by(self, row: Row) -> int:
        """Return the examples that a row holds."""
        known = self._held.get(id(row))
        if known is None:
            held = self.everyone
            for number, condition in enumerate(row.conditions):
                held &= self.meets(number, condition)
            for number, condition in enumerate(row.when_asks):
                if not isinstance(condition, AnyValue):
                    held &= self.meets(number, condition)
            known = self._held[id(row)] = row, held
        return known[1]

    def wrong(self, rows: Sequence[Row]) -> list[int]:
        """Return the examples that come out otherwise by some rows, by their places."""
        left, deciding = self.everyone, dict[int, Row]()
        for row in rows:
            held = self.held_by(row)
            for place in bits_of(held & left):
                deciding[place] = row
            left &= ~held
            if not left:
                break
        return [
            place for place in range(len(self.table.examples)) if self._is_wrong(place, deciding.get(place))
        ]

    def _is_wrong(self, place: int, row: Row | None) -> bool:
        ends = self.table.missing if row is None and self.missing >> place & 1 else self.table.otherwise
        for position, output in enumerate(self.table.outputs):
            if output.name not in self.table.examples[place].expected:
                continue
            given = ends.get(output.name) if row is None else row.results[position]
            given = self.table.otherwise.get(output.name) if given is UNFINISHED else given
            if not is_same(self.table.examples[place].expected[output.name], given):
                return True
        return False
