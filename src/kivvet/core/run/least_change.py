"""The least change of a row of data that gives a wanted result: the fewest inputs, each moved as little as may be.

Sets of inputs are tried, few first: the others stay what they are, and a place with the wanted result is sought, exactly also where
statements tie inputs. What is found is widened to all that gives the result as well.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterator, Mapping, Sequence
from copy import copy
from dataclasses import dataclass, replace
from decimal import Decimal
from fractions import Fraction
from typing import Any

from kivvet.core.check.box_search import DEFAULT_BUDGET, BudgetSpentError
from kivvet.core.columns.column import Column, arrow_from_column, missing_mask
from kivvet.core.linear.linear_forms import OF_SIGN, Linear, Statement
from kivvet.core.linear.tied_values import values_of
from kivvet.core.promises.result_space import ResultSpace
from kivvet.core.run.explain import cells_of_values
from kivvet.core.run.explanation import Explanation
from kivvet.core.space.boxes import bits_of
from kivvet.core.space.region_text import write_asked
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import (
    LiteralError,
    Value,
    days_since_epoch,
    microseconds_since_epoch,
    parse_value,
    write_value,
)
from kivvet.core.words.wording import count, did_you_mean, listed

MOST_WAYS = 5
_MOST_TOGETHER = 4  # inputs that are changed at once


@dataclass(frozen=True, slots=True)
class Way:
    """Some inputs, what they are to be, and values that are.

    Attributes
    ----------
    changes : mapping of str to str
        By input a condition; all that meets them gives the wanted result, the other inputs being as they are.
    values : mapping of str to str
        By input a value, the nearest that is found.
    possible : bool
        Whether conditions that are not linear leave it open that such values exist.
    """

    changes: Mapping[str, str]
    values: Mapping[str, str]
    possible: bool = False

    def __str__(self) -> str:
        asked = ", ".join(write_asked(name, text) for name, text in self.changes.items())
        values = ", ".join(
            f"{name} = {text}" for name, text in self.values.items() if text != self.changes[name]
        )
        return f"{asked}{f', for example {values}' if values else ''}{' (possible)' if self.possible else ''}"

    def as_dict(self) -> dict[str, Any]:
        return {"changes": dict(self.changes), "values": dict(self.values), "possible": self.possible}


@dataclass(frozen=True, slots=True)
class Wanted:
    """A result that is wanted of a row, and the ways to it: all change as few inputs as there can be.

    Attributes
    ----------
    output, result : str
    ways : tuple of Way
    note : str
        Why there is none.
    """

    output: str
    result: str
    ways: tuple[Way, ...] = ()
    note: str = ""

    def as_dict(self) -> dict[str, Any]:
        return {
            "output": self.output,
            "result": self.result,
            "ways": [way.as_dict() for way in self.ways],
            "note": self.note,
        }


def with_wanted(
    table: Table, columns: Mapping[str, Column], explained: Explanation, wanted: str
) -> Explanation:
    """Return an explanation with the least change that gives a wanted result.

    Parameters
    ----------
    wanted : str
        The result, or ``output=result`` where there are several.

    Raises
    ------
    DataError
        If there is no such result, or the table is a lookup or lets every row count.
    """
    if table.lookup is not None or table.match == "every":
        what = "a lookup" if table.lookup is not None else 'a table of match = "every"'
        raise DataError(f"{table.name} is {what}, of which no change is sought", fix="leave --wanted out")
    output, value = _result_of(table, wanted)
    shown = write_value(value)
    if explained.results.get(output.name) == value:
        return replace(explained, wanted=Wanted(output.name, shown, note=f"{output.name} is {shown} already"))
    return replace(explained, wanted=_Search(table, output, value, columns).found())


def _result_of(table: Table, text: str) -> tuple[Output, Value]:
    """Return the output and the result that a text names."""
    name, sign, rest = text.partition("=")
    named = [output for output in table.outputs if sign and output.name == name.strip()]
    outputs = named or list(table.outputs)
    known: list[str] = []
    for output in outputs:
        classes = table.classes(output)
        try:
            value = parse_value((rest if named else text).strip(), output.type)
        except LiteralError:
            value = (rest if named else text).strip()
        known += [write_value(one) for one in classes]
        if value in classes:
            return output, value
    raise DataError(
        f"{text!r} is no result of {table.name}",
        expected=f"one of: {listed(known, 20)}",
        fix=did_you_mean((rest if named else text).strip(), known) or None,
    )


class _Search:
    """One row of data, and the places of its table that give what is wanted."""

    def __init__(self, table: Table, output: Output, value: Value, columns: Mapping[str, Column]) -> None:
        self.table, self.output, self.wanted = table, output, value
        self.results = ResultSpace(table, output.name, {}, DEFAULT_BUDGET)
        self.space = self.results.space
        self.columns = columns
        self.tied = self.results.existing.tied
        self.place = cells_of_values(table, columns, self.space)
        self.within = [sum(1 << cell for cell in cells) for cells in self.results.within()]
        self.reads = [
            frozenset(
                dimension.test.reads
                if dimension.test is not None and not dimension.is_plain
                else (dimension.about.name,)
            )
            for dimension in self.space.dimensions
        ]
        self.names = [name for name in table.reads if any(name in reads for reads in self.reads)]

    def found(self) -> Wanted:
        shown = write_value(self.wanted)
        ways: list[Way] = []
        try:
            if self._place_with(self.names) is None:
                return Wanted(self.output.name, shown, note=f"no values of its inputs give {shown}")
            for size in range(1, min(_MOST_TOGETHER, len(self.names)) + 1):
                for names in itertools.combinations(self.names, size):
                    if self._place_with(names) is not None:
                        ways.append(self._way(names))
                if ways:
                    break
        except BudgetSpentError:
            if not ways:
                return Wanted(self.output.name, shown, note="not settled: the search took too many steps")
        note = "" if ways else f"more than {count(_MOST_TOGETHER, 'input')} have to change"
        if self.results.is_open:
            note = "results that are worked out are not looked into"
        return Wanted(self.output.name, shown, tuple(ways[:MOST_WAYS]), note)

    def _box(self, names: Sequence[str]) -> list[int] | None:
        """Return the cells in which some inputs may lie, and the others do; None where the row lies in none of them."""
        box = []
        for dimension, reads, cell, within in zip(
            self.space.dimensions, self.reads, self.place, self.within, strict=True
        ):
            if reads & {*names}:
                free = within & dimension.present
                is_about_missing = any(name not in names and self._is_missing(name) for name in reads)
                box.append(1 << dimension.missing if is_about_missing and not dimension.is_plain else free)
            elif cell is None:
                return None
            else:
                box.append(1 << cell)
        return box

    def _is_missing(self, name: str) -> bool:
        return bool(missing_mask(self.columns[name])[0])

    def _place_with(self, names: Sequence[str], box: Sequence[int] | None = None) -> Sequence[int] | None:
        """Return a place of the wanted result where only some inputs change, within a box of cells."""
        return self._sought(names, box, lambda value: value != self.wanted)

    def _strays(self, names: Sequence[str], box: Sequence[int]) -> bool:
        """Whether somewhere in a box the result is another, or none."""
        return self._sought(names, box, lambda value: value == self.wanted, with_none=True) is not None

    def _sought(
        self,
        names: Sequence[str],
        box: Sequence[int] | None,
        keeps: Callable[[Value], bool],
        *,
        with_none: bool = False,
    ) -> Sequence[int] | None:
        box = self._box(names) if box is None else box
        if box is None or not all(box):
            return None
        cells = [list(bits_of(one)) for one in box]
        with self._pinned(names):
            judge = self.results.judge(keeps, none_is_fine=not with_none)
            return self.results.existing_place(cells, judge)[1]

    def _pinned(self, names: Sequence[str]) -> _Pinned:
        """Return what holds the tied columns that do not change at their values."""
        return _Pinned(self.results, [self._pin(name) for name in self._tied_names() if name not in names])

    def _tied_names(self) -> Iterator[str]:
        if self.tied is not None:
            yield from (name for name in self.tied.names if not self._is_missing(name))

    def _pin(self, name: str) -> Statement:
        return Statement(Linear({name: Fraction(1)}, -self._number(name)), (OF_SIGN[0],))

    def _number(self, name: str) -> Fraction:
        value = arrow_from_column(self.columns[name])[0].as_py()
        if isinstance(value, float):
            return Fraction(Decimal(repr(value)))
        if hasattr(value, "hour"):
            return Fraction(microseconds_since_epoch(value.replace(tzinfo=None)) * 1_000)
        return Fraction(days_since_epoch(value)) if hasattr(value, "year") else Fraction(value)

    # The way

    def _way(self, names: Sequence[str]) -> Way:
        """Return what inputs are to be: cells nearest to where they are, widened as far as the result stays."""
        box = self._box(names)
        assert box is not None
        own = [number for number, reads in enumerate(self.reads) if reads & {*names}]
        plain = [number for number in own if self.space.dimensions[number].is_plain]
        for number in [*plain, *(number for number in own if number not in plain)]:
            for cell in self._by_distance(number, box[number]):
                nearer = [*box[:number], 1 << cell, *box[number + 1 :]]
                if self._place_with(names, nearer) is not None:
                    box = nearer
                    break
        place = self._place_with(names, box) or [next(bits_of(cells)) for cells in box]
        values = self._values(names, box, place)
        full = self._box(names)
        assert full is not None
        for number in own:
            if not self.space.dimensions[number].is_plain:  # what the inputs are says how their sums come out
                wider = [*box[:number], full[number], *box[number + 1 :]]
                box = box if self._strays(names, wider) else wider
        for number in plain:
            box = self._widened(names, box, number, full[number])
        changes: dict[str, str] = {}
        for number in plain:
            dimension = self.space.dimensions[number]
            name = dimension.about.name
            is_free = box[number] == full[number]  # what ties it to the others says what it is to be
            changes[name] = values.get(name, "") if is_free else dimension.write(box[number])
        for number in own:
            dimension = self.space.dimensions[number]
            if not dimension.is_plain and box[number] != full[number]:
                for name in self.reads[number] & {*names}:
                    changes.setdefault(name, values.get(name, ""))
        is_exact = all(
            self.space.dimensions[number].is_plain
            or (self.tied is not None and self.tied.forms[number] is not None)
            for number in own
        )
        changes = {name: text for name, text in changes.items() if text} or dict(values)
        return Way(changes, {name: values[name] for name in changes if name in values}, possible=not is_exact)

    def _by_distance(self, number: int, cells: int) -> list[int]:
        """Return cells, those nearest to the value first."""
        here = self.place[number]
        dimension = self.space.dimensions[number]
        if here is None or not dimension.is_ordered:
            return sorted(bits_of(cells), key=lambda cell: cell != here)
        return sorted(bits_of(cells), key=lambda cell: (abs(cell - here), cell))

    def _widened(self, names: Sequence[str], box: list[int], number: int, full: int) -> list[int]:
        dimension = self.space.dimensions[number]
        here = box[number].bit_length() - 1

        def grown(cells: int) -> bool:
            nonlocal box
            wider = [*box[:number], cells, *box[number + 1 :]]
            if self._strays(names, wider):
                return False
            box = wider
            return True

        if dimension.is_ordered:
            for step in (-1, 1):
                cell = here + step
                while cell >= 0 and full >> cell & 1 and grown(box[number] | 1 << cell):
                    cell += step
        else:
            for cell in bits_of(full & ~box[number]):
                grown(box[number] | 1 << cell)
        return box

    def _values(self, names: Sequence[str], box: Sequence[int], place: Sequence[int]) -> dict[str, str]:
        """Return values of the inputs that change, in a box of one cell each."""
        values: dict[str, Value | None] = {}
        if self.tied is not None and {*names} & {*self.tied.names}:
            with self._pinned(names):
                judge = self.results.judge(lambda value: value != self.wanted)
                answer, _ = self.results.existing_place([list(bits_of(one)) for one in box], judge)
                tied = self.results.existing.tied
                if answer.place is not None and tied is not None:
                    values.update(values_of(tied, answer.place) or {})
        for number, dimension in enumerate(self.space.dimensions):
            name = dimension.about.name
            if dimension.is_plain and name in names and name not in values:
                values[name] = self._nearest_value(number, place[number])
        return {name: write_value(value) for name in names if (value := values.get(name)) is not None}

    def _nearest_value(self, number: int, cell: int) -> Value | None:
        """Return the end of a cell that is nearest to the value, if it is in it, else a value of it."""
        dimension, here = self.space.dimensions[number], self.place[number]
        stretch, axis = dimension.cut.cells[cell], dimension.axis
        if here is None or not dimension.is_ordered or cell == here:
            return dimension.witness(cell)
        end = stretch.high if cell < here else stretch.low
        if end[0] != 0:
            return dimension.witness(cell)
        inside = axis.witness(0, (0, end[1], 0), (0, end[1], 1))
        is_in = (end[2] == 1) if cell < here else (end[2] == 0)
        return inside if is_in and inside is not None else dimension.witness(cell)


class _Pinned:
    """Holds columns of a space at values, for some questions."""

    def __init__(self, results: ResultSpace, pins: Sequence[Statement]) -> None:
        self.results, self.before = results, results.existing
        self.pins = tuple(pins)

    def __enter__(self) -> None:
        if self.before.tied is None or not self.pins:
            return
        pinned = copy(self.before)
        tied = self.before.tied
        pinned.tied = replace(tied, statements=(*tied.statements, *self.pins), _known={})
        self.results.existing = pinned

    def __exit__(self, *_: object) -> None:
        self.results.existing = self.before
