"""Running a plan over data, and the report that accounts for every row."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace

import numpy as np

from kivvet.core.calculate.vectors import Vector
from kivvet.core.classify.input_coder import MisfitError, all_misfits
from kivvet.core.columns.arrays import Array
from kivvet.core.columns.column import BoolArray, Column, NumericColumn, missing_mask
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.run.formula_step import FormulaStage
from kivvet.core.run.plan import Plan
from kivvet.core.run.reports import ApplyReport
from kivvet.core.run.steps import Step
from kivvet.core.run.table_step import TableStage, TableStep


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
        self.rows_before = 0
        self.n_rows = self.left_out = self.undecided = 0
        self.kept: BoolArray | None = None  # of the batch applied last, which rows; None: all
        self.stages = [
            step.start(with_report=with_report, refuses_overlaps=refuses_overlaps) for step in plan.steps
        ]

    def begin_after(self, n_rows: int) -> None:
        """Count the rows that come as those that follow others."""
        self.rows_before = self.n_rows = n_rows

    def look_ahead(
        self,
        column_named: Callable[[str], Column],
        n_rows: int,
        steps: tuple[Step, ...] | None = None,
        known: Mapping[str, MadeColumn] | None = None,
    ) -> None:
        """Work out what looks at other rows, from all rows; batches then take their part of it.

        Without it, the one batch that is applied is taken to be all rows.

        Parameters
        ----------
        column_named : callable
            By its name, a column of the source with all rows.
        n_rows : int
        steps : tuple of Step, optional
            Those that are to be run for it; without it all on which that depends.
        known : mapping of str to MadeColumn, optional
            What steps that are left out made, for all rows.
        """
        wanted = self.plan.needing_all_rows
        if steps is None:
            steps = self.plan.leading_to(wanted)
        ahead = Execution(Plan(steps, ()), with_report=False, refuses_overlaps=False)
        ahead.apply(column_named, n_rows, known)
        done = {id(stage.step): stage for stage in ahead.stages if stage.step in wanted}
        self.stages = [done.get(id(stage.step), stage) for stage in self.stages]

    def known_of(self, start: int, stop: int) -> dict[int, Vector]:
        """Return what steps that look at other rows give in some rows, by the place of the step; after `look_ahead`."""
        return {
            place: stage.whole.take(slice(start, stop))
            for place, stage in enumerate(self.stages)
            if isinstance(stage, FormulaStage) and stage.step.needs_all_rows and stage.whole is not None
        }

    def take_known(self, known: Mapping[int, Vector]) -> None:
        """Take what such steps give from elsewhere, where all rows were looked at: of just the rows that come."""
        for place, vector in known.items():
            stage = self.stages[place]
            assert isinstance(stage, FormulaStage)
            stage.whole = vector

    def apply(
        self,
        column_named: Callable[[str], Column],
        n_rows: int,
        known: Mapping[str, MadeColumn] | None = None,
        *,
        is_of_single_rows: bool = False,
    ) -> dict[str, MadeColumn]:
        """Return the columns made for one batch, by name, written or not; with those known already.

        Parameters
        ----------
        is_of_single_rows : bool
            Whether only steps are run that look at one row at a time; `in_rows` gives what the others made, later.

        Raises
        ------
        DataError
            If columns do not fit, or a strict formula has values without a result.
        """
        made: dict[str, MadeColumn] = dict(known or {})
        unfit: list[MisfitError] = []
        lost: set[str] = set()
        for stage in self.stages:
            if is_of_single_rows and stage.step.needs_all_rows:
                continue
            if lost and any(read.column in lost for read in stage.step.reads if not read.from_source):
                lost.update(stage.step.made_names)
                continue
            columns = stage.step.columns_of(column_named, lambda name: made[name].as_column())
            try:
                made.update(stage.apply(columns, self.n_rows, n_rows))
            except MisfitError as error:
                unfit.append(error)
                lost.update(stage.step.made_names)
        if unfit:
            raise all_misfits(unfit)
        self.n_rows += n_rows
        if self.plan.where is not None:
            self.kept = self._kept(made[self.plan.where])
        return made

    def in_rows(self, start: int, stop: int) -> dict[str, MadeColumn]:
        """Return what steps that look at other rows made in some rows; after `look_ahead`."""
        made: dict[str, MadeColumn] = {}
        for stage in self.stages:
            if stage.step.needs_all_rows:
                made.update(stage.apply({}, start, stop - start))
        return made

    def outcomes_of(self, step: TableStep) -> Array:
        """Return the outcome of each row of the batch applied last, of the step of a table, where rows are counted."""
        (found,) = [
            stage.labels for stage in self.stages if isinstance(stage, TableStage) and stage.step is step
        ]
        assert found is not None
        return found

    def _kept(self, where: MadeColumn) -> BoolArray:
        """Return the rows of which the condition is true, and count the others."""
        column = where.as_column()
        assert isinstance(column, NumericColumn)
        gone = missing_mask(column)
        kept = column.values.astype(bool) & ~gone
        self.left_out += len(kept) - int(np.count_nonzero(kept))
        self.undecided += int(np.count_nonzero(gone))
        return kept

    def report(self, dataset: str = "", target: str = "") -> ApplyReport:
        """Return the report on all batches so far."""
        shown = [stage for stage in self.stages if self.plan.where not in stage.step.made_names]
        report = ApplyReport.of(
            self.n_rows - self.rows_before, [stage.report() for stage in shown], dataset, target
        )
        return replace(report, left_out=self.left_out, undecided=self.undecided)
