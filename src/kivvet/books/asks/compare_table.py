"""Comparing a table of a book with another version of it, and the rows of data that get another result."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import numpy.typing as npt

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import BOOK_FILE, read_book
from kivvet.books.files.read_table import read_table
from kivvet.books.files.revisions import Revision
from kivvet.books.runs.last_applied import last_applied
from kivvet.books.runs.prepare import Prepared, prepared_of
from kivvet.books.runs.sources import source_of
from kivvet.books.runs.two_versions import BatchOfBoth, TwoVersions
from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.columns.column import Column
from kivvet.core.compare.compare import compare_tables
from kivvet.core.compare.comparison import Comparison
from kivvet.core.promises.decide import promises_apart
from kivvet.core.run.differing import differing
from kivvet.core.run.examples import examples_apart
from kivvet.core.run.found_regions import FoundRegions
from kivvet.core.run.plan import Plan
from kivvet.core.run.table_step import TableStep
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError, KivvetError, TableError
from kivvet.core.words.findings import Finding
from kivvet.core.words.wording import count, shown_path

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

OnRows = Callable[[int], None]
#: What stands for the version that was applied last.
LAST = "last"


def compare_in_book(
    book: OpenBook,
    name: str,
    other: Table | str | Path,
    *,
    shared: bool = False,
    budget: int | None = None,
    data: bool = True,
    on_rows: OnRows = lambda _: None,
) -> Comparison:
    """Return how the meaning of a table differs from that of another version; see `Book.compare`."""
    table = whole_table(book, name)
    old, called = (other, "other") if isinstance(other, Table) else other_version(book, table, other)
    names = (called, "now")
    steps = DEFAULT_BUDGET if budget is None else budget
    made = compare_tables(old, table, names=names, budget=steps, shared=shared)
    made = replace(made, examples=examples_apart(old, table), promises=promises_apart(old, table))
    if not data or made.is_same:
        return made
    return _CountedChanges(book, made, replace(old, name=name), table).result(on_rows)


def other_version(book: OpenBook, table: Table, other: str | Path) -> tuple[Table, str]:
    """Return the other version of a table and what it is called.

    Parameters
    ----------
    other : str or Path
        ``last``, a table's file, the folder of a book, a table of this book, or a revision.

    Raises
    ------
    BookError, TableError
        If there is none of these by that name, or it cannot be read.
    """
    given = str(other)
    if given == LAST:
        found, at = last_applied(book, table.name)
        return found, f"last applied, {at[:16].replace('T', ' ')} UTC"
    path = Path(given or "-")  # no name is not this folder
    if path.name == BOOK_FILE and path.is_file():
        path = path.parent
    if (path / BOOK_FILE).is_file():
        return whole_table(read_book(path), table.name), shown_path(path)
    if path.suffix == ".toml" and path.is_file():
        read, _, faults = read_table(path)
        errors = [fault for fault in faults if fault.severity == "error"]
        if read is None or errors:
            raise TableError(errors)
        return read, shown_path(path)
    if given in book.tables or given in book.unusable_tables:
        return whole_table(book, given), given
    return _at_revision(book, table, given)


def whole_table(book: OpenBook, name: str) -> Table:
    """Return a table all of whose rows could be read."""
    table = book.table(name)
    found = [
        finding for finding in book.reading_findings if finding.table == name and finding.severity == "error"
    ]
    if found:
        raise TableError(found)
    return table


def _at_revision(book: OpenBook, table: Table, given: str) -> tuple[Table, str]:
    expected = "a table's file, the folder of a book, a table of this book, a git revision, or `last`"
    use = f"to compare table {table.name} with"
    revision = Revision.named(book.folder, given, use, expected, [LAST, *book.tables])
    return revision.table(book.file_of_table(table.name)), given


class _CountedChanges:
    """The rows of data in each changed region, and those whose results differ."""

    def __init__(self, book: OpenBook, made: Comparison, old: Table, new: Table) -> None:
        self.book, self.made, self.old, self.new = book, made, old, new
        names = {input_.name for input_ in new.inputs}
        inputs = (*new.inputs, *(input_ for input_ in old.inputs if input_.name not in names))
        self.regions = FoundRegions.of(
            replace(new, inputs=inputs), [region.region for region in made.regions]
        )
        self.counts = np.zeros(len(made.regions), np.int64)
        self.examples: dict[int, tuple[str, int]] = {}
        self.n_changed = 0

    def result(self, on_rows: OnRows) -> Comparison:
        """Return the comparison with what data says."""
        rows_read: dict[str, int] = {}
        not_counted: dict[str, str] = {}
        for dataset in self.book.datasets.values():
            if self.new.name not in self.book.used_by(dataset):
                continue
            try:
                if (n_rows := self._see(dataset, on_rows)) is not None:
                    rows_read[dataset.name] = n_rows
            except KivvetError as error:
                not_counted[dataset.name] = error.problem
        regions = self.made.regions
        if rows_read and self.regions is not None:
            regions = tuple(
                replace(
                    region,
                    count=int(self.counts[number]),
                    example_dataset=self.examples.get(number, ("", 0))[0],
                    example_row=self.examples[number][1] if number in self.examples else None,
                )
                for number, region in enumerate(regions)
            )
        return replace(
            self.made,
            regions=regions,
            rows_read=rows_read,
            rows_changed=self.n_changed if rows_read else None,
            not_counted=not_counted,
        )

    def _see(self, dataset: Dataset, on_rows: OnRows) -> int | None:
        """Look at the data of a dataset; return its rows, None where it does not use the table."""
        before, after = self._prepared(dataset, self.old), self._prepared(dataset, self.new)
        steps = [self._steps(before), self._steps(after)]
        if not steps[1]:
            return None
        old_plan, new_plan = before.plan.leading_to(steps[0]), after.plan.leading_to(steps[1])
        run = TwoVersions(before, after, Plan(old_plan, ()), Plan(new_plan, ()), on_rows=on_rows)
        for batch in run.batches():
            changed = [self._see_step(batch, old, new, dataset.name) for old, new in zip(*steps, strict=True)]
            self.n_changed += int(np.count_nonzero(np.logical_or.reduce(changed)))
        run.stop_at_faults()
        return run.new.n_rows

    def _steps(self, prepared: Prepared) -> list[TableStep]:
        return [step for step in prepared.plan.table_steps if step.table.name == self.new.name]

    def _prepared(self, dataset: Dataset, table: Table) -> Prepared:
        book = self.book
        faults: list[Finding] = book.faults_of(dataset)
        if not faults:
            prepared, faults = prepared_of(
                dataset,
                source_of(book, dataset),
                {**book.tables, table.name: table},
                book.formulas,
                book.unusable_tables | book.unusable_formulas,
            )
        if errors := [fault for fault in faults if fault.severity == "error"]:
            raise DataError(f"{count(len(errors), 'error')} in what it reads: kivvet check")
        return prepared

    def _see_step(
        self, batch: BatchOfBoth, old: TableStep, new: TableStep, dataset: str
    ) -> npt.NDArray[np.bool_]:
        """Count one batch; return its rows whose results differ."""
        columns = {**batch.old.columns_of(old), **batch.new.columns_of(new)}
        changed = np.zeros(batch.n_rows, bool)
        then = dict(old.outputs)
        for output, name in new.outputs:
            if output in then:
                changed |= differing(batch.old.made[then[output]], batch.new.made[name])
        if self.regions is not None:
            self._count(columns, batch.rows_before, dataset)
        return changed

    def _count(self, columns: Mapping[str, Column], rows_before: int, dataset: str) -> None:
        assert self.regions is not None
        counts, first = self.regions.seen(columns)
        self.counts += counts
        for region in np.flatnonzero(counts).tolist():
            self.examples.setdefault(region, (dataset, rows_before + int(first[region]) + 1))
