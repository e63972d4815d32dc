"""Columns as a view of a database that follows the rules: written and replaced in one transaction, and only if it counts what Kivvet
counts.
"""

from __future__ import annotations

import datetime as dt
import tempfile
from collections.abc import Callable, Mapping, Sequence
from contextlib import closing
from dataclasses import astuple, dataclass, replace
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.demands import DemandCheck, demands_of
from kivvet.books.runs.fingerprints import column_records, definitions_of, is_short, where_record
from kivvet.books.runs.memory import Memory
from kivvet.books.runs.past_run import PastRun, whoever_runs
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.record import Record
from kivvet.books.runs.row_keys import in_dataset
from kivvet.books.runs.run import Run, RunBatch
from kivvet.core.columns.convert import arrow_type
from kivvet.core.read.meaning import SEMANTICS_VERSION
from kivvet.core.run.reports import ApplyReport
from kivvet.core.run.row_keys import RowKeys
from kivvet.core.sql.dialect import DIALECTS
from kivvet.core.sql.view_sql import Beside, ViewSql, view_sql
from kivvet.core.words.errors import BookError, DataError, OutputError, TableError
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, listed
from kivvet.io.databases.database_target import (
    hash_of_target,
    load_batches,
    load_table,
    record_of,
    write_record,
    writing_to,
)
from kivvet.io.databases.engine import Engine
from kivvet.io.databases.engines import engine_of
from kivvet.io.databases.places import InDatabase
from kivvet.io.locations import shown_location

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

_AS_TABLE = 'write the columns as a table: target = { ..., table = "..." }'
_MOST_CLASSES = 200  # of a column, whose counts are compared


@dataclass(frozen=True)
class View:
    """A view as it is to be.

    Attributes
    ----------
    place : InDatabase
    made : ViewSql
    keys : mapping of str to InDatabase
        By the name that the query has for it, the table of keys.
    """

    place: InDatabase
    made: ViewSql
    keys: Mapping[str, InDatabase]

    def create(self, engine: Engine) -> str:
        """Return the statement that makes it."""
        return f"CREATE VIEW {engine.named(self.place)} AS\n{self.made.query}"

    def statements(self) -> str:
        """Return all that is run, as a text to be read."""
        engine = engine_of(self.place.database)
        tables = [
            f"-- table {engine.named(place)}: {count(self.made.keys[name].rows.num_rows, 'row')} of keys and results"
            for name, place in self.keys.items()
        ]
        return "\n".join([*tables, f"{self.create(engine)};", ""])


def is_view(dataset: Dataset) -> bool:
    """Whether the target of a dataset is a view."""
    return isinstance(dataset.target, InDatabase) and dataset.target.is_view


def view_of(prepared: Prepared) -> View:
    """Return the view that makes the columns of a dataset; what stands against it is among its obstacles."""
    dataset = prepared.dataset
    target, source = dataset.target, dataset.source
    assert isinstance(target, InDatabase)
    if not isinstance(source, InDatabase) or source.database != target.database:
        return View(target, ViewSql("", obstacles=(_elsewhere(dataset, target),)), {})
    engine = engine_of(target.database)
    if not engine.has_views:
        what = f"view {target.table} would lie in a database of {engine.title}, which gets no views"
        return View(target, ViewSql("", obstacles=(_obstacle(dataset, what, _AS_TABLE),)), {})
    dialect = DIALECTS[engine.address.engine]
    keys: dict[str, InDatabase] = {}

    def name_of_keys(table: str) -> str:
        place = InDatabase(target.database, f"{target.table}__{table}", target.schema)
        name = engine.named(place)
        keys[name] = place
        return name

    beside, obstacle = _beside(dataset, engine, target)
    if obstacle is not None:
        return View(target, ViewSql("", obstacles=(obstacle,)), {})
    assert prepared.source.stored_schema is not None
    made = view_sql(
        prepared.plan,
        prepared.source.stored_schema,
        engine.from_(source),
        dialect,
        name_of_keys,
        dataset.name,
        beside,
    )
    if made.beside and any(key.identity == _place_beside(target).identity for key in keys.values()):
        what = f"the table beside view {target.table} and that of the keys of a lookup would both be called {_place_beside(target).table}"
        made = replace(made, obstacles=(*made.obstacles, _obstacle(dataset, what, "rename the lookup")))
    if words := _read_otherwise(dataset):
        what = f"view {target.table} reads columns as they are, and the dataset says {listed(words)}"
        fix = "say it in the query of the source, with CAST and NULLIF"
        made = replace(made, obstacles=(*made.obstacles, _obstacle(dataset, what, fix)))
    return View(target, made, keys)


def obstacles_in(prepared: Prepared, engine: str) -> tuple[Finding, ...]:
    """Return what of a dataset could not be the same in a view of a kind of database, wherever its rows lie today."""
    schema = prepared.source.stored_schema
    if schema is None:
        kinds = {name: arrow_type(prepared.types.get(name, "text")) for name in prepared.source.names}
        schema = pa.schema(list(kinds.items()))
    dialect = DIALECTS[engine]
    made = view_sql(prepared.plan, schema, "data", dialect, dialect.quoted, prepared.dataset.name)
    return made.obstacles


