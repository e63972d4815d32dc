"""Checking a table of several inputs, exactly: rows are boxes of cells.

Which rows meet is read off the intersections of boxes, two at a time; what no row covers, and which rows
earlier ones cover together, is searched (see `box_search`). Inputs are taken as independent of each
other. Where they are not, what is proven absent is still absent, and what is found is possible only.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from functools import cached_property
from itertools import islice

from kivvet.core.check.box_gaps import Box, GapSearch
from kivvet.core.check.box_search import DEFAULT_BUDGET, BudgetSpentError, CoverSearch
from kivvet.core.check.box_witness import witness_in
from kivvet.core.check.dependent import may_be_empty
from kivvet.core.check.row_findings import RowFindings, row_to_add, step_hint
from kivvet.core.check.rows_apart import BoxParting
from kivvet.core.space.boxes import Dimension, Space, bits_of
from kivvet.core.space.region_text import shortened, write_region
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import AnyValue
from kivvet.core.words.findings import Finding, Pair
from kivvet.core.words.places import Place
from kivvet.core.words.regions import HIGH, LOW
from kivvet.core.words.wording import listed

MOST_GAPS = 10
_MOST_PARTNERS = 100  # rows that one row is said to overlap; the worst is described
_MOST_PAIRS = 2_000  # that are written out in all; beyond, one of each row
_ROWS_FOR_BLANK_NOTE = 4
_QUESTIONS_A_BUDGET = (
    20  # whether one row is covered may take this part of the budget; all such questions the whole
)


class BoxCheck(RowFindings):
    """The findings of a table of several dimensions; rows are counted from 0 within."""

    def __init__(self, table: Table, budget: int = DEFAULT_BUDGET) -> None:
        super().__init__(table)
        self.budget = budget
        self.space = Space(table)
        self.dimensions = self.space.dimensions
        self.all_rows = (1 << len(self.rows)) - 1
        self.boxes = [
            [dimension.cells_of_row[row] for dimension in self.dimensions] for row in range(len(self.rows))
        ]
        self.is_empty = [not all(box) for box in self.boxes]
        self._pairs_left = _MOST_PAIRS
        self._touching: list[dict[int, int]] = [{} for _ in self.dimensions]
        self._holding: list[dict[int, int]] = [{} for _ in self.dimensions]

    def findings(self) -> list[Finding]:
        found = [*self.impossible_rows(), *self.unfinished_rows(), *self.rows_outside(), *self.blank_cells()]
        if self.table.match == "one":
            found += self.meeting_rows()
        elif self.table.match == "first":
            found += self.rows_that_never_win()
        else:
            found += self.repeated_rows()
        if self.table.is_complete:
            found += self.gaps()
        return found

    @cached_property
    def parting(self) -> BoxParting:
        """How rows that meet are written apart."""
        return BoxParting(self)

    @cached_property
    def same_results(self) -> dict[object, int]:
        """By results, the rows that have them, row k as bit k."""
        found: dict[object, int] = {}
        for row, one in enumerate(self.rows):
            found[one.results] = found.get(one.results, 0) | 1 << row
        return found

    @cached_property
    def same_boxes(self) -> dict[tuple[int, ...], int]:
        """By box, the rows that hold just it, row k as bit k."""
        found: dict[tuple[int, ...], int] = {}
        for row, box in enumerate(self.boxes):
            found[tuple(box)] = found.get(tuple(box), 0) | 1 << row
        return found

    @property
    def more_steps(self) -> int:
        """The budget to try next."""
        return max(DEFAULT_BUDGET, self.budget * 10)

    @property
    def table_place(self) -> tuple[Place, ...]:
        """Where the table is, for findings about no row of it."""
        place = self.table.place
        return () if place is None else (Place(place.file),)

    # Boxes

    def rows_meeting(self, box: Sequence[int]) -> int:
        """Return the rows that share a place with a box."""
        rows = self.all_rows
        for dimension, known, cells in zip(self.dimensions, self._touching, box, strict=True):
            if cells not in known:
                known[cells] = dimension.touching(cells)
            rows &= known[cells]
        return rows

    def rows_holding(self, box: Sequence[int]) -> int:
        """Return the rows that hold all of a box."""
        rows = self.all_rows
        for dimension, known, cells in zip(self.dimensions, self._holding, box, strict=True):
            if cells not in known:
                known[cells] = dimension.holding(cells)
            rows &= known[cells]
        return rows

    def is_whole(self, box: Sequence[int]) -> list[bool]:
        """Return which dimensions a box leaves free."""
        return [cells == dimension.whole for dimension, cells in zip(self.dimensions, box, strict=True)]

    def is_possible(self, is_whole: Sequence[bool]) -> bool:
        """Whether a place is not proven to exist: the dimensions it constrains may depend on each other."""
        return may_be_empty(self.space, is_whole)

    def of_region(
        self, kind: str, message: str, rows: Sequence[int], is_whole: Sequence[bool], **parts: object
    ) -> Finding:
        """Return a finding about a region, possible where its inputs may depend on each other."""
        made = self.of_rows(kind, message, rows, **parts)
        if self.is_possible(is_whole):
            severity = "warning" if made.severity == "error" else made.severity
            return replace(made, possible=True, severity=severity)
        return made

    def place_in(self, box: Sequence[int]) -> list[int]:
        """Return one cell of each dimension of a box: of the domain, and present, where there is one."""
        place = []
        for dimension, cells in zip(self.dimensions, box, strict=True):
            place.append(next(bits_of(cells & dimension.inside or cells)))
        return place

    # What rows say of themselves

    def impossible_rows(self) -> Iterable[Finding]:
        for row, is_empty in enumerate(self.is_empty):
            if not is_empty:
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
        for late, one in enumerate(self.rows):
            if self.is_empty[late]:
                continue
            box = self.boxes[late]
            earlier = self.rows_meeting(box) & ((1 << late) - 1)
            differing = earlier & ~self.same_results[one.results]
            if differing:
                twins = self.same_boxes[tuple(box)] & differing
                for early in islice(bits_of(twins), 1):
                    yield self.conflict(early, late, witness_in(self.space, self.place_in(box)))
                if others := differing & ~twins:
                    yield self.overlap(late, others)
            for outer in bits_of(self.rows_holding(box) & self.same_results[one.results] & ~(1 << late)):
                if outer not in needless and late not in needless:
                    needless[late] = outer
        for inner, outer in needless.items():
            yield self.duplicate(inner, outer, is_same=self.boxes[inner] == self.boxes[outer])

    def overlap(self, late: int, partners: int) -> Finding:
        """Tell the earlier rows (as bits) that a row meets; the first one speaks that it certainly meets, if there is one."""
        certain = (early for early in bits_of(partners) if not self._may_not_meet(early, late))
        worst = next(certain, next(bits_of(partners)))
        others = partners & ~(1 << worst)
        most = min(_MOST_PARTNERS, max(1, self._pairs_left))
        told = [worst, *islice(bits_of(others), most - 1)]
        self._pairs_left -= len(told)
        pairs = tuple(self._pair(early, late) for early in told)
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
            region=region,
            witness=pairs[0].witness,
            remedy=f'{apart}set match = "first" to let the earlier row win',
            pairs=pairs,
        )

    def _may_not_meet(self, early: int, late: int) -> bool:
        """Whether that two rows meet is possible only."""
        return self.is_possible(self.is_whole(self.common(early, late)))

    def _pair(self, early: int, late: int) -> Pair:
        """Return where two rows meet."""
        common = self.common(early, late)
        whole = self.is_whole(common)
        return Pair(
            (self.rows[early].number, self.rows[late].number),
            self.space.region(common, whole),
            witness_in(self.space, self.place_in(common), common),
            self.is_possible(whole),
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
            witness = witness_in(self.space, self.place_in(box))
            before = (1 << row) - 1
            if twin != row and self.rows[twin].results == self.rows[row].results:
                yield self.duplicate(row, twin, is_same=True)
                continue
            if twin != row:
                yield self.conflict(twin, row, witness)
                continue
            if holding := self.rows_holding(box) & before:
                yield self.never_wins(row, [next(bits_of(holding))], witness)
                continue
            meeting = self.rows_meeting(box) & before
            if meeting.bit_count() < 2:
                continue
            masks = [
                [dimension.masks[cell] for cell in bits_of(cells)]
                for dimension, cells in zip(self.dimensions, box, strict=True)
            ]
            search = CoverSearch(masks, meeting, min(most_steps, steps_left))
            try:
                if search.uncovered() is None:
                    yield self.never_wins(row, list(bits_of(search.used)), witness)
            except BudgetSpentError:
                unproven.append(row)
            steps_left -= search.n_steps
        if unproven:
            numbers = [self.rows[row].number for row in unproven]
            yield self.of_rows(
                "not-proven",
                f"whether earlier rows cover all of {'row' if len(unproven) == 1 else 'rows'} {listed(numbers)} "
                f"is not settled within {self.budget:,} steps",
                unproven[:20],
                remedy=f"allow more with --budget {self.more_steps}; the notes on unused rows say what data never reaches",
            )

    # What no row covers

    def gaps(self) -> Iterable[Finding]:
        sought = [list(dimension.sought) for dimension in self.dimensions]
        search = self.search(sought)
        found = search.boxes(MOST_GAPS)
        if not search.is_settled:
            question = "whether there are more gaps" if found else "whether rows leave a gap"
            yield self.of_rows(
                "not-proven",
                f"{question} is not settled within {self.budget:,} steps",
                [],
                remedy=f"allow more with --budget {self.more_steps}; values that fall through are still found in the data",
            )
        told: list[Box] = []
        for box, place in sorted(found, key=lambda pair: self.size_rank(pair[0], sought)):
            gap = self.gap(box, place, sought)
            if any(all(a & b for a, b in zip(box, one, strict=True)) for one in told):
                gap = replace(gap, remedy=f"{gap.remedy}, and check again: a row for a gap above may meet it")
            told.append(box)
            yield gap
        if search.has_more:
            yield self.of_rows(
                "gap",
                f"more gaps remain beyond the {MOST_GAPS} listed",
                [],
                severity=self.gap_severity,
                remedy="fill those first, or say with otherwise what all others get",
            )
        yield from self.open_inputs(sought)

    def search(self, sought: Sequence[Sequence[int]]) -> GapSearch:
        """Return the search for what no row covers of some cells."""
        return GapSearch(
            [dimension.masks for dimension in self.dimensions],
            sought,
            len(self.rows),
            [dimension.is_ordered for dimension in self.dimensions],
            [dimension.missing for dimension in self.dimensions],
            self.budget,
        )

    def size_rank(self, box: Box, sought: Sequence[Sequence[int]]) -> tuple[int, float]:
        """Return what sorts larger boxes first: few inputs constrained, then the share of cells."""
        shares = [cells.bit_count() / len(all_of) for cells, all_of in zip(box, sought, strict=True)]
        product = 1.0
        for share in shares:
            product *= share
        return sum(share < 1 for share in shares), -product

    def gap(self, box: Box, place: list[int], sought: Sequence[Sequence[int]]) -> Finding:
        whole = [
            cells.bit_count() == len(all_of) and not one.unlisted
            for cells, all_of, one in zip(box, sought, self.dimensions, strict=True)
        ]
        shown = [
            cells | one.present if cells & one.inside == one.inside and not one.unlisted else cells
            for cells, one in zip(box, self.dimensions, strict=True)
        ]
        region = self.region_to_add(box, shown, whole)
        hints = [
            hint
            for dimension, cells, is_whole in zip(self.dimensions, box, whole, strict=True)
            if not is_whole and dimension.test is None and (hint := self.step_hint(dimension, cells))
        ]
        return self.of_region(
            "gap",
            f"{shortened(write_region(region) or 'everything')} is covered by no row",
            [],
            whole,
            severity=self.gap_severity,
            region=region,
            witness=witness_in(self.space, place, box),
            places=self.table_place,
            remedy=f"{row_to_add(self.table, region)}{''.join(hints)}",
        )

    def region_to_add(self, box: Box, shown: Box, whole: Sequence[bool]) -> dict[str, str]:
        """Return what a row that fills a gap asks: beyond the domains all there is, so that it reads short; just the
        gap where a row lies out there that it would meet.
        """
        held = [
            one.whole if is_free else cells
            for one, cells, is_free in zip(self.dimensions, shown, whole, strict=True)
        ]
        if not self.rows_meeting(held):
            return self.space.region(shown, whole)
        for with_missing in (True, False):
            narrow = [
                cells | (all_of & 1 << one.missing if with_missing and one.missing >= 0 else 0)
                if one.axis.is_limited and one.test is None
                else all_of
                for one, cells, all_of in zip(self.dimensions, box, held, strict=True)
            ]
            if not self.rows_meeting(narrow):
                break
        return self.space.region(narrow, self.is_whole(narrow))

    def step_hint(self, dimension: Dimension, cells: int) -> str:
        some = [dimension.cut.cells[cell] for cell in bits_of(cells) if cell != dimension.missing]
        if not some or some[0].low == LOW or some[-1].high == HIGH:
            return ""
        regions = [dimension.axis.region(condition) for condition in dimension.conditions]
        return step_hint(dimension.about, regions, some[0].low, some[-1].high)

    def open_inputs(self, sought: Sequence[Sequence[int]]) -> Iterable[Finding]:
        """Tell the inputs without a domain whose unlisted values some places leave uncovered."""
        for number, dimension in enumerate(self.dimensions):
            is_plain = dimension.test is None or dimension.is_plain
            if not dimension.unlisted or not is_plain:
                continue
            cells = [*sought[:number], list(dimension.unlisted), *sought[number + 1 :]]
            try:
                place = self.search(cells).uncovered_place()
            except BudgetSpentError:
                place = []
            if place is not None:
                yield self.open_input(dimension.about)
