"""Working out again what a run wrote: from its source, by the rules of then."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.fingerprints import column_records, shows_classes, where_record
from kivvet.books.runs.other_rules import past_formula
from kivvet.books.runs.prepare import Prepared, prepared_of
from kivvet.books.runs.record import Record
from kivvet.books.runs.run import Run
from kivvet.books.runs.same_meaning import past_definition
from kivvet.books.runs.since_then import grown_from, is_source_of
from kivvet.books.runs.sources import source_of
from kivvet.books.runs.target_writer import TargetWriter
from kivvet.core.formulas.formula import Formula
from kivvet.core.read.meaning import SEMANTICS_VERSION, table_of
from kivvet.core.run.reports import ApplyReport
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError, TableError
from kivvet.core.words.kept import without_kept
from kivvet.io.first_rows import FirstRows

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

OnRows = Callable[[int], None]


def book_then(book: OpenBook, record: Record) -> OpenBook:
    """Return the book with the tables and formulas by which a target was made.

    Raises
    ------
    BookError
        If one of them is not remembered, or the target was made by another version of Kivvet.
    """
    if record.semantics != SEMANTICS_VERSION:
        raise BookError("it was made by another version of Kivvet, which may have given other results")
    tables: dict[str, Table] = {}
    formulas: dict[str, Formula] = {}
    told = {name: key for key, (name, _) in record.definitions.items()}
    for name, key in record.rule_versions.items():
        definition = past_definition(book, record, key)
        if definition is None and name not in told and name not in book.tables and name not in book.formulas:
            continue  # what is made of classes has no rules of its own
        if definition is None:
            raise BookError(
                f"how {name} was then is not remembered",
                expected="a run that this machine remembers, or the history that a team keeps",
            )
        if "formula" in definition:
            formula = past_formula(book, record, name, key)
            assert formula is not None
            formulas[name] = formula
        elif "rows" in definition or "lookup" in definition:
            tables[name] = table_of(name, definition)
    made = without_kept(book)
    made.tables = {**{k: v for k, v in book.tables.items() if k not in formulas}, **tables}
    made.formulas = {**{k: v for k, v in book.formulas.items() if k not in tables}, **formulas}
    return made


@dataclass(frozen=True)
class Again:
    """What a run wrote, ready to be worked out again.

    Attributes
    ----------
    prepared : Prepared
    record : Record
    is_same_source : bool
        Whether the source still begins with all that it held then; else it is that of today, and only the rules are those
        of then.
    """

    prepared: Prepared
    record: Record
    is_same_source: bool

    def write(
        self, target: Path, beside: Path, on_rows: OnRows = lambda _: None
    ) -> tuple[ApplyReport, Record]:
        """Write it to a file beside, which will be the target; return the report, and the record with the hash of what was
        written.
        """
        run = Run(self.prepared, refuses_overlaps=False, on_rows=on_rows)
        plan, source = self.prepared.plan, self.prepared.source
        options = self.prepared.dataset.written_as
        writer = TargetWriter(
            target, source, source.names, plan.written, options=options, rules=self.record.columns, plan=plan
        )
        most = self.record.rows if self.is_same_source else None
        with writer.to(beside):
            for batch in run.batches(most_rows=most, keeps_texts=not writer.format.keeps_types):
                writer.write(batch)
            run.stop_at_faults()
            if run.execution.n_rows == 0:
                writer.write(run.empty_batch())
            record = writer.commit(self.record)
        return run.report(self.record.dataset, str(target)), record


def as_then(book: OpenBook, dataset: Dataset, record: Record, *, any_source: bool = False) -> Again:
    """Return a dataset as it was when a target was written.

    Parameters
    ----------
    dataset : Dataset
        As the book said it then.
    any_source : bool
        Whether the source may be another one than it was.

    Raises
    ------
    BookError, TableError, DataError
        If it cannot be told how it was, or the source cannot be read.
    """
    if dataset.of is not None:
        raise BookError(
            f"{dataset.name} is a summary: work out what it sums up, {dataset.of.name}, as it was"
        )
    then = book_then(book, record)
    source = source_of(book, dataset)
    if not is_source_of(record, source):
        source = source.as_it_was(record.source_hash) or source
    prepared, faults = prepared_of(dataset, source, then.tables, then.formulas, set())
    if errors := [fault for fault in faults if fault.severity == "error"]:
        raise TableError(errors)
    is_same = is_source_of(record, source)
    if (
        not is_same and source.rows_since(grown_from(record)) is not None
    ):  # all of then stand before the new ones
        is_same = True
        prepared = replace(prepared, source=FirstRows(source, record.rows))
    if not is_same and not any_source:
        raise BookError(
            f"the source {source.shown_name} is not what it was on {record.made_at[:10]}",
            expected="the file of then",
            fix="put it back; or apply the rules of then to the file of today: --any-source",
        )
    types = {**prepared.types, **record.types} if is_same else prepared.types
    prepared = replace(prepared, types=types)
    records = column_records(prepared.plan, types, with_classes=shows_classes(dataset.target))
    made = {record.name: record.fingerprint for record in records}
    wanted = {column.name: column.fingerprint for column in record.columns}
    differing = [name for name in {**wanted, **made} if made.get(name) != wanted.get(name)]
    if is_same and (differing or where_record(prepared.plan, types) != record.where):
        raise BookError(
            f"how {differing[0] if differing else 'the condition of the rows'} was made then is not remembered whole",
            expected="a run of a version that remembers the dataset too",
        )
    return Again(prepared, record, is_same)
