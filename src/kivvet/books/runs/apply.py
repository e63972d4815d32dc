"""Applying a dataset: its source is streamed through the plan into a new target, which then replaces the old."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.changed_rows import rows_that_changed, version_of_source
from kivvet.books.runs.demands import DemandCheck
from kivvet.books.runs.fingerprints import (
    column_records,
    shows_classes,
)
from kivvet.books.runs.in_parts import Engine, apply_in_parts
from kivvet.books.runs.moved import since_last_run
from kivvet.books.runs.new_record import SourceRead, new_record, remembered
from kivvet.books.runs.noted_content import note_content
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.record import HeldRecord, Record, read_record, refuse_edited, refuse_strange
from kivvet.books.runs.row_keys import in_dataset, see_keys
from kivvet.books.runs.run import Run
from kivvet.books.runs.since_then import rows_that_came, standing_columns
from kivvet.books.runs.summary_source import SummarySource
from kivvet.books.runs.table_findings import findings_in_book
from kivvet.books.runs.target_lock import locked
from kivvet.books.runs.target_writer import (
    NotExtendedError,
    NotTakenOverError,
    TakenOver,
    TargetWriter,
    taken_over_of_source,
)
from kivvet.books.runs.views import is_view, publish
from kivvet.core.run.plan import Plan
from kivvet.core.run.reports import ApplyReport
from kivvet.core.run.row_keys import RowKeys
from kivvet.core.words.errors import DataError, OutputError, TableError
from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place
from kivvet.core.words.values import ValueType
from kivvet.io.databases.database_target import NotMergedError
from kivvet.io.databases.places import InDatabase
from kivvet.io.files import FileMarks, FileState
from kivvet.io.locations import (
    Location,
    format_to,
    holds_sheets,
    is_there,
    make_ready,
    open_location,
    replacing_at,
    shown_location,
)

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

OnRows = Callable[[int], None]


def apply_dataset(
    book: OpenBook,
    dataset: Dataset,
    *,
    action: str = "apply",
    note: str = "",
    replace_other: bool = False,
    replace_edited: bool = False,
    engine: Engine | None = None,
    on_rows: OnRows = lambda _: None,
) -> ApplyReport:
    """Write the target of a dataset anew, all rows of its source with the new columns; return the report.

    Parameters
    ----------
    action, note : str
        What the history says of the run: which command it was, and what whoever ran it wrote about it.
    replace_other : bool
        Whether a file that Kivvet did not write may be replaced.
    replace_edited : bool
        Whether a target that something else changed since it was written may be replaced.
    engine : callable, optional
        Does the work on parts of the source, wherever it does; without it all is done here.

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
    make_ready(dataset.target)
    if not replace_other:
        refuse_strange(dataset.target, read_record(dataset.target))
    needs_types = format_to(dataset.target).keeps_types
    # A refresh may find them in the target.
    prepared, faults = prepare(book, dataset, with_all_types=needs_types and action != "refresh")
    of_source = prepared.source.tables if isinstance(prepared.source, SummarySource) else {}
    for table in {**of_source, **prepared.plan.tables}.values():
        faults += findings_in_book(book, table)
    _stop_at(faults)
    with locked(book.folder, dataset.target):
        held = read_record(dataset.target, book.folder)
        if not replace_other and not replace_edited:
            refuse_edited(dataset.target, held)
        if engine is not None:
            return apply_in_parts(book, prepared, dataset.target, engine, action, note, on_rows)
        if is_view(dataset):
            return publish(book, prepared, action, note, on_rows)
        return _write_target(book, prepared, dataset.target, _How(action, note, held), on_rows)


def _stop_at(faults: list[Finding]) -> None:
    if errors := [fault for fault in faults if fault.severity == "error"]:
        raise TableError(errors)


@dataclass(frozen=True)
class _How:
    """What the history says of a run, and what was kept with the target when it began."""

    action: str
    note: str
    held: HeldRecord


@dataclass(frozen=True)
class _Work:
    """What is to be run for a target, and what is known of its source.

    Attributes
    ----------
    run : Run
    names : sequence of str or None
        The columns that are read; None: all.
    state : FileState
        Of the source.
    types : mapping of str to str
        By column of the source, the type its text is read as.
    inferred : tuple of str
        Those of the columns whose type the data itself gave.
    taken_over : TakenOver or None
        The columns that are not written but copied.
    notes, kept : tuple of str
        Of the report.
    parts : tuple of mapping
        What the files of the source are known to be; empty: as they were just read.
    grown : Record or None
        Of the target, where only the rows are run that came since, and the others stand.
    standing : int or None
        Where only the rows are run that came or changed: how many stand beside them.
    """

    run: Run
    names: Sequence[str] | None
    state: FileState
    types: Mapping[str, ValueType]
    inferred: tuple[str, ...]
    taken_over: TakenOver | None
    notes: tuple[str, ...] = ()
    kept: tuple[str, ...] = ()
    parts: tuple[Mapping[str, Any], ...] = ()
    grown: Record | None = None
    standing: int | None = None


