"""The fewest changed bounds, values and results of a table after which all its examples and promises hold.

Changes are tried one at a time, then two and three together: a bound that lies next to an example that comes out wrong moves just
past it, in every row that has it, so that rows go on parting the values; a text moves from the row that decides to one that gives
what is expected; a row gives another result. What is offered has been tried: no example and no promise fails, and nothing is
found in the table that was not found before.
"""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any

from kivvet.core.check.check import findings_of
from kivvet.core.draft.examples_held import ExamplesHeld
from kivvet.core.promises.decide import promise_findings
from kivvet.core.run.examples import ExampleRun, run_examples
from kivvet.core.space.table_space import axes_of
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import Computed, Row, Table
from kivvet.core.words.conditions import (
    AllOf,
    AnyOf,
    AnyValue,
    Between,
    Condition,
    Equals,
    Negation,
    write_condition,
)
from kivvet.core.words.errors import DataError
from kivvet.core.words.promises import ResultPromise
from kivvet.core.words.regions import HIGH, LOW, Cut
from kivvet.core.words.values import LiteralError, Value, parse_value, write_plain, write_value

_MOST_CHANGES = 3
_BEAM = 24  # tables with one change that are looked at further
_MOST_TRIED = 4_000
_FAULTS = ("gap", "overlap", "conflict", "impossible", "shadowed", "out-of-domain")


@dataclass(frozen=True)
class CellChanged:
    """A cell that is written otherwise.

    Attributes
    ----------
    row : int
        Counted from 1.
    heading : str
        An input or an output.
    before, after : str
    """

    row: int
    heading: str
    before: str
    after: str

    def as_dict(self) -> dict[str, Any]:
        return {"row": self.row, "heading": self.heading, "before": self.before, "after": self.after}


@dataclass(frozen=True)
class Mended:
    """A table after which all examples and promises hold.

    Attributes
    ----------
    table : Table
    steps : tuple of str
        What changes, in words: each a bound, a value or a result.
    cells : tuple of CellChanged
    """

    table: Table
    steps: tuple[str, ...]
    cells: tuple[CellChanged, ...]


@dataclass(frozen=True)
class _Change:
    """One change of a table: its words, and what it makes of the rows."""

    said: str
    made: Callable[[Sequence[Row]], tuple[Row, ...]]


@dataclass(frozen=True)
class _Tried:
    table: Table
    steps: tuple[str, ...]
    n_wrong: int


def broken_of(table: Table) -> tuple[list[ExampleRun], list[str]]:
    """Return the examples of a table that come out otherwise, and what is said of promises that are broken."""
    runs = (
        [example for example in run_examples(table, table.examples) if example.broken]
        if table.examples
        else []
    )
    return runs, [finding.message for finding in promise_findings(table) if finding.severity == "error"]


def mends(table: Table) -> list[Mended]:
    """Return the tables with the fewest changes after which all examples and promises hold; none where all do, or none is found.

    Raises
    ------
    DataError
        If the table is a lookup, or lets every row count.
    """
    if table.lookup is not None or table.match == "every":
        raise DataError(
            f"{table.name} is {'a lookup' if table.lookup is not None else 'a table of which every row counts'}",
            expected="a table of rows of which one decides",
            fix="change its rows by hand",
        )
    held = ExamplesHeld(table)
    start = _Tried(table, (), _n_wrong(table, held))
    if not start.n_wrong:
        return []
    n_faults = _faults(table)
    level, seen, n_tried = [start], {table.rows}, 0
    for _ in range(_MOST_CHANGES):
        found: list[_Tried] = []
        for tried in level:
            for change in _changes(tried.table):
                rows = change.made(tried.table.rows)
                if rows in seen or n_tried >= _MOST_TRIED:
                    continue
                seen.add(rows)
                n_tried += 1
                after = replace(table, rows=rows)
                found.append(_Tried(after, (*tried.steps, change.said), _n_wrong(after, held)))
        right = [one for one in found if not one.n_wrong and not _faults(one.table) - n_faults]
        if right:
            offers = [Mended(one.table, one.steps, _cells(table, one.table)) for one in right]
            return sorted(offers, key=lambda one: len(one.cells))
        level = sorted(found, key=lambda one: one.n_wrong)[:_BEAM]
    return []


