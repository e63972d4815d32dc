"""A run: one pass over the source of a dataset, in which columns are typed, steps are run and faults are
gathered.

Whatever is asked of data is asked of a run: applying, checking, listing what is unmatched, explaining a row,
trying a formula, adding rows to a table.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.read_data import TypedBatch, TypedReader
from kivvet.core.columns.column import Column
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.run.execution import Execution
from kivvet.core.run.look_ahead import LookAhead
from kivvet.core.run.plan import Plan
from kivvet.core.run.reports import ApplyReport
from kivvet.core.run.steps import Step
from kivvet.core.words.errors import TableError
from kivvet.core.words.findings import Finding
from kivvet.core.words.values import ValueType

OnRows = Callable[[int], None]
_ROWS_AT_ONCE = 1 << 16


@dataclass(frozen=True)
class RunBatch:
    """One batch of the source, with the columns made of it."""

    read: TypedBatch
    made: Mapping[str, MadeColumn]
    kept: npt.NDArray[np.bool_] | None = None  # which rows the dataset keeps; None: all

    @property
    def n_rows(self) -> int:
        return self.read.num_rows

    @property
    def rows_before(self) -> int:
        return self.read.rows_before

    def columns_of(self, step: Step) -> dict[str, Column]:
        """Return the columns that a step reads, by the names it gives them."""
        return step.columns_of(self.read.column, lambda name: self.made[name].as_column())

    def unread_rows(self, step: Step) -> npt.NDArray[np.bool_] | None:
        """Return the rows with a field of the step's columns that could not be read; None where there are
        none.
        """
        return self.read.unread_rows(read.column for read in step.reads if read.from_source)


class Run:
    """One pass over the source of a dataset.

    Parameters
    ----------
    prepared : Prepared
    plan : Plan, optional
        Another plan than the dataset's own: a part of it.
    types : mapping of str to str, optional
        More types of columns than the plan needs.
    with_report, refuses_overlaps : bool
        As of `Step.start`.
    on_rows : callable
        Called with a number of rows after each batch that was read.
    rows_before : int
        Where only the last rows are read, those before them: rows are counted from there.
    """

    def __init__(
        self,
        prepared: Prepared,
        *,
        plan: Plan | None = None,
        types: Mapping[str, ValueType] | None = None,
        with_report: bool = True,
        refuses_overlaps: bool = False,
        on_rows: OnRows = lambda _: None,
        rows_before: int = 0,
    ) -> None:
        self.prepared = prepared
        self.plan = prepared.plan if plan is None else plan
        self.reader = self._reader(types)
        self.execution = Execution(self.plan, with_report=with_report, refuses_overlaps=refuses_overlaps)
        self.reader.n_rows = rows_before
        self.execution.begin_after(rows_before)
        self.on_rows = on_rows
        self.knows_all_rows = False  # what steps that look at other rows need of them
        self.is_cut = False  # whether rows were left out, since no more were asked for

    def _reader(self, types: Mapping[str, ValueType] | None = None) -> TypedReader:
        prepared = self.prepared
        return TypedReader(prepared.source, prepared.dataset, prepared.types if types is None else types)

    def read_codes(self, names: Collection[str]) -> None:
        """Read columns that nobody wants as they stand as codes, where the source holds them so."""
        self._read_codes(self.reader, names)

    @staticmethod
    def _read_codes(reader: TypedReader, names: Iterable[str]) -> None:
        coded = [
            name
            for name in names
            if reader.types.get(name, "text") == "text" and not reader.dataset.fields.words_of(name)
        ]
        reader.source = reader.source.with_codes(coded)

    def batches(
        self,
        names: Sequence[str] | None = None,
        most_rows: int | None = None,
        *,
        ahead: Collection[str] | None = None,
        keeps_texts: bool = False,
        is_last_later: bool = False,
    ) -> Iterator[RunBatch]:
        """Yield the batches in order, with what is made of them.

        Parameters
        ----------
        names : sequence of str, optional
            The columns of the source that are read; all without it.
        most_rows : int, optional
            Only so many rows, unless a step needs all of them.
        ahead : collection of str, optional
            The columns whose fields become values ahead; without it those that steps read.
        keeps_texts : bool
            Whether somebody wants those as they stand in the source too, and not only what is read of them.
        is_last_later : bool
            Whether columns that look at other rows (`made_last`) are left to `last_batches`, so that the source is read once.
        """
        if ahead is None:
            ahead = self.plan.source_columns
        if is_last_later:
            yield from self._batches_but_for_the_last(names, ahead, keeps_texts)
            return
        self.look_ahead()
        left = None if self.plan.needing_all_rows else most_rows
        for batch in self.reader.batches(names, () if left is not None else ahead, keeps_texts=keeps_texts):
            if left is not None and batch.num_rows > left:
                self.is_cut = True
                if not left:
                    return
            read = batch if left is None or batch.num_rows <= left else batch.first(left)
            made = self.execution.apply(read.column, read.num_rows)
            yield RunBatch(read, made, self.execution.kept)
            left = None if left is None else left - read.num_rows
            self.on_rows(read.num_rows)

    @cached_property
    def made_last(self) -> tuple[str, ...]:
        """The columns that can be left to `last_batches`."""
        made = self.plan.made_last
        if not made or set(made) & set(self.reader.source.names):
            return ()
        return made if LookAhead(self.plan).is_of_early_steps else ()

    def _batches_but_for_the_last(
        self, names: Sequence[str] | None, ahead: Collection[str], keeps_texts: bool
    ) -> Iterator[RunBatch]:
        seen = LookAhead(self.plan)
        for read in self.reader.batches(names, ahead, keeps_texts=keeps_texts):
            made = self.execution.apply(read.column, read.num_rows, is_of_single_rows=True)
            seen.see(read.typed, read.num_rows, made)
            yield RunBatch(read, made)
            self.on_rows(read.num_rows)
        self._know(seen, self.reader)

    def last_batches(self) -> Iterator[Mapping[str, MadeColumn]]:
        """Yield the columns that were left when all rows were read, in parts of rows, in order; one at least."""
        n_rows = self.n_rows
        for start in range(0, n_rows or 1, _ROWS_AT_ONCE):
            yield self.execution.in_rows(start, min(start + _ROWS_AT_ONCE, n_rows))

    def look_ahead(self) -> None:
        """Work out the steps that look at other rows, for which what they need of all rows is read before.

        Nothing is read where there are none.
        """
        if not self.plan.needing_all_rows or self.knows_all_rows:
            return
        ahead = LookAhead(self.plan)
        names = ahead.source_columns
        reader = self._reader()
        self._read_codes(reader, names)
        for batch in reader.batches(names or None, names, keeps_texts=False):
            ahead.see(batch.typed, batch.num_rows)
            self.on_rows(batch.num_rows)
        self.on_rows(-ahead.n_rows)  # they are read once more, and counted then
        self._know(ahead, reader)

    def _know(self, seen: LookAhead, reader: TypedReader) -> None:
        """Work out the steps that look at other rows, of which all was seen."""
        self.knows_all_rows = True
        if not seen.n_rows:  # columns have their types all the same
            seen.see(TypedBatch(reader, reader.source.empty_batch(), 0).typed, 0)
        known = seen.all_rows()
        self.execution.look_ahead(known.source.__getitem__, known.n_rows, known.steps, known.made)

    def row(self, number: int) -> RunBatch | None:
        """Return one row, counted from 1, with what is made of it; None where there is no such row.

        Of the rest, only what steps need that look at other rows is read as its type.
        """
        for batch in self.reader.batches(self.plan.source_columns):
            before = batch.rows_before
            if before < number <= before + batch.num_rows:
                only = TypedBatch(self.reader, batch.batch.slice(number - before - 1, 1), number - 1)
                for name in self.plan.source_columns:
                    only.typed(name)
                self.stop_at_faults()
                self.look_ahead()
                self.execution.n_rows = number - 1
                made = self.execution.apply(only.column, 1)
                return RunBatch(only, made, self.execution.kept)
        return None

    def empty_batch(self) -> RunBatch:
        """Return a batch without rows, typed as those with rows are."""
        batch: pa.RecordBatch = self.prepared.source.empty_batch()
        read = TypedBatch(self.reader, batch, 0)
        made = self.execution.apply(read.column, 0)
        return RunBatch(read, made, self.execution.kept)

    @property
    def n_rows(self) -> int:
        """The rows that were read."""
        return self.reader.n_rows

    def faults(self) -> list[Finding]:
        """Return a finding for each column with fields that could not be read as its type."""
        return self.reader.faults()

    def stop_at_faults(self) -> None:
        """Raise `TableError` where fields could not be read."""
        if found := self.faults():
            raise TableError(found)

    def report(self, dataset: str = "", target: str = "") -> ApplyReport:
        """Return what came of all batches so far."""
        left_out = tuple(self.reader.source.rows_left_out().items())
        return replace(self.execution.report(dataset, target), no_data=left_out)
