"""Two versions of a table over one space: the inputs of both, and the rows of each as lists of priority.

What a version gives where no row matches is written as rows too, below its own: one for each input whose missing value
has a result of its own, and one that accepts everything. So whatever decides a result is a row that can be compared.
"""

from __future__ import annotations

from bisect import bisect_left
from collections import defaultdict
from collections.abc import Callable, Hashable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Literal

from kivvet.core.check.check import findings_of
from kivvet.core.classify.combined import Combined
from kivvet.core.classify.outcomes import Decided
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import UNFINISHED, ComputedInput, Match, Row, Table
from kivvet.core.words.conditions import (
    AllOf,
    AnyOf,
    AnyValue,
    Condition,
    Equals,
    IsMissing,
    IsPresent,
    Negation,
)
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import Value

_COMPARABLE_TYPES = ({"integer", "number", "decimal"},)
_TROUBLES = ("overlap", "conflict", "not-proven")
Results = tuple[Hashable, ...]
#: How a result came about: by a row, by several, by none and what the table says then, or by rows that disagree.
How = Literal["row", "rows", "otherwise", "missing", "no row", "disagree"]


class Nothing:
    """A result where no row matches and the table does not say what then."""

    def __repr__(self) -> str:
        return "NOTHING"


NOTHING = Nothing()


@dataclass(frozen=True, slots=True)
class Given:
    """What a version gives at a place: results by output, and the rows, by their numbers, that decide.

    Two are equal where their results are, whichever rows decide. Where rows disagree there is no result: `results` is
    empty, and `disputed` holds for each output the set of what they would give.
    """

    results: Results
    how: How = field(compare=False)
    rows: tuple[int, ...] = field(default=(), compare=False)
    disputed: Results = field(default=(), compare=False)


@dataclass(frozen=True, slots=True)
class PriorityRow:
    """A row of a version, or what it gives where none matches.

    Attributes
    ----------
    conditions : tuple of Condition
        For each dimension of the space of both versions.
    results : tuple
        For each output that is compared.
    number : int
        Of the row in its table; 0 where it is none.
    how : str
    """

    conditions: tuple[Condition, ...]
    results: Results
    number: int = field(default=0, compare=False)
    how: How = "row"


@dataclass(frozen=True)
class Version:
    """One of the two: its rows, the more important first, then what it gives where none of them matches."""

    table: Table
    outputs: tuple[Output, ...]
    rows: tuple[PriorityRow, ...]
    match: Match
    with_how: bool = False

    @cached_property
    def _combined(self) -> list[Combined]:
        return [Combined(self.table, output) for output in self.outputs]

    def together(self, rows: Sequence[PriorityRow]) -> Results:
        """Return what several rows give under ``match = "every"``: as a list the results of each, in order."""
        places = [row.number - 1 for row in rows]
        made: list[Hashable] = []
        for output, combined in zip(self.outputs, self._combined, strict=True):
            found = combined.of_rows(places)
            made.append(as_one(output, found))
        if self.with_how:
            decided: list[Decided] = [_decided(self.table.rows[place]) for place in places]
            is_unfinished = all(one == "unfinished" for one in decided)
            made.append("unfinished" if is_unfinished else "matched" if len(places) == 1 else "several")
        return tuple(made)


def _decided(row: Row) -> Decided:
    """Return how a row of data is decided by one row of the table."""
    return "unfinished" if UNFINISHED in row.results else "matched"


def as_one(output: Output, found: Sequence[Value]) -> Hashable:
    """Return what the results of several rows come to, as far as two of it can be told apart."""
    if output.combine == "flags":
        return frozenset(found)
    if output.combine == "join":
        return output.separator.join(dict.fromkeys(map(str, found))) or None
    if output.combine == "count":
        return len(found)
    if not found:
        return () if output.combine == "list" else None
    if output.combine == "list":
        return tuple(found)
    return sum(found) if output.combine == "sum" else min(found) if output.combine == "min" else max(found)  # type: ignore[arg-type]


