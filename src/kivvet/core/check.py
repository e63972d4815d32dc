"""Checking a table of one input, exactly, on its cells: nothing is sampled.

Which rows meet, which never win and what no row covers are read off one walk over the cells; each
finding carries a value (the witness) that anyone can try.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from decimal import Decimal
from fractions import Fraction

from kivvet.core.axes import Axis, TextAxis
from kivvet.core.cells import NO_ROW, CellCut
from kivvet.core.check_lookup import check_lookup
from kivvet.core.conditions import AnyOf, Condition, IsMissing, Negation, write_condition, write_literal
from kivvet.core.findings import Finding, finding, with_severity
from kivvet.core.regions import HIGH, LOW, Cut, Region
from kivvet.core.tables import UNFINISHED, Result, Row, RuleTable
from kivvet.core.values import Value, write_decimal, write_value
from kivvet.errors import listed

_MOST_PARTNERS = 20  # rows that one row is said to overlap; the first is described
_LONGEST_REGION = 100  # characters of a region in a message; the whole of it is in `region`


def check_table(table: RuleTable) -> list[Finding]:
    """Return every finding about a table alone, with the severities it has chosen."""
    found = check_lookup(table) if table.lookup is not None else _RowsCheck(table).findings()
    return with_severity(found, table.parts.severity)


def row_regions(table: RuleTable) -> list[Region]:
    """Return what each row accepts; a required input's missing is accepted by none."""
    axis = table.axis
    regions = [axis.region(row.conditions[0]) for row in table.rows]
    if table.inputs[0].required:
        regions = [region.without_missing() for region in regions]
    return regions


def write_witness(value: Value | None) -> str:
    """Return a witness as it reads after ``input = ``."""
    return "missing" if value is None else write_literal(value)


