"""The record of a target that is about to be written, however it is written, and the history's line of it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import asdict, astuple, dataclass, replace
from typing import TYPE_CHECKING, Any

from kivvet.books.runs.demands import demands_of
from kivvet.books.runs.fingerprints import definitions_of, is_short, where_record
from kivvet.books.runs.memory import Memory
from kivvet.books.runs.moved import counts_to_remember
from kivvet.books.runs.past_run import PastRun, whoever_runs
from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.record import ColumnRecord, Record
from kivvet.books.runs.summary_source import SummarySource
from kivvet.core.read.meaning import SEMANTICS_VERSION
from kivvet.core.run.reports import ApplyReport
from kivvet.core.words.values import ValueType
from kivvet.io.files import FileState

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook
    from kivvet.books.runs.journal import Definitions


@dataclass(frozen=True)
class SourceRead:
    """What was read of a source.

    Attributes
    ----------
    state : FileState
    rows : int
    types : mapping of str to str
        By column the type its text is read as.
    inferred : tuple of str
        Those whose type the data itself gave.
    parts : tuple of mapping
        What its files were known to be; empty: as the source says.
    version : object
        Of a source in a database, as the record keeps it.
    """

    state: FileState
    rows: int
    types: Mapping[str, ValueType]
    inferred: tuple[str, ...]
    parts: tuple[Mapping[str, Any], ...] = ()
    version: Any = None


def new_record(
    book: OpenBook,
    prepared: Prepared,
    columns: Sequence[ColumnRecord],
    read: SourceRead,
    report: ApplyReport,
    before: Record | None,
    left_out_before: int = 0,
) -> tuple[Record, Definitions]:
    """Return the record of a target, and the definitions that the history is to keep.

    Parameters
    ----------
    before : Record or None
        Of the target that is replaced.
    left_out_before : int
        Of the rows that stand, those that were not written.
    """
    dataset, source, plan = prepared.dataset, prepared.source, prepared.plan
    memory = Memory.of(book)
    definitions = definitions_of(plan.steps, memory.remembered())
    below: dict[str, Any] = {}
    if isinstance(source, SummarySource):
        definitions |= source.definitions(memory.remembered())
        below = source.below_it
    small = {key: [name, one] for key, (name, one) in definitions.items() if is_short(one)}
    record = Record(
        dataset.name,
        dt.datetime.now(dt.UTC).isoformat(timespec="microseconds"),
        read.rows,
        source.path.name if not dataset.sources else ", ".join(dataset.sources),
        read.state.hash,
        dataset.read_options(),
        tuple(columns),
        read.types,
        read.inferred,
        demands_of(plan, book.severity, dataset.key),
        small,
        SEMANTICS_VERSION,
        astuple(read.state.marks),
        parts=read.parts or tuple(asdict(part) for part in source.part_states()),
        class_orders=plan.class_orders,
        class_counts=counts_to_remember(report, before),
        left_out=report.left_out + left_out_before,
        no_data=sum(n for _, n in report.no_data),
        where=where_record(plan, prepared.types),
        below=below,
        source_version=read.version,
        is_settled=read.state.is_settled or _was_settled(before, read.state),
    )
    return record, definitions


def remembered(
    book: OpenBook,
    prepared: Prepared,
    record: Record,
    definitions: Definitions,
    report: ApplyReport,
    action: str,
    note: str,
) -> ApplyReport:
    """Write down in the history that a target was written; return the report, with what is to be said of that."""
    dataset = prepared.dataset
    run = PastRun(record.made_at, dataset.name, action, record, whoever_runs(book.folder), note, dataset.said)
    return replace(report, notes=(*report.notes, *Memory.of(book).remember(run, definitions)))


def _was_settled(before: Record | None, state: FileState) -> bool:
    """Whether the marks of a source are those that it had when the old target was written, and stood long enough then."""
    return before is not None and before.is_settled and before.source_marks == astuple(state.marks)
