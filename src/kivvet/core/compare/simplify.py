"""A smaller table of the same meaning: rows that never win are dropped, and rows that give the same are joined.

Two rows are joined where they differ in what they ask of one input only, and where that is one stretch of values, or a
list of values that is not long. Whatever was done is proved by comparing the two tables; what cannot be proved is not
offered.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.check.check import check_table, findings_of
from kivvet.core.compare.compare import compare_tables
from kivvet.core.space.axes import Axis
from kivvet.core.space.make_axis import make_axis
from kivvet.core.space.table_space import row_regions
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.condition_parser import parse_condition
from kivvet.core.words.conditions import (
    AnyOf,
    AnyValue,
    Condition,
    Equals,
    IsMissing,
    IsPresent,
    Negation,
    write_condition,
)
from kivvet.core.words.errors import DataError, TableError
from kivvet.core.words.findings import Finding
from kivvet.core.words.regions import Region

#: Characters of a list of values that are joined in one row; a longer one is harder to read than two rows.
_LONGEST_LIST = 60
_MOST_ROUNDS = 20
_MOST_TRIED = 50  # rows of the same results that a row is held against, the nearest


@dataclass(frozen=True, slots=True)
class KeptRow:
    """A row that stays: its number in the table as it was, and the rows that it took in, in order."""

    number: int
    took: tuple[int, ...] = ()


@dataclass(frozen=True)
class Simplified:
    """A table, and a smaller one of the same meaning.

    Attributes
    ----------
    before, after : Table
        Equal where there is nothing to simplify.
    kept : tuple of KeptRow
        Where each row of `after` comes from.
    dropped : tuple of int
        The rows that never won, by their numbers in `before`.
    """

    before: Table
    after: Table
    kept: tuple[KeptRow, ...]
    dropped: tuple[int, ...]

    @property
    def is_smaller(self) -> bool:
        return self.after.n_rows < self.before.n_rows


def simplify(table: Table, budget: int = DEFAULT_BUDGET) -> Simplified:
    """Return a table of fewer rows that means the same; the same one where none is found.

    Parameters
    ----------
    table : Table
        Of rows of conditions.
    budget : int
        Steps that the proof may take where there are several inputs.

    Raises
    ------
    TableError
        If the table has errors other than gaps: then it is not clear what it means.
    DataError
        If it is a lookup, or that the smaller table means the same cannot be proved within the budget.
    """
    if table.lookup is not None:
        raise DataError(
            f"{table.name} is a lookup, whose rows are its keys",
            expected="a table of rows of conditions",
        )
    if errors := [error for error in _errors(findings_of(table)) if error.kind != "gap"]:
        raise TableError(errors)
    unproved = False
    for drops, joins in ((True, True), (False, True), (True, False)):
        made = _Simplifier(table, drops=drops, joins=joins).result()
        if not made.is_smaller:
            continue
        compared = compare_tables(table, made.after, budget=budget)
        if compared.is_same and not _is_worse(made, budget):
            return made
        unproved = unproved or not compared.is_settled
    if unproved:
        raise DataError(
            f"that a smaller version of {table.name} means the same is not proven within the steps allowed",
            fix="allow more: --budget 2000000",
        )
    return Simplified(table, table, tuple(KeptRow(row.number) for row in table.rows), ())


def _is_worse(made: Simplified, budget: int) -> bool:
    return len(_errors(check_table(made.after, budget))) > len(_errors(findings_of(made.before)))


def _errors(found: Iterable[Finding]) -> list[Finding]:
    return [one for one in found if one.severity == "error"]


class _Simplifier:
    """One way to make a table smaller."""

    def __init__(self, table: Table, *, drops: bool, joins: bool) -> None:
        self.table = table
        self.drops, self.joins = drops and table.match != "every", joins
        self.rows = list(table.rows)
        self.kept = [KeptRow(row.number) for row in table.rows]
        self.dropped: list[int] = []

    def result(self) -> Simplified:
        for _ in range(_MOST_ROUNDS):
            n_rows = len(self.rows)
            if self.drops:
                self._drop()
            if self.joins:
                for number in range(len(self.table.inputs)):
                    self._join(number)
            if len(self.rows) == n_rows:
                break
        return Simplified(self.table, self._made(), tuple(self.kept), tuple(sorted(self.dropped)))

    def _made(self) -> Table:
        rows = tuple(replace(row, number=number) for number, row in enumerate(self.rows, 1))
        return replace(self.table, rows=rows)

    def _drop(self) -> None:
        """Drop rows that never win, and those that lie inside another that gives the same."""
        found = findings_of(replace(self._made(), match="first", severity={}))
        needless = {
            one.rows[0] for one in found if one.kind in ("shadowed", "duplicate") and not one.possible
        }
        for number in sorted(needless, reverse=True):
            kept = self.kept.pop(number - 1)
            self.dropped += [kept.number, *kept.took]
            del self.rows[number - 1]

    def _join(self, number: int) -> None:
        """Join rows that differ in what they ask of one input only."""
        groups: dict[object, list[int]] = {}
        for place, row in enumerate(self.rows):
            others = tuple(condition for at, condition in enumerate(row.conditions) if at != number)
            groups.setdefault((others, row.results, row.when), []).append(place)
        made = self._made()
        regions = [list(row_regions(made, at)) for at in range(len(made.dimensions))]
        about = replace(self.table.inputs[number], domain=None)
        axis = make_axis(about, [row.conditions[number] for row in self.rows])
        gone: set[int] = set()
        for places in groups.values():
            staying: list[int] = []
            for place in places:
                for other in staying[: -_MOST_TRIED - 1 : -1]:
                    asked = (self.rows[other].conditions[number], self.rows[place].conditions[number])
                    condition = _both(axis, about, asked)
                    if condition is None:
                        continue
                    pair = (other, place) if self._may_move(place, other, regions) else (place, other)
                    if pair[0] == place and not self._may_move(other, place, regions):
                        continue
                    self._take(*pair, number, condition)
                    regions[number][pair[0]] |= regions[number][pair[1]]
                    gone.add(pair[1])
                    staying[staying.index(other)] = pair[0]
                    break
                else:
                    staying.append(place)
        for place in sorted(gone, reverse=True):
            del self.rows[place], self.kept[place]

    def _take(self, stays: int, goes: int, number: int, condition: Condition) -> None:
        """Let one row take in another: what it asks of an input is what either asked."""
        row = self.rows[stays]
        conditions = (*row.conditions[:number], condition, *row.conditions[number + 1 :])
        note = "; ".join(filter(None, dict.fromkeys((row.note, self.rows[goes].note))))
        self.rows[stays] = replace(row, conditions=conditions, note=note)
        taken = self.kept[goes]
        took = (*self.kept[stays].took, taken.number, *taken.took)
        self.kept[stays] = replace(self.kept[stays], took=tuple(sorted(took)))

    def _may_move(self, one: int, to: int, regions: Sequence[Sequence[Region]]) -> bool:
        """Whether a row may stand beside another: no row between that gives something else shares a place with it."""
        if self.table.match == "one":
            return True
        between = range(min(one, to) + 1, max(one, to))
        if self.table.match == "every":
            return not between and not any(_meets(regions, one, to))
        return not any(
            self.rows[other].results != self.rows[one].results and all(_meets(regions, one, other))
            for other in between
        )


def _meets(regions: Sequence[Sequence[Region]], one: int, other: int) -> Iterator[bool]:
    for of_input in regions:
        shared = of_input[one] & of_input[other]
        yield shared.missing or any(shared.bands)


def _both(axis: Axis, about: Input, asked: tuple[Condition, Condition]) -> Condition | None:
    """Return a condition that accepts what either accepts; None where it would read no better than the two."""
    parts = [part for one in asked for part in (one.parts if isinstance(one, AnyOf) else (one,))]
    if any(isinstance(one, AnyValue) for one in asked):
        return AnyValue()
    if about.type == "text" or all(isinstance(part, (Equals, IsMissing)) for part in parts):
        if any(isinstance(part, (Negation, IsPresent)) for part in parts):
            return None
        parts.sort(key=lambda part: isinstance(part, IsMissing))
        made = AnyOf(tuple(dict.fromkeys(parts)))
        return made if len(write_condition(made)) <= _LONGEST_LIST else None
    one, other = (axis.region(condition) for condition in asked)
    both = one | other
    is_one_stretch = len(both.bands[0]) < len(one.bands[0]) + len(other.bands[0])
    if not is_one_stretch and one.bands[0] and other.bands[0]:
        return None
    if both.missing and axis.write_region(replace(both, missing=False)) == "present":
        return AnyValue()
    return parse_condition(axis.write_region(both), about.type)


def rows_of(made: Simplified) -> Iterator[tuple[Row, Row | None]]:
    """Yield each row as it was with what became of it: the row that stays in its place, None where none does."""
    now = dict(zip((one.number for one in made.kept), made.after.rows, strict=True))
    for row in made.before.rows:
        yield row, now.get(row.number)
