"""The step that applies a table."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from kivvet.core.calculate.evaluate import Evaluator
from kivvet.core.classify.combined import Combined
from kivvet.core.classify.compiled import compile_table
from kivvet.core.classify.outcomes import WHY, WHY_BY_STATUS, Why
from kivvet.core.classify.results import OutputMaker, output_maker, row_column, status_column
from kivvet.core.columns.arrays import Array
from kivvet.core.columns.column import Column
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.columns.taking import Taker
from kivvet.core.formulas.domain import Domain
from kivvet.core.read.meaning import definition_of, meaning_of, order_of_rows, table_fingerprint
from kivvet.core.run.step_reports import TableReport
from kivvet.core.run.steps import Made, Read, Stage, Step
from kivvet.core.run.value_tally import ValueTally
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import Table
from kivvet.core.words.values import ValueType

_MOST_DISTINCT_UNMATCHED = 100_000  # values remembered one by one; beyond, rows are still counted
_MOST_CLASSES_LISTED = 1_000  # of a lookup
_MOST_CLASSES_OF_A_DOMAIN = 1_000
_TYPE_OF_COMBINED: Mapping[str, ValueType | None] = {
    "join": "text",
    "count": "integer",
    "flags": "boolean",
    "list": None,
}


@dataclass(frozen=True)
class TableStep(Step):
    """One table applied to the columns it reads.

    Attributes
    ----------
    table : Table
    reads : tuple of Read
        Its inputs, then the columns that `when` and `given` name.
    outputs : tuple of (str, str)
        Outputs and the names of the columns made.
    status, row : str or None
        The names of columns that tell how each row was decided, and by which row.
    flags : tuple of (str, str)
        Under ``match = "every"``: outputs for which a column of true and false for each class is made besides, and what
        the names of these begin with.
    """

    table: Table
    reads: tuple[Read, ...]
    outputs: tuple[tuple[str, str], ...]
    status: str | None = None
    row: str | None = None
    flags: tuple[tuple[str, str], ...] = ()

    @property
    def name(self) -> str:
        return self.table.name

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns of the inputs."""
        return tuple(read.column for read in self.reads[: len(self.table.inputs)])

    @cached_property
    def made(self) -> tuple[Made, ...]:
        found = [
            Made(column, ("output", output, column.removeprefix(name)), self._type_of(output))
            for output, name in self.outputs
            for column in self.table.names_made(self.table.output(output), name)
        ]
        found += [
            Made(column, ("flag", output, column.removeprefix(base)), "boolean")
            for output, base in self.flags
            for column in self.table.names_made(self._as_flags(output), base)
        ]
        if self.status is not None:
            found.append(Made(self.status, ("status",), "text"))
        if self.row is not None:
            found.append(Made(self.row, ("row",), "integer"))
        return tuple(found)

    def _as_flags(self, output: str) -> Output:
        return replace(self.table.output(output), combine="flags")

    def flag_makers(self) -> list[tuple[str, Combined]]:
        """Return what makes the columns of true and false, by what their names begin with."""
        return [(base, Combined(self.table, self._as_flags(output))) for output, base in self.flags]

    def _type_of(self, name: str) -> ValueType | None:
        output = self.table.output(name)
        if self.table.match != "every":
            return output.type
        return _TYPE_OF_COMBINED.get(output.combine, output.type)

    @property
    def decides(self) -> frozenset[str]:
        return self.table.deciding_reads

    def meaning(self) -> dict[str, Any]:
        return meaning_of(self.table)

    @property
    def fingerprint(self) -> str:
        return table_fingerprint(self.table)

    def definition(self) -> dict[str, Any] | None:
        return definition_of(self.table)

    @property
    def n_values(self) -> int:
        table = self.table
        n_rows = len(table.rows) if table.lookup is None else table.lookup.n_rows
        return n_rows * (len(table.inputs) + len(table.outputs))

    def meaning_of_column(self, made: Made) -> list[str]:
        return [*made.role, *([order_of_rows(self.table)] if made.role == ("row",) else [])]

    def classes_shown(self, made: Made) -> tuple[str, ...]:
        """Return the classes of a column in their order, and whether they have one.

        Texts that several rows make together are classes too, in the order in which the rows are met: there the table
        itself stands for them.
        """
        if made.role[0] != "output" or made.type != "text":
            return ()
        output = self.table.output(made.role[1])
        if self.table.match == "every":
            return ("of several rows", self.fingerprint)
        if self.table.lookup is None and self.table.computed(output):
            return ()
        is_ordered = self.table.is_ordered(output)
        return ("ordered" if is_ordered else "not ordered", *map(str, self.table.classes(output)))

    def typed(self, type_of: Callable[[Read], ValueType | None]) -> tuple[TableStep, None]:
        return self, None

    def domains(self, domain_of: Callable[[Read], Domain | None]) -> Mapping[str, Domain | None]:
        """Return the classes of each text column that is made by single results, where there are not too
        many.
        """
        found: dict[str, Domain | None] = {}
        for output, name in self.outputs if self.table.match != "every" else ():
            about = self.table.output(output)
            is_computed = self.table.lookup is None and bool(self.table.computed(about))
            if about.type != "text" or is_computed:
                continue
            classes = self.table.classes(about)
            if 0 < len(classes) <= _MOST_CLASSES_OF_A_DOMAIN:
                found[name] = Domain(tuple(str(value) for value in classes))
        return found

    def start(self, *, with_report: bool, refuses_overlaps: bool) -> Stage:
        return TableStage(self, with_report=with_report, refuses_overlaps=refuses_overlaps)


