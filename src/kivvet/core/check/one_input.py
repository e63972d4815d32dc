"""Checking conditions on one input, exactly, on its cells: nothing is sampled.

Which rows meet, which never win and what no row covers are read off one walk over the cells; each
finding carries a value (the witness) that anyone can try.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from functools import cached_property

from kivvet.core.check.row_findings import RowFindings, row_to_add, step_hint
from kivvet.core.check.rows_apart import Yielding
from kivvet.core.space.axes import Axis
from kivvet.core.space.cells import NO_ROW, CellCut, covers, joined_spans
from kivvet.core.space.region_text import shortened, write_witness
from kivvet.core.space.table_space import axis_of, open_dimensions, row_regions
from kivvet.core.space.text_axis import TextAxis
from kivvet.core.tables.table import Result, Table
from kivvet.core.words.condition_parser import ConditionError, parse_condition
from kivvet.core.words.conditions import AnyOf, Condition, IsMissing, Negation, write_condition
from kivvet.core.words.findings import Finding, Pair
from kivvet.core.words.regions import Region, union
from kivvet.core.words.values import Value, write_decimal
from kivvet.core.words.wording import listed

_MOST_PARTNERS = 100  # rows that one row is said to overlap; the first is described


class LineCheck(RowFindings):
    """The findings of a table of one dimension; rows are counted from 0 within."""

    def __init__(self, table: Table) -> None:
        super().__init__(table)
        self.input = table.dimensions[0]
        self.axis: Axis = axis_of(table)
        self.regions = row_regions(table, 0)
        self.cut = CellCut.of(self.axis, self.regions, self.axis.domain)
        self.held = [
            (joined_spans(spans), m)
            for spans, m in zip(self.cut.spans, self.cut.accepts_missing, strict=True)
        ]  # for each row the cells it holds, however its bounds are written
        self.is_empty = [not spans and not m for spans, m in self.held]
        self._others: dict[tuple[Result, ...], Region] = {}
        self.yielding = Yielding()
        self.lowest: list[int] = []
        self.partners: dict[
            int, list[tuple[int, Value | None]]
        ] = {}  # later row: earlier rows it meets and differs from
        self.repeated: dict[int, int] = {}  # row: the row it lies inside, results being equal
        self._walk()

    def findings(self) -> list[Finding]:
        found = [*self.impossible_rows(), *self.unfinished_rows(), *self.rows_outside()]
        if self.table.match == "one":
            found += self.meeting_rows()
        elif self.table.match == "first":
            found += self.rows_that_never_win()
        else:
            found += self.repeated_rows()
        if self.table.is_complete:
            found += self.gaps()
        return [*found, *self.idle_missing()]

    def _walk(self) -> None:
        wants_pairs = self.table.match == "one"
        for cell, begun, alive, lowest in self.cut.live_rows():
            self.lowest.append(lowest)
            if wants_pairs and len(alive) > 1:
                for row in begun:
                    self._meet(row, alive, self.cut.cells[cell].witness)
        if wants_pairs:
            missing = [row for row, accepts in enumerate(self.cut.accepts_missing) if accepts]
            for index, row in enumerate(missing):
                self._meet(row, missing[:index], None)

    def _meet(self, row: int, others: Iterable[int], witness: Value | None) -> None:
        for other in others:
            if other == row:
                continue
            early, late = sorted((row, other))
            if self.rows[early].results != self.rows[late].results:
                partners = self.partners.setdefault(late, [])
                if len(partners) >= _MOST_PARTNERS:
                    if late == row:
                        return
                elif all(known != early for known, _ in partners):
                    partners.append((early, witness))
            elif late not in self.repeated and early not in self.repeated:
                if self.holds(early, late):
                    self.repeated[late] = early
                elif self.holds(late, early):
                    self.repeated[early] = late

    def holds(self, outer: int, inner: int) -> bool:
        """Whether one row accepts all that another accepts."""
        (outer_spans, outer_missing), (inner_spans, inner_missing) = self.held[outer], self.held[inner]
        return (outer_missing or not inner_missing) and covers(outer_spans, inner_spans)

    # What rows say of themselves

    def impossible_rows(self) -> Iterable[Finding]:
        for row, is_empty in enumerate(self.is_empty):
            if is_empty:
                yield self.of_rows(
                    "impossible",
                    f"no value meets {self.input.name} = {self.condition_of(row)}",
                    [row],
                    region=self.region_of(row),
                    remedy=self.remedy_of_impossible(row),
                )

    def remedy_of_impossible(self, number: int) -> str:
        text = write_condition(self.table.asked(self.rows[number], 0))
        low, _, high = text.partition(" to ")
        if high and not text.startswith((">", "not")) and "|" not in text:
            swapped = f"{high.lstrip('<')} to {low}"
            if swapped != text and self.is_free(swapped):
                return f"swap the ends ({swapped}), or remove the row"
        if self.input.step is not None:
            return f"no multiple of the step {write_decimal(self.input.step)} lies there; correct the bounds, or the step"
        return "correct the condition, or remove the row"

    def is_free(self, text: str) -> bool:
        """Whether a condition accepts something, and nothing that a row accepts."""
        try:
            region = self.axis.region(parse_condition(text, self.input.type))
        except ConditionError:
            return False
        cut = CellCut.of(self.axis, [region, *self.regions], self.axis.domain)
        held = {cell for span in cut.spans[0] for cell in range(*span)}
        others = {cell for spans in cut.spans[1:] for span in spans for cell in range(*span)}
        return bool(held) and not held & others and any(cut.cells[cell].in_domain for cell in held)

    def rows_outside(self) -> Iterable[Finding]:
        if not self.axis.is_limited:
            return
        for row, spans in enumerate(self.cut.spans):
            if not spans or self.cut.accepts_missing[row]:
                continue
            if not any(self.cut.cells[cell].in_domain for span in spans for cell in range(*span)):
                what = (
                    f"the shape {self.input.shape}"
                    if self.input.shape and self.input.domain is None
                    else "the domain"
                )
                yield self.of_rows(
                    "out-of-domain",
                    f"{self.condition_of(row)} lies outside {what} of {self.input.name}",
                    [row],
                    region=self.region_of(row),
                    remedy=f"correct the condition, or widen {what}",
                )

    def idle_missing(self) -> Iterable[Finding]:
        holder = next((row for row, accepts in enumerate(self.cut.accepts_missing) if accepts), None)
        if self.table.missing and holder is not None:
            yield self.idle_missing_result(holder)

    # What rows do to each other

    def meeting_rows(self) -> Iterable[Finding]:
        for late in sorted(self.partners):
            same = [(early, w) for early, w in self.partners[late] if self.held[early] == self.held[late]]
            for early, witness in same[:1]:
                yield self.conflict(early, late, {self.input.name: write_witness(witness)})
            differing = [pair for pair in self.partners[late] if pair not in same]
            if differing:
                yield self.overlap(late, differing)
        for inner, outer in sorted(self.repeated.items()):
            yield self.duplicate(inner, outer, is_same=self.held[inner] == self.held[outer])

    def overlap(self, late: int, partners: list[tuple[int, Value | None]]) -> Finding:
        early, witness = partners[0]
        common = self.common_region(early, late)
        others = [self.rows[row].number for row, _ in partners[1:]]
        more = f"; it also meets {'row' if len(others) == 1 else 'rows'} {listed(others)}" if others else ""
        return self.of_rows(
            "overlap",
            f"{self.shown(early)} and {self.shown(late)} both hold {shortened(common)}{more}",
            [row for row, _ in [*partners[:1], (late, None), *partners[1:]]],
            region={self.input.name: common},
            witness={self.input.name: write_witness(witness)},
            remedy=f'{self.apart(early, late)}set match = "first" to let the earlier row win',
            pairs=tuple(
                Pair(
                    (self.rows[row].number, self.rows[late].number),
                    {self.input.name: self.common_region(row, late)},
                    {self.input.name: write_witness(value)},
                )
                for row, value in partners
            ),
        )

    @cached_property
    def differing(self) -> dict[int, set[int]]:
        """For each row those that it meets and differs from."""
        found: dict[int, set[int]] = {}
        for late, partners in self.partners.items():
            for early, _ in partners:
                found.setdefault(late, set()).add(early)
                found.setdefault(early, set()).add(late)
        return found

    def common_region(self, early: int, late: int) -> str:
        """Return what two rows share; where intervals do not say it exactly, in terms of both conditions."""
        shared = self.regions[early] & self.regions[late]
        axis = self.axis
        if not isinstance(axis, TextAxis) or not any(shared.bands):
            return axis.write_region(shared)
        for row in (late, early):
            if shared == self.regions[row]:
                return write_condition(self.table.asked(self.rows[row], 0))
        has_others = bool(axis.shape) and any(axis.witness(0, *pair) is not None for pair in shared.bands[0])
        if shared.bands[-1] and axis.is_uniform(shared) and not has_others:
            return axis.write_region(shared)
        both = tuple(Negation(self.table.asked(self.rows[row], 0)) for row in (early, late))
        return write_condition(Negation(AnyOf(both)))

    def apart(self, early: int, late: int) -> str:
        """Return how one of two rows is written so that it leaves all rows that differ their values; nothing
        where it cannot be.
        """
        if (
            self.table.dimensions[0] is not self.table.inputs[0]
            or self.rows[late].when
            or self.rows[early].when
        ):
            return ""
        for row in (late, early) if len(self.partners[late]) == 1 else (late,):
            met = self.differing[row]
            if not self.yielding.may(row, met) or len(self.partners.get(row, ())) >= _MOST_PARTNERS:
                continue  # together with an earlier remedy it would leave a gap
            others = self.accepted_by_others(self.rows[row].results)
            rest = self.regions[row] & others.other_present()
            rest = replace(rest, missing=self.regions[row].missing and not others.missing)
            text = self.axis.write_region(rest)
            inside = self.axis.domain & rest
            keeps_domain = any(
                self.axis.witness(band, *pair) is not None
                for band, intervals in enumerate(inside.bands)
                for pair in intervals
            )
            if text and keeps_domain and self.reads_as(text, rest) and not self.is_within_another(rest, row):
                self.yielding.told(row, met)
                return f"write row {self.rows[row].number} as {text}, or "
        return ""

    def accepted_by_others(self, results: tuple[Result, ...]) -> Region:
        """Return what rows with other results accept; it is worked out once."""
        if results not in self._others:
            others = [one for one, row in zip(self.regions, self.rows, strict=True) if row.results != results]
            bands = range(self.axis.n_bands)
            self._others[results] = Region(
                tuple(union(*(other.bands[band] for other in others)) for band in bands),
                any(other.missing for other in others),
            )
        return self._others[results]

    def is_within_another(self, region: Region, row: int) -> bool:
        """Whether a row of the same results accepts all of a region."""
        alike = [n for n, one in enumerate(self.rows) if n != row and one.results == self.rows[row].results]
        return any(self.regions[n] & region == region for n in alike)

    def reads_as(self, text: str, region: Region) -> bool:
        """Whether a condition accepts just the values of a region."""
        try:
            made = self.axis.region(parse_condition(text, self.input.type))
        except ConditionError:
            return False
        cut = CellCut.of(self.axis, [made, region], self.axis.domain)
        one, other = (joined_spans(spans) for spans in cut.spans)
        return one == other and made.missing == region.missing

    def repeated_rows(self) -> Iterable[Finding]:
        """Tell rows that say the same as an earlier one, word for word."""
        seen: dict[object, int] = {}
        for row, held in enumerate(self.held):
            twin = seen.setdefault((held, self.rows[row].results), row)
            if twin != row and not self.is_empty[row]:
                yield self.duplicate(row, twin, is_same=True)

    def rows_that_never_win(self) -> Iterable[Finding]:
        winners = set(self.lowest)
        missing_winner = next(
            (row for row, accepts in enumerate(self.cut.accepts_missing) if accepts), NO_ROW
        )
        winners.add(missing_winner)
        by_cells: dict[object, int] = {}
        for row, held in enumerate(self.held):
            twin = by_cells.setdefault(held, row)
            if row in winners or self.is_empty[row]:
                continue
            if twin != row and self.rows[twin].results == self.rows[row].results:
                yield self.duplicate(row, twin, is_same=True)
            elif twin != row:
                yield self.conflict(twin, row, {self.input.name: write_witness(self.witness_of(row))})
            else:
                yield self.shadowed(row, missing_winner)

    def witness_of(self, row: int) -> Value | None:
        cells = [self.cut.cells[cell] for span in self.cut.spans[row] for cell in range(*span)]
        return next((cell.witness for cell in cells if cell.in_domain), cells[0].witness if cells else None)

    def shadowed(self, row: int, missing_winner: int) -> Finding:
        by = {winner for start, end in self.cut.spans[row] for winner in self.lowest[start:end]}
        if self.cut.accepts_missing[row]:
            by.add(missing_winner)
        return self.never_wins(row, sorted(by), {self.input.name: write_witness(self.witness_of(row))})

    # What no row covers

    def gaps(self) -> list[Finding]:
        severity = self.gap_severity
        if open_dimensions(self.table)[0]:
            return [self.open_input(self.input)]
        runs = self.uncovered_runs()
        if not runs:
            return []
        if isinstance(self.axis, TextAxis) and not (self.axis.is_limited and self.is_uniform(self.axis)):
            return [self.text_rest(runs[0][0], severity)]
        made: dict[str, Finding] = {}
        for first, last in runs:
            low, high = self.cut.cells[first].low, self.cut.cells[last].high
            region = self.axis.write_interval(low, high)
            if region not in made:
                neighbours = self.neighbours(first, last)
                made[region] = self.gap(
                    region,
                    self.cut.cells[first].witness,
                    neighbours,
                    severity,
                    step_hint(self.input, self.regions, low, high),
                )
        return list(made.values())

    def uncovered_runs(self) -> list[tuple[int, int]]:
        """Return the longest runs of neighbouring cells of the domain without a row, as first and last cell."""
        runs: list[tuple[int, int]] = []
        for number, (cell, lowest) in enumerate(zip(self.cut.cells, self.lowest, strict=True)):
            if lowest != NO_ROW or not cell.in_domain:
                continue
            before = self.cut.cells[number - 1]
            touches = before.band == cell.band and (self.axis.n_bands == 1 or before.high == cell.low)
            if runs and runs[-1][1] == number - 1 and touches:
                runs[-1] = (runs[-1][0], number)
            else:
                runs.append((number, number))
        return runs

    def is_uniform(self, axis: TextAxis) -> bool:
        """Whether what no row covers is the same for texts of all lengths, so that intervals say it all.

        An interval holds texts of another shape than the domain's too; no row may hold those.
        """
        bands = range(axis.n_bands)
        covered = Region(tuple(union(*(region.bands[band] for region in self.regions)) for band in bands))
        uncovered = axis.domain & covered.other_present()
        if not axis.is_uniform(uncovered):
            return False
        written = Region((union(*uncovered.bands),) * axis.n_bands)
        outside = written & covered & axis.domain.other_present()
        return all(axis.witness(band, *pair) is None for band in bands for pair in outside.bands[band])

    def neighbours(self, first: int, last: int) -> list[int]:
        band = self.cut.cells[first].band
        around = [number for number in (first - 1, last + 1) if 0 <= number < len(self.cut.cells)]
        return [self.lowest[n] for n in around if self.cut.cells[n].band == band and self.lowest[n] != NO_ROW]

    def gap(self, region: str, witness: Value, neighbours: list[int], severity: str, hint: str) -> Finding:
        return self.of_rows(
            "gap",
            f"{self.input.name} {shortened(region)} is covered by no row",
            sorted(neighbours),
            severity=severity,
            region={self.input.name: region},
            witness={self.input.name: write_witness(witness)},
            remedy=f"{row_to_add(self.table, {self.input.name: region})}{hint}",
        )

    def text_rest(self, first: int, severity: str) -> Finding:
        asked = [self.table.asked(row, 0) for row in self.rows]
        parts = tuple(one for one in asked if not isinstance(one, IsMissing))
        if not parts:
            return self.gap("present", self.cut.cells[first].witness, [], severity, "")
        rest: Condition = Negation(AnyOf(parts) if len(parts) > 1 else parts[0])
        hint = "" if self.axis.is_limited else ", or say with shape or domain which codes there are"
        return self.gap(write_condition(rest), self.cut.cells[first].witness, [], severity, hint)
