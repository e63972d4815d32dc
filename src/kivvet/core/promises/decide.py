"""Promises about the results of a table, decided for all values.

Inputs are cut into cells by what rows and promises ask of them; within a place, one cell of each input, the same rows decide. A promise about
results is broken where a place that it speaks of has another result: boxes of places are searched as in `box_search`, a box being done where
all rows that may decide in it keep the promise. A promise of order compares neighbouring cells of its input, the others alike and none of them missing: where every
place has a result, a result that never falls from one cell to the next never falls at all; where some have none, all pairs of cells are
compared. Where a table gives no result, no promise is broken: that is a gap, and told as one.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Hashable, Iterator, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from functools import cached_property

from kivvet.core.check.box_search import DEFAULT_BUDGET, BudgetSpentError, Verdict
from kivvet.core.check.box_witness import witness_in
from kivvet.core.check.dependent import may_be_empty
from kivvet.core.check.existing_places import Answer
from kivvet.core.compare.versions import NOTHING, Given
from kivvet.core.promises.result_space import ResultSpace
from kivvet.core.promises.rising_pairs import RisingPairs
from kivvet.core.read.promise_reader import PromiseError, read_promise
from kivvet.core.space.boxes import bits_of
from kivvet.core.space.make_axis import make_axis
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import UNFINISHED, WHEN, Computed, Table
from kivvet.core.words.conditions import Condition, Equals
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.kept import kept
from kivvet.core.words.promises import OccursPromise, OrderPromise, Promise, ResultPromise
from kivvet.core.words.values import Value, write_value
from kivvet.core.words.wording import listed

Judge = Callable[[int, int], Verdict]
_KEPT, _BROKEN = True, False


@kept
def promise_findings(table: Table) -> tuple[Finding, ...]:
    """Return what is found of the promises of a table, with as many steps as there are by default."""
    return tuple(check_promises(table))


def check_promises(table: Table, budget: int = DEFAULT_BUDGET) -> list[Finding]:
    """Return a finding for each promise of a table that is broken, speaks of nothing, or is not settled within a budget of steps."""
    if not table.promises or not table.is_complete or table.lookup is not None:
        return []
    return [one for promise in table.promises for one in _Promised(table, promise, budget).findings()]


def promises_apart(old: Table, new: Table) -> tuple[str, ...]:
    """Return the promises of two versions that one of them keeps and the other breaks, in words."""
    told = []
    for text in dict.fromkeys(one.text for one in (*old.promises, *new.promises)):
        before, after = (_broken_by(table, text) for table in (old, new))
        if before == "" and after:
            told.append(f"{after}, which it was not")
        elif before and after == "":
            told.append(f'promise "{text}" is kept, which it was not')
    return tuple(told)


def _broken_by(table: Table, text: str) -> str | None:
    """Return what is said of a promise that a table breaks, nothing where it keeps it; None where neither is known."""
    if table.lookup is not None or not table.is_complete:
        return None
    try:
        found = list(_Promised(table, read_promise(text, table), DEFAULT_BUDGET).findings())
    except PromiseError:
        return None
    errors = [one.message for one in found if one.severity == "error"]
    return errors[0] if errors else None if found else ""


def is_kept(table: Table, promise: Promise, budget: int = DEFAULT_BUDGET) -> bool:
    """Whether it is proved that a table keeps a promise, which speaks of something."""
    return not list(_Promised(table, promise, budget).findings())


class _OpenError(Exception):
    """The promise is not decided here, and why."""


class _Promised(ResultSpace):
    """One promise, and the space that the table and what the promise asks divide."""

    def __init__(self, table: Table, promise: Promise, budget: int) -> None:
        asked = promise.asked if isinstance(promise, ResultPromise) else {}
        super().__init__(table, promise.output, asked, budget)
        self.promise = promise

    # What is told

    def findings(self) -> Iterator[Finding]:
        try:
            yield from self._found()
        except BudgetSpentError:
            yield self._open(
                f"is not settled within {self.budget:,} steps", f"allow more with --budget {self.budget * 10}"
            )
        except _OpenError as error:
            yield self._open(str(error), "hold it by examples, which are tried")

    def _found(self) -> Iterator[Finding]:
        promise = self.promise
        within = self.within()
        if any(not cells for cells in within):
            name = next(
                one.about.name for one, cells in zip(self.space.dimensions, within, strict=True) if not cells
            )
            yield self._finding(
                "warning", f"speaks of nothing: {name} never is what it asks", "correct it, or the domain"
            )
            return
        if isinstance(promise, OrderPromise):
            names = [input_.name for input_ in self.table.inputs]
            for name in promise.inputs:
                yield from self._order(promise, within, names.index(name))
        elif isinstance(promise, OccursPromise):
            yield from self._occurs(within)
        elif isinstance(promise, ResultPromise):
            yield from self._result(promise, within)
        if self.is_open:
            raise _OpenError("cannot be decided here where results are worked out")

    def _result(self, promise: ResultPromise, within: list[list[int]]) -> Iterator[Finding]:
        answer, place = self.existing_place(within, self.judge(_keeper(promise, self.output)))
        if place is not None:
            yield self._broken(place, answer)

    def _occurs(self, within: list[list[int]]) -> Iterator[Finding]:
        classes: tuple[Value, ...] = self.output.order or self.table.classes(self.output)
        never = [
            write_value(one)
            for one in classes
            if self.existing_place(within, self.judge(_other_than(one)))[1] is None
        ]
        if never:
            message = f"is broken: {listed(never)} can never result"
            yield self._finding("error", message, "give it a row that can win, or take the class out")

    def _order(self, promise: OrderPromise, within: list[list[int]], number: int) -> Iterator[Finding]:
        if self.existing.tied is not None or any(
            not dimension.is_plain for dimension in self.space.dimensions
        ):
            yield from self._tied_order(promise, number)
            return
        dimension = self.space.dimensions[number]
        cells = [cell for cell in within[number] if cell != dimension.missing]
        pairs: Iterator[tuple[int, int]] = itertools.pairwise(cells)
        for _ in range(2):
            for low, high in pairs:
                found = self._falls(promise, within, number, low, high)
                if found is not None:
                    yield self._turned(number, low, high, found)
                    return
            if not self._has_holes(within):
                return
            pairs = ((low, high) for at, low in enumerate(cells) for high in cells[at + 2 :])

    def _falls(
        self, promise: OrderPromise, within: list[list[int]], number: int, low: int, high: int
    ) -> list[int] | None:
        """Return a place of the other inputs where the result is on the wrong side between two cells of one."""
        at_low, at_high = self.masks[number][low], self.masks[number][high]
        if at_low == at_high:
            return None
        first, second = (at_high, at_low) if promise.is_falling else (at_low, at_high)
        ranks = self._ranks

        def judge(alive: int, sure: int) -> Verdict:
            before = self.side.deciding(alive & first, sure & first)
            after = self.side.deciding(alive & second, sure & second)
            if before == after:
                return _KEPT
            of_before = [ranks[bit] for bit in bits_of(before)]
            of_after = [ranks[bit] for bit in bits_of(after)]
            known = [[one for one in each if one is not None] for each in (of_before, of_after)]
            if not known[0] or not known[1] or max(known[0]) <= min(known[1]):
                return _KEPT
            one, other = self.side.settled(before, sure & first), self.side.settled(after, sure & second)
            if one is None or other is None:
                return before | after
            low_rank, high_rank = self._rank_of(one), self._rank_of(other)
            return low_rank is None or high_rank is None or low_rank <= high_rank

        others = [
            [low] if at == number else [cell for cell in cells if cell != self.space.dimensions[at].missing]
            for at, cells in enumerate(within)
        ]
        return self.place(others, judge, apart=number)

    def _has_holes(self, within: list[list[int]]) -> bool:
        """Whether there is a place without a result, no input being missing."""
        present = [
            [cell for cell in cells if cell != one.missing]
            for one, cells in zip(self.space.dimensions, within, strict=True)
        ]

        def judge(alive: int, sure: int) -> Verdict:
            deciding = self.side.deciding(alive, sure)
            rows = [self.side.row_of[bit].results[0] for bit in bits_of(deciding)]
            if all(self._rank(row) is not None for row in rows):
                return _KEPT
            settled = self.side.settled(deciding, sure)
            return deciding if settled is None else self._rank_of(settled) is not None

        return self.place(present, judge) is not None

    @cached_property
    def _ranks(self) -> dict[int, Decimal | int | None]:
        """By row where its result stands."""
        return {bit: self._rank(row.results[0]) for bit, row in self.side.row_of.items()}

    def _rank_of(self, given: Given) -> Decimal | int | None:
        return self._rank(given.results[0]) if given.results else None

    def _rank(self, value: Hashable) -> Decimal | int | None:
        """Return where a result stands; None where there is none."""
        if value is NOTHING or value is None or value is UNFINISHED:
            return None
        if isinstance(value, Computed):
            self.is_open = True
            return None
        if isinstance(value, str):
            return self.output.order.index(value) if value in self.output.order else None
        if isinstance(value, (int, Decimal)):
            return value
        return value.toordinal() if hasattr(value, "toordinal") else None

    def _tied_order(self, promise: OrderPromise, number: int) -> Iterator[Finding]:
        """Tell two rows that differ in an input alone, where statements or comparisons tie it to others."""
        name = self.table.inputs[number].name
        pairs = RisingPairs(self.joint, self.table, number, self.budget)
        if not pairs.exist:
            yield self._finding(
                "warning",
                f"speaks of nothing: under what is given {name} never rises alone",
                "leave it out, or say it of another input",
            )
            return
        ranks = self._ranks

        def judge(low: tuple[int, int], high: tuple[int, int]) -> Verdict | tuple[int, int]:
            first, second = (high, low) if promise.is_falling else (low, high)
            before, after = self.side.deciding(*first), self.side.deciding(*second)
            known = [
                [rank for bit in bits_of(each) if (rank := ranks[bit]) is not None]
                for each in (before, after)
            ]
            if not known[0] or not known[1] or max(known[0]) <= min(known[1]):
                return _KEPT
            one, other = self.side.settled(before, first[1]), self.side.settled(after, second[1])
            if one is None or other is None:
                return (after, before) if promise.is_falling else (before, after)
            low_rank, high_rank = self._rank_of(one), self._rank_of(other)
            return low_rank is None or high_rank is None or low_rank <= high_rank

        found = pairs.sought(judge)
        if found is None:
            return
        if not pairs.is_exact:
            raise _OpenError("cannot be decided here where conditions are not linear")
        yield self._turned_between(name, [(self.side.at(rows), values) for rows, values in found])

    def _turned_between(self, name: str, ends: list[tuple[Given, Mapping[str, str]]]) -> Finding:
        others = ", ".join(f"{key} = {value}" for key, value in ends[0][1].items() if key != name)
        said = [f"{name} = {values[name]} gives {_said(given)}" for given, values in ends]
        message = f"is broken: {'with ' + others + ', ' if others else ''}{said[0]}, and {said[1]}"
        rows = tuple(dict.fromkeys(number for given, _ in ends for number in given.rows))
        return self._finding("error", message, "change the row, or the promise", rows, dict(ends[0][1]))

    # Telling

    def _broken(self, place: Sequence[int], answer: Answer) -> Finding:
        witness = self.existing.witness(answer.place) or witness_in(self.space, place)
        gives = _said(self.given_at(place))
        shown = ", ".join(f"{name} = {value}" for name, value in witness.items()) or "any row"
        if answer.exists:
            return self._placed(place, witness, f"is broken: {shown} gives {gives}")
        off = listed(sorted(answer.missing))
        message = (
            f"is broken only where {off} is missing, which statements are off for: {shown} gives {gives}"
        )
        return replace(self._placed(place, witness, message), severity="note")

    def _turned(self, number: int, low: int, high: int, place: list[int]) -> Finding:
        """Return the finding about two rows that differ in one input."""
        name = self.table.inputs[number].name
        ends = [[*place[:number], cell, *place[number + 1 :]] for cell in (low, high)]
        witnesses = [witness_in(self.space, end) for end in ends]
        others = ", ".join(f"{key} = {value}" for key, value in witnesses[0].items() if key != name)
        said = [
            f"{name} = {one[name]} gives {_said(self.given_at(at))}"
            for one, at in zip(witnesses, ends, strict=True)
        ]
        message = f"is broken: {'with ' + others + ', ' if others else ''}{said[0]}, and {said[1]}"
        return self._placed(ends[0], witnesses[0], message)

    def _placed(self, place: Sequence[int], witness: dict[str, str], message: str) -> Finding:
        rows = self.given_at(place).rows
        possible = WHEN in witness or (
            bool(self.table.given)
            and may_be_empty(self.space, [False] * len(self.space.dimensions), only_loose=True)
        )
        one = self._finding("error", message, "change the row, or the promise", rows, witness)
        return replace(one, possible=True, severity="warning") if possible else one

    def _finding(
        self,
        severity: str,
        message: str,
        fix: str,
        rows: tuple[int, ...] = (),
        witness: dict[str, str] | None = None,
    ) -> Finding:
        places = [self.promise.place] if self.promise.place else []
        places += [row.place for row in self.table.rows if row.number in rows and row.place is not None]
        return finding(
            "promise",
            f'promise "{self.promise.text}" {message}',
            severity=severity,
            table=self.table.name,
            rows=rows,
            witness=witness,
            places=tuple(places),
            remedy=fix,
        )

    def _open(self, why: str, fix: str) -> Finding:
        return finding(
            "not-proven",
            f'promise "{self.promise.text}" {why}',
            table=self.table.name,
            places=(self.promise.place,) if self.promise.place else (),
            remedy=fix,
        )


def _said(given: Given) -> str:
    results = given.results or tuple(given.disputed[0])  # type: ignore[arg-type]
    texts = ("no result" if result is NOTHING else write_value(result) for result in results)  # type: ignore[arg-type]
    text = " or ".join(sorted(texts))
    if given.rows:
        return (
            f"{text} (row {given.rows[0]})" if len(given.rows) == 1 else f"{text} (rows {listed(given.rows)})"
        )
    return f"{text} ({given.how})"


def _other_than(name: Value) -> Callable[[Value], bool]:
    return lambda value: value != name


def _keeper(promise: ResultPromise, output: Output) -> Callable[[Value], bool]:
    """Return what says whether a result is one that is promised."""
    if promise.demanded is None:
        return lambda value: value in promise.classes
    demanded = promise.demanded
    return lambda value: _meets(value, demanded, output)


def _meets(value: Value, condition: Condition, output: Output) -> bool:
    """Whether a value meets a condition as an input's would."""
    axis = make_axis(Input(output.name, output.type), [condition, Equals(value)])
    return any((axis.region(Equals(value)) & axis.region(condition)).bands)
