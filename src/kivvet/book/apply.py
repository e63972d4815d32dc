"""Applying a dataset: its source is streamed through the plan into a new target, which then replaces the old."""

from __future__ import annotations

import datetime as dt
import json
import tempfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pyarrow as pa
import xxhash

from kivvet.book.dataset import Dataset
from kivvet.book.demands import DemandCheck, demands_of
from kivvet.book.journal import Journal
from kivvet.book.read_data import TypedBatch, TypedReader, infer_types, source_of, source_type, types_read
from kivvet.book.record import ColumnRecord, Record, sealed, write_record_beside
from kivvet.book.targets import refuse_strange
from kivvet.core.applied import ApplyReport, Execution
from kivvet.core.columns import Column
from kivvet.core.findings import Finding
from kivvet.core.formulas.formula import Formula
from kivvet.core.made_column import MadeColumn
from kivvet.core.meaning import (
    SEMANTICS_VERSION,
    definition_of,
    fingerprint,
    formula_meaning,
    meaning_of,
    order_of_rows,
)
from kivvet.core.plan import FormulaStep, Plan, Step, make_plan
from kivvet.core.plan_types import formula_faults, with_types
from kivvet.core.tables import RuleTable
from kivvet.core.values import ValueType
from kivvet.errors import DataError, OutputError, Place, TableError, shown_path
from kivvet.io.csv_files import CsvTarget, list_as_text
from kivvet.io.files import hash_bytes_of, replacing, state_of
from kivvet.io.parquet_files import ParquetSource, ParquetTarget
from kivvet.io.sources import Source, is_parquet

if TYPE_CHECKING:
    from kivvet.book.book import Book

_SECONDS_FOR_LOCK = 20
_LONGEST_DEFINITION = 100_000  # of a table or formula in the record of a target, in characters
OnRows = Callable[[int], None]


@dataclass(frozen=True)
class Prepared:
    """A dataset ready to be read: everything that can be known before data arrives is settled."""

    dataset: Dataset
    source: Source
    plan: Plan
    types: Mapping[str, ValueType]
    inferred: frozenset[str] = frozenset()  # those of the columns whose type the data itself gave


def prepare(book: Book, dataset: Dataset) -> tuple[Prepared, list[Finding]]:
    """Open the source and resolve all names; return the faults too, which are the dataset's own."""
    unusable = book.unusable_tables | book.unusable_formulas
    return prepared_of(dataset, book.tables, book.formulas, unusable)


def plan_of(book: Book, dataset: Dataset) -> tuple[Plan, list[Finding]]:
    """Return the plan of a dataset, and the faults in it; of its source only the headings are read."""
    unusable = book.unusable_tables | book.unusable_formulas
    return make_plan(
        dataset.entries, book.tables, source_of(dataset).names, dataset.renamed, unusable, book.formulas
    )


def prepared_of(
    dataset: Dataset, tables: Mapping[str, RuleTable], formulas: Mapping[str, Formula], unusable: set[str]
) -> tuple[Prepared, list[Finding]]:
    """Do as `prepare` does, with tables and formulas that need not be a book's."""
    source = source_of(dataset)
    plan, faults = make_plan(dataset.entries, tables, source.names, dataset.renamed, unusable, formulas)
    types, more = types_read(dataset, plan, source.names)
    inferred: dict[str, ValueType] = {}
    if source.is_text and (unknown := _untyped(plan, types)):
        inferred = infer_types(source, dataset, unknown).types
        types |= inferred
    more += formula_faults(plan, lambda name: source_type(source, types, name))
    plan = with_types(plan, lambda name: source_type(source, types, name))
    faults = [replace(one, dataset=dataset.name) for one in [*faults, *more]]
    return Prepared(dataset, source, plan, types, frozenset(inferred)), faults


def _untyped(plan: Plan, types: Mapping[str, ValueType]) -> list[str]:
    """Return the columns of which no table says the type: those that are compared with other columns only."""
    return [
        column
        for column in plan.source_columns
        if column not in types
        and not any(
            step.table.reads[one.name]
            for step in plan.steps
            for one in step.reads
            if one.column == column and one.from_source
        )
    ]


def column_records(plan: Plan, types: Mapping[str, ValueType]) -> tuple[ColumnRecord, ...]:
    """Return the record of each written column: the hash of all that decides it, apart from the source."""
    meanings: dict[str, str] = {}
    made: dict[str, str] = {}
    records: dict[str, ColumnRecord] = {}
    for step in plan.order:
        name = step.formula.name if isinstance(step, FormulaStep) else step.table.name
        if name not in meanings:
            meanings[name] = fingerprint(
                formula_meaning(step.formula) if isinstance(step, FormulaStep) else meaning_of(step.table)
            )
        decides = step.formula.reads if isinstance(step, FormulaStep) else step.table.deciding_reads
        read = [
            [one.name, "source", one.column, types.get(one.column, "")]
            if one.from_source
            else [one.name, "made", made[one.column]]
            for one in step.reads
            if one.name in decides
        ]
        roles = [(one, ("formula",)) for one in step.made] if isinstance(step, FormulaStep) else step.roles
        for column, role in roles:
            is_number = role == ("row",) and isinstance(step, Step)
            order = [order_of_rows(step.table)] if is_number else []  # type: ignore[union-attr]
            made[column] = fingerprint([meanings[name], [*role, *order], read])
            records[column] = ColumnRecord(column, name, made[column], meanings[name])
    return tuple(records[name] for name in plan.written)


def apply_dataset(
    book: Book,
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
    for table in {step.table.name: step.table for step in prepared.plan.steps}.values():
        faults += book.findings_of(table)
    _stop_at(faults)
    with _locked(book.folder, dataset.target):
        return _write_target(book, prepared, dataset.target, action, on_rows)


def _stop_at(faults: list[Finding]) -> None:
    if errors := [one for one in faults if one.severity == "error"]:
        raise TableError(errors)


def look_ahead(execution: Execution, prepared: Prepared, on_rows: OnRows = lambda _: None) -> None:
    """Work out the formulas that look at other rows, for which the columns they need are read whole.

    Nothing is read where there are none.
    """
    plan = execution.plan
    if not plan.whole_steps:
        return
    steps = plan.leading_to(plan.whole_steps)
    names = list(dict.fromkeys(one.column for step in steps for one in step.reads if one.from_source))
    reader = TypedReader(prepared.source, prepared.dataset, prepared.types)
    columns, n_rows = reader.whole_columns(names, on_rows)
    execution.look_ahead(columns.__getitem__, n_rows)


def _write_target(book: Book, prepared: Prepared, target: Path, action: str, on_rows: OnRows) -> ApplyReport:
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
                demands.see([one.columns_of(batch.column, from_made(made)) for one in plan.steps])
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
        definitions = _definitions(plan)
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


def from_made(made: Mapping[str, MadeColumn]) -> Callable[[str], Column]:
    """Return what gives the columns made."""
    return lambda name: made[name].as_column()


def _definitions(plan: Plan) -> dict[str, tuple[str, dict[str, Any]]]:
    """Return the definitions of the tables and formulas of a plan, by the fingerprints of their meanings."""
    found: dict[str, tuple[str, dict[str, Any]]] = {}
    for table in {step.table.name: step.table for step in plan.steps}.values():
        if (definition := definition_of(table)) is not None:
            found[fingerprint(meaning_of(table))] = (table.name, definition)
    for formula in {step.formula.name: step.formula for step in plan.formula_steps}.values():
        meaning = formula_meaning(formula)
        found[fingerprint(meaning)] = (formula.name, meaning)
    return found


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
