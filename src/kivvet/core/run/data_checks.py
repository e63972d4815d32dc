"""Checking a table against data, batch by batch: what falls into its gaps, what it does not know, what breaks
its givens.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence

import numpy as np
import numpy.typing as npt

from kivvet.core.calculate.evaluate import Evaluator
from kivvet.core.check.row_findings import RowFindings
from kivvet.core.classify.compiled import compile_table
from kivvet.core.classify.input_coder import RowSets
from kivvet.core.columns.arrays import Array
from kivvet.core.columns.column import Column
from kivvet.core.formulas.formula import Formula
from kivvet.core.run.found_regions import FoundRegions
from kivvet.core.run.input_checks import InputProbe
from kivvet.core.run.step_reports import FormulaReport, TableReport
from kivvet.core.run.table_step import TableStep
from kivvet.core.run.value_tally import ValueTally
from kivvet.core.run.value_texts import combined_counts, value_counts
from kivvet.core.space.lookup_index import index_of, parts_of_row
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.values import write_value
from kivvet.core.words.wording import count, listed, toml_key

_MOST_VALUES = 5
_MOST_EXAMPLES = 1_000
_MOST_GAPS_COUNTED, _MOST_GAPS_OF_ONE = (
    2_000,
    100_000,
)  # of several inputs, and of one, which are sooner counted


class DataProbe:
    """What the columns that one step reads look like in one dataset's data.

    Parameters
    ----------
    step : Step
    table_findings : sequence of Finding
        Of the table alone; those with a region get the number of data rows in it.
    """

    def __init__(self, step: TableStep, table_findings: Sequence[Finding]) -> None:
        self.step = step
        self.table = step.table
        self.is_alone = len(self.table.dimensions) == 1
        self.gaps = [found for found in table_findings if found.kind == "gap" and found.region is not None][
            : _MOST_GAPS_OF_ONE if self.is_alone else _MOST_GAPS_COUNTED
        ]
        self.gap_regions = FoundRegions.of(
            self.table, [gap.region for gap in self.gaps if gap.region is not None]
        )
        if self.gap_regions is None:
            self.gaps = []
        self.regions = [
            (found, regions)
            for found in table_findings
            if found.kind in _WITH_REGION
            and (regions := FoundRegions.of_finding(self.table, found)) is not None
        ]
        self.rows_in_region: Counter[int] = Counter()
        self.rows_in_gap = np.zeros(len(self.gaps), np.int64)
        self.inputs = [InputProbe(self.table, number, column) for number, column in enumerate(step.columns)]
        self.untold = ValueTally(_MOST_EXAMPLES)  # unmatched rows of several inputs that no gap tells
        self.n_untold = 0
        self.not_then = ValueTally(_MOST_EXAMPLES)  # whose key a lookup knows, but not at that time or value
        self.n_not_then = 0
        self.unlisted: list[Counter[str]] = [Counter() for _ in self.inputs]
        self.broken: Counter[int] = Counter()
        self.broken_example: dict[int, str] = {}
        self.n_unread = 0  # rows that count as missing because a field could not be read
        self.n_seen = 0

    def see(
        self,
        columns: Mapping[str, Column],
        unread: npt.NDArray[np.bool_] | None = None,
        known: Array | None = None,
    ) -> None:
        """Look at one batch of the columns that the table reads, by the names it gives them.

        Parameters
        ----------
        columns : mapping of str to Column
        unread : ndarray of bool, optional
            Rows with a field that could not be read as its type: they are told as such, and not as missing.
        known : ndarray of integers, optional
            The outcome of each row, where the table was applied to them already.
        """
        n_rows = len(next(iter(columns.values())))
        outcomes: npt.NDArray[np.int64] | None = None
        if not self.is_alone or self.gap_regions is not None or unread is not None:
            if known is None:
                known = compile_table(self.table).classify(columns, refuses_overlaps=False).labels
            outcomes = known.astype(np.int64)
        if unread is not None and outcomes is not None:
            self.n_unread += int(
                np.count_nonzero(unread & (outcomes == compile_table(self.table).outcomes.missing))
            )
        rest = np.zeros(n_rows, bool)
        if outcomes is not None:
            falls = compile_table(self.table).outcomes.falls_through(outcomes)
            rest = falls
            if self.gap_regions is not None and falls.any():  # each row that falls through is counted once
                held = self.gap_regions.first_of(columns)
                inside = falls & (held >= 0)
                self.rows_in_gap += np.bincount(held[inside], minlength=len(self.gaps))[: len(self.gaps)]
                rest = falls & ~inside
        for number, (_, region) in enumerate(self.regions):
            self.rows_in_region[number] += int(np.count_nonzero(region.mask(columns)))
        for probe in self.inputs:
            probe.see(columns[probe.about.name])
        if outcomes is not None:
            if self.is_alone:
                self.n_untold += int(np.count_nonzero(rest))
                self._remember(self.untold, columns, rest)
            else:
                self._see_unmatched(columns, outcomes, rest)
        self._see_givens(columns, n_rows)
        self.n_seen += n_rows

    def _see_unmatched(
        self,
        columns: Mapping[str, Column],
        outcomes: npt.NDArray[np.int64],
        untold: npt.NDArray[np.bool_],
    ) -> None:
        compiled = compile_table(self.table)
        rest = untold
        if compiled.keys is not None:
            not_then = (outcomes != compiled.outcomes.unmatched) & rest
            rest = rest & ~not_then
            self.n_not_then += int(np.count_nonzero(not_then))
            self._remember(self.not_then, columns, not_then)
        for number, probe in enumerate(self.inputs):
            column = columns[probe.about.name]
            strange = (
                rest & self._is_unlisted(number, column) if probe.about.type == "text" else np.zeros(1, bool)
            )
            if strange.any():
                self.unlisted[number].update(dict(value_counts(column, strange)))
                rest = rest & ~strange
        self.n_untold += int(np.count_nonzero(rest))
        self._remember(self.untold, columns, rest)

    def _remember(
        self, tally: ValueTally, columns: Mapping[str, Column], mask: npt.NDArray[np.bool_]
    ) -> None:
        """Count the combinations of values of some rows."""
        decides = {name: one for name, one in columns.items() if name in self.table.deciding_reads}
        tally.see(decides, np.flatnonzero(mask))

    def _is_unlisted(self, number: int, column: Column) -> npt.NDArray[np.bool_]:
        """Return the rows whose value of an input no row of the table names."""
        compiled = compile_table(self.table)
        if compiled.keys is not None:
            finder = next(
                (one for one in compiled.keys.finders if one.about is self.inputs[number].about), None
            )
            if finder is None:
                return np.zeros(len(column), bool)
            return np.asarray(finder.find(column, self.inputs[number].column) == finder.other)
        coder, free = compiled.coders[number], self._rows_that_leave_free(number)
        if not isinstance(coder.labelling, RowSets):
            return np.zeros(len(column), bool)
        numbers, _ = coder.label(column)
        is_unlisted = np.array([not mask & ~free for mask in coder.labelling.masks])
        is_unlisted[coder.labelling.missing] = False
        return np.asarray(is_unlisted[numbers])

    def _rows_that_leave_free(self, number: int) -> int:
        """Return the rows that ask nothing of an input, row k as bit k."""
        from kivvet.core.words.conditions import AnyValue

        return sum(
            1 << index
            for index, row in enumerate(self.table.rows)
            if isinstance(self.table.asked(row, number), AnyValue)
        )

    def _see_givens(self, columns: Mapping[str, Column], n_rows: int) -> None:
        for number, given in enumerate(self.table.given):
            _, broken = Evaluator(
                columns.__getitem__, n_rows, is_near_equal=True, steps=self.table.steps
            ).truth(given.condition)
            if broken.any():
                self.broken[number] += int(np.count_nonzero(broken))
                if number not in self.broken_example:
                    row = int(np.flatnonzero(broken)[0])
                    only = np.zeros(n_rows, bool)
                    only[row] = True
                    ((text, _),) = combined_counts({name: columns[name] for name in given.reads}, only)
                    self.broken_example[number] = f"row {self.n_seen + row + 1:,}: {text}"

    # What it comes to

    @property
    def counted(self) -> list[tuple[Finding, int]]:
        """The findings about the table with the rows of data that each concerns."""
        return [
            *((one, self.rows_in_region[number]) for number, (one, _) in enumerate(self.regions)),
            *zip(self.gaps, self.rows_in_gap.tolist(), strict=True),
        ]

    def findings(self, report: TableReport, dataset: str) -> list[Finding]:
        """Return the findings about this data."""
        found = [*self._not_covered(report, dataset), *self._missing(report, dataset)]
        for probe in self.inputs:
            found += probe.findings(dataset)
        return [*found, *self._broken(dataset)]

    def _of_data(self, kind: str, message: str, dataset: str, rows: int, **parts: object) -> Finding:
        return finding(kind, message, table=self.table.name, dataset=dataset, count=rows, **parts)

    def _not_covered(self, report: TableReport, dataset: str) -> Iterable[Finding]:
        if self.is_alone:
            (probe,) = self.inputs
            if self.gap_regions is None:
                yield from probe.not_listed(dict(report.unmatched_values), dataset, report.unmatched)
            else:
                untold = dict(self.untold.counts.most_common())
                yield from probe.not_listed(untold, dataset, self.n_untold)
            return
        for probe, values in zip(self.inputs, self.unlisted, strict=True):
            yield from probe.not_listed(dict(values.most_common()), dataset)
        if self.n_not_then:
            ranked = self.not_then.counts.most_common(_MOST_VALUES)
            is_time = all(
                input_.type in ("date", "datetime")
                for input_ in self.table.inputs
                if input_.period is not None
            )
            yield self._of_data(
                "unmatched",
                f"{count(self.n_not_then, 'row')} of {dataset} {'has' if self.n_not_then == 1 else 'have'} a key that is known, "
                f"but not {'then' if is_time else 'at that value'}: {listed((f'({text})' for text, _ in ranked), _MOST_VALUES)}",
                dataset,
                self.n_not_then,
                severity="note" if self.table.otherwise else "warning",
                remedy=f"add a row for that {'time' if is_time else 'value'}, or let a range reach it",
            )
        if self.n_untold:
            ranked = self.untold.counts.most_common(_MOST_VALUES)
            otherwise = ", ".join(
                f"{name} = {write_value(value)}" for name, value in self.table.otherwise.items()
            )
            yield self._of_data(
                "unmatched",
                f"{count(self.n_untold, 'row')} of {dataset} {'meets' if self.n_untold == 1 else 'meet'} no row: "
                f"{listed((f'({text})' for text, _ in ranked), _MOST_VALUES)}"
                + (f"; otherwise gives {otherwise}" if otherwise else ""),
                dataset,
                self.n_untold,
                severity="note" if otherwise else "warning",
                remedy="add rows for them, or say otherwise",
            )

    def _missing(self, report: TableReport, dataset: str) -> Iterable[Finding]:
        missing = report.missing - self.n_unread
        if missing <= 0:
            return
        gives = ", ".join(
            f"{name} = {write_value(value)}"
            for name, value in self.table.missing.items()
            if value is not None
        )
        said = f"missing gives {gives}" if gives else "their results are missing"
        has = "has" if missing == 1 else "have"
        what = (
            f"{report.column} {has} no value"
            if self.is_alone
            else f"{dataset} {has} no value in an input, and no row for that"
        )
        yield self._of_data(
            "missing-input",
            f"{count(missing, 'row')} of {what}; {said}",
            dataset,
            missing,
            remedy=""
            if gives
            else f'say what they get: missing = {{ {toml_key(self.table.outputs[0].name)} = "..." }}',
        )

    def _broken(self, dataset: str) -> Iterable[Finding]:
        for number, n in self.broken.items():
            given = self.table.given[number]
            yield self._of_data(
                "broken-given",
                f"{count(n, 'row')} of {dataset} {'breaks' if n == 1 else 'break'} what is given, {given.text}: {self.broken_example[number]}",
                dataset,
                n,
                places=(given.place,) if given.place else (),
                remedy="correct the data, or leave the statement out: findings rely on it",
            )


_WITH_REGION = ("overlap", "conflict", "duplicate", "shadowed")


def unused_rows(
    table: Table, used: npt.NDArray[np.int64], datasets: Sequence[str], known: Sequence[Finding]
) -> list[Finding]:
    """Return a note on the rows of a table that no data row was decided by, unless `known` says why."""
    if table.lookup is not None:
        return _unused_keys(table, used, datasets)
    explained = {
        one.rows[0]
        for one in known
        if one.table == table.name
        and one.rows
        and one.kind in ("shadowed", "duplicate", "conflict", "impossible")
    }
    idle = [row for row, n in zip(table.rows, used, strict=True) if n == 0 and row.number not in explained]
    if not idle:
        return []
    numbers = tuple(row.number for row in idle)
    places = tuple(row.place for row in idle if row.place is not None)[:20]
    words = RowFindings(table)
    places_of = {row.number: place for place, row in enumerate(table.rows)}
    shown = listed((words.condition_of(places_of[row.number]) for row in idle), _MOST_VALUES, len(idle))
    return [
        finding(
            "unused",
            f"no data of {listed(datasets)} meets {'row' if len(idle) == 1 else 'rows'} {listed(numbers)}: {shown}",
            table=table.name,
            rows=numbers,
            places=places,
            count=0,
            remedy="nothing, unless you expected data there",
        )
    ]


def _unused_keys(table: Table, used: npt.NDArray[np.int64], datasets: Sequence[str]) -> list[Finding]:
    """Return a note on the rows of a lookup, with a key of their own, that no data row was decided by."""
    index = index_of(table)
    first_of_group = np.unique(index.groups[index.groups >= 0], return_index=True)[1]
    candidates = np.arange(len(used)) if index.ranges else np.flatnonzero(index.groups >= 0)[first_of_group]
    idle = np.sort(candidates[used[candidates] == 0])
    if not len(idle):
        return []
    assert table.lookup is not None
    written = "({})" if len(table.inputs) > 1 else "{}"
    shown = listed(
        (written.format(", ".join(parts_of_row(table, int(row)))) for row in idle), _MOST_VALUES, len(idle)
    )
    numbers = tuple(int(row) + 1 for row in idle[:_MOST_EXAMPLES])
    places = tuple(place for row in numbers[:20] if (place := table.lookup.locate_row(row)) is not None)
    what = "rows" if index.ranges else "keys"
    return [
        finding(
            "unused",
            f"no data of {listed(datasets)} meets {len(idle):,} of {len(candidates):,} {what}: {shown}",
            table=table.name,
            rows=numbers,
            places=places,
            count=0,
            remedy="nothing, unless you expected data there",
        )
    ]


def formula_findings(report: FormulaReport, dataset: str, formula: Formula | None) -> list[Finding]:
    """Return what there is to say of a formula's values in data."""
    places = (formula.place,) if formula is not None and formula.place is not None else ()
    found = []

    def add(kind: str, message: str, rows: int, remedy: str) -> None:
        found.append(
            finding(
                kind,
                message,
                table=report.formula,
                is_of_formula=True,
                dataset=dataset,
                count=rows,
                places=places,
                remedy=remedy,
            )
        )

    for cause, (n, row) in report.made_missing.items():
        add(
            "no-result",
            f"{count(n, 'row')} of {dataset} {'has' if n == 1 else 'have'} no result: {cause}; the first is row {row:,}",
            n,
            "correct the data, or say what such rows get: CASE WHEN ... THEN ... END",
        )
    if n := report.without_group:
        add(
            "no-group",
            f"{count(n, 'row')} of {dataset} {'has' if n == 1 else 'have'} no value in PARTITION BY and count as one group",
            n,
            f'leave them out: {report.formula} = {{ formula = "...", among = "... IS NOT NULL" }}',
        )
    if n := report.without_order:
        add(
            "no-order",
            f"{count(n, 'row')} of {dataset} {'has' if n == 1 else 'have'} no value in ORDER BY and {'is' if n == 1 else 'are'} placed all the same",
            n,
            f'leave them out: {report.formula} = {{ formula = "...", among = "... IS NOT NULL" }}',
        )
    if report.spellings:
        shown = listed((" and ".join(map(repr, spelling[:4])) for spelling in report.spellings), 3)
        add(
            "near-miss",
            f"groups of PARTITION BY differ only by case, blanks or Unicode form: {shown}",
            report.misspelt,
            "correct the data, or PARTITION BY FOLD(..., 'case', 'space', 'unicode')",
        )
    if n := report.split_ties:
        add(
            "split-ties",
            f"{count(n, 'row')} of {dataset} are equal in the order and parted by NTILE as they stand in the source",
            n,
            "add to ORDER BY what tells them apart, or classify by bounds instead",
        )
    return found
