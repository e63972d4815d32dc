"""Applying a dataset in parts: each file of its source is read, classified and written by itself, anywhere, and counts only once
all are there.

What a part comes to is a value: the files that were written, and all that merging needs. Formulas that look at other rows are
worked out before, in one place, from the columns that they read alone; each part is sent its own rows of them.
"""

from __future__ import annotations

import pickle
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.runs.changed_rows import version_of_source
from kivvet.books.runs.demands import DemandCheck
from kivvet.books.runs.fingerprints import column_records, shows_classes
from kivvet.books.runs.moved import since_last_run
from kivvet.books.runs.new_record import SourceRead, new_record, remembered
from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.record import ColumnRecord, read_record
from kivvet.books.runs.row_keys import in_dataset, see_keys
from kivvet.books.runs.run import Run
from kivvet.books.runs.target_writer import TargetWriter
from kivvet.core.run.reports import ApplyReport
from kivvet.core.run.row_keys import RowKeys
from kivvet.core.run.table_step import in_order_told
from kivvet.core.words.errors import BookError, DataError, KivvetError, OutputError, TableError
from kivvet.core.words.findings import Finding, Severity, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, listed
from kivvet.io.files import FileState
from kivvet.io.locations import Location, is_of_parts, shown_location
from kivvet.io.parted_target import PartedTarget, WrittenPart
from kivvet.io.source_and_target import Source

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

OnRows = Callable[[int], None]
#: Of how many rows columns are held in one place for formulas that look at other rows.
MOST_ROWS_IN_ONE_PLACE = 500_000_000


@dataclass(frozen=True)
class Shared:
    """What all parts need, sent once.

    Attributes
    ----------
    prepared : Prepared
        Its source is that of the first part.
    target : Location
    records : tuple of ColumnRecord
    severity : mapping of str to str
        What the book says of kinds of findings.
    """

    prepared: Prepared
    target: Location
    records: tuple[ColumnRecord, ...]
    severity: dict[str, Severity]


@dataclass(frozen=True)
class Job:
    """One part.

    Attributes
    ----------
    number : int
    source : Source
    known : mapping of int to Vector
        What steps that look at other rows give in its rows, by the place of the step.
    """

    number: int
    source: Source
    known: dict[int, Any]


@dataclass(frozen=True)
class Done:
    """What a part came to.

    Attributes
    ----------
    number, rows : int
    parts : tuple of WrittenPart
    report : ApplyReport
    found : tuple of Finding
        What stops the whole.
    state : FileState
        Of what was read.
    columns : tuple of (str, str)
        Names and types of what was written.
    problem : KivvetError or None
        Why it could not be done; nothing was written then.
    """

    number: int
    rows: int
    parts: tuple[WrittenPart, ...]
    report: ApplyReport
    found: tuple[Finding, ...]
    state: FileState | None
    columns: tuple[tuple[str, str], ...] = ()
    problem: KivvetError | None = None


#: Does work on jobs, each with what is shared, anywhere and in any order, and yields what they came to.
Engine = Callable[[Callable[[Any, Any], Any], Any, Sequence[Any]], Iterable[Any]]


def here(work: Callable[[Any, Any], Any], shared: Any, jobs: Sequence[Any]) -> Iterator[Any]:
    """Do all work in this process, one part after the other; what is sent elsewhere otherwise is sent here too."""
    sent = pickle.loads(pickle.dumps(shared))
    for job in jobs:
        yield work(sent, pickle.loads(pickle.dumps(job)))


def rows_of(_: object, source: Source) -> int:
    """Return how many rows a part has."""
    return source.n_rows()


def apply_part(shared: Shared, job: Job) -> Done:
    """Read, classify and write one part; what is wrong with it is told in what it came to."""
    try:
        return _applied(shared, job)
    except KivvetError as error:
        report = ApplyReport(0, ())
        return Done(job.number, 0, (), report, (), None, problem=error)