@dataclass(frozen=True)
class Joint:
    """Two versions over one space.

    Attributes
    ----------
    inputs : tuple of Input
        The declared inputs of both.
    computed_inputs : tuple of ComputedInput
        What `when` asks in either.
    old, new : Version
    """

    inputs: tuple[Input, ...]
    computed_inputs: tuple[ComputedInput, ...]
    old: Version
    new: Version

    @classmethod
    def of(
        cls,
        old: Table,
        new: Table,
        outputs: Sequence[str],
        *,
        every_value: bool = False,
        with_how: bool = False,
    ) -> Joint:
        """Return two tables over one space; DataError where an input has types that cannot be compared.

        Parameters
        ----------
        outputs : sequence of str
            Those that are compared; both have them.
        every_value : bool
            Whether values count too that are finer than the step of their input.
        with_how : bool
            Whether how a row of data is decided counts as one more result.
        """
        if every_value:
            old, new = (_without_steps(table) for table in (old, new))
        inputs = _joint_inputs(old, new)
        computed: list[ComputedInput] = []
        places = [_places(table, inputs, computed) for table in (old, new)]
        n_dimensions = len(inputs) + len(computed)
        modes = _modes(old, new, with_how=with_how)
        versions = [
            Version(
                table,
                tuple(table.output(name) for name in outputs),
                tuple(_priority_rows(table, outputs, of_table, n_dimensions, with_how=with_how)),
                mode,
                with_how,
            )
            for table, of_table, mode in zip((old, new), places, modes, strict=True)
        ]
        return cls(tuple(inputs), tuple(computed), *versions)

    @property
    def is_ordered(self) -> bool:
        """Whether the order of rows counts in one of them."""
        return not self.old.match == self.new.match == "one"

    def shared(self) -> dict[int, int]:
        """Return by the place of a row of the old version that of the same row of the new: rows that neither came, went,
        changed nor, where the order counts, moved.
        """
        if self.old.match != self.new.match or (
            self.old.match == "every" and any(one != two for one, two in zip(*self._combines, strict=True))
        ):
            return {}
        waiting: dict[PriorityRow, list[int]] = defaultdict(list)
        for place, row in enumerate(self.old.rows):
            waiting[row].append(place)
        for places in waiting.values():
            places.reverse()
        pairs = [(waiting[row].pop(), place) for place, row in enumerate(self.new.rows) if waiting.get(row)]
        if self.is_ordered:
            return _in_order(pairs)
        ends = [pair for pair in pairs if not self.new.rows[pair[1]].number]
        return {**dict(pairs[: len(pairs) - len(ends)]), **_in_order(ends)}

    @property
    def _combines(self) -> list[list[tuple[str, str]]]:
        return [
            [(output.combine, output.separator) for output in side.outputs] for side in (self.old, self.new)
        ]

    def table_of(self, rows: Sequence[PriorityRow]) -> Table:
        """Return some rows as a table over the space of both: it has no results."""
        made = tuple(
            Row(
                number,
                row.conditions[: len(self.inputs)],
                (),
                when_asks=(*(AnyValue(),) * len(self.inputs), *row.conditions[len(self.inputs) :]),
            )
            for number, row in enumerate(rows, 1)
        )
        new = self.new.table
        return Table(
            new.name,
            self.inputs,
            (),
            made,
            match="first",
            computed_inputs=self.computed_inputs,
            given=new.given if new.given == self.old.table.given else (),
        )


def _in_order(pairs: Sequence[tuple[int, int]]) -> dict[int, int]:
    """Return the longest part of pairs, sorted by their second, whose first ones are in order too."""
    tails: list[int] = []
    ends: list[int] = []  # for each length the place of the pair that ends such a part
    previous: list[int] = []
    for place, (old, _) in enumerate(pairs):
        length = bisect_left(tails, old)
        previous.append(ends[length - 1] if length else -1)
        tails[length:] = [old] if length == len(tails) else [old, *tails[length + 1 :]]
        ends[length:] = [place] if length == len(ends) else [place, *ends[length + 1 :]]
    kept = {}
    at = ends[-1] if ends else -1
    while at >= 0:
        kept[pairs[at][0]] = pairs[at][1]
        at = previous[at]
    return kept


def _without_steps(table: Table) -> Table:
    """Return a table that takes values of any fineness where it said a step."""
    return replace(
        table,
        inputs=tuple(replace(input_, step=None) for input_ in table.inputs),
        computed_inputs=tuple(
            replace(input_, about=replace(input_.about, step=None)) for input_ in table.computed_inputs
        ),
    )


def _modes(old: Table, new: Table, *, with_how: bool) -> tuple[Match, Match]:
    """Return how each is matched. Where just one is to match and rows surely do not meet, any order is right; where the
    two differ in it, or the row that decides counts, they are read as first matches.
    """
    modes: list[Match] = [_mode(old), _mode(new)]
    if (modes[0] != modes[1] or with_how) and "every" not in modes:
        modes = [
            "first"
            if mode == "one" and not any(finding.kind in _TROUBLES for finding in findings_of(table))
            else mode
            for mode, table in zip(modes, (old, new), strict=True)
        ]
    return modes[0], modes[1]


def _mode(table: Table) -> Match:
    is_lowered = all(table.severity.get(kind, "error") != "error" for kind in ("overlap", "conflict"))
    return "first" if table.match == "one" and is_lowered else table.match


def _joint_inputs(old: Table, new: Table) -> list[Input]:
    made = []
    of_old = {input_.name: input_ for input_ in old.inputs}
    for one in (
        *new.inputs,
        *(input_ for input_ in old.inputs if all(input_.name != two.name for two in new.inputs)),
    ):
        before = of_old.get(one.name, one)
        if before.type != one.type:
            raise DataError(
                f"input {one.name} is {before.type} in one and {one.type} in the other",
                expected="inputs of the same types",
                fix="declare it with one type in both",
            )
        same_step = (before.step, before.step_offset) == (one.step, one.step_offset)
        step = one.step if same_step else None
        domain = one.domain if before.domain == one.domain else None
        made.append(replace(one, required=False, step=step, domain=domain, column=None, period=None))
    return made


