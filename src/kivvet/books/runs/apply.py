"""Applying a dataset: its source is streamed through the plan into a new target, which then replaces the old."""

from __future__ import annotations

import datetime as dt
import tempfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import astuple, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pyarrow as pa
import xxhash

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.demands import DemandCheck, demands_of
from kivvet.books.runs.fingerprints import column_records, definitions_of, is_short
from kivvet.books.runs.journal import Journal
from kivvet.books.runs.prepare import Prepared, prepare
from kivvet.books.runs.read_data import (
    infer_types,
)
from kivvet.books.runs.record import Record, refuse_strange
from kivvet.books.runs.run import Run, RunBatch
from kivvet.books.runs.table_findings import findings_in_book
from kivvet.core.read.meaning import (
    SEMANTICS_VERSION,
)
from kivvet.core.run.reports import ApplyReport
from kivvet.core.words.errors import DataError, OutputError, TableError
from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.csv_target import list_as_text
from kivvet.io.files import replacing
from kivvet.io.formats import target_format
from kivvet.io.queued import QueuedTarget
from kivvet.io.source_and_target import Target

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

_SECONDS_FOR_LOCK = 20
OnRows = Callable[[int], None]


def apply_dataset(
    book: OpenBook,
    dataset: Dataset,
    *,
    action: str = "apply",
    replace_other: bool = False,
    on_rows: OnRows = lambda _: None,
) -> ApplyReport:
    """Write the target of a dataset anew, all rows of its source with the new columns; return the report.

    Parameters
    ----------
    replace_other : bool
        Whether a file that Kivvet did not write may be replaced.

    Raises
    ------
    TableError
        If the tables used have errors, names are not found, or fields do not convert.
    DataError, OutputError
        If the source cannot be read or the target not be written. What was there before is still there.
    """
    if dataset.target is None:
        raise OutputError(
            f"dataset {dataset.name!r} has no target",
            place=dataset.place,
            fix=f'add target = "out/{dataset.name}.parquet"',
        )
    _stop_at(book.faults_of(dataset))
    if not replace_other:
        refuse_strange(dataset.target)
    prepared, faults = prepare(book, dataset)
    for table in prepared.plan.tables.values():
        faults += findings_in_book(book, table)
    _stop_at(faults)
    with _locked(book.folder, dataset.target):
        return _write_target(book, prepared, dataset.target, action, on_rows)


def _stop_at(faults: list[Finding]) -> None:
    if errors := [fault for fault in faults if fault.severity == "error"]:
        raise TableError(errors)


def _write_target(
    book: OpenBook, prepared: Prepared, target: Path, action: str, on_rows: OnRows
) -> ApplyReport:
    dataset, source, plan = prepared.dataset, prepared.source, prepared.plan
    state = source.identity()
    types = dict(prepared.types)
    inferred, notes = set(prepared.inferred), []
    if source.is_text and target_format(target).keeps_types:
        found = infer_types(source, dataset, [name for name in source.names if name not in types])
        types |= found.types
        inferred |= set(found.types)
        notes = [
            f"column {name} holds whole numbers that 64 bits do not hold, such as {example}: it stays text"
            for name, example in found.long_wholes.items()
        ]
    run = Run(prepared, types=types, refuses_overlaps=True, on_rows=on_rows)
    demands = DemandCheck(plan, book.severity)
    with replacing(target) as part, _Writer(part, target, prepared) as writer:
        for batch in run.batches():
            if demands.is_watching_tables:
                demands.see([batch.columns_of(step) for step in plan.table_steps])
            run.reader.convert_declared(batch.read)
            writer.write(batch)
        report = replace(run.report(dataset.name, shown_path(target)), notes=tuple(notes))
        _stop_at([*run.faults(), *demands.errors(report)])
        if state.marks != source.marks():
            raise DataError(
                "changed while it was read",
                place=Place(source.shown_name),
                fix="apply again; nothing was written",
            )
        if run.n_rows == 0:
            writer.write(run.empty_batch())
        journal = Journal(book.folder)
        definitions = definitions_of(plan, journal.remembered())
        small = {key: [name, one] for key, (name, one) in definitions.items() if is_short(one)}
        record = Record(
            dataset.name,
            dt.datetime.now(dt.UTC).isoformat(timespec="seconds"),
            run.n_rows,
            source.path.name,
            state.hash,
            dataset.read_options(),
            column_records(plan, prepared.types),
            types,
            tuple(sorted(inferred)),
            demands_of(plan, book.severity),
            small,
            SEMANTICS_VERSION,
            astuple(state.marks),
        )
        record = writer.commit(record)
    journal.remember(dataset.name, action, record.made_at, record.to_json(), definitions)
    return report


class _Writer:
    """The new target under way; what is written of the source depends on the formats of both."""

    def __init__(self, part: Path, target: Path, prepared: Prepared) -> None:
        self.part = part
        self.target = target
        self.format = target_format(target)
        self.source, self.written = prepared.source, prepared.plan.written
        self.file: Target | None = None

    def __enter__(self) -> _Writer:
        return self

    def __exit__(self, *_: object) -> None:
        """Let go of a file that was not finished."""
        if self.file is not None:
            self.file.abandon()

    def write(self, batch: RunBatch) -> None:
        """Write a batch of the source with the columns made of it."""
        field_of = batch.read.typed if self.format.keeps_types else batch.read.batch.column
        arrays = [field_of(name) for name in self.source.names]
        new = [batch.made[name].as_arrow() for name in self.written]
        arrays += new if self.format.keeps_types else map(list_as_text, new)
        if self.file is None:
            assert self.format.create is not None
            self.file = QueuedTarget(self.format.create(self.part, self.target, self._schema(arrays)))
        self.file.write(arrays)

    def _schema(self, arrays: list[pa.Array]) -> pa.Schema:
        """Return the schema of the target: the fields of the source's own as they are stored, where it has
        types.
        """
        names = [*self.source.names, *self.written]
        fields = [pa.field(name, array.type) for name, array in zip(names, arrays, strict=True)]
        stored = self.source.stored_schema
        if stored is None:
            return pa.schema(fields)
        fields[: len(stored)] = [
            field if field.type == array.type else field.with_type(array.type)
            for field, array in zip(stored, arrays, strict=False)
        ]
        metadata = {
            key: value
            for key, value in (stored.metadata or {}).items()
            if key not in (b"pandas", b"ARROW:schema", b"kivvet")
        }
        return pa.schema(fields, metadata or None)

    def commit(self, record: Record) -> Record:
        """Finish the file with its record; return the record complete."""
        complete = record

        def seal(target_hash: str) -> Mapping[str, Any]:
            nonlocal complete
            complete = replace(record, target_hash=target_hash)
            return complete.as_dict()

        file, self.file = self.file, None
        assert file is not None
        file.commit(seal)
        return complete


@contextmanager
def _locked(folder: Path, target: Path) -> Iterator[None]:
    """Hold the lock of a target, so that two processes never write it at once."""
    import filelock

    name = f"{xxhash.xxh3_64_hexdigest(str(target.resolve()).encode())}.lock"
    locks = folder / ".kivvet" / "locks"
    try:
        locks.mkdir(parents=True, exist_ok=True)
    except OSError:
        locks = Path(tempfile.gettempdir())
    try:
        with filelock.FileLock(locks / name, timeout=_SECONDS_FOR_LOCK):
            yield
    except filelock.Timeout:
        raise OutputError(
            "another kivvet is writing this target",
            place=Place(shown_path(target)),
            fix="wait until it has ended, then try again",
        ) from None
