"""Running a plan over data, and the report that accounts for every row."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns import CodedColumn, Column, NumericColumn, arrow_from_column
from kivvet.core.formulas.evaluate import Evaluator
from kivvet.core.formulas.formula import evaluate_formula
from kivvet.core.formulas.vectors import Vector, without_empty
from kivvet.core.made_column import MadeColumn, made_of_vector
from kivvet.core.plan import FormulaStep, Plan, Step
from kivvet.core.results import OutputMaker, row_column, status_column
from kivvet.core.taking import Taker
from kivvet.core.values import write_value
from kivvet.errors import DataError, count

if TYPE_CHECKING:
    import pandas as pd

REPORT_VERSION = 1
_MOST_DISTINCT_UNMATCHED = 100_000  # values remembered one by one; beyond, rows are still counted
_MOST_CLASSES_LISTED = 1_000  # of a lookup
_MOST_ROWS_COMBINED = 1_000  # of a batch, whose values of several inputs are put together


@dataclass(frozen=True, slots=True)
class TableReport:
    """What one table did to the data.

    Attributes
    ----------
    table : str
    columns : tuple of str
        The columns its inputs read.
    rows, matched, missing, unmatched, unfinished : int
        ``matched + unfinished + missing + unmatched == rows``: rows that a row of the table decided; rows decided by one
        whose results are still to be filled in; rows with no value, which no row names; rows with a value that no
        row holds.
    classes : mapping of str to tuple of (str or None, int)
        For each class output made, by the name of its column: classes in order with their rows,
        those without rows too; last None, the rows without a class, if there are any. Under ``match = "every"`` a
        row counts for each of its classes.
    several : int
        Of the rows matched, those that several rows of the table decided together.
    no_period : int
        Of the rows unmatched, those whose key a lookup knows, but not at that time or value.
    unmatched_values : tuple of (str, int)
        Values of one input that no row holds, with their rows, most frequent first; values of several
        inputs as ``ph = 6.4, flow = 12``, the first few that were met.
    first_rows : mapping of str to int
        For unmatched values the first row of data that has them, counted from 1, as far as remembered.
    made_missing : mapping of str to (int, int)
        Of results that are formulas: by cause, such as "division by zero", the rows whose values were there and have
        no result, and the first of them, counted from 1.
    rows_by_row : tuple of int
        For each row of the table the data rows it decided, alone or with others.
    unfinished_values : tuple of (str, int)
        As `unmatched_values`, of the rows unfinished.
    """

    table: str
    columns: tuple[str, ...]
    rows: int
    matched: int
    missing: int
    unmatched: int
    classes: Mapping[str, tuple[tuple[str | None, int], ...]]
    unmatched_values: tuple[tuple[str, int], ...]
    rows_by_row: tuple[int, ...] = ()
    several: int = 0
    no_period: int = 0
    first_rows: Mapping[str, int] = field(default_factory=dict)
    made_missing: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    unfinished: int = 0
    unfinished_values: tuple[tuple[str, int], ...] = ()

    @property
    def column(self) -> str:
        """The columns as one text."""
        return ", ".join(self.columns)

    def as_dict(self) -> dict[str, Any]:
        return {
            "table": self.table,
            "columns": list(self.columns),
            "rows": self.rows,
            "matched": self.matched,
            "several": self.several,
            "no_period": self.no_period,
            "unfinished": self.unfinished,
            "missing": self.missing,
            "unmatched": self.unmatched,
            "classes": {
                name: [{"class": c, "rows": n} for c, n in counted] for name, counted in self.classes.items()
            },
            "made_missing": [
                {"cause": cause, "rows": n, "first_row": row} for cause, (n, row) in self.made_missing.items()
            ],
            "unmatched_values": [{"value": value, "rows": n} for value, n in self.unmatched_values],
            "unfinished_values": [{"value": value, "rows": n} for value, n in self.unfinished_values],
        }


@dataclass(frozen=True, slots=True)
class FormulaReport:
    """What one formula made of the data.

    Attributes
    ----------
    formula : str
    columns : tuple of str
        The names of the column it made.
    type : str
    rows, missing : int
        Rows in all, and those without a value.
    made_missing : mapping of str to (int, int)
        By cause, such as "division by zero", the rows whose values were there and have no result, and the first of
        them, counted from 1; they are among the missing.
    without_group, without_order, split_ties : int
        Rows with a missing value in PARTITION BY or in ORDER BY, and rows equal in the order that NTILE parted.
    spellings : tuple of tuples of str
        Groups of PARTITION BY that differ only in how they are spelled.
    misspelt : int
        Rows in these groups, but for the largest of each.
    """

    formula: str
    columns: tuple[str, ...]
    type: str
    rows: int
    missing: int
    made_missing: Mapping[str, tuple[int, int]] = field(default_factory=dict)
    without_group: int = 0
    without_order: int = 0
    split_ties: int = 0
    spellings: tuple[tuple[str, ...], ...] = ()
    misspelt: int = 0

    def as_dict(self) -> dict[str, Any]:
        causes = [
            {"cause": cause, "rows": n, "first_row": row} for cause, (n, row) in self.made_missing.items()
        ]
        return {
            "formula": self.formula,
            "columns": list(self.columns),
            "type": self.type,
            "rows": self.rows,
            "missing": self.missing,
            "made_missing": causes,
            "without_group": self.without_group,
            "without_order": self.without_order,
            "split_ties": self.split_ties,
            "spellings": [list(one) for one in self.spellings],
            "misspelt": self.misspelt,
        }


@dataclass(frozen=True, slots=True)
class ApplyReport:
    """What applying did: rows in all, a `TableReport` for each table and a `FormulaReport` for each formula.

    `notes` are sentences on what was kept otherwise than one might expect.
    """

    rows: int
    tables: tuple[TableReport, ...]
    dataset: str = ""
    target: str = ""
    formulas: tuple[FormulaReport, ...] = ()
    notes: tuple[str, ...] = ()

    def __repr__(self) -> str:
        return f"<ApplyReport: {self.rows:,} rows, {len(self.tables)} tables, {len(self.formulas)} formulas>"

    def as_dict(self) -> dict[str, Any]:
        """Return the report as plain values: ``{"version": 1, "rows": ..., "tables": [...], "formulas": [...]}``."""
        return {
            "version": REPORT_VERSION,
            "dataset": self.dataset,
            "target": self.target,
            "rows": self.rows,
            "tables": [one.as_dict() for one in self.tables],
            "formulas": [one.as_dict() for one in self.formulas],
            "notes": list(self.notes),
        }

    def to_json(self) -> str:
        """Return the report as JSON text."""
        return json.dumps(self.as_dict(), indent=2, ensure_ascii=False)

    def to_frame(self) -> pd.DataFrame:
        """Return a pandas frame, one row a class of a made column: table, column, class, rows."""
        import pandas as pd

        rows = [
            {"table": one.table, "column": name, "class": label, "rows": n}
            for one in self.tables
            for name, counted in one.classes.items()
            for label, n in counted
        ]
        return pd.DataFrame(rows, columns=["table", "column", "class", "rows"])


@dataclass(frozen=True, slots=True)
class Applied:
    """A frame with its new columns, and the report on how they came about."""

    frame: Any
    report: ApplyReport


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
        self.table = step.table.compiled
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
