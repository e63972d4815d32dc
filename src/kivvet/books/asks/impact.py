"""What rules that changed do to the data of a book, before anything is written."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa

from kivvet.books.asks.compare_table import LAST
from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import BOOK_FILE, read_book
from kivvet.books.files.read_table import read_table
from kivvet.books.files.revisions import Revision
from kivvet.books.runs.fingerprints import column_records, where_record
from kivvet.books.runs.other_rules import OtherRules, rules_of, rules_then
from kivvet.books.runs.past_rows import source_as_of
from kivvet.books.runs.prepare import Prepared, prepared_of
from kivvet.books.runs.run import Run, RunBatch
from kivvet.books.runs.sources import source_of
from kivvet.books.runs.summary_source import SummarySource
from kivvet.books.runs.table_findings import findings_in_book
from kivvet.books.runs.two_versions import TwoVersions
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.compare.change import Change
from kivvet.core.compare.compare import compared_rules
from kivvet.core.compare.comparison import Comparison
from kivvet.core.compare.standing import Rewritten, rewritten
from kivvet.core.formulas.formula import Formula
from kivvet.core.promises.decide import promises_apart
from kivvet.core.read.meaning import table_fingerprint
from kivvet.core.run.examples import examples_apart
from kivvet.core.run.impact import ColumnImpact, ColumnTally, DatasetImpact, Impact
from kivvet.core.run.plan import Plan
from kivvet.core.run.steps import Step
from kivvet.core.run.value_texts import text_at
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError, KivvetError, TableError
from kivvet.core.words.findings import Finding
from kivvet.core.words.values import write_plain
from kivvet.core.words.wording import count, did_you_mean, listed
from kivvet.io.source_and_target import Source

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

OnRows = Callable[[int], None]


def impact_in_book(
    book: OpenBook,
    names: Sequence[str] = (),
    against: str | Path = LAST,
    *,
    rules: OtherRules | None = None,
    as_of: str = "",
    on_rows: OnRows = lambda _: None,
) -> Impact:
    """Return what changed rules do to the data of a book; see `Book.impact`.

    Parameters
    ----------
    rules : OtherRules, optional
        The rules before, where they are known already; `against` is then what they are called.
    as_of : str
        Whose rows are looked at: those that a past run read, or those of a version of a lake; empty: those of today.
    """
    only, datasets = _chosen(book, names)
    versions = _Versions(book, only, against, rules)
    found = tuple(_of_dataset(book, dataset, versions, as_of, on_rows) for dataset in datasets)
    if as_of and found and all(one.why_not for one in found):
        raise BookError(
            found[0].why_not, fix="name a run (kivvet history), a date, or 'version 12' of a lake"
        )
    tables = tuple(versions.told(name, past) for name, past in versions.tables.items())
    formulas = tuple(
        Change(name, past.text, book.formulas[name].text) for name, past in versions.formulas.items()
    )
    return Impact(versions.called, tables, formulas, versions.new, found)


def _chosen(book: OpenBook, names: Sequence[str]) -> tuple[set[str], list[Dataset]]:
    """Return the rules that count, none for all, and the datasets."""
    rules = {name for name in names if name in book.tables or name in book.formulas}
    others = [name for name in names if name not in rules]
    for name in others:
        if name not in book.datasets:
            known = [*book.datasets, *book.tables, *book.formulas]
            if name in (*book.unusable_datasets, *book.unusable_tables, *book.unusable_formulas):
                raise TableError(
                    [finding for finding in book.reading_findings if name in (finding.table, finding.dataset)]
                )
            raise BookError(
                f"the book has no table, formula or dataset {name!r}", fix=did_you_mean(name, known)
            )
    book.need_readable()
    return rules, [book.datasets[name] for name in dict.fromkeys(others)] or list(book.datasets.values())


class _Versions:
    """The rules as they were, for each dataset; and all that changed, by name."""

    def __init__(
        self, book: OpenBook, only: set[str], against: str | Path, rules: OtherRules | None = None
    ) -> None:
        self.book, self.only = book, only
        self.tables: dict[str, Table] = {}
        self.formulas: dict[str, Formula] = {}
        self.new: tuple[str, ...] = ()
        self.called = str(against)
        self._all: OtherRules | None = None
        self._compared: dict[tuple[str, str], Comparison] = {}
        self._rewritten: dict[tuple[str, str], Rewritten | None] = {}
        if rules is not None:
            self._all = rules
            self._note(rules)
            return
        if str(against) == LAST:
            self.called = "what was applied last"
            return
        self._all = self._other(str(against))
        self._note(self._all)

    def _other(self, given: str) -> OtherRules:
        path = Path(given or "-")
        if path.name == BOOK_FILE and path.is_file():
            path = path.parent
        if (path / BOOK_FILE).is_file():
            return self._of_book(read_book(path))
        if path.suffix == ".toml" and path.is_file():
            table, _, faults = read_table(path)
            name = (
                path.stem if path.stem in self.book.tables or len(self.only) != 1 else next(iter(self.only))
            )
            self.book.table(name)
            if table is None or any(fault.severity == "error" for fault in faults):
                raise TableError(faults)
            return OtherRules({name: table}).only(self.only or {name})
        expected = "`last`, a git revision, the folder of a book, or a table's file"
        revision = Revision.named(self.book.folder, given, "to hold the rules against", expected, [LAST])
        return self._of_book(revision.book())

    def _of_book(self, other: OpenBook) -> OtherRules:
        names = {*other.tables, *other.formulas, *other.unusable_tables, *other.unusable_formulas}
        self.new = tuple(
            name
            for name in (*self.book.tables, *self.book.formulas)
            if name not in names and (not self.only or name in self.only)
        )
        if unusable := [*other.unusable_tables, *other.unusable_formulas]:
            raise BookError(
                f"{listed(sorted(unusable))} could not be read there", fix="choose another version"
            )
        found = rules_of(self.book, other)
        return found.only(self.only) if self.only else found

    def _note(self, rules: OtherRules) -> None:
        self.tables |= rules.tables
        self.formulas |= rules.formulas

    def compared(self, name: str, past: Table) -> Comparison:
        """Return how a table differs from what it was, on what both have; made once."""
        key = name, table_fingerprint(past)
        if key not in self._compared:
            self._compared[key] = compared_rules(past, self.book.tables[name], self.called)
        return self._compared[key]

    def rewritten(self, name: str, past: Table) -> Rewritten | None:
        """Return that a table only was written anew; None where that is not proven. Worked out once."""
        key = name, table_fingerprint(past)
        if key not in self._rewritten:
            self._rewritten[key] = rewritten(past, self.book.tables[name], self.compared(name, past))
        return self._rewritten[key]

    def told(self, name: str, past: Table) -> Comparison:
        """Return that with the examples that tell the two apart."""
        made = self.compared(name, past)
        now = self.book.tables[name]
        if made.is_same:
            return made
        return replace(made, examples=examples_apart(past, now), promises=promises_apart(past, now))

    def of(self, dataset: Dataset) -> OtherRules:
        """Return the rules for a dataset as they were."""
        if self._all is not None:
            return self._all
        below = dataset
        while below.of is not None:  # a summary rests on the rules of what it sums up, and on its own
            below = self.book.datasets[below.of.name]
        found = rules_then(self.book, dataset)
        if below is not dataset and not found.why_not:
            of_below = rules_then(self.book, below)
            found = OtherRules(
                {**of_below.tables, **found.tables}, {**of_below.formulas, **found.formulas}, of_below.why_not
            )
        if self.only:
            found = found.only(self.only)
        self._note(found)
        return found


def _of_dataset(
    book: OpenBook, dataset: Dataset, versions: _Versions, as_of: str, on_rows: OnRows
) -> DatasetImpact:
    rules = versions.of(dataset)
    if rules.why_not:
        return DatasetImpact(dataset.name, why_not=rules.why_not)
    if not rules.tables and not rules.formulas:
        return DatasetImpact(dataset.name)
    before = rules.of(book)
    try:
        if dataset.of is not None and as_of:
            return DatasetImpact(dataset.name, why_not="a summary: what it sums up is told as it was")
        if dataset.of is not None:
            return _SummaryImpact(book, before, dataset, rules).result(on_rows)
        source = source_as_of(book, dataset, as_of) if as_of else source_of(book, dataset)
        stops = [one.table for one in _findings(book, dataset) if one.severity == "error"]
        pair = _prepared(before, dataset, source), _prepared(book, dataset, source)
        made = _RowsImpact(*pair, dataset, rules, versions).result(on_rows)
        said = f"{count(len(stops), 'error')} in {listed(dict.fromkeys(stops))}" if stops else ""
        return replace(made, stopped_by=said)
    except TableError as error:
        return DatasetImpact(dataset.name, why_not=f"{count(len(error.findings), 'error')}: kivvet check")
    except KivvetError as error:
        return DatasetImpact(dataset.name, why_not=error.problem)


def _findings(book: OpenBook, dataset: Dataset) -> list[Finding]:
    """Return what is found in the tables that a dataset uses, alone."""
    tables = [book.tables[name] for name in sorted(book.used_by(dataset)) if name in book.tables]
    return [found for table in tables for found in findings_in_book(book, table)]


def _prepared(book: OpenBook, dataset: Dataset, source: Source) -> Prepared:
    faults = list(book.faults_of(dataset))
    prepared, found = prepared_of(
        dataset, source, book.tables, book.formulas, book.unusable_tables | book.unusable_formulas
    )
    faults += found
    for table in prepared.plan.tables.values():
        faults += [
            finding for finding in findings_in_book(book, table) if finding.kind in ("overlap", "conflict")
        ]
    if errors := [fault for fault in faults if fault.severity == "error"]:
        raise TableError(errors)
    return prepared


class _RowsImpact:
    """What becomes of the rows of one dataset."""

    def __init__(
        self, old: Prepared, new: Prepared, dataset: Dataset, rules: OtherRules, versions: _Versions
    ) -> None:
        self.old, self.new, self.dataset = old, new, dataset
        self.direct = {*rules.tables, *rules.formulas}
        rewritten = {
            name: same for name, past in rules.tables.items() if (same := versions.rewritten(name, past))
        }
        records = column_records(old.plan, old.types, with_classes=False)
        then = {record.name: record.fingerprint for record in records}
        records = column_records(new.plan, new.types, rewritten, with_classes=False)
        today = {record.name: record for record in records}
        self.added = tuple(name for name in today if name not in then)
        self.gone = tuple(name for name in then if name not in today)
        self.changed = [
            name for name, one in today.items() if then.get(name, one.fingerprint) != one.fingerprint
        ]
        self.is_chosen_anew = where_record(old.plan, old.types) != where_record(
            new.plan, new.types, rewritten
        )
        self.makers = {name: step for step in new.plan.steps for name in step.made_names}
        self.same = len(today) - len(self.changed) - len(self.added)

    def result(self, on_rows: OnRows) -> DatasetImpact:
        if not self.changed and not self.is_chosen_anew:
            return DatasetImpact(self.dataset.name, added=self.added, gone=self.gone, same=self.same)
        tallies = {name: self._tally(name) for name in self.changed}
        run = TwoVersions(self.old, self.new, self._part(self.old), self._part(self.new), on_rows=on_rows)
        entering = leaving = 0
        for batch in run.batches():
            kept_then, kept_now = batch.old.kept, batch.new.kept
            kept = kept_now
            if kept_then is not None and kept_now is not None:
                entering += int(np.count_nonzero(kept_now & ~kept_then))
                leaving += int(np.count_nonzero(kept_then & ~kept_now))
                kept = kept_then & kept_now
            for name, tally in tallies.items():
                old, new = batch.old.made[name], batch.new.made[name]
                tally.see(old, new, kept, batch.rows_before, _values_at(batch.new, self.makers[name]))
        run.stop_at_faults()
        columns = tuple(one.result() for one in tallies.values())
        return DatasetImpact(
            self.dataset.name, run.new.n_rows, columns, self.added, self.gone, entering, leaving, self.same
        )

    def _tally(self, name: str) -> ColumnTally:
        maker = self.makers[name].name
        return ColumnTally(name, maker, follows=maker not in self.direct)

    def _part(self, prepared: Prepared) -> Plan:
        """Return what has to be run of a plan: what makes the changed columns, and which rows are kept."""
        plan = prepared.plan
        wanted = {*self.changed, *([plan.where] if plan.where is not None else [])}
        steps = plan.leading_to([step for step in plan.steps if wanted.intersection(step.made_names)])
        return Plan(steps, tuple(self.changed), plan.where)


def _values_at(batch: RunBatch, step: Step) -> Callable[[int], Mapping[str, str]]:
    def values(row: int) -> dict[str, str]:
        columns = batch.columns_of(step)
        return {name: text_at(column, row) for name, column in columns.items() if name in step.decides}

    return values


class _SummaryImpact:
    """What becomes of the lines of one summary, which are matched by their keys."""

    def __init__(self, book: OpenBook, before: OpenBook, dataset: Dataset, rules: OtherRules) -> None:
        assert dataset.of is not None
        self.dataset, self.books = dataset, (before, book)
        self.direct = {*rules.tables, *rules.formulas}
        self.keys = [name for name, _ in dataset.of.by]

    def result(self, on_rows: OnRows) -> DatasetImpact:
        old, new = (self._lines(book, on_rows) for book in self.books)
        places = [
            {key: place for place, key in enumerate(zip(*(table.column(key).to_pylist() for key in self.keys), strict=True))}
            for table in (old, new)
        ]  # fmt: skip
        shared = [key for key in places[1] if key in places[0]]
        pairs = [pa.array([place[key] for key in shared], pa.int64()) for place in places]
        columns: list[ColumnImpact] = []
        same = 0
        for name in (name for name in new.column_names if name not in self.keys and name in old.column_names):
            made = [
                _as_made(name, table.column(name), rows)
                for table, rows in zip((old, new), pairs, strict=True)
            ]
            tally = ColumnTally(name, self.dataset.name, follows=True)
            tally.see(made[0], made[1], None, None, lambda row: dict(zip(self.keys, map(write_plain, shared[row]), strict=True)))  # fmt: skip
            one = tally.result()
            same += not one.changed
            columns += [one] if one.changed else []
        return DatasetImpact(
            self.dataset.name,
            new.num_rows,
            tuple(columns),
            entering=len(places[1]) - len(shared),
            leaving=len(places[0]) - len(shared),
            same=same,
        )

    def _lines(self, book: OpenBook, on_rows: OnRows) -> pa.Table:
        """Return the lines of the summary, with the columns that it makes of them."""
        assert self.dataset.of is not None
        below = book.datasets[self.dataset.of.name]
        source = source_of(self.books[1], below) if below.of is None else source_of(book, below)
        lines = SummarySource(book, self.dataset, below, source)
        prepared = _prepared(book, self.dataset, lines)
        run = Run(prepared, with_report=False)
        arrays: dict[str, list[pa.Array]] = {}
        for batch in run.batches():
            held = {name: batch.read.as_it_stands(name) for name in lines.names}
            held |= {name: _plain(batch.made[name]) for name in prepared.plan.written}
            for name, array in held.items():
                arrays.setdefault(name, []).append(array)
            on_rows(0)
        return pa.table({name: pa.chunked_array(parts) for name, parts in arrays.items()})


def _plain(made: MadeColumn) -> pa.Array:
    array = made.as_arrow()
    return array.dictionary_decode() if isinstance(array, pa.DictionaryArray) else array


def _as_made(name: str, column: pa.ChunkedArray, rows: pa.Array) -> MadeColumn:
    array = column.take(rows).combine_chunks()
    array = array.combine_chunks() if isinstance(array, pa.ChunkedArray) else array
    if pa.types.is_string(array.type):
        encoded = array.dictionary_encode()
        codes = encoded.indices.fill_null(-1).to_numpy(zero_copy_only=False)
        return MadeColumn(name, encoded.dictionary, codes)
    return MadeColumn(name, values=array)
