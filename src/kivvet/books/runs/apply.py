"""Applying a dataset: its source is streamed through the plan into a new target, which then replaces the old."""

from __future__ import annotations

import datetime as dt
import json
import tempfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import pyarrow as pa
import xxhash

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.demands import DemandCheck, demands_of
from kivvet.books.runs.fingerprints import column_records, definitions_of
from kivvet.books.runs.journal import Journal
from kivvet.books.runs.prepare import Prepared, from_made, look_ahead, prepare
from kivvet.books.runs.read_data import (
    TypedBatch,
    TypedReader,
    infer_types,
)
from kivvet.books.runs.record import Record, refuse_strange, sealed, write_record_beside
from kivvet.books.runs.table_findings import findings_in_book
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.read.meaning import (
    SEMANTICS_VERSION,
)
from kivvet.core.run.execution import Execution
from kivvet.core.run.reports import ApplyReport
from kivvet.core.words.errors import DataError, OutputError, TableError
from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.csv_files import CsvTarget, list_as_text
from kivvet.io.files import hash_bytes_of, replacing, state_of
from kivvet.io.parquet_files import ParquetSource, ParquetTarget
from kivvet.io.sources import Source, is_parquet

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

_SECONDS_FOR_LOCK = 20
_LONGEST_DEFINITION = 100_000  # of a table or formula in the record of a target, in characters
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
    if errors := [one for one in faults if one.severity == "error"]:
        raise TableError(errors)


def _write_target(
    book: OpenBook, prepared: Prepared, target: Path, action: str, on_rows: OnRows
) -> ApplyReport:
    dataset, source, plan = prepared.dataset, prepared.source, prepared.plan
    state = state_of(source.path)
    types = dict(prepared.types)
    inferred, notes = set(prepared.inferred), []
    if source.is_text and is_parquet(target):
        found = infer_types(source, dataset, [name for name in source.names if name not in types])
        types |= found.types
        inferred |= set(found.types)
        notes = [
            f"column {name} holds whole numbers that 64 bits do not hold, such as {example}: it stays text"
            for name, example in found.long_wholes.items()
        ]
    reader = TypedReader(source, dataset, types)
    execution = Execution(plan)
    demands = DemandCheck(plan, book.severity)
    look_ahead(execution, prepared, on_rows)
    with replacing(target) as part, _Writer(part, target, prepared, reader) as writer:
        for batch in reader.batches():
            made = execution.apply(batch.column, batch.num_rows)
            if demands.is_watching_tables:
                demands.see([one.columns_of(batch.column, from_made(made)) for one in plan.table_steps])
            reader.convert_declared(batch)
            writer.write(batch.batch, batch.typed, made)
            on_rows(batch.num_rows)
        report = replace(execution.report(dataset.name, shown_path(target)), notes=tuple(notes))
        _stop_at([*reader.faults(), *demands.errors(report)])
        if not state.same_marks(source.path):
            raise DataError(
                "changed while it was read",
                place=Place(shown_path(source.path)),
                fix="apply again; nothing was written",
            )
        if execution.n_rows == 0:
            empty = TypedBatch(reader, _empty_batch(source), 0)
            writer.write(empty.batch, empty.typed, execution.apply(empty.column, 0))
        definitions = definitions_of(plan)
        small = {
            key: [name, one]
            for key, (name, one) in definitions.items()
            if len(json.dumps(one)) <= _LONGEST_DEFINITION
        }
        record = Record(
            dataset.name,
            dt.datetime.now(dt.UTC).isoformat(timespec="seconds"),
            execution.n_rows,
            source.path.name,
            state.hash,
            dataset.read_options(),
            column_records(plan, prepared.types),
            types,
            tuple(sorted(inferred)),
            demands_of(plan, book.severity),
            small,
            SEMANTICS_VERSION,
        )
        record = writer.close(record)
    Journal(book.folder).remember(dataset.name, action, record.made_at, record.to_json(), definitions)
    return report


def _empty_batch(source: Source) -> pa.RecordBatch:
    schema = (
        source.schema
        if isinstance(source, ParquetSource)
        else pa.schema([(name, pa.string()) for name in source.names])
    )
    return pa.RecordBatch.from_arrays([pa.nulls(0, one.type) for one in schema], schema=schema)


class _Writer:
    """The new target under way; what is written of the source depends on the kind of both files."""

    def __init__(self, part: Path, target: Path, prepared: Prepared, reader: TypedReader) -> None:
        self.part = part
        self.target = target
        self.prepared = prepared
        self.reader = reader
        self.file: ParquetTarget | CsvTarget | None = None

    def __enter__(self) -> _Writer:
        return self

    def __exit__(self, *_: object) -> None:
        """Let go of a file that was not finished."""
        if self.file is not None:
            self.file.abandon()

    def write(
        self, batch: pa.RecordBatch, typed: Callable[[str], pa.Array], made: Mapping[str, MadeColumn]
    ) -> None:
        names = self.prepared.source.names
        keeps_fields = not is_parquet(self.target)
        arrays = [batch.column(name) if keeps_fields else typed(name) for name in names]
        new = [made[name].as_arrow() for name in self.prepared.plan.written]
        if keeps_fields:
            new = [list_as_text(array) for array in new]
        if self.file is None:
            self.file = self._opened([*arrays, *new])
        self.file.write([*arrays, *new])

    def _opened(self, arrays: list[pa.Array]) -> ParquetTarget | CsvTarget:
        source, written = self.prepared.source, self.prepared.plan.written
        if not is_parquet(self.target):
            delimiter = "\t" if self.target.suffix.lower() == ".tsv" else ","
            return CsvTarget(self.part, [*source.names, *written], delimiter)
        fields = [
            pa.field(name, array.type) for name, array in zip([*source.names, *written], arrays, strict=True)
        ]
        metadata = None
        if isinstance(source, ParquetSource):
            kept = list(source.schema)
            fields[: len(kept)] = [
                field if field.type == array.type else field.with_type(array.type)
                for field, array in zip(kept, arrays, strict=False)
            ]
            metadata = {
                key: value
                for key, value in (source.schema.metadata or {}).items()
                if key not in (b"pandas", b"ARROW:schema", b"kivvet")
            }
        return ParquetTarget(self.part, pa.schema(fields, metadata or None))

    def close(self, record: Record) -> Record:
        """Finish the file and its record; return the record complete."""
        file, self.file = self.file, None
        assert file is not None
        if isinstance(file, ParquetTarget):
            return sealed(record, self.part, file.close, file.flush)
        file.close()
        record = replace(record, target_hash=hash_bytes_of(self.part))
        write_record_beside(self.target, record)
        return record


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