class TableStage(Stage):
    """The step of a table, with its counts."""

    def __init__(self, step: TableStep, *, with_report: bool, refuses_overlaps: bool) -> None:
        self.refuses_overlaps = refuses_overlaps
        self.step: TableStep = step
        self.compiled = compile_table(step.table)
        self.of_run = self.compiled.outcomes.of_run()
        self.outcomes = self.of_run.outcomes
        self.makers = [(name, output_maker(step.table, output)) for output, name in step.outputs]
        self.flag_makers = step.flag_makers()
        self.names = {read.name: read.column for read in step.reads}
        self.with_report = with_report
        self.counts = np.zeros(0, np.int64)  # of the outcomes met so far
        self.unmatched, self.unfinished = (ValueTally(_MOST_DISTINCT_UNMATCHED) for _ in range(2))
        self.made_missing: dict[str, tuple[int, int]] = {}
        self.labels: Array | None = (
            None  # the outcome of each row of the batch applied last, where rows are counted
        )

    def apply(self, columns: Mapping[str, Column], rows_before: int, n_rows: int) -> dict[str, MadeColumn]:
        step = self.step
        is_single = (
            not self.compiled.may_combine
            and len(self.makers) == 1
            and not self.makers[0][1].computed
            and not step.status
            and not step.row
            and not step.flags
        )
        if not self.with_report and is_single:
            name, maker = self.makers[0]
            if (labels := maker.labels) is not None:
                made = self.compiled.classify(columns, labels, names=self.names).labels
                return {name: maker.from_labels(name, made)}
        classified = self.compiled.classify(
            columns,
            with_counts=self.with_report,
            names=self.names,
            refuses_overlaps=self.refuses_overlaps,
            rows_before=rows_before,
        )
        labels, counts, outcomes = classified.labels, classified.counts, self.outcomes
        if self.compiled.may_combine:
            labels = self.of_run.renumbered(labels)
            if counts is not None:
                counts = np.bincount(labels, minlength=outcomes.number)
        self.labels = labels if self.with_report else None
        if counts is not None:
            self.counts = np.pad(self.counts, (0, len(counts) - len(self.counts))) + counts
            if counts[outcomes.unmatched] or (outcomes.no_period is not None and counts[outcomes.no_period]):
                self.remember(self.unmatched, columns, outcomes.falls_through(labels), rows_before)
            if outcomes.unfinished.any():
                mask = outcomes.is_unfinished[labels]
                if mask.any():
                    self.remember(self.unfinished, columns, mask, rows_before)
        taker = Taker(labels)
        made_columns: dict[str, MadeColumn] = {}
        for name, maker in self.makers:
            made_columns.update(maker.made(name, taker, outcomes.sets))
            if maker.computed:
                evaluator = Evaluator(columns.__getitem__, len(labels))
                made_columns[name] = maker.with_formulas(made_columns[name], labels, evaluator)
                for cause, n in evaluator.made_missing.items():
                    before, first = self.made_missing.get(
                        cause, (0, rows_before + evaluator.first_missing[cause] + 1)
                    )
                    self.made_missing[cause] = before + n, first
        for base, combined in self.flag_makers:
            made_columns.update(combined.made(base, labels, outcomes.sets))
        if step.status:
            made_columns[step.status] = status_column(step.status, labels, outcomes)
        if step.row:
            made_columns[step.row] = row_column(
                step.row, labels, outcomes, is_list=step.table.match == "every"
            )
        return made_columns

    def remember(
        self,
        values: ValueTally,
        columns: Mapping[str, Column],
        mask: npt.NDArray[np.bool_],
        rows_before: int,
    ) -> None:
        """Count the values of some rows, and note the first row that has each."""
        table = self.step.table
        decides = {name: column for name, column in columns.items() if name in table.deciding_reads}
        values.see(decides, np.flatnonzero(mask), rows_before)

    def report(self) -> TableReport:
        outcomes = self.outcomes
        counts = np.pad(self.counts, (0, outcomes.number - len(self.counts)))
        total, several = int(counts.sum()), int(counts[outcomes.first_set :].sum())
        unmatched, missing = int(counts[outcomes.unmatched]), int(counts[outcomes.missing])
        no_period = 0 if outcomes.no_period is None else int(counts[outcomes.no_period])
        unmatched += no_period
        unfinished = int(counts[outcomes.is_unfinished].sum()) if outcomes.unfinished.any() else 0
        by_row = outcomes.by_row(counts)
        classes = {
            name: self.class_counts(maker, counts)
            for name, maker in self.makers
            if maker.code_of_outcome is not None and self.is_listed(maker, counts)
        }
        classless = {
            name: self.without_class(maker, counts) for name, maker in self.makers if name in classes
        }
        ranked, waiting = (
            tuple(sorted(values.counts.items(), key=lambda pair: (-pair[1], pair[0])))
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
            {**self.unfinished.first_rows, **self.unmatched.first_rows},
            self.made_missing,
            unfinished,
            waiting,
            classless,
        )

    def is_listed(self, maker: OutputMaker, counts: npt.NDArray[np.int64]) -> bool:
        """Whether the classes of an output are counted one by one: of a lookup, if not too many occur."""
        if self.step.table.lookup is None:
            return True
        assert maker.code_of_outcome is not None
        single = counts[: len(maker.code_of_outcome)]
        return len(np.unique(maker.code_of_outcome[single > 0])) <= _MOST_CLASSES_LISTED

    def without_class(self, maker: OutputMaker, counts: npt.NDArray[np.int64]) -> dict[Why, int]:
        """Return the rows without a class of an output, by why they have none."""
        codes = maker.code_of_outcome
        assert codes is not None
        lacks = np.zeros(self.outcomes.number, bool)
        lacks[: len(codes)] = codes < 0
        if maker.combined is not None:
            of_sets = [not maker.combined.of_rows(rows) for rows in self.outcomes.sets]
            lacks[self.outcomes.first_set :] = of_sets
        why = WHY_BY_STATUS[self.outcomes.status_codes()]
        sums = np.bincount(why[lacks], counts[lacks], len(WHY)).astype(int).tolist()
        return {kind: n for kind, n in zip(WHY, sums, strict=True) if n}

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
            for rows, n in self.outcomes.counted_sets(counts):
                held = {place[str(row)] for row in maker.combined.of_rows(rows)}
                by_class[list(held)] += n
                none += 0 if held else n
        counted: list[tuple[str | None, int]] = list(
            zip((maker.classes or pa.array([])).to_pylist(), by_class.tolist(), strict=True)
        )
        if self.step.table.lookup is not None:
            counted = _of_lookup(counted)
        return (*counted, (None, none)) if none else tuple(counted)


def _of_lookup(counted: list[tuple[str | None, int]]) -> list[tuple[str | None, int]]:
    """Return classes of a lookup as they are told: their order in the file says little, so the most frequent ones first."""
    found = sorted(counted, key=lambda pair: -pair[1])
    return found if len(found) <= _MOST_CLASSES_LISTED else [pair for pair in found if pair[1]]


def in_order_told(step: TableStep, report: TableReport) -> TableReport:
    """Return a report that was put together of parts with classes in the order in which one pass tells them."""
    if step.table.lookup is None:
        return report
    classes = dict(report.classes)
    for output, column in step.outputs:
        if column not in classes:
            continue
        counts = dict(classes[column])
        known = [str(one) for one in step.table.classes(step.table.output(output))]
        labels = [one for one in known if one in counts or len(known) <= _MOST_CLASSES_LISTED]
        told = _of_lookup([(label, counts.get(label, 0)) for label in labels])
        classes[column] = (*told, *((None, counts[None]) for _ in range(1) if None in counts))
    return replace(report, classes=classes)
