"""Checking a table of several inputs, exactly: rows are boxes of cells.

Which rows meet is read off the intersections of boxes, two at a time; what no row covers, and which rows
earlier ones cover together, is searched (see `box_search`). Inputs are taken as independent of each
other. Where they are not, what is proven absent is still absent, and what is found is possible only.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

from kivvet.core.box_search import DEFAULT_BUDGET, BudgetSpentError, CoverSearch
from kivvet.core.boxes import Space, bits_of
from kivvet.core.conditions import AnyValue
from kivvet.core.findings import Finding
from kivvet.core.regions import HIGH, LOW
from kivvet.core.row_findings import RowFindings, is_tied, pasted_row, shortened, step_hint, write_region
from kivvet.core.tables import RuleTable
from kivvet.errors import Place, listed

MOST_GAPS = 10
_MOST_PARTNERS = 20  # rows that one row is said to overlap; the first is described
_ROWS_FOR_BLANK_NOTE = 4
_QUESTIONS_A_BUDGET = (
    20  # whether one row is covered may take this part of the budget; all such questions the whole
)

Box = list[int]


class BoxCheck(RowFindings):
    """The findings of a table of several dimensions; rows are counted from 0 within."""

    def __init__(self, table: RuleTable, budget: int = DEFAULT_BUDGET) -> None:
        super().__init__(table)
        self.budget = budget
        self.space = Space(table)
        self.dimensions = self.space.dimensions
        self.all_rows = (1 << len(self.rows)) - 1
        self.boxes = [[one.cells_of_row[row] for one in self.dimensions] for row in range(len(self.rows))]
        self.is_empty = [not all(box) for box in self.boxes]
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
        if self.table.parts.is_complete:
            found += self.gaps()
        return found

    @property
    def more_steps(self) -> int:
        """The budget to try next."""
        return max(DEFAULT_BUDGET, self.budget * 10)

    @property
    def table_place(self) -> tuple[Place, ...]:
        """Where the table is, for findings about no row of it."""
        place = self.table.parts.place
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
        constrained = [one for one, whole in zip(self.dimensions, is_whole, strict=True) if not whole]
        if any(one.test is not None and one.test.whole is not None for one in constrained):
            return True
        reads = [
            frozenset(one.test.reads) if one.test is not None else frozenset((one.about.name,))
            for one in constrained
        ]
        if sum(map(len, reads)) > len(frozenset().union(*reads)):
            return True  # two of them read one column
        limited = [
            frozenset((one.about.name,))
            for one in self.dimensions
            if one.test is None and one.axis.is_limited
        ]
        return is_tied(self.table, reads, limited)

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
                for one, cells in zip(self.dimensions, self.boxes[row], strict=True) if not cells
            ]  # fmt: skip
            name = names[0]
            yield self.of_rows(
                "impossible", f"no value meets {write_region({name: region.get(name, region.get('when', ''))})} in row {self.rows[row].number}",
                [row], region=region, remedy="correct the condition, or remove the row",
            )  # fmt: skip

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
                        "out-of-domain", f"{shown} in row {self.rows[row].number} lies outside {what} of {name}", [row],
                        region=self.region_of(row), remedy=f"correct the condition, or widen {what}",
                    )  # fmt: skip

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
                    "blank-cell", f"{self.shown(free[0])} leaves {about.name} blank, which all other rows constrain", free,
                    remedy="write any if any value is meant",
                )  # fmt: skip

    def _is_written(self, row: int, number: int) -> bool:
        asked = self.rows[row].conditions[number]
        return isinstance(asked, AnyValue) and asked.is_written

    # What rows do to each other

    def meeting_rows(self) -> Iterable[Finding]:
        same_results: dict[object, int] = {}
        for row, one in enumerate(self.rows):
            same_results[one.results] = same_results.get(one.results, 0) | 1 << row
        needless: dict[int, int] = {}
        for late, one in enumerate(self.rows):
            if self.is_empty[late]:
                continue
            box = self.boxes[late]
            earlier = self.rows_meeting(box) & ((1 << late) - 1)
            differing = earlier & ~same_results[one.results]
            if differing:
                twins = [early for early in bits_of(differing) if self.boxes[early] == box]
                for early in twins[:1]:
                    yield self.conflict(early, late, self.space.witness(self.place_in(box)))
                others = [early for early in bits_of(differing) if early not in twins]
                if others:
                    yield self.overlap(late, others)
            for outer in bits_of(self.rows_holding(box) & same_results[one.results] & ~(1 << late)):
                if outer not in needless and late not in needless:
                    needless[late] = outer
        for inner, outer in needless.items():
            yield self.duplicate(inner, outer, is_same=self.boxes[inner] == self.boxes[outer])

    def overlap(self, late: int, partners: Sequence[int]) -> Finding:
        early = partners[0]
        common = [a & b for a, b in zip(self.boxes[early], self.boxes[late], strict=True)]
        whole = self.is_whole(common)
        region = self.space.region(common, whole)
        others = [self.rows[row].number for row in partners[1:]]
        more = f"; it also meets {'row' if len(others) == 1 else 'rows'} {listed(others)}" if others else ""
        return self.of_region(
            "overlap", f"{self.shown(early)} and {self.shown(late)} both hold {shortened(write_region(region) or 'everything')}{more}",
            [early, late, *partners[1:_MOST_PARTNERS]], whole,
            region=region, witness=self.space.witness(self.place_in(common)), remedy=self.apart(early, late),
        )  # fmt: skip

    def apart(self, early: int, late: int) -> str:
        """Return how one of two rows is written so that it leaves the other its places."""
        otherwise = 'set match = "first" to let the earlier row win'
        for row, other in ((late, early), (early, late)):
            sticks_out = [
                number for number, (mine, its) in enumerate(zip(self.boxes[row], self.boxes[other], strict=True)) if mine & ~its
            ]  # fmt: skip
            if len(sticks_out) == 1:
                dimension = self.dimensions[sticks_out[0]]
                rest = dimension.write(self.boxes[row][sticks_out[0]] & ~self.boxes[other][sticks_out[0]])
                what = "when" if dimension.test is not None else dimension.about.name
                return f"write {what} of row {self.rows[row].number} as {rest}, or {otherwise}"
        return f"narrow one of the two rows, or {otherwise}"

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
            witness = self.space.witness(self.place_in(box))
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
                "not-proven", f"whether earlier rows cover all of {'row' if len(unproven) == 1 else 'rows'} {listed(numbers)} "
                f"is not settled within {self.budget:,} steps", unproven[:20],
                remedy=f"allow more with --budget {self.more_steps}; the notes on unused rows say what data never reaches",
            )  # fmt: skip

    # What no row covers

    def gaps(self) -> Iterable[Finding]:
        sought = [list(dimension.sought) for dimension in self.dimensions]
        extra: list[Box] = []
        found: list[tuple[Box, list[int]]] = []
        is_open_end = False
        try:
            while (place := self.uncovered_place(sought, extra)) is not None:
                if len(found) == MOST_GAPS:
                    is_open_end = True
                    break
                box = self.widened(place, sought)
                extra.append(box)
                found.append((box, place))
        except BudgetSpentError:
            question = "whether there are more gaps" if found else "whether rows leave a gap"
            yield self.of_rows(
                "not-proven", f"{question} is not settled within {self.budget:,} steps", [],
                remedy=f"allow more with --budget {self.more_steps}; values that fall through are still found in the data",
            )  # fmt: skip
        for box, place in sorted(found, key=lambda pair: self.size_rank(pair[0], sought)):
            yield self.gap(box, place, sought)
        if is_open_end:
            yield self.of_rows(
                "gap", f"more gaps remain beyond the {MOST_GAPS} listed", [], severity=self.gap_severity,
                remedy="fill those first, or say with otherwise what all others get",
            )  # fmt: skip
        yield from self.open_inputs(sought)

    def uncovered_place(self, sought: Sequence[Sequence[int]], extra: Sequence[Box]) -> list[int] | None:
        """Return a place that neither a row nor an extra box covers, one cell of each dimension."""
        n_rows = len(self.rows)
        masks = []
        for number, (dimension, cells) in enumerate(zip(self.dimensions, sought, strict=True)):
            masks.append([
                dimension.masks[cell] | sum(1 << (n_rows + k) for k, box in enumerate(extra) if box[number] >> cell & 1)
                for cell in cells
            ])  # fmt: skip
        search = CoverSearch(masks, (1 << (n_rows + len(extra))) - 1, self.budget)
        place = search.uncovered()
        if place is None:
            return None
        return [cells[number] for number, cells in zip(place, sought, strict=True)]

    def widened(self, place: Sequence[int], sought: Sequence[Sequence[int]]) -> Box:
        """Return the box around a place, each input widened as far as no row is met, last to first."""
        box = [1 << cell for cell in place]
        hit = [dimension.masks[cell] for dimension, cell in zip(self.dimensions, place, strict=True)]
        for number in reversed(range(len(box))):
            dimension = self.dimensions[number]
            others = self.all_rows
            for other, rows in enumerate(hit):
                if other != number:
                    others &= rows
            free = [cell for cell in sought[number] if not dimension.masks[cell] & others]
            if dimension.is_ordered and len(free) < len(sought[number]):
                free = _run_around(place[number], free, dimension.missing)
            box[number] = sum(1 << cell for cell in free)
            hit[number] = dimension.touching(box[number])
        return box

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
        region = self.space.region(shown, whole)
        hints = [
            hint for dimension, cells, is_whole in zip(self.dimensions, box, whole, strict=True)
            if not is_whole and dimension.test is None and (hint := self.step_hint(dimension, cells))
        ]  # fmt: skip
        return self.of_region(
            "gap", f"{shortened(write_region(region) or 'everything')} is covered by no row", [], whole,
            severity=self.gap_severity, region=region, witness=self.space.witness(place), places=self.table_place,
            remedy=f"add  {pasted_row(self.table, region)}{''.join(hints)}",
        )  # fmt: skip

    def step_hint(self, dimension: object, cells: int) -> str:
        from kivvet.core.boxes import Dimension

        assert isinstance(dimension, Dimension)
        some = [dimension.cut.cells[cell] for cell in bits_of(cells) if cell != dimension.missing]
        if not some or some[0].low == LOW or some[-1].high == HIGH:
            return ""
        regions = [dimension.axis.region(one) for one in dimension.conditions]
        return step_hint(dimension.about, regions, some[0].low, some[-1].high)

    def open_inputs(self, sought: Sequence[Sequence[int]]) -> Iterable[Finding]:
        """Tell the inputs without a domain whose unlisted values some places leave uncovered."""
        for number, dimension in enumerate(self.dimensions):
            if not dimension.unlisted or dimension.test is not None:
                continue
            cells = [*sought[:number], list(dimension.unlisted), *sought[number + 1 :]]
            try:
                place = self.uncovered_place(cells, [])
            except BudgetSpentError:
                place = []
            if place is not None:
                yield self.open_input(dimension.about)


def _run_around(cell: int, free: Sequence[int], missing: int) -> list[int]:
    """Return the longest run of neighbouring cells around one."""
    if cell == missing:
        return [cell]
    available = set(free) - {missing}
    first = last = cell
    while first - 1 in available:
        first -= 1
    while last + 1 in available:
        last += 1
    return list(range(first, last + 1))