def _n_wrong(table: Table, held: ExamplesHeld) -> int:
    """Return how many examples and promises do not hold: examples are cheap to know, so they are asked first, and once they seem to
    hold as they are told.
    """
    is_worked_out = any(isinstance(result, Computed) for row in table.rows for result in row.results)
    n_wrong = 0 if is_worked_out or not table.examples else len(held.wrong(table.rows))
    if not n_wrong and table.examples:
        n_wrong = sum(bool(example.broken) for example in run_examples(table, table.examples))
    return (
        n_wrong + len(table.promises)
        if n_wrong
        else sum(finding.severity == "error" for finding in promise_findings(table))
    )


def _faults(table: Table) -> Counter[str]:
    return Counter(
        finding.kind
        for finding in findings_of(table)
        if finding.kind in _FAULTS and finding.severity != "note"
    )


def _cells(before: Table, after: Table) -> tuple[CellChanged, ...]:
    """Return the cells in which two tables differ."""
    found = []
    for one, other in zip(before.rows, after.rows, strict=True):
        for about, was, now in zip(before.inputs, one.conditions, other.conditions, strict=True):
            if was != now:
                found.append(CellChanged(one.number, about.name, write_condition(was), write_condition(now)))
        for output, was_given, gives in zip(before.outputs, one.results, other.results, strict=True):
            if was_given != gives:
                texts = (write_value(each) for each in (was_given, gives))  # type: ignore[arg-type]
                found.append(CellChanged(one.number, output.name, *texts))
    return tuple(found)


# What may be changed


def _changes(table: Table) -> Iterator[_Change]:
    """Yield the changes that may mend something, the small ones first."""
    wrong = (
        [example for example in run_examples(table, table.examples) if example.broken]
        if table.examples
        else []
    )
    broken = () if wrong else [finding for finding in promise_findings(table) if finding.severity == "error"]
    for number, about in enumerate(table.inputs):
        values = [_value_of(about, one.example.values.get(about.name)) for one in wrong]
        yield from _bounds_moved(table, number, [value for value in values if value is not None])
    for run in wrong:
        yield from _texts_moved(table, run)
        for name in run.broken:
            position = [output.name for output in table.outputs].index(name)
            for row in run.rows:
                yield _result_set(table, row - 1, position, run.example.expected[name])
    texts = [one.message for one in broken]
    for promise in table.promises:
        if not any(f'"{promise.text}"' in text for text in texts):
            continue
        if isinstance(promise, ResultPromise):
            for number, about in enumerate(table.inputs):
                if about.name in promise.asked:
                    yield from _bounds_to(table, number, promise.asked[about.name])
    for one in broken:
        for position, output in enumerate(table.outputs):
            for row, value in itertools.product(one.rows, table.classes(output)):
                if 0 < row <= len(table.rows) and table.rows[row - 1].results[position] != value:
                    yield _result_set(table, row - 1, position, value)


def _value_of(about: Input, value: Any) -> Value | None:
    """Return the value of an example as the input has it."""
    if value is None:
        return None
    try:
        return parse_value(write_plain(value), about.type)
    except LiteralError:
        return None


def _result_set(table: Table, row: int, position: int, value: Any) -> _Change:
    output = table.outputs[position]
    known = next((one for one in table.classes(output) if one == value), value)

    def made(rows: Sequence[Row]) -> tuple[Row, ...]:
        results = (*rows[row].results[:position], known, *rows[row].results[position + 1 :])
        return (*rows[:row], replace(rows[row], results=results), *rows[row + 1 :])

    return _Change(f"row {table.rows[row].number} gives {output.name} = {write_value(known)}", made)


def _bounds_moved(table: Table, number: int, values: Sequence[Value]) -> Iterator[_Change]:
    """Yield the bounds of an input next to some values, moved just past one of them."""
    about, axis = table.inputs[number], axes_of(table)[number]
    if about.type in ("text", "boolean"):
        return
    cuts = sorted(_cuts_of(table, number))
    for value in dict.fromkeys(values):
        below = [cut for cut in cuts if cut <= axis.lower_cut(value, True)]
        above = [cut for cut in cuts if cut >= axis.upper_cut(value, True)]
        for other in dict.fromkeys(values):
            if below and axis.upper_cut(other, True) > below[-1]:
                yield _bound_moved(table, number, below[-1], other, 1)
            if above and axis.lower_cut(other, True) < above[0]:
                yield _bound_moved(table, number, above[0], other, 0)


