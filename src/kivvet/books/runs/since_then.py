"""What changed since a target was written, and which of its columns stand as they are."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from dataclasses import astuple
from typing import TYPE_CHECKING, Any

from kivvet.books.runs.demands import demands_of
from kivvet.books.runs.fingerprints import column_records, shows_classes, where_record
from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.read_data import infer_types
from kivvet.books.runs.record import HeldRecord, Record
from kivvet.books.runs.same_meaning import rewritten_tables
from kivvet.books.runs.summary_source import SummarySource
from kivvet.core.read.meaning import SEMANTICS_VERSION
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import count, listed
from kivvet.io.locations import Location, format_to, open_written
from kivvet.io.source_and_target import GrownFrom, PartState, Source, TellsSince

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook


def is_source_of(record: Record, source: Source) -> bool:
    """Whether a source holds what it held when a target was written.

    Where its size, its times of change and its inode are those recorded, that is taken as proof, unless they were looked
    at so shortly before that one more change may have left the same; else its bytes are looked at.
    """
    if not source.can_tell:
        return False
    marks = source.marks()
    is_marked = marks is not None and astuple(marks) == record.source_marks
    return (is_marked and record.is_settled) or source.identity().hash == record.source_hash


def source_change(record: Record, source: Source) -> str:
    """Return how a source differs from what it held when a target was written, in words."""
    if isinstance(source, SummarySource):
        before, today = record.below, source.below_it
        rules = [name for name, key in today["rules"].items() if before.get("rules", {}).get(name) != key]
        what = [*(["its data"] if before.get("hash") != today["hash"] else []), *rules]
        return (
            f"what it sums up changed: {source.below.name}, {listed(what, 6) if what else 'how it is read'}"
        )
    if isinstance(source, TellsSince):
        return f"the source {source.shown_name} {source.said_since(grown_from(record))}"
    then = {str(part.get("name")): part for part in record.parts if isinstance(part, Mapping)}
    rest = source.rows_since(grown_from(record))
    if rest is not None and not then:
        return f"the source {source.shown_name} grew by {count(rest.n_rows(), 'row')}"
    if not then:
        changed = f"the source {source.shown_name} changed"
        try:
            now = source.n_rows()
        except DataError:  # whoever applies it will be told
            return changed
        return changed if now == record.rows else f"{changed}: {count(record.rows, 'row')} then, {now:,} now"
    parts = {part.name: part for part in source.part_states()}
    grown = [part for name, part in parts.items() if name not in then]
    said = [f"grew by {part.name}, {count(part.rows or 0, 'row')}" for part in grown]
    said += [
        f"lost {name}, {count(part['rows'] or 0, 'row')}" for name, part in then.items() if name not in parts
    ]
    said += [
        f"has another {name}: {count(then[name]['rows'] or 0, 'row')} then, {part.rows or 0:,} now"
        for name, part in parts.items()
        if name in then and part.hash != then[name]["hash"]
    ]
    return f"the source {source.shown_name} {listed(said, 6) or 'has its files in another order'}"


def changed_options(then: Mapping[str, Any], today: Mapping[str, Any]) -> list[str]:
    """Return the names of the options of reading that differ."""
    names = dict.fromkeys([*today, *(name for name in then if name != "types")])
    return [name for name in names if then.get(name) != today.get(name)]


def changed_types(record: Record, prepared: Prepared) -> dict[str, ValueType]:
    """Return the columns of the source that today are read as another type than a typed target holds, with that."""
    dataset, source = prepared.dataset, prepared.source
    if dataset.target is None or not format_to(dataset.target).keeps_types:
        return {}
    today = {name: kind for name, kind in prepared.types.items() if name not in prepared.inferred}
    asked_of_data = [
        name
        for name in source.names
        if name in record.types and name not in today and name not in record.inferred
    ]
    if source.is_text and asked_of_data:
        today |= infer_types(source, dataset, asked_of_data).types
    return {
        name: kind
        for name, kind in today.items()
        if name in source.names and name in record.types and record.types[name] != kind
    }


def rows_that_came(
    book: OpenBook, prepared: Prepared, target: Location, held: HeldRecord
) -> tuple[Record, Source] | None:
    """Return the record of a target and the rows that came at the end of its source since; None where it is not certain
    that all rows it holds stand as they are.

    They do where the target is as it was written, by rules and options that are the same, none of which looks at other
    rows than its own; where the source holds what it held, and after that more; and where what came is of the types that
    the data gave before.
    """
    record, plan = record_to_go_by(book, prepared, held), prepared.plan
    if record is None or plan.needing_all_rows or not record.rows:
        return None
    rewritten = rewritten_tables(book, record, plan)
    today = column_records(plan, prepared.types, rewritten, with_classes=shows_classes(target))
    is_as_it_was = [(one.name, one.fingerprint) for one in today] == [
        (column.name, column.fingerprint) for column in record.columns
    ]
    if not is_as_it_was or record.where != where_record(plan, prepared.types, rewritten):
        return None
    rest = prepared.source.rows_since(grown_from(record))
    if rest is None or not _is_of_types(record, prepared, rest):
        return None
    in_target = [*prepared.source.headings, *plan.written]
    if format_to(target).keeps_types:
        in_target = [*prepared.source.names, *plan.written]
    options = prepared.dataset.written_as
    with suppress(DataError):
        names = open_written(target, options).headings
        return (record, rest) if list(names) == in_target else None
    return None


def grown_from(record: Record) -> GrownFrom:
    """Return what a source was when a target was written."""
    parts = tuple(
        PartState(str(part.get("name")), str(part.get("hash")), part.get("rows"))
        for part in record.parts
        if isinstance(part, Mapping)
    )
    return GrownFrom(record.source_hash, next(iter(record.source_marks), 0), record.rows, parts)


def _is_of_types(record: Record, prepared: Prepared, rest: Source) -> bool:
    """Whether rows that came are of the types that the data itself gave those before."""
    inferred = [name for name in record.inferred if name in rest.names]
    if not rest.is_text or not inferred:
        return True
    found = infer_types(rest, prepared.dataset, inferred).types
    return all(found.get(name) == record.types.get(name) for name in inferred)


def record_to_go_by(book: OpenBook, prepared: Prepared, held: HeldRecord) -> Record | None:
    """Return the record of a target that is as it was written, with options that are today's, by rules that demanded no
    less of the data; None elsewhere.
    """
    record = held.record
    if record is None or not held.is_true or record.semantics != SEMANTICS_VERSION:
        return None
    if changed_options(record.read_options, prepared.dataset.read_options()):
        return None
    demands = demands_of(prepared.plan, book.severity, prepared.dataset.key)
    is_met = set(demands) <= set(record.demands)
    return record if is_met else None


def standing_columns(
    book: OpenBook, prepared: Prepared, target: Location, held: HeldRecord
) -> tuple[Record, frozenset[str]] | None:
    """Return the record of a target and the columns made that stand as they are; None where none do for certain.

    They stand where the target is as it was written, from the same source read in the same way, by rules that demanded
    no less of the data, and nothing that decides the column has changed since.
    """
    record = record_to_go_by(book, prepared, held)
    if record is None or not is_source_of(record, prepared.source) or changed_types(record, prepared):
        return None
    then = {column.name: column.fingerprint for column in record.columns}
    rewritten = rewritten_tables(book, record, prepared.plan)
    today = column_records(prepared.plan, prepared.types, rewritten, with_classes=shows_classes(target))
    standing = frozenset(column.name for column in today if then.get(column.name) == column.fingerprint)
    return (record, standing) if standing else None
