"""Checking a table of several inputs, exactly: rows are boxes of cells.

Which rows meet is read off the intersections of boxes, two at a time; what no row covers, and which rows
earlier ones cover together, is searched (see `box_search`). These searches take inputs as independent of each
other: what they prove absent is absent, and what they find is asked of what ties inputs (see `existing_places`).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from itertools import islice

from kivvet.core.check.box_gaps import Box
from kivvet.core.check.box_rows import BoxRows
from kivvet.core.check.box_search import DEFAULT_BUDGET, BudgetSpentError, CoverSearch
from kivvet.core.check.box_witness import witness_in
from kivvet.core.check.existing_places import Answer
from kivvet.core.check.rows_apart import BoxParting
from kivvet.core.check.several_gaps import SeveralGaps
from kivvet.core.check.statement_findings import clashing_statements, loose_statements
from kivvet.core.linear.tied_search import uncovered
from kivvet.core.space.boxes import bits_of
from kivvet.core.space.region_text import shortened, write_region
from kivvet.core.tables.table import WHEN, Table
from kivvet.core.words.conditions import AnyValue
from kivvet.core.words.findings import Finding, Pair
from kivvet.core.words.wording import listed

_MOST_PARTNERS = 100  # rows that one row is said to overlap; the worst is described
_MOST_PAIRS = 2_000  # that are written out in all; beyond, one of each row
_ROWS_FOR_BLANK_NOTE = 4
_MOST_ROWS_BEFORE = (
    12  # of which it is sought out whether they cover a row too; it only makes an advice gentler
)
_STEPS_FOR_ADVICE = 200
_QUESTIONS_A_BUDGET = (
    20  # whether one row is covered may take this part of the budget; all such questions the whole
)


class BoxCheck(BoxRows):
    """The findings of a table of several dimensions."""

    def __init__(self, table: Table, budget: int = DEFAULT_BUDGET) -> None:
        super().__init__(table, budget)
        self._where_missing: list[tuple[int, int, frozenset[str], Mapping[str, str] | None]] = []
        self._pairs_left = _MOST_PAIRS

    def findings(self) -> list[Finding]:
        if (clash := list(clashing_statements(self))) != []:
            return [*clash, *self.unfinished_rows()]
        found = [*loose_statements(self), *self.impossible_rows(), *self.unfinished_rows()]
        found += [*self.rows_outside(), *self.blank_cells()]
        if self.table.match == "one":
            found += self.meeting_rows()
        elif self.table.match == "first":
            found += self.rows_that_never_win()
        else:
            found += self.repeated_rows()
        if self.table.is_complete:
            found += SeveralGaps(self).findings()
        return [*found, *self.only_where_missing()]

    @cached_property
    def parting(self) -> BoxParting:
        """How rows that meet are written apart."""
        return BoxParting(self)

    # What rows say of themselves

    def impossible_rows(self) -> Iterable[Finding]:
        open_rows = []
        for row, is_empty in enumerate(self.is_empty):
            if not is_empty:
                answer = self.place_of(self.boxes[row])
                if answer.exists is None:
                    open_rows.append(row)
                elif not answer.exists:
                    yield self._impossible(row, answer)
                continue
            region = self.region_of(row)
            names = [
                one.about.name if one.test is None else "when"
                for one, cells in zip(self.dimensions, self.boxes[row], strict=True)
                if not cells
            ]
            name = names[0]
            yield self.of_rows(
                "impossible",
                f"no value meets {write_region({name: region.get(name, region.get('when', ''))})} in row {self.rows[row].number}",
                [row],
                region=region,
                remedy="correct the condition, or remove the row",
            )
        if open_rows:
            numbers = [self.rows[row].number for row in open_rows]
            yield self.not_settled(
                f"whether there are values that meet {_row_or_rows(numbers)} {listed(numbers)}", open_rows
            )

    def _impossible(self, row: int, answer: Answer) -> Finding:
        """Tell a row that nothing meets, since statements and comparisons exclude it."""
        self.is_empty[row] = not answer.missing
        said = f" under what is given, {self._given_texts()}" if self.table.given else ""
        return self.of_rows(
            "impossible",
            f"no value meets {self.condition_of(row)} in row {self.rows[row].number}{said}{_unless(answer.missing)}",
            [row],
            region=self.region_of(row),
            remedy="correct the condition, or remove the row",
            **({"severity": "note"} if answer.missing else {}),
        )

    def _given_texts(self) -> str:
        return shortened(", ".join(one.text for one in self.table.given))

    def only_where_missing(self) -> Iterable[Finding]:
        """Tell, once, rows that statements keep apart but where a column is missing, which switches the statements off."""
        if not self._where_missing:
            return
        early, late, missing, witness = self._where_missing[0]
        more = len(self._where_missing) - 1
        yield self.of_rows(
            "overlap",
            f"rows {self.rows[early].number} and {self.rows[late].number} both match where {listed(sorted(missing))} is missing"
            + (f", and so do {more:,} more pairs" if more else ""),
            [early, late],
            severity="note",
            witness=witness,
            remedy="set required = true on that input, or ask for present; rows of data that several match stop apply",
        )

    def rows_outside(self) -> Iterable[Finding]:
        for number, dimension in enumerate(self.dimensions):
            if not dimension.axis.is_limited or dimension.test is not None:
                continue
            for row, box in enumerate(self.boxes):
                if (
                    box[number]
                    and not box[number] >> dimension.missing
                    and not box[number] & dimension.inside
                ):
                    name = dimension.about.name
                    what = (
                        f"the shape {dimension.about.shape}"
                        if dimension.about.shape and dimension.about.domain is None
                        else "the domain"
                    )
                    shown = (
                        write_region({name: self.region_of(row)[name]})
                        if name in self.region_of(row)
                        else name
                    )
                    yield self.of_rows(
                        "out-of-domain",
                        f"{shown} in row {self.rows[row].number} lies outside {what} of {name}",
                        [row],
                        region=self.region_of(row),
                        remedy=f"correct the condition, or widen {what}",
                    )

    def blank_cells(self) -> Iterable[Finding]:
        """Tell the one row that leaves free what all others constrain: was a cell forgotten?"""
        if self.table.match != "one" or len(self.rows) < _ROWS_FOR_BLANK_NOTE:
            return
        for number, about in enumerate(self.table.inputs):
            free = [
                row
                for row, one in enumerate(self.rows)
                if isinstance(self.table.asked(one, number), AnyValue)
            ]
            if len(free) == 1 and self.region_of(free[0]) and not self._is_written(free[0], number):
                yield self.of_rows(
                    "blank-cell",
                    f"{self.shown(free[0])} leaves {about.name} blank, which all other rows constrain",
                    free,
                    remedy="write any if any value is meant",
                )

    def _is_written(self, row: int, number: int) -> bool:
        asked = self.rows[row].conditions[number]
        return isinstance(asked, AnyValue) and asked.is_written

    # What rows do to each other

    def meeting_rows(self) -> Iterable[Finding]:
        needless: dict[int, int] = {}
        for late, row in enumerate(self.rows):
            if self.is_empty[late]:
                continue
            box = self.boxes[late]
            earlier = self.rows_meeting(box) & ((1 << late) - 1)
            differing, unsettled = self._really_meeting(late, earlier & ~self.same_results[row.results])
            if differing:
                twins = self.same_boxes[tuple(box)] & differing
                for early in islice(bits_of(twins), 1):
                    yield self.conflict(early, late, self._example_in(box))
                if others := differing & ~twins:
                    yield self.overlap(late, others, unsettled)
            for outer in bits_of(self.rows_holding(box) & self.same_results[row.results] & ~(1 << late)):
                if outer not in needless and late not in needless:
                    needless[late] = outer
        for inner, outer in needless.items():
            yield self.duplicate(inner, outer, is_same=self.boxes[inner] == self.boxes[outer])

    def _really_meeting(self, late: int, partners: int) -> tuple[int, dict[int, Answer]]:
        """Return those of some earlier rows (as bits) that share a place that exists with a row, and what was asked of each."""
        answers: dict[int, Answer] = {}
        if self.existing.tied is None:
            return partners, answers
        for early in bits_of(partners):
            answer = self.place_of(self.common(early, late))
            if answer.exists is False:
                partners &= ~(1 << early)
                if answer.missing:
                    witness = self.existing.witness(answer.place)
                    self._where_missing.append((early, late, answer.missing, witness))
            else:
                answers[early] = answer
        return partners, answers

    def overlap(self, late: int, partners: int, answers: Mapping[int, Answer]) -> Finding:
        """Tell the earlier rows (as bits) that a row meets; the first one speaks that it certainly meets, if there is one."""
        certain = (
            early
            for early in bits_of(partners)
            if not self._may_not_meet(early, late) and answers.get(early, Answer(True)).exists
        )
        worst = next(certain, next(bits_of(partners)))
        others = partners & ~(1 << worst)
        most = min(_MOST_PARTNERS, max(1, self._pairs_left))
        told = [worst, *islice(bits_of(others), most - 1)]
        self._pairs_left -= len(told)
        pairs = tuple(self._pair(early, late, answers.get(early, Answer(True))) for early in told)
        meeting = self.rows_meeting(self.boxes[late]) & ~self.same_results[self.rows[late].results]
        is_pair = (meeting & ((1 << late) - 1)).bit_count() == 1
        apart = self.parting.rewriting((late, worst) if is_pair else (late,))
        numbers = listed((self.rows[row].number for row in bits_of(others)), n_all=others.bit_count())
        word = "row" if others.bit_count() == 1 else "rows"
        more = f"; it also meets {word} {numbers}" if others else ""
        region = pairs[0].region
        return self.of_region(
            "overlap",
            f"{self.shown(worst)} and {self.shown(late)} both hold {shortened(write_region(region) or 'everything')}{more}",
            [worst, late, *told[1:]],
            self.is_whole(self.common(worst, late)),
            is_open=pairs[0].possible,
            region=region,
            witness=pairs[0].witness,
            remedy=f'{apart}set match = "first" to let the earlier row win',
            pairs=pairs,
        )

    def _may_not_meet(self, early: int, late: int) -> bool:
        """Whether that two rows meet is possible only."""
        return self.is_possible(self.is_whole(self.common(early, late)))

    def _pair(self, early: int, late: int, answer: Answer) -> Pair:
        """Return where two rows meet."""
        common = self.common(early, late)
        whole = self.is_whole(common)
        return Pair(
            (self.rows[early].number, self.rows[late].number),
            self.space.region(common, whole),
            self.existing.witness(answer.place) or self._example_in(common),
            self.is_possible(whole) or answer.exists is None,
        )

    def common(self, one: int, other: int) -> Box:
        """Return the box that two rows share."""
        return [a & b for a, b in zip(self.boxes[one], self.boxes[other], strict=True)]

    def repeated_rows(self) -> Iterable[Finding]:
        seen: dict[object, int] = {}
        for row, one in enumerate(self.rows):
            twin = seen.setdefault((tuple(self.boxes[row]), one.results), row)
            if twin != row and not self.is_empty[row]:
                yield self.duplicate(row, twin, is_same=True)

    def rows_that_never_win(self) -> Iterable[Finding]:
        first_with: dict[tuple[int, ...], int] = {}
        unproven: list[int] = []
        steps_left = self.budget
        most_steps = self.budget // _QUESTIONS_A_BUDGET
        for row, box in enumerate(self.boxes):
            twin = first_with.setdefault(tuple(box), row)
            if self.is_empty[row]:
                continue
            before = (1 << row) - 1
            if twin != row and self.rows[twin].results == self.rows[row].results:
                yield self.duplicate(row, twin, is_same=True)
                continue
            if twin != row:
                yield self.conflict(twin, row, self._example_of(row))
                continue
            meeting = self.rows_meeting(box) & before
            if holding := self.rows_holding(box) & before:
                by = [next(bits_of(holding))]
                yield self.never_wins(
                    row, by, self._example_of(row), above=self._where_it_wins(row, by, meeting)
                )
                continue
            if meeting.bit_count() < 2 and self.existing.tied is None:
                continue
            search = self._cover_search(row, meeting, min(most_steps, steps_left))
            try:
                if search.uncovered() is None:
                    by = list(bits_of(search.used))
                    above = self._where_it_wins(row, by, meeting)
                    yield self.never_wins(row, by, self._example_of(row), above=above)
                elif meeting and self.existing.tied is not None:
                    yield from self._covered_by_ties(row, meeting)
            except BudgetSpentError:
                unproven.append(row)
            steps_left -= search.n_steps
        if unproven:
            numbers = [self.rows[row].number for row in unproven]
            yield self.not_settled(
                f"whether earlier rows cover all of {_row_or_rows(numbers)} {listed(numbers)}", unproven
            )

    def _where_it_wins(self, row: int, by: Sequence[int], meeting: int) -> int:
        """Return a row above which a covered row wins: the first of those told to cover it, if it is soon seen that those before leave
        something; else the first that it meets, above which it always does.
        """
        before = meeting & ((1 << by[0]) - 1)
        if not before:
            return by[0]
        first = next(bits_of(before))
        if self.existing.tied is not None or before.bit_count() > _MOST_ROWS_BEFORE:
            return first
        if before.bit_count() == 1:
            return by[0]
        try:
            leaves_some = self._cover_search(row, before, _STEPS_FOR_ADVICE).uncovered() is not None
        except BudgetSpentError:
            return first
        return by[0] if leaves_some else first

    def _example_of(self, row: int) -> dict[str, str]:
        """Return values that a row holds; where computed inputs are asked they are sought, which takes its time."""
        return self._example_in(self.boxes[row])

    def _example_in(self, box: Box) -> dict[str, str]:
        """Return values that lie in a box: where none are found at one place of it, with whatever it leaves open left open."""
        place = self.place_in(box)
        found = witness_in(self.space, place, box)
        if WHEN not in found:
            return found
        return witness_in(self.space, place, box, self.is_whole(box))

    def _cover_search(self, row: int, earlier: int, most_steps: int) -> CoverSearch:
        masks = [
            [dimension.masks[cell] for cell in bits_of(cells)]
            for dimension, cells in zip(self.dimensions, self.boxes[row], strict=True)
        ]
        return CoverSearch(masks, earlier, most_steps)

    def _covered_by_ties(self, row: int, earlier: int) -> Iterable[Finding]:
        """Tell a row of which statements and comparisons leave nothing that earlier ones do not hold."""
        used = 0

        def judge(alive: int, sure: int) -> bool | int:
            nonlocal used
            used |= sure & -sure
            return uncovered(alive, sure)

        box = self.existing.in_domain(self.boxes[row])
        answer = self.existing.of_question(
            lambda may_miss: self.existing.sought(box, earlier, judge, may_miss=may_miss)
        )
        if answer.exists:
            return
        by, missing = list(bits_of(used)), answer.missing
        severity = {"severity": "note"} if missing else {}
        above = self._where_it_wins(row, by, earlier)
        made = self.never_wins(row, by, self._example_of(row), above=above, **severity)
        yield replace(made, message=made.message + _unless(missing)) if missing else made


def rows_may_disagree(table: Table) -> bool:
    """Whether rows that differ share a place if inputs are taken as independent of each other: data may lie there all the same."""
    check = BoxCheck(table)
    return any(
        check.rows_meeting(box) & ((1 << row) - 1) & ~check.same_results[check.rows[row].results]
        for row, box in enumerate(check.boxes)
        if not check.is_empty[row]
    )


def _unless(missing: frozenset[str]) -> str:
    """Return how a message goes on that is not so where some columns are missing."""
    return f", unless {listed(sorted(missing))} is missing" if missing else ""


def _row_or_rows(numbers: Sequence[int]) -> str:
    return "row" if len(numbers) == 1 else "rows"