def _applied(shared: Shared, job: Job) -> Done:
    prepared = replace(shared.prepared, source=job.source)
    marks, state = job.source.marks(), job.source.state_of_part()
    run = Run(prepared, refuses_overlaps=True)
    run.execution.take_known(job.known)
    run.knows_all_rows = True
    demands = DemandCheck(run.plan, shared.severity)
    writer = _writer(prepared, run, shared)
    with writer.to(Path(shown_location(shared.target))):
        for batch in run.batches(None, ahead=writer.typed_columns(run)):
            if demands.is_watching_tables:
                demands.see([batch.columns_of(step) for step in run.plan.table_steps])
            run.reader.convert_declared(batch.read)
            writer.write(batch)
        if not run.n_rows:
            writer.write(run.empty_batch())
        report = run.report(prepared.dataset.name, shown_location(shared.target))
        if job.source.marks() != marks:
            raise DataError(
                "changed while it was read",
                place=Place(job.source.shown_name),
                fix="apply again; nothing was written",
            )
        schema = writer.schema
        parts = tuple(writer.written_parts())
    found = (*run.faults(), *demands.errors(report))
    columns = tuple((field.name, str(field.type)) for field in schema)
    return Done(job.number, run.n_rows, parts, report, found, state, columns)


def _writer(prepared: Prepared, run: Run, shared: Shared) -> TargetWriter:
    return TargetWriter(
        shared.target,
        run.reader.source,
        prepared.source.names,
        prepared.plan.written,
        options=prepared.dataset.written_as,
        rules=shared.records,
        plan=prepared.plan,
    )


def apply_in_parts(
    book: OpenBook,
    prepared: Prepared,
    target: Location,
    engine: Engine,
    action: str,
    note: str,
    on_rows: OnRows,
) -> ApplyReport:
    """Write a target of parts, each by itself, and make them count at once; return the report on all.

    Raises
    ------
    TableError, DataError, OutputError
        As applying it in one place does; of which part, and nothing is changed then.
    BookError
        If source or target are not in parts.
    """
    source = prepared.source
    sources = source.in_parts()
    if sources is None or not is_of_parts(target):
        raise not_in_parts(prepared, target)
    records = tuple(column_records(prepared.plan, prepared.types, with_classes=shows_classes(target)))
    shared = Shared(replace(prepared, source=sources[0]), target, records, dict(book.severity))
    counts, jobs, ahead = jobs_of(prepared, sources, shared, engine, on_rows)
    run = Run(replace(prepared, source=sources[0]))
    run.knows_all_rows = True
    run.execution.take_known(jobs[0].known)
    into = _writer(prepared, run, shared).to(Path(shown_location(target))).begun(run.empty_batch())
    assert isinstance(into, PartedTarget)
    done: list[Done] = []
    try:
        for one_done in engine(apply_part, shared, jobs):
            done.append(one_done)
            on_rows(one_done.rows)
        done.sort(key=lambda one: one.number)
        _refuse_incomplete(done, counts, source)
        report = _merged(prepared, done, ahead, target)
        before = read_record(target).record
        report = replace(report, since=since_last_run(report, before))
        _refuse_faults(book, prepared, done, report)
        state = _state_of(source, done)
        read = SourceRead(
            state,
            sum(counts),
            prepared.types,
            tuple(sorted(prepared.inferred)),
            version=version_of_source(source),
        )
        _take_parts(source, done)
        record, definitions = new_record(book, prepared, records, read, report, before)
        into.parts = [part for one in done for part in one.parts]
        complete = record

        def seal(target_hash: str) -> dict[str, Any]:
            nonlocal complete
            complete = replace(record, target_hash=target_hash)
            return complete.as_dict()

        into.commit(seal)
    except BaseException:
        into.remove([part for one in done for part in one.parts])
        raise
    return remembered(book, prepared, complete, definitions, report, action, note)


