"""One pass over a source in which two versions of a plan are run side by side: what each makes of the same rows."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.read_data import TypedBatch
from kivvet.books.runs.run import Run, RunBatch
from kivvet.core.run.plan import Plan

OnRows = Callable[[int], None]


@dataclass(frozen=True)
class BatchOfBoth:
    """One batch of the source, with what each version makes of it."""

    old: RunBatch
    new: RunBatch

    @property
    def n_rows(self) -> int:
        return self.new.n_rows

    @property
    def rows_before(self) -> int:
        return self.new.rows_before


class TwoVersions:
    """Two versions of a plan over one source, which is read once.

    Parameters
    ----------
    old, new : Prepared
        Of one source.
    old_plan, new_plan : Plan
        What is run of them.
    """

    def __init__(
        self,
        old: Prepared,
        new: Prepared,
        old_plan: Plan,
        new_plan: Plan,
        *,
        on_rows: OnRows = lambda _: None,
    ) -> None:
        self.new = Run(new, plan=new_plan, with_report=False, on_rows=on_rows)
        self.old = Run(old, plan=old_plan, with_report=False, on_rows=on_rows)
        self.reads_alike = old.types == new.types

    def batches(self) -> Iterator[BatchOfBoth]:
        """Yield the batches in order; none where nothing is read."""
        names = list(dict.fromkeys([*self.new.plan.source_columns, *self.old.plan.source_columns]))
        if not names:
            return
        if self.reads_alike:
            self.new.read_codes(names)
        self.old.look_ahead()
        for new in self.new.batches(names, keeps_texts=not self.reads_alike):
            read = (
                new.read if self.reads_alike else TypedBatch(self.old.reader, new.read.batch, new.rows_before)
            )
            made = self.old.execution.apply(read.column, new.n_rows)
            yield BatchOfBoth(RunBatch(read, made, self.old.execution.kept), new)

    def stop_at_faults(self) -> None:
        """Raise `TableError` where fields could not be read."""
        self.new.stop_at_faults()
        if not self.reads_alike:
            self.old.stop_at_faults()