def _all_columns(
    prepared: Prepared, target: Location, on_rows: OnRows, apart_from: Collection[str] = ()
) -> _Work:
    """Return the work of making every column, from the source.

    Parameters
    ----------
    apart_from : collection of str
        Columns that are not taken over as the source encodes them.
    """
    state = prepared.source.identity()
    notes = [
        f"column {name} holds whole numbers that 64 bits do not hold, such as {example}: it stays text"
        for name, example in prepared.long_wholes.items()
        if format_to(target).keeps_types
    ]
    notes += [note.message for note in prepared.source.notes]
    run = Run(prepared, refuses_overlaps=True, on_rows=on_rows)
    taken_over = None
    if run.plan.where is None:
        read = [*run.plan.source_columns, *prepared.dataset.key]
        taken_over = taken_over_of_source(run.reader, target, read, apart_from)
    if taken_over is not None:
        run.read_codes(taken_over.names)
    names = None if taken_over is None else _read_besides(taken_over, run)
    inferred = tuple(sorted(prepared.inferred))
    return _Work(run, names, state, prepared.types, inferred, taken_over, tuple(notes))


def _changed_columns(
    book: OpenBook, prepared: Prepared, target: Location, held: HeldRecord, on_rows: OnRows
) -> _Work | None:
    """Return the work of making those columns only that changed, from what the target holds; None where it cannot be
    told which these are, or its others cannot be taken over.
    """
    plan, marks = prepared.plan, prepared.source.marks()
    if plan.where is not None:
        return None  # which rows it holds may have changed
    if holds_sheets(target):
        return None  # which takes over nothing
    found = (
        standing_columns(book, prepared, target, held)
        if isinstance(target, Path) and target.is_file()
        else None
    )
    if found is None or marks is None:
        return None
    record, standing = found
    try:
        before = open_location(target)
    except DataError:  # an empty file, which holds nothing to take over
        return None
    encoded = before.encoded()
    if encoded is None or not {*prepared.source.names, *standing} <= set(before.names):
        return None
    changed = [name for name in plan.written if name not in standing]
    steps = plan.leading_to([step for step in plan.steps if set(changed) & set(step.made_names)])
    only = replace(prepared, source=before, plan=Plan(steps, tuple(changed)))
    run = Run(only, types=record.types, refuses_overlaps=True, on_rows=on_rows)
    taken_over = TakenOver(encoded, frozenset({*prepared.source.names, *standing}))
    run.read_codes(taken_over.names)
    kept = tuple(name for name in plan.written if name in standing)
    state = FileState(record.source_hash, marks)
    names = _read_besides(taken_over, run)
    return _Work(run, names, state, record.types, record.inferred, taken_over, kept=kept, parts=record.parts)


def _rows_that_came(
    book: OpenBook, prepared: Prepared, target: Location, held: HeldRecord, on_rows: OnRows
) -> _Work | None:
    """Return the work of making the rows only that came at the end of the source; None where it is not certain that all
    others stand.
    """
    if isinstance(target, InDatabase) or not is_there(target):
        return None  # a database is filled anew
    found = rows_that_came(book, prepared, target, held)
    if found is None:
        return None
    record, rest = found
    state = prepared.source.identity()
    only = replace(prepared, source=rest, types=record.types)
    run = Run(only, refuses_overlaps=True, on_rows=on_rows, rows_before=record.rows)
    return _Work(run, None, state, record.types, record.inferred, None, grown=record)


def _rows_that_changed(
    book: OpenBook, prepared: Prepared, target: Location, held: HeldRecord, on_rows: OnRows
) -> _Work | None:
    """Return the work of making those rows of a table of a database that came or changed; None where they are not found for certain."""
    found = rows_that_changed(book, prepared, target, held)
    if found is None:
        return None
    record, rest = found
    state = prepared.source.identity()
    standing = prepared.source.n_rows() - rest.n_rows()
    run = Run(replace(prepared, source=rest), refuses_overlaps=True, on_rows=on_rows, rows_before=standing)
    return _Work(run, None, state, record.types, record.inferred, None, standing=standing)


