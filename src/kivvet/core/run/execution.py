"""Running a plan over data, and the report that accounts for every row."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.calculate.evaluate import Evaluator
from kivvet.core.calculate.formula_values import evaluate_formula
from kivvet.core.calculate.vectors import Vector, made_of_vector, without_empty
from kivvet.core.classify.compiled import compile_table
from kivvet.core.classify.results import OutputMaker, row_column, status_column
from kivvet.core.columns.column import CodedColumn, Column, NumericColumn, arrow_from_column
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.columns.taking import Taker
from kivvet.core.run.plan import FormulaStep, Plan, Step
from kivvet.core.run.reports import ApplyReport, FormulaReport, TableReport
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import write_value
from kivvet.core.words.wording import count

if TYPE_CHECKING:
    pass

_MOST_DISTINCT_UNMATCHED = 100_000  # values remembered one by one; beyond, rows are still counted
_MOST_CLASSES_LISTED = 1_000  # of a lookup
_MOST_ROWS_COMBINED = 1_000  # of a batch, whose values of several inputs are put together


class Execution:
    """A plan made ready; applied to the data batch by batch, counting as it goes.

    Parameters
    ----------
    plan : Plan
    with_report : bool
        Whether rows are counted; without, single classes are made in one pass.
    refuses_overlaps : bool
        Whether data that rows which differ both match is an error, as it is when results are written.
    """

    def __init__(self, plan: Plan, *, with_report: bool = True, refuses_overlaps: bool = True) -> None:
        self.plan = plan
        self.with_report = with_report
        self.n_rows = 0
        self.stages = [
            _FormulaStage(step)
            if isinstance(step, FormulaStep)
            else _Stage(step, with_report=with_report, refuses_overlaps=refuses_overlaps)
            for step in plan.order
        ]

    def look_ahead(self, column_named: Callable[[str], Column], n_rows: int) -> None:
        """Work out what looks at other rows, from all rows; batches then take their part of it.

        Without it, the one batch that is applied is taken to be all rows.
        """
        wanted = self.plan.whole_steps
        ahead = Execution(Plan(self.plan.leading_to(wanted), ()), with_report=False, refuses_overlaps=False)
        ahead.apply(column_named, n_rows)
        known = {id(stage.step): stage for stage in ahead.stages if stage.step in wanted}
        self.stages = [known.get(id(stage.step), stage) for stage in self.stages]

    def apply(self, column_named: Callable[[str], Column], n_rows: int) -> dict[str, MadeColumn]:
        """Return the columns made for one batch, by name, written or not.

        Raises
        ------
        DataError
            If columns do not fit, or a strict formula has values without a result.
        """
        made: dict[str, MadeColumn] = {}
        for stage in self.stages:
            columns = stage.step.columns_of(column_named, lambda name: made[name].as_column())
            if isinstance(stage, _FormulaStage):
                made.update(stage.apply(columns, self.n_rows, n_rows))
            else:
                made.update(stage.apply(columns, self.n_rows))
        self.n_rows += n_rows
        return made

    def report(self, dataset: str = "", target: str = "") -> ApplyReport:
        """Return the report on all batches so far."""
        tables = tuple(stage.report() for stage in self.stages if isinstance(stage, _Stage))
        formulas = tuple(stage.report() for stage in self.stages if isinstance(stage, _FormulaStage))
        return ApplyReport(self.n_rows, tables, dataset, target, formulas)


class _FormulaStage:
    """The step of a formula, with its counts; one that looks at other rows keeps its values for all of them."""

    def __init__(self, step: FormulaStep) -> None:
        self.step = step
        self.whole: Vector | None = None
        self.kind = ""
        self.n_rows = 0
        self.missing = 0
        self.made_missing: dict[str, tuple[int, int]] = {}
        self.notes = [0, 0, 0]
        self.spellings: dict[tuple[str, ...], None] = {}
        self.misspelt = 0

    def apply(self, columns: Mapping[str, Column], rows_before: int, n_rows: int) -> dict[str, MadeColumn]:
        if self.whole is None:
            vector = self.evaluated(columns, rows_before, n_rows)
        else:
            vector = self.whole.take(slice(rows_before, rows_before + n_rows))
        column = made_of_vector(self.step.made[0], vector, n_rows)
        return {name: replace(column, name=name) for name in self.step.made}

    def evaluated(self, columns: Mapping[str, Column], rows_before: int, n_rows: int) -> Vector:
        formula = self.step.formula
        made = evaluate_formula(formula, columns.__getitem__, n_rows, self.step.kind)
        for cause, n in made.made_missing.items():
            before, first = self.made_missing.get(cause, (0, rows_before + made.first_missing[cause] + 1))
            self.made_missing[cause] = before + n, first
        if formula.is_strict and self.made_missing:
            cause, (n, first) = next(iter(self.made_missing.items()))
            raise DataError(
                f"formula {formula.name!r} is strict, and {count(n, 'value')} {'has' if n == 1 else 'have'} no result: {cause}; the first is in row {first:,}",
                place=formula.place,
                fix="correct the data, say in the formula what such rows get, or leave out strict",
            )
        for one in made.notes.values():
            found = (one.without_group, one.without_order, one.split_ties)
            self.notes = [max(pair) for pair in zip(self.notes, found, strict=True)]
            self.spellings.update(dict.fromkeys(one.spellings))
            self.misspelt = max(self.misspelt, one.misspelt)
        vector = made.vector.of_rows(n_rows)
        self.kind = vector.kind
        self.n_rows += n_rows
        gone = without_empty(vector) if vector.kind == "text" else vector
        self.missing += int(np.count_nonzero(gone.missing_rows(n_rows)))
        if formula.has_windows:
            self.whole = vector
        return vector

    def report(self) -> FormulaReport:
        name = self.step.formula.name
        return FormulaReport(
            name,
            self.step.made,
            self.kind,
            self.n_rows,
            self.missing,
            self.made_missing,
            without_group=self.notes[0],
            without_order=self.notes[1],
            split_ties=self.notes[2],
            spellings=tuple(self.spellings),
            misspelt=self.misspelt,
        )


class _Stage:
    """One step made ready, with its counts."""

    def __init__(self, step: Step, *, with_report: bool, refuses_overlaps: bool) -> None:
        self.refuses_overlaps = refuses_overlaps
        self.step = step
        self.table = compile_table(step.table)
        self.makers = [
            (name, OutputMaker(step.table, step.table.output(output))) for output, name in step.outputs
        ]
        self.names = {one.name: one.column for one in step.reads}
        self.with_report = with_report
        self.counts = np.zeros(self.table.n_outcomes, np.int64)
        self.unmatched: Counter[str] = Counter()
        self.unfinished: Counter[str] = Counter()
        self.first_rows: dict[str, int] = {}
        self.made_missing: dict[str, tuple[int, int]] = {}

    def apply(self, columns: Mapping[str, Column], rows_before: int) -> dict[str, MadeColumn]:
        step = self.step
        is_single = (
            not self.table.may_combine
            and len(self.makers) == 1
            and not self.makers[0][1].computed
            and not step.status
            and not step.row
        )
        if not self.with_report and is_single:
            name, maker = self.makers[0]
            if (labels := maker.labels()) is not None:
                made = self.table.classify(columns, labels, names=self.names).labels
                return {name: maker.from_labels(name, made)}
        classified = self.table.classify(
            columns,
            with_counts=self.with_report,
            names=self.names,
            refuses_overlaps=self.refuses_overlaps,
            rows_before=rows_before,
        )
        outcomes = classified.labels
        if (counts := classified.counts) is not None:
            self.counts = np.pad(self.counts, (0, len(counts) - len(self.counts))) + counts
            if counts[self.table.unmatched] or (
                step.table.lookup is not None and counts[self.table.missing + 1 :].any()
            ):
                mask = outcomes == self.table.unmatched
                if step.table.lookup is not None:
                    mask |= outcomes > self.table.missing  # a known key, but not then
                self.remember(self.unmatched, columns, mask, rows_before)
            if self.table.unfinished.any():
                mask = self.table.is_unfinished()[outcomes]
                if mask.any():
                    self.remember(self.unfinished, columns, mask, rows_before)
        combinations, taker = self.table.combinations, Taker(outcomes)
        made_columns: dict[str, MadeColumn] = {}
        for name, maker in self.makers:
            made_columns.update(maker.made(name, taker, combinations))
            if maker.computed:
                evaluator = Evaluator(columns.__getitem__, len(outcomes))
                made_columns[name] = maker.with_formulas(made_columns[name], outcomes, evaluator)
                for cause, n in evaluator.made_missing.items():
                    before, first = self.made_missing.get(
                        cause, (0, rows_before + evaluator.first_missing[cause] + 1)
                    )
                    self.made_missing[cause] = before + n, first
        if step.status:
            made_columns[step.status] = status_column(
                step.status,
                outcomes,
                self.table.unmatched,
                self.table.is_unfinished(),
                is_lookup=step.table.lookup is not None,
            )
        if step.row:
            made_columns[step.row] = row_column(
                step.row, outcomes, self.table.unmatched, combinations, is_list=step.table.match == "every"
            )
        return made_columns

    def remember(
        self,
        values: Counter[str],
        columns: Mapping[str, Column],
        mask: npt.NDArray[np.bool_],
        rows_before: int,
    ) -> None:
        """Count the values of some rows, and note the first row that has each."""
        decides = {name: column for name, column in columns.items() if name in self.step.table.deciding_reads}
        if len(decides) == 1:
            counted = value_counts(next(iter(decides.values())), mask)
        elif self.step.table.lookup is not None:
            counted = combination_counts(decides, mask)
        else:
            counted = combined_counts(decides, mask)
        for text, number in counted:
            if text in values or len(values) < _MOST_DISTINCT_UNMATCHED:
                values[text] += number
        rows = np.flatnonzero(mask)[:_MOST_ROWS_COMBINED]
        for text, row in zip(combined_texts(decides, pa.array(rows)), rows.tolist(), strict=True):
            self.first_rows.setdefault(text, rows_before + row + 1)

    def report(self) -> TableReport:
        table = self.table
        n_outcomes = table.n_outcomes
        counts = np.pad(self.counts, (0, n_outcomes - len(self.counts)))
        total, several = int(counts.sum()), int(counts[table.missing + 1 :].sum())
        unmatched, missing, no_period = int(counts[table.unmatched]), int(counts[table.missing]), 0
        unfinished = int(counts[table.is_unfinished()].sum()) if table.unfinished.any() else 0
        if self.step.table.lookup is not None:
            several, no_period = 0, several
            unmatched += no_period
        by_row = counts[: table.n_rows].copy()
        combined = counts[n_outcomes - len(table.combinations) :]
        for rows, n in zip(table.combinations, combined.tolist(), strict=True):
            by_row[list(rows)] += n
        classes = {
            name: self.class_counts(maker, counts)
            for name, maker in self.makers
            if maker.code_of_outcome is not None and self.is_listed(maker, counts)
        }
        ranked, waiting = (
            tuple(sorted(values.items(), key=lambda pair: (-pair[1], pair[0])))
            for values in (self.unmatched, self.unfinished)
        )
        return TableReport(
            self.step.table.name,
            self.step.columns,
            total,
            total - unmatched - missing - unfinished,
            missing,
            unmatched,
            classes,
            ranked,
            tuple(by_row.tolist()),
            several,
            no_period,
            self.first_rows,
            self.made_missing,
            unfinished,
            waiting,
        )

    def is_listed(self, maker: OutputMaker, counts: npt.NDArray[np.int64]) -> bool:
        """Whether the classes of an output are counted one by one: of a lookup, if not too many occur."""
        if self.step.table.lookup is None:
            return True
        assert maker.code_of_outcome is not None
        single = counts[: len(maker.code_of_outcome)]
        return len(np.unique(maker.code_of_outcome[single > 0])) <= _MOST_CLASSES_LISTED

    def class_counts(
        self, maker: OutputMaker, counts: npt.NDArray[np.int64]
    ) -> tuple[tuple[str | None, int], ...]:
        """Return the classes of an output in order with their rows, then None with the rows without one."""
        codes = maker.code_of_outcome
        assert codes is not None
        single = counts[: len(codes)]
        by_class = np.bincount(codes[codes >= 0], single[codes >= 0], len(maker.classes or ())).astype(int)
        none = int(single[codes < 0].sum())
        if maker.combined is not None:
            place = {text: number for number, text in enumerate((maker.classes or pa.array([])).to_pylist())}
            first = self.table.n_outcomes - len(self.table.combinations)
            for rows, n in zip(self.table.combinations, counts[first:].tolist(), strict=True):
                held = {place[str(one)] for one in maker.combined.of_rows(rows)}
                by_class[list(held)] += n
                none += 0 if held else n
        counted: list[tuple[str | None, int]] = list(
            zip((maker.classes or pa.array([])).to_pylist(), by_class.tolist(), strict=True)
        )
        if (
            self.step.table.lookup is not None
        ):  # as it stands in the file says little: the most frequent first
            counted.sort(key=lambda pair: -pair[1])
            if len(counted) > _MOST_CLASSES_LISTED:
                counted = [pair for pair in counted if pair[1]]
        return (*counted, (None, none)) if none else tuple(counted)


def value_counts(column: Column, mask: npt.NDArray[np.bool_]) -> list[tuple[str, int]]:
    """Return the values of the rows in `mask`, written as text, with how often each occurs."""
    if isinstance(column, CodedColumn):
        rows = np.bincount(column.codes[mask].astype(np.intp), minlength=len(column.distinct))
        present = np.flatnonzero(rows)
        texts = arrow_from_column(column.distinct).take(pa.array(present)).to_pylist()
        return [(_text(value), int(n)) for value, n in zip(texts, rows[present], strict=True)]
    counted = pc.value_counts(arrow_from_column(column).filter(pa.array(mask)))
    return [(_text(one["values"]), one["counts"]) for one in counted.to_pylist()]


def combined_counts(columns: Mapping[str, Column], mask: npt.NDArray[np.bool_]) -> list[tuple[str, int]]:
    """Return the first few combinations of values of the rows in `mask`, with how often each occurs among them."""
    rows = pa.array(np.flatnonzero(mask)[:_MOST_ROWS_COMBINED])
    return list(Counter(combined_texts(columns, rows)).items())


def combined_texts(columns: Mapping[str, Column], rows: pa.Array) -> list[str]:
    """Return the values of some rows as text: of one column the value, of several ``ph = 6.4, flow = 12``."""
    values = [_rows_of(column, rows) for column in columns.values()]
    if len(values) == 1:
        return ["missing" if one is None else _text(one) for one in values[0]]
    return [
        ", ".join(
            f"{name} = {'missing' if one is None else _text(one)}"
            for name, one in zip(columns, row, strict=True)
        )
        for row in zip(*values, strict=True)
    ]


def combinations(
    columns: Mapping[str, Column], mask: npt.NDArray[np.bool_]
) -> list[tuple[tuple[str, ...], int]]:
    """Return every combination of values of the rows in `mask` as texts, with how often each occurs."""
    if len(columns) == 1:
        (column,) = columns.values()
        return [((text,), n) for text, n in value_counts(column, mask)]
    rows = pa.array(np.flatnonzero(mask))
    encoded = [
        pc.dictionary_encode(pa.array(_rows_of(column, rows)), null_encoding="encode")
        for column in columns.values()
    ]
    codes = np.column_stack([one.indices.to_numpy(zero_copy_only=False) for one in encoded])
    different, counts = np.unique(codes, axis=0, return_counts=True)
    texts = [
        ["missing" if value is None else _text(value) for value in one.dictionary.to_pylist()]
        for one in encoded
    ]
    return [
        (tuple(one[code] for one, code in zip(texts, combination, strict=True)), n)
        for combination, n in zip(different.tolist(), counts.tolist(), strict=True)
    ]


def combination_counts(columns: Mapping[str, Column], mask: npt.NDArray[np.bool_]) -> list[tuple[str, int]]:
    """Return every combination of values of the rows in `mask`, ``site = 0007, year = 2026``, with how often it occurs."""
    return [
        (", ".join(f"{name} = {text}" for name, text in zip(columns, texts, strict=True)), n)
        for texts, n in combinations(columns, mask)
    ]


def _rows_of(column: Column, rows: pa.Array) -> list[Any]:
    texts: list[Any]
    if isinstance(column, NumericColumn):
        valid = column.valid if column.valid is None else column.valid[rows]
        texts = arrow_from_column(replace(column, values=column.values[rows], valid=valid)).to_pylist()
        return texts
    if isinstance(column, CodedColumn):
        valid = column.valid if column.valid is None else column.valid[rows]
        texts = arrow_from_column(CodedColumn(column.codes[rows], column.distinct, valid)).to_pylist()
        return texts
    return [text or None for text in column.values.take(rows).to_pylist()]


def _text(value: Any) -> str:
    return repr(value) if isinstance(value, float) else write_value(value)