def jobs_of(
    prepared: Prepared, sources: Sequence[Source], shared: object, engine: Engine, on_rows: OnRows
) -> tuple[list[int], list[Job], Run | None]:
    """Return the rows of each part, the work on each, and where what looks at other rows was worked out."""
    counts = list(engine(rows_of, shared, sources))
    ahead = _looked_ahead(prepared, sum(counts), on_rows)
    jobs, before_it = [], 0
    for number, (one, n) in enumerate(zip(sources, counts, strict=True)):
        known = {} if ahead is None else ahead.execution.known_of(before_it, before_it + n)
        jobs.append(Job(number, one, known))
        before_it += n
    return counts, jobs, ahead


def report_in_parts(prepared: Prepared, engine: Engine, on_rows: OnRows) -> ApplyReport:
    """Classify a dataset in parts, and write nothing; return the report on all.

    Raises
    ------
    BookError
        If the source is not in parts.
    TableError, DataError
        As applying it does; of which part.
    """
    sources = prepared.source.in_parts()
    if sources is None:
        raise not_in_parts(prepared, None)
    shared = Shared(replace(prepared, source=sources[0]), Path(), (), {})
    counts, jobs, ahead = jobs_of(prepared, sources, shared, engine, on_rows)
    done: list[Done] = []
    for one in engine(count_part, shared, jobs):
        done.append(one)
        on_rows(one.rows)
    done.sort(key=lambda one: one.number)
    _refuse_incomplete(done, counts, prepared.source)
    if errors := _each_once(each for one in done for each in one.found):
        raise TableError(errors)
    return _merged(prepared, done, ahead, Path())


def count_part(shared: Shared, job: Job) -> Done:
    """Read and classify one part, and count."""
    try:
        run = Run(replace(shared.prepared, source=job.source))
        run.execution.take_known(job.known)
        run.knows_all_rows = True
        for _ in run.batches(run.plan.source_columns or None):
            pass
        return Done(job.number, run.n_rows, (), run.report(), tuple(run.faults()), None)
    except KivvetError as error:
        return Done(job.number, 0, (), ApplyReport(0, ()), (), None, problem=error)


def not_in_parts(prepared: Prepared, target: Location | None) -> BookError:
    """Return the error for a dataset that cannot be applied in parts, with the way out."""
    dataset = prepared.dataset
    if dataset.of is not None or prepared.source.in_parts() is None:
        what = (
            "a summary"
            if dataset.of is not None
            else f"{prepared.source.shown_name}, which is read in one place"
        )
        return BookError(
            f"the source of {dataset.name} is not in parts",
            place=dataset.place,
            expected="files, or a lake",
            found=what,
            fix="apply it without another engine",
        )
    return BookError(
        f"the target of {dataset.name} is written by one process",
        place=dataset.place,
        expected="a folder of parts, or a lake",
        found="none" if target is None else shown_location(target),
        fix=f'target = "out/{dataset.name}.parts" or "out/{dataset.name}.delta"',
    )


def in_parts_obstacles(prepared: Prepared) -> list[Finding]:
    """Return what keeps a dataset from being applied in parts, and what of it is worked out in one place."""
    dataset, found = prepared.dataset, []
    places = () if dataset.place is None else (dataset.place,)
    target = dataset.target
    is_fit = target is not None and is_of_parts(target)
    if prepared.source.in_parts() is None or not is_fit:
        error = not_in_parts(prepared, target)
        said = f"{error.problem}: {error.found}"
        found.append(finding("obstacle", said, dataset=dataset.name, places=places, remedy=error.fix or ""))
    for step in prepared.plan.needing_all_rows:
        said = f"{step.name} looks at other rows: what it reads of them is held in one place, at most {MOST_ROWS_IN_ONE_PLACE:,} rows"
        found.append(finding("obstacle", said, severity="note", dataset=dataset.name, places=places))
    return found