def _places(
    table: Table, inputs: Sequence[Input], computed: list[ComputedInput]
) -> list[tuple[int, Callable[[Condition], Condition]]]:
    """Return for each dimension of a table the place in the space of both, and what its conditions become there.

    What `when` asks is added to `computed` as it is met.
    """
    names = [input_.name for input_ in inputs]
    found: list[tuple[int, Callable[[Condition], Condition]]] = []
    for about in table.inputs:
        found.append((names.index(about.name), _present if about.required else _as_it_is))
    for test in table.computed_inputs:
        is_plain = test.compared is None and test.whole is None
        if is_plain and test.about.name in names:
            place = names.index(test.about.name)
            if not _can_meet(inputs[place].type, test.about.type):
                raise DataError(
                    f"input {test.about.name} is {inputs[place].type} in one, and `when` of the other compares it as "
                    f"{test.about.type}",
                    expected="one type in both",
                )
            found.append((place, _as_it_is))
            continue
        known = next((n for n, one in enumerate(computed) if one.about == test.about), None)
        if known is None:
            computed.append(test)
            found.append((len(inputs) + len(computed) - 1, _as_it_is))
            continue
        is_mirrored = test.compared is not None and computed[known].compared != test.compared
        found.append((len(inputs) + known, _mirrored if is_mirrored else _as_it_is))
    return found


def _can_meet(one: str, other: str) -> bool:
    return one == other or any({one, other} <= group for group in _COMPARABLE_TYPES)


def _as_it_is(condition: Condition) -> Condition:
    return condition


def _present(condition: Condition) -> Condition:
    """Return what a condition on a required input accepts: never a missing value."""
    if isinstance(condition, AnyValue):
        return IsPresent()
    return AllOf((condition, IsPresent())) if isinstance(condition, (AnyOf, IsMissing)) else condition


def _mirrored(condition: Condition) -> Condition:
    """Return a condition on the sign of a difference as one on the sign of the reverse."""
    match condition:
        case Equals(int() as sign):
            return Equals(-sign)
        case AnyOf(parts):
            return AnyOf(tuple(map(_mirrored, parts)))
        case AllOf(parts):
            return AllOf(tuple(map(_mirrored, parts)))
        case Negation(part):
            return Negation(_mirrored(part))
    return condition


def _priority_rows(
    table: Table,
    outputs: Sequence[str],
    places: Sequence[tuple[int, Callable[[Condition], Condition]]],
    n_dimensions: int,
    *,
    with_how: bool,
) -> Iterator[PriorityRow]:
    chosen = [[output.name for output in table.outputs].index(name) for name in outputs]
    nothing: list[Condition] = [AnyValue()] * n_dimensions
    is_plain = not table.computed_inputs and [place for place, _ in places] == list(range(n_dimensions))
    is_plain = is_plain and not any(about.required for about in table.inputs)
    all_of_them = chosen == list(range(len(table.outputs)))
    for row in table.rows:
        if is_plain and not row.when_asks:
            conditions_of_row = row.conditions
        else:
            conditions = list(nothing)
            for number, (place, changed) in enumerate(places):
                asked = changed(table.asked(row, number))
                before = conditions[place]
                conditions[place] = asked if isinstance(before, AnyValue) else AllOf((before, asked))
            conditions_of_row = tuple(conditions)
        results: Results = row.results if all_of_them else tuple(row.results[one] for one in chosen)
        if UNFINISHED in results:
            results = tuple(_result(table, result, outputs[n]) for n, result in enumerate(results))
        if with_how:
            results = (*results, _decided(row))
        yield PriorityRow(conditions_of_row, results, row.number)
    is_constrained = [
        about.required
        or len(table.dimensions) == 1
        or any(not isinstance(table.asked(row, number), AnyValue) for row in table.rows)
        for number, about in enumerate(table.dimensions)
    ]
    ends = {word: tuple(_end(table, word, name) for name in outputs) for word in ("missing", "otherwise")}
    if with_how:
        ends = {"missing": (*ends["missing"], "missing"), "otherwise": (*ends["otherwise"], "unmatched")}
    if ends["missing"] != ends["otherwise"]:
        for constrained, (place, _) in zip(is_constrained, places, strict=True):
            if constrained:
                conditions = list(nothing)
                conditions[place] = IsMissing()
                yield PriorityRow(tuple(conditions), ends["missing"], how=_how(table, outputs, "missing"))
    yield PriorityRow(tuple(nothing), ends["otherwise"], how=_how(table, outputs, "otherwise"))


def _how(table: Table, outputs: Sequence[str], word: How) -> How:
    return word if any(name in getattr(table, word) for name in outputs) else "no row"


def _result(table: Table, result: Hashable, output: str) -> Hashable:
    if result is UNFINISHED and output in table.otherwise:
        return table.otherwise[output]
    return result


def _end(table: Table, word: str, output: str) -> Hashable:
    """Return what a table gives where no row matches."""
    given: Hashable = getattr(table, word).get(output, NOTHING)
    if table.match != "every":
        return given
    if given is NOTHING:
        nothing = as_one(table.output(output), [])
        return nothing if word == "otherwise" or nothing is None else NOTHING
    return as_one(table.output(output), [given])  # type: ignore[list-item]