def _read_besides(taken_over: TakenOver, run: Run) -> Sequence[str]:
    """Return the columns that are read although others are taken over; one at least, so that rows are counted."""
    source, read = run.reader.source, {*run.plan.source_columns, *run.reader.dataset.key}
    names = [name for name in source.names if name in read or name not in taken_over.names]
    return [name for name in names if name not in run.plan.written] or source.names[:1]


def _write_target(
    book: OpenBook, prepared: Prepared, target: Location, how: _How, on_rows: OnRows
) -> ApplyReport:
    dataset = prepared.dataset
    work = None
    if how.action == "refresh":
        work = _changed_columns(book, prepared, target, how.held, on_rows)
        came = None
        if work is None and isinstance(target, InDatabase):
            came = _rows_that_changed(book, prepared, target, how.held, on_rows)
        elif work is None:
            came = _rows_that_came(book, prepared, target, how.held, on_rows)
        if came is not None:
            # Faults are told of all rows, below.
            with suppress(NotExtendedError, NotMergedError, NotTakenOverError, TableError, DataError):
                return _written(book, prepared, target, how, came)
        if work is None and format_to(target).keeps_types:
            prepared, _ = prepare(book, dataset, with_all_types=True)
    apart: set[str] = set()
    while True:
        try:
            return _written(
                book, prepared, target, how, work or _all_columns(prepared, target, on_rows, apart)
            )
        except NotTakenOverError as error:
            work = None
            apart.add(error.name)


def _written(book: OpenBook, prepared: Prepared, target: Location, how: _How, work: _Work) -> ApplyReport:
    """Do the work and put the new target in the place of the old; `NotExtendedError` where rows cannot be added to it."""
    dataset, source, plan = prepared.dataset, prepared.source, prepared.plan
    run = work.run
    demands = DemandCheck(run.plan, book.severity)
    records = column_records(plan, prepared.types, with_classes=shows_classes(target))
    is_of_some = work.grown is not None or work.standing is not None
    later = run.made_last if format_to(target).takes_columns_later and not is_of_some else ()
    writer = TargetWriter(
        target,
        run.reader.source,
        source.names,
        plan.written,
        work.taken_over,
        dataset.written_as,
        is_extended=work.grown is not None,
        key=dataset.key if work.standing is not None else (),
        n_rows=0 if work.standing is None else source.n_rows(),
        rules=records,
        plan=plan,
        later=later,
    )
    keys = RowKeys(dataset.key) if dataset.key else None
    n_before = run.n_rows
    with replacing_at(target) as part, writer.to(part):
        for batch in run.batches(
            work.names,
            ahead=writer.typed_columns(run),
            keeps_texts=not writer.format.keeps_types,
            is_last_later=bool(later),
        ):
            if demands.is_watching_tables:
                demands.see([batch.columns_of(step) for step in run.plan.table_steps])
            if work.names is None:
                run.reader.convert_declared(batch.read)
            if keys is not None and not is_of_some and not work.kept:
                keys.see([batch.read.typed(name) for name in dataset.key])
            writer.write(batch)
        before = how.held.now().record
        report = run.report(dataset.name, shown_location(target))
        where = "" if dataset.where is None else dataset.where.text
        standing = work.standing if work.grown is None else work.grown.rows - work.grown.left_out
        report = replace(report, notes=work.notes, kept=work.kept, where=where, standing=standing)
        report = replace(report, is_merged=work.standing is not None)
        report = replace(report, since=since_last_run(report, before))
        if keys is not None and is_of_some:
            see_keys(keys, prepared)
        _stop_at([*run.faults(), *demands.errors(report), *_about(dataset, keys)])
        if work.state.marks != source.marks():
            raise DataError(
                "changed while it was read",
                place=Place(source.shown_name),
                fix="apply again; nothing was written",
            )
        if run.n_rows == n_before:
            writer.write(run.empty_batch())
        if later:
            writer.write_later(run.last_batches())
        read = SourceRead(
            work.state, run.n_rows, work.types, work.inferred, work.parts, version_of_source(source)
        )
        n_left_out = 0 if work.grown is None else work.grown.left_out
        record, definitions = new_record(book, prepared, records, read, report, before, n_left_out)
        record = writer.commit(record)
        written = FileMarks.of(part)
    note_content(book.folder, target, record.target_hash, written)
    return remembered(book, prepared, record, definitions, report, how.action, how.note)


def _about(dataset: Dataset, keys: RowKeys | None) -> list[Finding]:
    """Return what is wrong with the keys of the rows, as findings about the dataset."""
    return [] if keys is None else [in_dataset(one, dataset) for one in keys.findings()]
