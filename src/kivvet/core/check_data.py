"""Checking a table against data, batch by batch: what falls into its gaps, what lies outside, what is too fine."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.applied import TableReport, value_counts
from kivvet.core.axes import TextAxis
from kivvet.core.columns import CodedColumn, Column, NumericColumn, TextColumn, arrow_from_column
from kivvet.core.compiled import CompiledTable
from kivvet.core.condition_parser import ConditionError, parse_condition
from kivvet.core.conditions import AnyOf, Condition, Equals, write_condition
from kivvet.core.findings import Finding, finding
from kivvet.core.plan import Step
from kivvet.core.tables import Row, RuleTable, TableParts
from kivvet.core.thresholds import STEP_TOLERANCE
from kivvet.core.values import FOLDS, fold_text, write_decimal, write_value
from kivvet.errors import count, listed, near_name

_MOST_VALUES = 5
_MOST_COMPARED = 2_000
_MOST_BOUNDS = 200
_ROUNDING_ERRORS = 4  # units in the last place; as many as a short sum of decimals may be off


class DataProbe:
    """What one table's input looks like in one dataset's data.

    Parameters
    ----------
    step : Step
    table_findings : sequence of Finding
        Of the table alone; those with a region get the number of data rows in it.
    """

    def __init__(self, step: Step, table_findings: Sequence[Finding]) -> None:
        self.step = step
        self.table = step.table
        self.about = step.about
        self.regions = [
            (one, region) for one in table_findings if (region := self._region_table(one)) is not None
        ]
        self.rows_in_region: Counter[int] = Counter()
        self.outside: Counter[str] = Counter()
        self.finer: Counter[str] = Counter()
        self.near_edge: Counter[str] = Counter()
        self.domain = self._domain_table()
        self.bounds = self._bounds()

    def _region_table(self, one: Finding) -> CompiledTable | None:
        """Return a table whose only row is the region of a finding."""
        if (
            one.region is None
            or self.table.lookup is not None
            or one.kind not in ("gap", "overlap", "conflict", "duplicate", "shadowed")
        ):
            return None
        try:
            return self._table_of(parse_condition(one.region[self.about.name], self.about.type))
        except ConditionError:
            return None

    def _table_of(self, condition: Condition) -> CompiledTable:
        about = replace(self.about, domain=None, required=True)
        return CompiledTable(
            RuleTable.from_parts(TableParts(self.table.name, (about,), (), (Row(1, (condition,), ()),)))
        )

    def _domain_table(self) -> CompiledTable | None:
        return None if self.about.domain is None else self._table_of(self.about.domain)

    def _bounds(self) -> npt.NDArray[np.float64]:
        if self.table.lookup is not None or self.about.type != "number" or self.about.step is not None:
            return np.empty(0)
        regions = (self.table.axis.region(row.conditions[0]) for row in self.table.rows)
        cuts = {cut for region in regions for interval in region.bands[0] for cut in interval if cut[0] == 0}
        return np.array(sorted({float(cut[1]) for cut in cuts}))[:_MOST_BOUNDS]

    def see(self, column: Column) -> None:
        """Look at one batch of the column the table reads."""
        for number, (_, region) in enumerate(self.regions):
            classified = region.classify(column, with_counts=True)
            assert classified.counts is not None
            self.rows_in_region[number] += int(classified.counts[0])
        if self.domain is not None:
            outcomes = self.domain.classify(column).labels
            self._note(self.outside, column, outcomes == self.domain.unmatched)
        elif self.about.shape and self.table.lookup is None:
            self._see_shape(column)
        if isinstance(column, NumericColumn) and column.values.dtype.kind == "f":
            self._see_fineness(column)

    def _see_shape(self, column: Column) -> None:
        axis = self.table.axis
        assert isinstance(axis, TextAxis)
        values = column.distinct if isinstance(column, CodedColumn) else column
        assert isinstance(values, TextColumn)
        encoded = pc.dictionary_encode(values.values)
        odd = [
            text
            for text in encoded.dictionary.to_pylist()
            if text and not axis.has_shape(fold_text(text, self.about.fold))
        ]
        if odd:
            rows = pc.is_in(arrow_from_column(column), value_set=pa.array(odd, values.values.type))
            self._note(self.outside, column, pc.fill_null(rows, False).to_numpy(zero_copy_only=False))

    def _see_fineness(self, column: NumericColumn) -> None:
        values = column.values
        with np.errstate(invalid="ignore", over="ignore"):
            if self.about.step is not None:
                step, offset = float(self.about.step), float(self.about.step_offset)
                nearest = offset + np.rint((values - offset) / step) * step
                reach = np.maximum(
                    step * float(STEP_TOLERANCE), _ROUNDING_ERRORS * np.spacing(np.abs(values))
                )
                self._note(self.finer, column, np.isfinite(values) & (np.abs(values - nearest) > reach))
            for bound in self.bounds:
                reach = _ROUNDING_ERRORS * np.spacing(abs(bound))
                near = (np.abs(values - bound) <= reach) & (values != bound)
                if near.any():
                    self._note(self.near_edge, column, near)

    def _note(self, counter: Counter[str], column: Column, mask: npt.NDArray[np.bool_]) -> None:
        if isinstance(column, (NumericColumn, CodedColumn)) and column.valid is not None:
            mask = mask & column.valid
        if mask.any():
            counter.update(dict(value_counts(column, mask)))

    # What it comes to

    def findings(self, report: TableReport, dataset: str) -> list[Finding]:
        """Return the findings about this data."""
        return [
            *self._not_covered(report, dataset),
            *self._missing(report, dataset),
            *self._outside(dataset),
            *self._too_fine(dataset),
        ]

    def _of_data(self, kind: str, message: str, dataset: str, rows: int, **parts: object) -> Finding:
        return finding(kind, message, table=self.table.name, dataset=dataset, count=rows, **parts)

    @property
    def _column(self) -> str:
        return self.step.column

    def _not_covered(self, report: TableReport, dataset: str) -> Iterable[Finding]:
        values = dict(report.unmatched_values)
        for text in self.outside:
            values.pop(text, None)
        is_told = any(one.kind == "gap" for one, _ in self.regions) and (
            self.about.type != "text" or self.table.axis.is_limited
        )
        if not report.unmatched or not values or is_told:
            return
        near = self._near_misses(values)
        rows_near = sum(values[text] for text in near)
        if near:
            pairs = [f"{text!r} ({values[text]:,}) and {known!r}" for text, (known, _) in near.items()]
            folds = sorted({fold for _, needed in near.values() for fold in needed}, key=FOLDS.index)
            quoted = ", ".join(f'"{fold}"' for fold in folds)
            yield self._of_data(
                "near-miss", f"{count(rows_near, 'row')} of {self._column} would match but for {_difference(folds)}: {listed(pairs, _MOST_VALUES)}",
                dataset, rows_near, witness={self.about.name: repr(next(iter(near)))},
                remedy=f"correct the data, or let it not count: inputs.{self.about.name} = {{ type = \"text\", fold = [{quoted}] }}",
            )  # fmt: skip
        others = {text: n for text, n in values.items() if text not in near}
        if not others:
            return
        rows = report.unmatched - rows_near - sum(self.outside.values())
        if rows <= 0:
            return
        shown = listed((f"{self._shown(text)} ({n:,})" for text, n in others.items()), _MOST_VALUES)
        closest = self._closest(list(others)[:_MOST_VALUES])
        otherwise = ", ".join(
            f"{name} = {write_value(value)}"
            for name, value in self.table.otherwise.items()
            if value is not None
        )
        yield self._of_data(
            "unmatched", f"{count(rows, 'row')} of {self._column} {'has' if rows == 1 else 'have'} {count(len(others), 'value')} that no row lists: {shown}"
            + (f"; otherwise gives {otherwise}" if otherwise else ""), dataset, rows,
            severity="note" if otherwise else "warning", witness={self.about.name: self._shown(next(iter(others)))},
            remedy=f"add {'a row for it' if len(others) == 1 else 'rows for them'}, or correct the data{closest}",
        )  # fmt: skip

    def _shown(self, text: str) -> str:
        return repr(text) if self.about.type == "text" else text

    def _known(self) -> list[str]:
        if self.about.type != "text":
            return []
        if self.table.lookup is not None:
            return [key for key in self.table.lookup.shown_key[:_MOST_COMPARED].to_pylist() if key]
        return [
            text
            for condition in (row.conditions[0] for row in self.table.rows)
            for text in _texts_of(condition)
        ][:_MOST_COMPARED]

    def _near_misses(self, values: Mapping[str, int]) -> dict[str, tuple[str, tuple[str, ...]]]:
        """Return the values that would match a known one if folded, each with it and the folds it takes."""
        near: dict[str, tuple[str, tuple[str, ...]]] = {}
        known_texts = self._known()
        for folds in (("space",), ("case",), ("unicode",), FOLDS):
            known = {fold_text(text, folds): text for text in known_texts}
            for text in list(values)[:_MOST_COMPARED]:
                if text not in near and (match := known.get(fold_text(text, folds))) is not None:
                    near[text] = match, folds
        return near

    def _closest(self, texts: Sequence[str]) -> str:
        known = self._known()
        for text in texts:
            if (near := near_name(text, known)) is not None and len(text) > 3:
                return f"; {text!r} looks like {near!r}"
        return ""

    def _missing(self, report: TableReport, dataset: str) -> Iterable[Finding]:
        if not report.missing:
            return
        gives = ", ".join(
            f"{name} = {write_value(value)}"
            for name, value in self.table.missing.items()
            if value is not None
        )
        said = f"missing gives {gives}" if gives else "their results are missing"
        yield self._of_data(
            "missing-input", f"{count(report.missing, 'row')} of {self._column} {'has' if report.missing == 1 else 'have'} no value; {said}",
            dataset, report.missing, remedy="" if gives else f'say what they get: missing = {{ {self.table.outputs[0].name} = "..." }}',
        )  # fmt: skip

    def _outside(self, dataset: str) -> Iterable[Finding]:
        if rows := sum(self.outside.values()):
            what = "the domain" if self.about.domain is not None else f"the shape {self.about.shape}"
            yield self._of_data(
                "out-of-domain", f"{count(rows, 'row')} of {self._column} {'lies' if rows == 1 else 'lie'} outside {what} of {self.about.name}: {self._top(self.outside)}",
                dataset, rows, witness={self.about.name: self._shown(self.outside.most_common(1)[0][0])},
                remedy=f"correct the data, or widen {what}",
            )  # fmt: skip

    def _too_fine(self, dataset: str) -> Iterable[Finding]:
        if (rows := sum(self.finer.values())) and self.about.step is not None:
            yield self._of_data(
                "finer-than-step", f"{count(rows, 'row')} of {self._column} {'is' if rows == 1 else 'are'} finer than the step {write_decimal(self.about.step)}: {self._top(self.finer)}",
                dataset, rows, witness={self.about.name: self.finer.most_common(1)[0][0]},
                remedy="set the step to how fine the data is, and see whether gaps appear",
            )  # fmt: skip
        if rows := sum(self.near_edge.values()):
            yield self._of_data(
                "near-edge", f"{count(rows, 'row')} of {self._column} {'lies' if rows == 1 else 'lie'} within rounding error of a bound: {self._top(self.near_edge)}",
                dataset, rows, witness={self.about.name: self.near_edge.most_common(1)[0][0]},
                remedy="say how fine the values are with step, and they count as the bound",
            )  # fmt: skip

    def _top(self, counter: Counter[str]) -> str:
        ranked = sorted(counter.items(), key=lambda pair: (-pair[1], pair[0]))
        return listed((f"{self._shown(text)} ({n:,})" for text, n in ranked), _MOST_VALUES)


def _texts_of(condition: Condition) -> Iterable[str]:
    if isinstance(condition, Equals):
        yield str(condition.value)
    elif isinstance(condition, AnyOf):
        for part in condition.parts:
            yield from _texts_of(part)


def _difference(folds: Sequence[str]) -> str:
    words = {"case": "upper and lower case", "space": "blanks", "unicode": "the Unicode form"}
    return " and ".join(words[fold] for fold in folds)


def unused_rows(
    table: RuleTable, used: npt.NDArray[np.int64], datasets: Sequence[str], known: Sequence[Finding]
) -> list[Finding]:
    """Return a note on the rows of a table that no data row was decided by, unless `known` says why."""
    explained = {
        one.rows[0] for one in known
        if one.table == table.name and one.rows and one.kind in ("shadowed", "duplicate", "conflict", "impossible")
    }  # fmt: skip
    idle = [row for row, n in zip(table.rows, used, strict=True) if n == 0 and row.number not in explained]
    if not idle:
        return []
    numbers = tuple(row.number for row in idle)
    places = tuple(row.place for row in idle if row.place is not None)[:20]
    shown = listed((write_condition(row.conditions[0]) for row in idle), _MOST_VALUES)
    return [
        finding(
            "unused", f"no data of {listed(datasets)} meets {'row' if len(idle) == 1 else 'rows'} {listed(numbers)}: {shown}",
            table=table.name, rows=numbers, places=places, count=0, remedy="nothing, unless you expected data there",
        )
    ]  # fmt: skip
