"""A table made ready for data: from columns to the outcome of each row (see `Outcomes`)."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from threading import RLock

import numpy as np
import numpy.typing as npt
import pyarrow.compute as pc

from kivvet.core.calculate.computed_inputs import computed_column
from kivvet.core.check.check import findings_of
from kivvet.core.check.several_inputs import rows_may_disagree
from kivvet.core.classify.box_classifier import BoxClassifier
from kivvet.core.classify.input_coder import InputCoder, RowSets, Winners
from kivvet.core.classify.key_match import KeyMatch
from kivvet.core.classify.outcomes import Outcomes
from kivvet.core.columns.arrays import Array, Counts
from kivvet.core.columns.column import Column
from kivvet.core.columns.kernels import labels_of_outcomes
from kivvet.core.space.table_space import axes_of, row_regions
from kivvet.core.tables.table import UNFINISHED, Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.kept import kept
from kivvet.core.words.wording import listed


@dataclass(frozen=True)
class Classified:
    """A label for each row of data, and how many rows had each outcome (None if not counted)."""

    labels: Array
    counts: Counts | None


class CompiledTable:
    """A table ready to classify columns; the same table always compiles to the same thing.

    It is shared by all who use the table at once. What it learns from columns (thresholds for a type of numbers, sets of
    rows that decide together) is only ever added to, under its lock; outcomes have the numbers of the table, which a run
    makes its own (`Outcomes.of_run`).
    """

    def __init__(self, table: Table) -> None:
        self.table = table
        self.lock = RLock()
        has_periods = table.lookup is not None and bool(table.lookup.ranges)
        self.outcomes = Outcomes(table.n_rows, has_periods, _unfinished_rows(table))
        self.keys = KeyMatch(table, self.outcomes) if table.lookup is not None else None
        self.coders: list[InputCoder] = []
        self.boxes: BoxClassifier | None = None
        if table.lookup is not None:
            return
        regions = [row_regions(table, number) for number in range(len(table.dimensions))]
        # What is given may leave open whether rows meet: then each row of data is watched.
        is_doubtful = bool(table.given) and self._is_in_doubt
        is_alone = len(regions) == 1 and table.match != "every" and not is_doubtful
        self.coders = [
            InputCoder(
                about,
                axis,
                of_rows,
                Winners(of_rows, self.outcomes) if is_alone else RowSets(of_rows),
                self.lock,
            )
            for about, axis, of_rows in zip(table.dimensions, axes_of(table), regions, strict=True)
        ]
        if not is_alone:
            self.boxes = BoxClassifier(
                table,
                self.coders,
                self.outcomes,
                gathers=table.match == "every" or self._is_in_doubt,
                lock=self.lock,
                yielding=self._yielding(),
            )

    @cached_property
    def _is_in_doubt(self) -> bool:
        """Whether rows that differ may both match some values, so that each row of data is to be watched.

        Where a table lowers the severity of `overlap` or `conflict`, the earlier row wins, and nobody is
        stopped.
        """
        if self.table.match != "one":
            return False
        lowered = {
            kind for kind in ("overlap", "conflict") if self.table.severity.get(kind, "error") != "error"
        }
        if any(
            finding.kind in ("overlap", "conflict")
            and finding.severity != "note"
            and finding.kind not in lowered
            for finding in findings_of(self.table)
        ):
            return True
        # Statements may be broken by data, and comparisons of sums rounded: what they keep apart is watched.
        is_tied = bool(self.table.given or self.table.computed_inputs)
        return is_tied and "overlap" not in lowered and rows_may_disagree(self.table)

    def _yielding(self) -> dict[int, set[int]]:
        """Return by row, from 0, the earlier ones that it silently yields to: pairs whose kind of finding was
        lowered.
        """
        found: dict[int, set[int]] = {}
        if self.table.match != "one" or not self.table.severity:
            return found
        place = {row.number: number for number, row in enumerate(self.table.rows)}
        for finding in findings_of(self.table):
            if (
                finding.kind in ("overlap", "conflict")
                and self.table.severity.get(finding.kind, "error") != "error"
            ):
                pairs = [pair.rows for pair in finding.pairs] or [(finding.rows[0], finding.rows[1])]
                for early, late in pairs:
                    found.setdefault(place[late], set()).add(place[early])
        return found

    @property
    def may_combine(self) -> bool:
        """Whether outcomes may stand for several rows."""
        return self.boxes is not None and self.boxes.gathers

    def classify(
        self,
        columns: Mapping[str, Column],
        labels: Array | None = None,
        *,
        with_counts: bool = False,
        names: Mapping[str, str] | None = None,
        refuses_overlaps: bool = True,
        rows_before: int = 0,
    ) -> Classified:
        """Return the label of each row's outcome.

        Parameters
        ----------
        columns : mapping of str to Column
            By the name of each input, and of each column that `when` reads.
        labels : ndarray of unsigned integers, shape (n_outcomes,), or None
            The label of each outcome; None: the outcome itself. Not where several rows may decide together.
        with_counts : bool
        names : mapping of str to str, optional
            What the columns are called in the data, for messages.
        refuses_overlaps : bool
            Whether it is an error if rows that differ match under ``match = "one"``; else the first wins.
        rows_before : int
            Rows of data before these, for messages.

        Raises
        ------
        DataError
            If an input does not read columns of its column's type, or under ``match = "one"`` rows of the
            table that differ match one row of data.
        """
        names = names or {}
        if self.keys is not None:
            outcomes = self.keys.outcomes(columns, names)
            return Classified(
                *labels_of_outcomes(outcomes, labels, self.outcomes.number, with_counts=with_counts)
            )
        if self.boxes is None:
            ((name, column),) = self._dimension_columns(columns)
            made, counts = self.coders[0].label(
                column, labels, with_counts=with_counts, name=names.get(name, name)
            )
            return Classified(made, counts)
        read = self._dimension_columns(columns)
        codes = [
            coder.label(column, name=names.get(name, name))[0]
            for coder, (name, column) in zip(self.coders, read, strict=True)
        ]
        outcomes, counts = self.boxes.classify(codes, labels, with_counts=with_counts)
        if self.table.match == "one" and self.outcomes.sets:
            if refuses_overlaps:
                self._refuse_combination(outcomes, rows_before)
            else:
                outcomes, counts = self._first_of_each(outcomes, counts)
        return Classified(outcomes, counts)

    def _dimension_columns(self, columns: Mapping[str, Column]) -> list[tuple[str, Column]]:
        made = [(about.name, columns[about.name]) for about in self.table.inputs]
        made += [
            (test.about.name, computed_column(test, columns, self.table.steps))
            for test in self.table.computed_inputs
        ]
        return made

    def _first_of_each(self, outcomes: Array, counts: Counts | None) -> tuple[Array, Counts | None]:
        """Return outcomes, the first row standing for several."""
        of_sets = [rows[0] for rows in tuple(self.outcomes.sets)]
        first = np.array([*range(self.outcomes.first_set), *of_sets])
        of_one = first[outcomes]
        return of_one, None if counts is None else np.bincount(of_one, minlength=self.outcomes.first_set)

    def _refuse_combination(self, outcomes: Array, rows_before: int) -> None:
        rows = np.flatnonzero(outcomes >= self.outcomes.first_set)
        if not len(rows):
            return
        deciding = self.outcomes.rows_of(int(outcomes[rows[0]]))
        numbers = [self.table.rows[row].number for row in deciding]
        raise DataError(
            f"{len(rows):,} rows of data match rows of table {self.table.name!r} that differ; "
            f"the first is row {rows_before + int(rows[0]) + 1:,}, which rows {listed(numbers)} match",
            expected='one row, since match = "one"',
            fix='narrow one of the rows, or set match = "first" to let the earlier one win',
        )


def _unfinished_rows(table: Table) -> npt.NDArray[np.bool_]:
    """Return which rows are still to be filled in: in a lookup all their results are blank, else one of them."""
    if table.lookup is not None:
        gone = [pc.is_null(results).to_numpy(zero_copy_only=False) for results in table.lookup.results]
        return np.asarray(np.logical_and.reduce(gone))
    return np.array([UNFINISHED in row.results for row in table.rows], bool)


@kept
def compile_table(table: Table) -> CompiledTable:
    """Return a table ready for data."""
    return CompiledTable(table)