def _place_beside(target: InDatabase) -> InDatabase:
    """Return the table beside a view that has what the view cannot make."""
    return InDatabase(target.database, f"{target.table}__beside", target.schema)


def _beside(dataset: Dataset, engine: Engine, target: InDatabase) -> tuple[Beside | None, Finding | None]:
    if not target.has_table_beside:
        return None, None
    if not dataset.key:
        what = f"view {target.table} has a table beside it, and the dataset has no key by which its rows are found"
        return None, _obstacle(dataset, what, 'name the columns that tell rows apart: key = ["..."]')
    return Beside(engine.named(_place_beside(target)), dataset.key), None


def _read_otherwise(dataset: Dataset) -> list[str]:
    fields = dataset.fields
    words = ["types"] if dataset.types else []
    return [*words, *(["missing_words"] if fields.missing_words or fields.missing_words_of else [])]


def _elsewhere(dataset: Dataset, target: InDatabase) -> Finding:
    what = f"view {target.table} reads {shown_location(dataset.source)}, which does not lie in database {target.database.name}"
    return _obstacle(
        dataset, what, f'source = {{ database = "{target.database.name}", table = "..." }}, or write a table'
    )


def _obstacle(dataset: Dataset, what: str, fix: str) -> Finding:
    places = (dataset.place,) if dataset.place else ()
    return finding("obstacle", what, dataset=dataset.name, places=places, remedy=fix)


def sql_of_view(book: OpenBook, dataset: Dataset) -> str:
    """Return the SQL that would make the view of a dataset; see `Book.view_sql`."""
    if not is_view(dataset):
        raise BookError(
            f"the target of {dataset.name} is no view",
            place=dataset.place,
            fix='target = { database = "...", view = "..." }',
        )
    prepared, faults = prepare(book, dataset)
    if errors := [one for one in (*book.faults_of(dataset), *faults) if one.severity == "error"]:
        raise TableError(errors)
    view = view_of(prepared)
    if view.made.obstacles:
        raise TableError(list(view.made.obstacles))
    return view.statements()


@dataclass(frozen=True)
class _How:
    """What the history says of a run: which command it was, and what whoever ran it wrote about it."""

    action: str
    note: str


def publish(
    book: OpenBook, prepared: Prepared, action: str, note: str, on_rows: Callable[[int], None]
) -> ApplyReport:
    """Write the view of a dataset and the tables of keys that it joins, in one transaction; return what it counts.

    Raises
    ------
    TableError
        If it cannot be the same in the database.
    OutputError
        If it cannot be written, or counts otherwise than Kivvet does. What was there is as it was.
    """
    view = view_of(prepared)
    if view.made.obstacles:
        raise TableError(list(view.made.obstacles))
    with closing(_Kept(prepared.dataset, view.made.beside)) as kept:
        return _published(book, prepared, view, kept, _How(action, note), on_rows)


