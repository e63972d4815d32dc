"""Why values get the class they get: what each row asks, what holds of it, and what would change the result."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

import pyarrow as pa

from kivvet.core.calculate.computed_inputs import computed_column
from kivvet.core.calculate.evaluate import Evaluator
from kivvet.core.calculate.vectors import to_arrow
from kivvet.core.check.row_findings import RowFindings
from kivvet.core.classify.compiled import CompiledTable, compile_table
from kivvet.core.classify.input_coder import InputCoder, RowSets
from kivvet.core.columns.column import Column, arrow_from_column, column_from_arrow, missing_mask
from kivvet.core.run.explanation import Explanation, NearestChange, Verdict
from kivvet.core.space.boxes import Dimension, Space, bits_of
from kivvet.core.space.lookup_index import parts_of_row
from kivvet.core.space.make_axis import make_axis
from kivvet.core.space.region_text import write_asked, write_results
from kivvet.core.space.table_space import axes_of, row_regions
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import UNFINISHED, WHEN, Computed, Result, Table
from kivvet.core.words.conditions import Condition, Equals
from kivvet.core.words.errors import DataError
from kivvet.core.words.promises import ResultPromise
from kivvet.core.words.regions import HIGH, LOW, Cut, Interval, Region
from kivvet.core.words.values import Value, write_decimal, write_plain, write_value

#: Tables of more rows are explained by the row that wins alone.
MOST_ROWS = 5_000


def columns_of_values(table: Table, values: Mapping[str, Any]) -> dict[str, Column]:
    """Return plain values as columns of one row, by the names that a table reads."""
    columns: dict[str, Column] = {}
    for name, about in table.reads.items():
        value = values.get(name)
        if isinstance(value, Decimal):
            value = int(value) if value == value.to_integral_value() and abs(value) < 2**63 else float(value)
        if value is None and about is not None:
            columns[name] = column_from_arrow(pa.nulls(1, _TYPES[about.type]))
            continue
        try:
            columns[name] = column_from_arrow(pa.array([value]), name)
        except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError) as error:
            raise DataError(
                f"{name} = {value!r} is no value that a table reads",
                expected=about.type if about else "a plain value",
                fix="give text, a number, true or false, a date or a time",
            ) from error
    return columns


_TYPES = {
    "text": pa.string(),
    "integer": pa.int64(),
    "number": pa.float64(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "datetime": pa.timestamp("us"),
    "decimal": pa.float64(),
}


def explain_columns(table: Table, columns: Mapping[str, Column]) -> Explanation:
    """Return why one row of data gets its results.

    Parameters
    ----------
    table : Table
    columns : mapping of str to Column
        Of one row each, by the names the table gives them.
    """
    without = tuple(
        name for name, one in columns.items() if name in table.deciding_reads and missing_mask(one)[0]
    )
    return replace(_explain_columns(table, columns), without=without, promises=_promised(table, columns))


def _promised(table: Table, columns: Mapping[str, Column]) -> tuple[str, ...]:
    """Return the promises about results whose conditions a row of data meets."""
    inputs = {about.name: about for about in table.inputs}
    return tuple(
        promise.text
        for promise in table.promises
        if isinstance(promise, ResultPromise)
        and all(_meets(inputs[name], columns[name], asked) for name, asked in promise.asked.items())
    )


def _meets(about: Input, column: Column, asked: Condition) -> bool:
    if missing_mask(column)[0]:
        return make_axis(about, [asked]).region(asked).missing
    value = arrow_from_column(column)[0].as_py()
    if isinstance(value, float):
        if not math.isfinite(value):
            return False
        value = Decimal(repr(value))
    axis = make_axis(about, [asked, Equals(value)])
    return any((axis.region(Equals(value)) & axis.region(asked)).bands)


def _explain_columns(table: Table, columns: Mapping[str, Column]) -> Explanation:
    compiled = compile_table(table)
    outcome = int(compiled.classify(columns).labels[0])
    deciding, decided = compiled.outcomes.rows_of(outcome), compiled.outcomes.decided(outcome)
    ends = table.missing if decided == "missing" else table.otherwise
    values = {name: _value_text(column) for name, column in columns.items() if name in table.deciding_reads}
    if table.lookup is not None:
        return _of_lookup(table, values, decided, deciding, ends)
    if deciding:
        of_rows = [
            [
                table.otherwise.get(output.name)
                if table.rows[row].results[n] is UNFINISHED
                else _value(table.rows[row].results[n], columns)
                for row in deciding
            ]
            for n, output in enumerate(table.outputs)
        ]
        found = [each if table.match == "every" else each[0] for each in of_rows]
    else:
        found = [ends.get(output.name) for output in table.outputs]
    results = {output.name: one for output, one in zip(table.outputs, found, strict=True)}
    numbers = tuple(table.rows[row].number for row in deciding)
    if len(table.rows) > MOST_ROWS:
        return Explanation(
            table.name,
            values,
            decided,
            numbers,
            results,
            tuple(_verdict(table, row, decides=True) for row in deciding),
            (),
            f"the table has {len(table.rows):,} rows; those that do not decide are not listed",
        )
    explainer = _Explainer(table, compiled, columns)
    return Explanation(
        table.name, values, decided, numbers, results, explainer.verdicts(deciding), explainer.nearest()
    )


def _of_lookup(
    table: Table,
    values: Mapping[str, str],
    decided: str,
    deciding: Sequence[int],
    ends: Mapping[str, Value],
) -> Explanation:
    assert table.lookup is not None
    results = {
        output.name: array[deciding[0]].as_py()
        if deciding and decided != "unfinished"
        else ends.get(output.name)
        for output, array in zip(table.outputs, table.lookup.results, strict=True)
    }
    verdicts = tuple(
        Verdict(
            row + 1,
            parts_of_row(table, row, with_names=True),
            ", ".join(write_plain(result) for result in results.values()),
            decides=True,
            matches=True,
            place=table.lookup.locate_row(row + 1),
        )
        for row in deciding
    )
    return Explanation(
        table.name,
        values,
        decided,
        tuple(row + 1 for row in deciding),
        results,
        verdicts,
        (),
        "the row is still to be filled in"
        if decided == "unfinished"
        else ""
        if deciding
        else "no row of the lookup has these keys at that value"
        if table.lookup.ranges
        else "no row of the lookup has this key",
    )


def _verdict(table: Table, row: int, *, decides: bool, matches: bool = True, failed: str = "") -> Verdict:
    region = RowFindings(table).region_of(row)
    asks = tuple(text if name == WHEN else write_asked(name, text) for name, text in region.items())
    one = table.rows[row]
    return Verdict(one.number, asks, write_results(one.results), decides, matches, failed, one.place)


def cells_of_values(table: Table, columns: Mapping[str, Column], space: Space) -> list[int | None]:
    """Return the cell of each dimension of a space that holds one row of data; None where it cannot be told.

    Parameters
    ----------
    space : Space
        Of the same dimensions as the table's; its first rows are the table's.
    """
    explainer = _Explainer(table, compile_table(table), columns)
    explainer.space = space
    return [explainer.cell(number) for number in range(len(space.dimensions))]


class _Explainer:
    """One row of data before the rows of one table."""

    def __init__(self, table: Table, compiled: CompiledTable, columns: Mapping[str, Column]) -> None:
        self.table = table
        self.compiled = compiled
        self.space = Space(table)
        self.columns = [columns[about.name] for about in table.inputs]
        self.columns += [computed_column(test, columns, table.steps) for test in table.computed_inputs]
        self.masks = [self._accepting(number) for number in range(len(self.columns))]
        self.all_rows = (1 << len(table.rows)) - 1

    def _accepting(self, number: int) -> int:
        """Return the rows that accept the value of one dimension, by the same means as when data is
        classified.
        """
        regions = row_regions(self.table, number)
        labelling = RowSets(regions)
        about, axis = self.table.dimensions[number], axes_of(self.table)[number]
        numbers, _ = InputCoder(about, axis, regions, labelling).label(self.columns[number])
        return labelling.masks[int(numbers[0])]

    def verdicts(self, deciding: Sequence[int]) -> tuple[Verdict, ...]:
        """Return what becomes of each row."""
        made = []
        for row in range(len(self.table.rows)):
            failed = next((n for n, mask in enumerate(self.masks) if not mask >> row & 1), None)
            made.append(
                _verdict(
                    self.table,
                    row,
                    decides=row in deciding,
                    matches=failed is None,
                    failed="" if failed is None else self._failure(row, failed),
                )
            )
        return tuple(made)

    def _failure(self, row: int, number: int) -> str:
        dimension = self.space.dimensions[number]
        region = dimension.axis.region(dimension.conditions[row])
        if dimension.test is not None:
            needs = dimension.write(dimension.cells_of_row[row]) or "what nothing meets"
            is_column = dimension.about.name in dimension.test.reads
            holds = f"{dimension.about.name} is {self._value(number)}" if is_column else self._holds(number)
            return f"needs {needs}, but {holds}"
        needs = write_asked(
            dimension.about.name, RowFindings(self.table).region_of(row).get(dimension.about.name, "")
        )
        by = self._distance(dimension, region, number)
        return f"needs {needs}, is {self._value(number)}{by}"

    def _holds(self, number: int) -> str:
        """Return what is so of a computed input."""
        dimension = self.space.dimensions[number]
        cell = self.cell(number)
        if cell == dimension.missing:
            return "a value in it is missing"
        return dimension.write(1 << cell) if cell is not None else "it is otherwise"

    def _value(self, number: int) -> str:
        return _value_text(self.columns[number])

    def _place(self, number: int) -> Any:
        """Return where the value lies on its axis; None for missing."""
        column, about = self.columns[number], self.space.dimensions[number].about
        if missing_mask(column)[0]:
            return None
        value = arrow_from_column(column)[0].as_py()
        if isinstance(value, float):
            if not math.isfinite(value):
                return None
            value = Decimal(repr(value))
        if about.type == "date" and isinstance(value, dt.datetime):
            value = value.date()
        if isinstance(value, dt.datetime):
            value = value.replace(tzinfo=None)
        return self.space.dimensions[number].axis.place(value)

    def _distance(self, dimension: Dimension, region: Region, number: int) -> str:
        """Return by how much a number misses what is asked."""
        place = self._place(number)
        if dimension.about.type not in ("number", "integer") or place is None:
            return ""
        gaps = [_gap_to(place, interval) for interval in region.bands[0]]
        if not gaps:
            return ""
        nearest = min(gaps, key=abs)
        return f", {write_decimal(abs(nearest))} too {'low' if nearest > 0 else 'high'}" if nearest else ""

    def cell(self, number: int) -> int | None:
        """Return the cell that holds the value; None where it cannot be told."""
        dimension = self.space.dimensions[number]
        place = self._place(number)
        if place is None:
            return dimension.missing if missing_mask(self.columns[number])[0] else None
        at: Cut = (0, place, 0)
        for index, cell in enumerate(dimension.cut.cells):
            if cell.low <= at < cell.high and dimension.masks[index] & self.all_rows == self.masks[number]:
                return index
        return None

    # What would change it

    def results_of(self, alive: int, *, is_missing: bool) -> str:
        """Return the results of the rows alive, as text; where there are none, of a missing input or
        otherwise.
        """
        if not alive:
            given = self.table.missing if is_missing else self.table.otherwise
            ends = [given.get(output.name) for output in self.table.outputs]
            return ", ".join("no class" if end is None else write_value(end) for end in ends)
        if self.table.match == "every":
            return "; ".join(write_results(self.table.rows[row].results) for row in bits_of(alive))
        return write_results(self.table.rows[(alive & -alive).bit_length() - 1].results)

    def nearest(self) -> tuple[NearestChange, ...]:
        """Return for each dimension the nearest change that gives another result."""
        alive = self.all_rows
        for mask in self.masks:
            alive &= mask
        is_missing = [
            bool(missing_mask(column)[0]) and (one.about.required or bool(~one.free_rows & self.all_rows))
            for column, one in zip(self.columns, self.space.dimensions, strict=True)
        ]
        now = self.results_of(alive, is_missing=any(is_missing))
        made = []
        for number, dimension in enumerate(self.space.dimensions):
            others = self.all_rows
            for other, mask in enumerate(self.masks):
                if other != number:
                    others &= mask
            still_missing = any(gone for other, gone in enumerate(is_missing) if other != number)
            after = [
                self.results_of(others & mask, is_missing=still_missing) for mask in dimension.masks[:-1]
            ]
            changed = [
                n for n, results in enumerate(after) if results != now and dimension.cut.cells[n].in_domain
            ]
            if not changed:
                continue
            made.append(self._change(number, changed, after))
        return tuple(made)

    def _change(self, number: int, changed: Sequence[int], after: Sequence[str]) -> NearestChange:
        dimension = self.space.dimensions[number]
        at, place = self.cell(number), self._place(number)
        if not dimension.is_ordered:
            nearest = next((n for n in changed if _is_named(dimension, n)), changed[0])
            wants_named = _is_named(dimension, nearest)
            same = [
                n
                for n in changed
                if after[n] == after[nearest] and (_is_named(dimension, n) or not wants_named)
            ]
        else:
            nearest = changed[0]
            if at is not None and place is not None:
                nearest = min(changed, key=lambda n: _distance_to(dimension, place, n))
            same = [nearest]
            for step in (-1, 1):
                n = nearest + step
                while n in changed and after[n] == after[nearest]:
                    same.append(n)
                    n += step
        written = dimension.write(sum(1 << n for n in same))
        change = written if dimension.test is not None else write_asked(dimension.about.name, written)
        return NearestChange(change, after[nearest])


def _is_named(dimension: Dimension, cell: int) -> bool:
    """Whether a cell holds one value that a row names."""
    one = dimension.cut.cells[cell]
    return one.low != LOW and one.high != HIGH and one.low[1] == one.high[1]


def _distance_to(dimension: Dimension, place: Any, cell: int) -> Decimal:
    """Return how far a place is from a cell, in the unit of the axis."""
    one = dimension.cut.cells[cell]
    return abs(_gap_to(Decimal(place), (one.low, one.high)))


def _gap_to(place: Decimal, interval: Interval) -> Decimal:
    """Return what has to be added to a number to reach an interval."""
    low, high = interval
    if low != LOW and place < low[1]:
        return Decimal(low[1]) - place
    if high != HIGH and place > high[1]:
        return Decimal(high[1]) - place
    return Decimal(0)


def _value(result: Result, columns: Mapping[str, Column]) -> Any:
    if isinstance(result, Computed):
        return to_arrow(Evaluator(columns.__getitem__, 1).vector(result.tree), 1)[0].as_py()
    return result if isinstance(result, (str, int, Decimal, dt.date)) else None


def _value_text(column: Column) -> str:
    if missing_mask(column)[0]:
        return "missing"
    value = arrow_from_column(column)[0].as_py()
    return write_plain(value)