class _RowsCheck:
    """The findings of a table of one input with conditions; rows are counted from 0 within."""

    def __init__(self, table: RuleTable) -> None:
        self.table = table
        self.rows = table.rows
        self.input = table.inputs[0]
        self.axis: Axis = table.axis
        self.regions = row_regions(table)
        self.cut = CellCut.of(self.axis, self.regions, self.axis.domain)
        self.is_empty = [
            not spans and not m for spans, m in zip(self.cut.spans, self.cut.accepts_missing, strict=True)
        ]
        self.lowest: list[int] = []
        self.partners: dict[
            int, list[tuple[int, Value | None]]
        ] = {}  # later row: earlier rows it meets and differs from
        self.repeated: dict[int, int] = {}  # row: the row it lies inside, results being equal
        self._walk()

    def findings(self) -> list[Finding]:
        found = [*self.impossible_rows(), *self.unfinished_rows(), *self.rows_outside()]
        found += self.meeting_rows() if self.table.match == "one" else self.rows_that_never_win()
        if self.table.parts.is_complete:
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
                meeting = self.regions[row] & self.regions[other]
                if meeting == self.regions[late]:
                    self.repeated[late] = early
                elif meeting == self.regions[early]:
                    self.repeated[early] = late

    # What rows say of themselves

    def of_rows(self, kind: str, message: str, rows: Sequence[int], **parts: object) -> Finding:
        places = tuple(place for row in rows if (place := self.rows[row].place) is not None)
        numbers = tuple(self.rows[row].number for row in rows)
        return finding(kind, message, table=self.table.name, rows=numbers, places=places, **parts)

    def shown(self, row: int) -> str:
        """Return a row as ``row 3 (6.5 to 7: neutral)``."""
        return (
            f"row {self.rows[row].number} ({self.condition_of(row)}: {write_results(self.rows[row].results)})"
        )

    def condition_of(self, row: int) -> str:
        text = write_condition(self.rows[row].conditions[0])
        return text if len(text) <= 60 else text[:57] + "..."

    def impossible_rows(self) -> Iterable[Finding]:
        for row, is_empty in enumerate(self.is_empty):
            if is_empty:
                yield self.of_rows(
                    "impossible", f"no value meets {self.input.name} = {self.condition_of(row)}", [row],
                    region={self.input.name: self.condition_of(row)},
                    remedy=self.remedy_of_impossible(self.rows[row]),
                )  # fmt: skip

    def remedy_of_impossible(self, row: Row) -> str:
        text = write_condition(row.conditions[0])
        low, _, high = text.partition(" to ")
        if high and not text.startswith((">", "not")) and "|" not in text:
            swapped = f"{high.lstrip('<')} to {low}"
            if swapped != text:
                return f"swap the ends ({swapped}), or remove the row"
        if self.input.step is not None:
            return f"no multiple of the step {write_decimal(self.input.step)} lies there; correct the bounds, or the step"
        return "correct the condition, or remove the row"

    def unfinished_rows(self) -> Iterable[Finding]:
        for index, row in enumerate(self.rows):
            blank = [
                o.name
                for o, result in zip(self.table.outputs, row.results, strict=True)
                if result is UNFINISHED
            ]
            if blank:
                yield self.of_rows(
                    "unfinished", f"{listed(blank)} is still blank for {self.condition_of(index)}", [index],
                    region={self.input.name: self.condition_of(index)},
                    remedy="fill in the result; write missing where no value is meant",
                )  # fmt: skip

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
                    "out-of-domain", f"{self.condition_of(row)} lies outside {what} of {self.input.name}", [row],
                    region={self.input.name: self.condition_of(row)}, remedy=f"correct the condition, or widen {what}",
                )  # fmt: skip

    def idle_missing(self) -> Iterable[Finding]:
        holder = next((row for row, accepts in enumerate(self.cut.accepts_missing) if accepts), None)
        if self.table.missing and holder is not None:
            yield self.of_rows(
                "unused", f"missing = {{ ... }} never applies: {self.shown(holder)} holds missing values too", [holder],
                remedy="write present instead of any, or leave missing = { ... } out",
            )  # fmt: skip

    # What rows do to each other

    def meeting_rows(self) -> Iterable[Finding]:
        for late in sorted(self.partners):
            same = [
                (early, w) for early, w in self.partners[late] if self.regions[early] == self.regions[late]
            ]
            for early, witness in same[:1]:
                yield self.conflict(early, late, witness)
            differing = [pair for pair in self.partners[late] if pair not in same]
            if differing:
                yield self.overlap(late, differing)
        for inner, outer in sorted(self.repeated.items()):
            yield self.duplicate(inner, outer)

    def overlap(self, late: int, partners: list[tuple[int, Value | None]]) -> Finding:
        early, witness = partners[0]
        common = self.common_region(early, late)
        others = [self.rows[row].number for row, _ in partners[1:]]
        more = f"; it also meets {'row' if len(others) == 1 else 'rows'} {listed(others)}" if others else ""
        return self.of_rows(
            "overlap", f"{self.shown(early)} and {self.shown(late)} both hold {_shortened(common)}{more}", [row for row, _ in [*partners[:1], (late, None), *partners[1:]]],
            region={self.input.name: common}, witness={self.input.name: write_witness(witness)},
            remedy=f'{self.apart(early, late)}, or set match = "first" to let the earlier row win',
        )  # fmt: skip

    def common_region(self, early: int, late: int) -> str:
        """Return what two rows share; where intervals do not say it exactly, in terms of both conditions."""
        shared = self.regions[early] & self.regions[late]
        axis = self.axis
        if not isinstance(axis, TextAxis) or not any(shared.bands):
            return axis.write_region(shared)
        for row in (late, early):
            if shared == self.regions[row]:
                return write_condition(self.rows[row].conditions[0])
        has_others = bool(axis.shape) and any(axis.witness(0, *pair) is not None for pair in shared.bands[0])
        if shared.bands[-1] and axis.is_uniform(shared) and not has_others:
            return axis.write_region(shared)
        both = (Negation(self.rows[early].conditions[0]), Negation(self.rows[late].conditions[0]))
        return write_condition(Negation(AnyOf(both)))

    def apart(self, early: int, late: int) -> str:
        """Return how the later row is written so that it leaves the earlier one its values."""
        rest = self.regions[late] & self.regions[early].other_present()
        parts = {interval for intervals in rest.bands for interval in intervals}
        if len(parts) != 1 or self.regions[late].missing or self.regions[early].missing:
            return "change the bounds so that they do not meet"
        return f"write row {self.rows[late].number} as {self.axis.write_interval(*parts.pop())}"

    def conflict(self, early: int, late: int, witness: Value | None) -> Finding:
        return self.of_rows(
            "conflict", f"{self.condition_of(late)} stands twice and differs: {write_results(self.rows[early].results)} in row {self.rows[early].number}, "
            f"{write_results(self.rows[late].results)} in row {self.rows[late].number}", [early, late],
            region={self.input.name: self.condition_of(late)}, witness={self.input.name: write_witness(witness)},
            remedy="keep one of the two rows", **({"severity": "warning"} if self.table.match == "first" else {}),
        )  # fmt: skip

    def duplicate(self, inner: int, outer: int) -> Finding:
        how = "says the same as" if self.regions[inner] == self.regions[outer] else "lies inside"
        return self.of_rows(
            "duplicate", f"{self.shown(inner)} {how} {self.shown(outer)}", [inner, outer],
            region={self.input.name: self.condition_of(inner)}, remedy=f"remove row {self.rows[inner].number}",
        )  # fmt: skip

    def rows_that_never_win(self) -> Iterable[Finding]:
        winners = set(self.lowest)
        missing_winner = next(
            (row for row, accepts in enumerate(self.cut.accepts_missing) if accepts), NO_ROW
        )
        winners.add(missing_winner)
        by_region: dict[Region, int] = {}
        for row, region in enumerate(self.regions):
            twin = by_region.setdefault(region, row)
            if row in winners or self.is_empty[row]:
                continue
            if twin != row and self.rows[twin].results == self.rows[row].results:
                yield self.duplicate(row, twin)
            elif twin != row:
                yield self.conflict(twin, row, self.witness_of(row))
            else:
                yield self.shadowed(row, missing_winner)

    def witness_of(self, row: int) -> Value | None:
        cells = [self.cut.cells[cell] for span in self.cut.spans[row] for cell in range(*span)]
        return next((cell.witness for cell in cells if cell.in_domain), cells[0].witness if cells else None)

    def shadowed(self, row: int, missing_winner: int) -> Finding:
        by = {winner for start, end in self.cut.spans[row] for winner in self.lowest[start:end]}
        if self.cut.accepts_missing[row]:
            by.add(missing_winner)
        numbers = [self.rows[winner].number for winner in sorted(by)]
        return self.of_rows(
            "shadowed", f"{self.shown(row)} never wins: {'row' if len(numbers) == 1 else 'rows'} {listed(numbers)} above "
            f"{'covers' if len(numbers) == 1 else 'together cover'} all of it", [row, *sorted(by)],
            region={self.input.name: self.condition_of(row)},
            witness={self.input.name: write_witness(self.witness_of(row))},
            remedy=f"move row {self.rows[row].number} above row {numbers[0]}, or remove it",
        )  # fmt: skip

    # What no row covers

    def gaps(self) -> list[Finding]:
        severity = "note" if self.table.otherwise else "error" if self.table.match == "one" else "warning"
        if self.table.is_open:
            return [self.open_input()]
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
                    region, self.cut.cells[first].witness, neighbours, severity, self.step_hint(low, high)
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
        """Whether what no row covers is the same for texts of all lengths, so that intervals say it all."""
        uncovered = axis.domain
        for region in self.regions:
            uncovered = uncovered & region.other_present()
        return axis.is_uniform(uncovered)

    def neighbours(self, first: int, last: int) -> list[int]:
        band = self.cut.cells[first].band
        around = [number for number in (first - 1, last + 1) if 0 <= number < len(self.cut.cells)]
        return [self.lowest[n] for n in around if self.cut.cells[n].band == band and self.lowest[n] != NO_ROW]

    def gap(self, region: str, witness: Value, neighbours: list[int], severity: str, hint: str) -> Finding:
        blanks = ", ".join('"..."' for _ in self.table.outputs)
        quoted = _shortened(region).replace("\\", "\\\\").replace('"', '\\"')
        return self.of_rows(
            "gap", f"{self.input.name} {_shortened(region)} is covered by no row", sorted(neighbours),
            severity=severity, region={self.input.name: region},
            witness={self.input.name: write_witness(witness)}, remedy=f'add  ["{quoted}", {blanks}]{hint}',
        )  # fmt: skip

    def text_rest(self, first: int, severity: str) -> Finding:
        parts = tuple(row.conditions[0] for row in self.rows if not isinstance(row.conditions[0], IsMissing))
        if not parts:
            return self.gap("present", self.cut.cells[first].witness, [], severity, "")
        rest: Condition = Negation(AnyOf(parts) if len(parts) > 1 else parts[0])
        hint = "" if self.axis.is_limited else ", or say with shape or domain which codes there are"
        return self.gap(write_condition(rest), self.cut.cells[first].witness, [], severity, hint)

    def open_input(self) -> Finding:
        return self.of_rows(
            "open", f"{self.input.name} has no domain, so values that no row lists are seen only in data", [],
            remedy=f"list the values there are: inputs.{self.input.name} = {{ type = \"{self.input.type}\", domain = \"a | b\" }}",
        )  # fmt: skip

    def step_hint(self, low: Cut, high: Cut) -> str:
        """Return the advice to declare a step, where the gap is one that a step would close."""
        if self.input.type != "number" or self.input.step is not None or low == LOW or high == HIGH:
            return ""
        if not low[2] or high[2]:
            return ""
        size = Fraction(high[1]) - Fraction(low[1])
        ends = [cut[1] for region in self.regions for pair in region.bands[0] for cut in pair if cut[0] == 0]
        if any((Fraction(end) % size) for end in ends) or size > 1:
            return ""
        digits = Decimal(size.numerator) / Decimal(size.denominator)
        kind = "whole numbers" if size == 1 else f"multiples of {write_decimal(digits)}"
        return f"  or, if all values are {kind}, set step = {write_decimal(digits)}"


def _shortened(region: str) -> str:
    return region if len(region) <= _LONGEST_REGION else region[: _LONGEST_REGION - 3] + "..."


def write_results(results: Sequence[Result]) -> str:
    """Return results as they read in a message."""
    return ", ".join(
        "blank" if result is UNFINISHED else "missing" if result is None else write_value(result)  # type: ignore[arg-type]
        for result in results
    )
