"""What no row of several inputs covers, told box by box: the largest first, each with a row that would fill it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

from kivvet.core.check.box_gaps import Box, GapSearch
from kivvet.core.check.box_rows import BoxRows
from kivvet.core.check.box_search import BudgetSpentError
from kivvet.core.check.box_witness import witness_in
from kivvet.core.check.existing_gaps import ExistingGaps
from kivvet.core.check.row_findings import row_to_add, step_hint
from kivvet.core.space.boxes import Dimension, bits_of
from kivvet.core.space.region_text import shortened, write_region
from kivvet.core.words.findings import Finding
from kivvet.core.words.regions import HIGH, LOW

MOST_GAPS = 10


class SeveralGaps:
    """The gaps that one check tells."""

    def __init__(self, check: BoxRows) -> None:
        self.check, self.table = check, check.table
        self.dimensions, self.rows = check.dimensions, check.rows

    def findings(self) -> Iterable[Finding]:
        sought = [list(dimension.sought) for dimension in self.dimensions]
        search, found = self.searched(sought)
        if not search.is_settled:
            question = "whether there are more gaps" if found else "whether rows leave a gap"
            yield self.check.of_rows(
                "not-proven",
                f"{question} is not settled within {self.check.budget:,} steps",
                [],
                remedy=f"allow more with --budget {self.check.more_steps}; values that fall through are still found in the data",
            )
        told: list[Box] = []
        for box, place, witness in sorted(found, key=lambda one: self.size_rank(one[0], sought)):
            gap = self.gap(box, place, sought, witness)
            if any(all(a & b for a, b in zip(box, one, strict=True)) for one in told):
                gap = replace(gap, remedy=f"{gap.remedy}, and check again: a row for a gap above may meet it")
            told.append(box)
            yield gap
        if search.has_more:
            yield self.check.of_rows(
                "gap",
                f"more gaps remain beyond the {MOST_GAPS} listed",
                [],
                severity=self.check.gap_severity,
                remedy="fill those first, or say with otherwise what all others get",
            )
        yield from self.open_inputs(sought)

    def searched(
        self, sought: Sequence[Sequence[int]]
    ) -> tuple[GapSearch | ExistingGaps, list[tuple[Box, Sequence[int], Mapping[str, str] | None]]]:
        """Return a search that is done, and the gaps it found: a box, a place in it, and values there if they are known."""
        existing = self.check.existing
        if existing.tied is None:
            search = self.search(sought)
            return search, [(box, place, None) for box, place in search.boxes(MOST_GAPS)]
        among = ExistingGaps(existing, existing.tied, sought)
        search = self.search([list(bits_of(cells)) for cells in among.sought])
        try:
            if search.uncovered_place() is None:
                return search, []
        except BudgetSpentError:
            pass  # fewer places exist than are sought
        return among, [(box, place.cells, existing.witness(place)) for box, place in among.boxes(MOST_GAPS)]

    def search(self, sought: Sequence[Sequence[int]]) -> GapSearch:
        """Return the search for what no row covers of some cells."""
        return GapSearch(
            [dimension.masks for dimension in self.dimensions],
            sought,
            len(self.rows),
            [dimension.is_ordered for dimension in self.dimensions],
            [dimension.missing for dimension in self.dimensions],
            self.check.budget,
        )

    def size_rank(self, box: Box, sought: Sequence[Sequence[int]]) -> tuple[int, float]:
        """Return what sorts larger boxes first: few inputs constrained, then the share of cells."""
        shares = [cells.bit_count() / len(all_of) for cells, all_of in zip(box, sought, strict=True)]
        product = 1.0
        for share in shares:
            product *= share
        return sum(share < 1 for share in shares), -product

    def gap(
        self,
        box: Box,
        place: Sequence[int],
        sought: Sequence[Sequence[int]],
        witness: Mapping[str, str] | None,
    ) -> Finding:
        whole = [
            all(cells >> cell & 1 for cell in all_of) and not one.unlisted
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
        return self.check.of_region(
            "gap",
            f"{shortened(write_region(region) or 'everything')} is covered by no row",
            [],
            whole,
            severity=self.check.gap_severity,
            region=region,
            witness=witness or witness_in(self.check.space, place, box),
            places=self.check.table_place,
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
        if not self._meets(held):
            return self.check.space.region(shown, whole)
        for with_missing in (True, False):
            narrow = [
                cells | (all_of & 1 << one.missing if with_missing and one.missing >= 0 else 0)
                if one.axis.is_limited and one.test is None
                else all_of
                for one, cells, all_of in zip(self.dimensions, box, held, strict=True)
            ]
            if not self._meets(narrow):
                break
        return self.check.space.region(narrow, self.check.is_whole(narrow))

    def _meets(self, box: Box) -> bool:
        """Whether a row shares a place that exists with a box."""
        rows = self.check.rows_meeting(box)
        if self.check.existing.tied is None:
            return bool(rows)
        return any(
            self.check.place_of([a & b for a, b in zip(box, self.check.boxes[row], strict=True)]).exists
            is not False
            for row in bits_of(rows)
        )

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
                yield self.check.open_input(dimension.about)