def _looked_ahead(prepared: Prepared, n_rows: int, on_rows: OnRows) -> Run | None:
    """Work out, in one place, what looks at other rows; None where nothing does."""
    needing = prepared.plan.needing_all_rows
    if not needing:
        return None
    if n_rows > MOST_ROWS_IN_ONE_PLACE:
        raise DataError(
            f"{listed(step.name for step in needing)} look at other rows, and what they read of {count(n_rows, 'row')} is held in one place",
            expected=f"at most {MOST_ROWS_IN_ONE_PLACE:,} rows",
            fix="leave these formulas out, or divide the source into datasets",
        )
    run = Run(prepared, on_rows=on_rows)
    run.look_ahead()
    run.stop_at_faults()
    return run


def _refuse_incomplete(done: Sequence[Done], counts: Sequence[int], source: Source) -> None:
    """Raise where a part is lacking, has a fault, or is not what was counted."""
    for one in done:
        if one.problem is not None:
            raise one.problem
    if [one.number for one in done] != list(range(len(counts))) or [one.rows for one in done] != list(counts):
        raise OutputError(
            f"{sum(counts):,} rows were to be classed, and {sum(one.rows for one in done):,} came back",
            place=Place(source.shown_name),
            fix="apply again; nothing was written",
        )
    if len({one.columns for one in done}) > 1:
        raise DataError("parts have columns of different types", place=Place(source.shown_name))


def _refuse_faults(book: OpenBook, prepared: Prepared, done: Sequence[Done], report: ApplyReport) -> None:
    """Raise where rules demand of the data what it does not hold."""
    dataset = prepared.dataset
    found = [each for one in done for each in one.found]
    if dataset.key:
        keys = RowKeys(dataset.key)
        see_keys(keys, prepared)
        found += [in_dataset(one, dataset) for one in keys.findings()]
    found += DemandCheck(prepared.plan, book.severity).formula_errors(report)
    if errors := _each_once(one for one in found if one.severity == "error"):
        raise TableError(errors)


def _state_of(source: Source, done: Sequence[Done]) -> FileState:
    """Return what was read, which is what is there."""
    state = source.of_states([one.state for one in done if one.state is not None])
    if state.marks != source.marks():
        raise DataError(
            "changed while it was read",
            place=Place(source.shown_name),
            fix="apply again; nothing was written",
        )
    return state


def _merged(prepared: Prepared, done: Sequence[Done], ahead: Run | None, target: Location) -> ApplyReport:
    """Return the report on all parts; of what looked at other rows that of where it was worked out."""
    report = done[0].report
    for one in done[1:]:
        report = report.merged(one.report)
    steps = prepared.plan.table_steps
    tables = tuple(in_order_told(step, one) for step, one in zip(steps, report.tables, strict=True))
    no_data: dict[str, int] = {}
    for one in done:
        for why, n in one.report.no_data:
            no_data[why] = no_data.get(why, 0) + n
    formulas = report.formulas
    if ahead is not None:
        whole = {formula.formula: formula for formula in ahead.execution.report().formulas}
        needing = {step.name for step in prepared.plan.needing_all_rows}
        formulas = tuple(
            whole[formula.formula] if formula.formula in needing else formula for formula in formulas
        )
    where = "" if prepared.dataset.where is None else prepared.dataset.where.text
    notes = tuple(note.message for note in prepared.source.notes)
    return replace(
        report,
        tables=tables,
        formulas=formulas,
        where=where,
        notes=notes,
        no_data=tuple(no_data.items()),
        target=shown_location(target),
    )


def _take_parts(source: Source, done: Sequence[Done]) -> None:
    """Let a source of many files know how many rows each has, as was counted where it was read."""
    rows = getattr(source, "rows", None)
    if isinstance(rows, list) and len(rows) == len(done):
        rows[:] = [one.rows for one in done]


def _each_once(found: Iterable[Finding]) -> list[Finding]:
    seen: dict[tuple[object, ...], Finding] = {}
    for one in found:
        seen.setdefault((one.kind, one.table, one.dataset, one.remedy), one)
    return list(seen.values())