def _published(
    book: OpenBook, prepared: Prepared, view: View, kept: _Kept, how: _How, on_rows: Callable[[int], None]
) -> ApplyReport:
    dataset, plan = prepared.dataset, prepared.plan
    place, engine = view.place, engine_of(view.place.database)
    state = prepared.source.identity()
    run = Run(prepared, refuses_overlaps=True, on_rows=on_rows)
    demands = DemandCheck(plan, book.severity)
    names = list(dict.fromkeys([*plan.source_columns, *kept.key])) or prepared.source.names[:1]
    for batch in run.batches(names):
        if demands.is_watching_tables:
            demands.see([batch.columns_of(step) for step in run.plan.table_steps])
        kept.see(batch)
    where = "" if dataset.where is None else dataset.where.text
    report = replace(run.report(dataset.name, shown_location(place)), where=where, is_view=True)
    if faults := [*run.faults(), *demands.errors(report), *kept.faults()]:
        raise TableError(faults)
    with writing_to(place):
        before = record_of(place)  # also where the view itself is gone
        olds = before.get("keys", ()) if isinstance(before, dict) else ()
        made_anew = [*view.keys.values(), *([_place_beside(place)] if view.made.beside else [])]
        for one in made_anew:
            if one.table not in olds and engine.is_in(one):
                raise OutputError(
                    "is there already, and the view would need a table of that name beside it",
                    place=one.place,
                    fix="rename it, or name another view",
                )
        aside = engine.set_aside(place, [InDatabase(place.database, str(old), place.schema) for old in olds])
        for name, keys in view.made.keys.items():
            load_table(engine, view.keys[name], keys.rows)
        if view.made.beside:
            kept.write(engine, _place_beside(place))
        engine.put_view(place, view.made.query)
        for one in aside:
            engine.drop(one)
        _compare(engine, place, report, {name: plan.types[name] for name in plan.written})
        names = [key.table for key in view.keys.values()]
        names += [_place_beside(place).table] if view.made.beside else []
        if view.made.beside and state.marks != prepared.source.marks():
            raise DataError(
                "changed while it was read",
                place=Place(prepared.source.shown_name),
                fix="apply again; nothing was written",
            )
        memory = Memory.of(book)
        definitions = definitions_of(plan.steps, memory.remembered())
        record = Record(
            dataset.name,
            dt.datetime.now(dt.UTC).isoformat(timespec="microseconds"),
            report.rows,
            shown_location(dataset.source),
            state.hash if view.made.beside else "",
            dataset.read_options(),
            column_records(plan, prepared.types, with_classes=False),
            dict(prepared.types),
            demands=demands_of(plan, book.severity, dataset.key),
            definitions={key: [name, one] for key, (name, one) in definitions.items() if is_short(one)},
            semantics=SEMANTICS_VERSION,
            class_orders=plan.class_orders,
            left_out=report.left_out,
            where=where_record(plan, prepared.types),
            source_marks=astuple(state.marks) if view.made.beside else (),
            target_hash=hash_of_target(engine, place, names),
            others={"keys": names, "beside": list(view.made.beside)},
        )
        write_record(engine, place, record.as_dict())
    past = PastRun(
        record.made_at, dataset.name, how.action, record, whoever_runs(book.folder), how.note, dataset.said
    )
    notes = [*report.notes, *memory.remember(past, definitions)]
    if view.made.beside:
        notes.append(
            f"{listed(view.made.beside)} {'come' if len(view.made.beside) > 1 else 'comes'} from table {_place_beside(place).table}, "
            "as the rows are now: rows that come have no value there until the next refresh"
        )
    return replace(report, notes=tuple(notes))


class _Kept:
    """The columns that a view cannot make, as Kivvet makes them, on their way into the table beside it; they wait in a file."""

    def __init__(self, dataset: Dataset, names: Sequence[str]) -> None:
        self.dataset, self.names = dataset, names
        self.key = dataset.key if names else ()
        self.keys = RowKeys(dataset.key) if names else None
        self._file = tempfile.TemporaryFile(prefix="kivvet-") if names else None  # noqa: SIM115 (see `close`)
        self._writer: pa.RecordBatchStreamWriter | None = None

    def see(self, batch: RunBatch) -> None:
        if self.keys is None:
            return
        self.keys.see([batch.read.typed(name) for name in self.key])
        arrays = {name: batch.read.typed(name) for name in self.key}
        arrays |= {name: batch.made[name].as_arrow() for name in self.names}
        plain = [
            array.dictionary_decode() if pa.types.is_dictionary(array.type) else array
            for array in arrays.values()
        ]
        made = pa.RecordBatch.from_arrays(plain, names=list(arrays))
        if self._writer is None:
            self._writer = pa.ipc.new_stream(self._file, made.schema)
        self._writer.write_batch(made)

    def faults(self) -> list[Finding]:
        return [] if self.keys is None else [in_dataset(one, self.dataset) for one in self.keys.findings()]

    def write(self, engine: Engine, place: InDatabase) -> None:
        """Fill the table, within the transaction."""
        assert self._file is not None
        if self._writer is None:
            raise OutputError(
                "there are no rows, so that the types of the table beside the view are not known",
                place=place.place,
            )
        self._writer.close()
        self._file.seek(0)
        reader = pa.ipc.open_stream(self._file)
        load_batches(engine, place, reader.schema, reader)

    def close(self) -> None:
        if self._file is not None:
            self._file.close()


def _compare(engine: Engine, place: InDatabase, report: ApplyReport, types: Mapping[str, Any]) -> None:
    """Raise where the view counts otherwise than Kivvet counts the rows of its source."""
    name = engine.named(place)
    said = []
    rows = int(engine.asked(f"SELECT COUNT(*) FROM {name}")[0][0])
    if rows != report.written:
        said.append(f"it has {count(rows, 'row')}, and {report.written:,} were counted")
    for table in report.tables if not report.where else ():
        for column, classes in table.classes.items():
            if types.get(column) != "text" or len(classes) > _MOST_CLASSES:
                continue
            quoted = engine.quoted(column)
            found = engine.asked(f"SELECT {quoted}, COUNT(*) FROM {name} GROUP BY {quoted}")
            there = {one: int(n) for one, n in found if n}
            counted = {one: n for one, n in classes if n}
            said += [
                f"column {column} has {there.get(one, 0):,} of {one or 'no class'}, and {counted.get(one, 0):,} were counted"
                for one in {*there, *counted}
                if there.get(one, 0) != counted.get(one, 0)
            ]
    if said:
        raise OutputError(
            f"the view counts otherwise than the rows did: {listed(said, 4)}",
            place=place.place,
            fix="try again, if rows came meanwhile; else please report it. What was there is as it was",
        )