def _bounds_to(table: Table, number: int, asked: Condition) -> Iterator[_Change]:
    """Yield the bounds of an input next to those of a condition, moved there."""
    about, axis = table.inputs[number], axes_of(table)[number]
    if about.type in ("text", "boolean"):
        return
    cuts = sorted(_cuts_of(table, number))
    for low, high in axis.region(asked).bands[0]:
        for wanted in (low, high):
            if wanted in (LOW, HIGH) or wanted in cuts:
                continue
            value = axis.witness(0, (0, wanted[1], 0), (0, wanted[1], 1))
            near = [[cut for cut in cuts if cut < wanted][-1:], [cut for cut in cuts if cut > wanted][:1]]
            for cut in itertools.chain(*near):
                if value is not None:
                    yield _bound_moved(table, number, cut, value, wanted[2])


def _cuts_of(table: Table, number: int) -> set[Cut]:
    axis = axes_of(table)[number]
    found: set[Cut] = set()
    for row in table.rows:
        for one in _ranges_in(row.conditions[number]):
            if one.lower is not None:
                found.add(axis.lower_cut(one.lower, one.lower_closed))
            if one.upper is not None:
                found.add(axis.upper_cut(one.upper, one.upper_closed))
    return found


def _ranges_in(condition: Condition) -> Iterator[Between]:
    match condition:
        case Between():
            yield condition
        case AnyOf(parts) | AllOf(parts):
            for part in parts:
                yield from _ranges_in(part)
        case Negation(part):
            yield from _ranges_in(part)


def _bound_moved(table: Table, number: int, cut: Cut, value: Value, side: int) -> _Change:
    """Return a bound moved to just before (side 0) or just after (side 1) a value, in every row that has it."""
    about, axis = table.inputs[number], axes_of(table)[number]

    def moved(condition: Condition) -> Condition:
        match condition:
            case Between(lower, lower_closed, upper, upper_closed):
                if lower is not None and axis.lower_cut(lower, lower_closed) == cut:
                    lower, lower_closed = value, side == 0
                if upper is not None and axis.upper_cut(upper, upper_closed) == cut:
                    upper, upper_closed = value, side == 1
                return Between(lower, lower_closed, upper, upper_closed)
            case AnyOf(parts):
                return AnyOf(tuple(map(moved, parts)))
            case AllOf(parts):
                return AllOf(tuple(map(moved, parts)))
            case Negation(part):
                return Negation(moved(part))
        return condition

    def made(rows: Sequence[Row]) -> tuple[Row, ...]:
        return tuple(_with_condition(row, number, moved(row.conditions[number])) for row in rows)

    signs = ("<", "<=")
    was = f"{signs[cut[2]]} {axis.write_place(cut[1])}"
    return _Change(f"the bound {was} of {about.name} becomes {signs[side]} {write_value(value)}", made)


def _with_condition(row: Row, number: int, condition: Condition) -> Row:
    """Return a row that asks something else of an input; itself where that is the same."""
    if condition == row.conditions[number]:
        return row
    return replace(row, conditions=(*row.conditions[:number], condition, *row.conditions[number + 1 :]))


def _texts_moved(table: Table, run: ExampleRun) -> Iterator[_Change]:
    """Yield, of the texts of an example, each moved from the row that decides to one that gives what is expected."""
    wanted = {name: run.example.expected[name] for name in run.broken}
    positions = {output.name: position for position, output in enumerate(table.outputs)}
    givers = [
        place
        for place, row in enumerate(table.rows)
        if all(row.results[positions[name]] == value for name, value in wanted.items())
    ]
    for number, about in enumerate(table.inputs):
        value = run.example.values.get(about.name)
        if about.type != "text" or value is None:
            continue
        for giver in givers:
            yield _text_moved(table, number, str(value), [row - 1 for row in run.rows], giver)


def _text_moved(table: Table, number: int, value: str, out_of: Sequence[int], into: int) -> _Change:
    about = table.inputs[number]

    def without(condition: Condition) -> Condition:
        parts = condition.parts if isinstance(condition, AnyOf) else (condition,)
        left = tuple(part for part in parts if part != Equals(value))
        if left == parts or not left:
            return condition
        return left[0] if len(left) == 1 else AnyOf(left)

    def added(condition: Condition) -> Condition:
        if isinstance(condition, AnyValue):
            return condition
        parts = condition.parts if isinstance(condition, AnyOf) else (condition,)
        return condition if Equals(value) in parts else AnyOf((*parts, Equals(value)))

    def made(rows: Sequence[Row]) -> tuple[Row, ...]:
        changed = []
        for place, row in enumerate(rows):
            one = row.conditions[number]
            one = without(one) if place in out_of else added(one) if place == into else one
            changed.append(_with_condition(row, number, one))
        return tuple(changed)

    return _Change(f"{about.name} = {write_value(value)} moves to row {table.rows[into].number}", made)
