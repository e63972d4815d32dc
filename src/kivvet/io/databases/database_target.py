"""A table of a database as a target: filled anew in one transaction, with the record of how it was made beside it."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from itertools import chain
from typing import Any

import pyarrow as pa
import xxhash

from kivvet.core.words.errors import DataError, KivvetError, OutputError, UnopenableError
from kivvet.core.words.wording import count
from kivvet.io.databases.engine import Engine
from kivvet.io.databases.engines import engine_of
from kivvet.io.databases.places import RECORDS, InDatabase
from kivvet.io.kept_records import KeptRecords
from kivvet.io.source_and_target import Seal, Target

_ROWS_AT_ONCE = 1 << 18
_NEW = "kivvet_new_"


@contextmanager
def writing_to(place: InDatabase) -> Iterator[None]:
    """Hold a transaction of a database, in which a target is written; it ends well with the block, or nothing of it was."""
    engine = engine_of(place.database)
    with engine.writing():
        engine.hold(place)
        yield


class NotMergedError(Exception):
    """Rows cannot take the place of those that a table has, for it would not hold what its source holds."""


class DatabaseTarget(Target):
    """The rows of a table that are written anew.

    Where the table that is there has the same columns, and something hangs on it, its rows go and others come, so that its indexes,
    constraints and the views on it stay; else another takes its place in the end, which is faster.

    Parameters
    ----------
    place : InDatabase
    schema : pyarrow.Schema
    key : sequence of str
        Where rows only take the place of those that have the same values in these columns, which all have.
    n_rows : int
        How many rows the table has then.
    """

    def __init__(
        self, place: InDatabase, schema: pa.Schema, key: Sequence[str] = (), n_rows: int = 0
    ) -> None:
        self.key, self.n_rows = key, n_rows
        self.place = place
        self.engine = engine_of(place.database)
        described = [self.engine.kinds_of(field.type) for field in schema]
        self.sent = pa.schema(
            [field.with_type(kind) for field, (_, kind) in zip(schema, described, strict=True)]
        )
        columns = ", ".join(
            f"{self.engine.quoted(field.name)} {word}"
            for field, (word, _) in zip(schema, described, strict=True)
        )
        made = InDatabase(place.database, f"{_NEW}{place.table}"[: self.engine.longest_name], place.schema)
        self.made = self.filled = made
        self.engine.run(f"DROP TABLE IF EXISTS {self.engine.named(made)}")
        self.engine.run(f"CREATE TABLE {self.engine.named(made)} ({columns})")
        self.waiting: list[pa.RecordBatch] = []
        self.n_waiting = self.n_sent = self.n_arrived = 0
        is_table = self.engine.is_in(place) and self.engine.view_text(place) is None
        is_alike = is_table and self.engine.columns_of(place) == self.engine.columns_of(made)
        if key and not is_alike:
            raise NotMergedError
        if is_alike and not (key or self.engine.swaps_tables or self.engine.is_bare(place)):
            self.filled = place
            self.engine.run(f"DROP TABLE {self.engine.named(made)}")
            self.engine.run(f"DELETE FROM {self.engine.named(place)}")

    def write(self, columns: Sequence[pa.Array]) -> None:
        arrays = [self._sent(array, field) for array, field in zip(columns, self.sent, strict=True)]
        self.waiting.append(pa.RecordBatch.from_arrays(arrays, schema=self.sent))
        self.n_waiting += len(columns[0]) if columns else 0
        if self.n_waiting >= _ROWS_AT_ONCE:
            self._flush()

    def _sent(self, array: pa.Array, field: pa.Field) -> pa.Array:
        if pa.types.is_dictionary(array.type):
            array = array.dictionary_decode()
        if array.type == field.type:
            return array
        try:
            return self.engine.cast(self.place, field.name, array, field.type)
        except pa.ArrowInvalid as error:
            raise OutputError(
                f"column {field.name!r} holds what {self.engine.title} does not: {error}",
                place=self.place.place,
                fix="leave the column out, or write another file",
            ) from error

    def _flush(self) -> None:
        if self.n_waiting:
            self.n_arrived += self.engine.load(self.filled, iter(self.waiting), self.sent)
        self.n_sent += self.n_waiting
        self.waiting, self.n_waiting = [], 0

    def commit(self, seal: Seal) -> None:
        self._flush()
        found = self._count(self.filled)
        if not self.n_sent == self.n_arrived == found:
            raise OutputError(
                f"{count(self.n_sent, 'row')} were sent, and {found:,} arrived",
                place=self.place.place,
                fix="what was there is as it was; a trigger of the table may change what arrives",
            )
        if self.key:
            self._merge()
        elif self.filled is self.made:
            self.engine.swap(self.made, self.place)
        write_record(self.engine, self.place, seal(self.engine.hash_of(self.place)))

    def _count(self, place: InDatabase) -> int:
        return int(self.engine.run(f"SELECT COUNT(*) FROM {self.engine.named(place)}")[0][0])

    def _merge(self) -> None:
        """Let the rows take the place of those that have the same key."""
        there, made = self.engine.named(self.place), self.engine.named(self.made)
        key = ", ".join(map(self.engine.quoted, self.key))
        one = key if len(self.key) == 1 else f"({key})"
        self.engine.run(f"DELETE FROM {there} WHERE {one} IN (SELECT {key} FROM {made})")
        self.engine.run(f"INSERT INTO {there} SELECT * FROM {made}")
        if self._count(self.place) != self.n_rows:
            raise NotMergedError
        self.engine.run(f"DROP TABLE {made}")

    def abandon(self) -> None:
        self.waiting = []
        if self.engine.swaps_tables:
            with suppress(KivvetError):
                self.engine.run(f"DROP TABLE IF EXISTS {self.engine.named(self.made)}")


def write_record(engine: Engine, place: InDatabase, record: Any) -> None:
    """Write the record of a target into the table of records, within the transaction."""
    table = _records(engine, place)
    if not engine.is_in(InDatabase(place.database, RECORDS, place.schema)):
        engine.run(
            f"CREATE TABLE {table} (target {engine.word_for_key or engine.word_for_text} PRIMARY KEY, record {engine.word_for_text})"
        )
    name = engine.text(place.table)
    engine.run(f"DELETE FROM {table} WHERE target = {name}")
    engine.run(f"INSERT INTO {table} VALUES ({name}, {engine.text(json.dumps(record, ensure_ascii=True))})")


def _records(engine: Engine, place: InDatabase) -> str:
    return engine.named(InDatabase(place.database, RECORDS, place.schema))


def record_of(place: InDatabase) -> Any:
    """Return the record that is kept of a target, as plain values; None where there is none."""
    engine = engine_of(place.database)
    if not engine.has_table(InDatabase(place.database, RECORDS, place.schema)):
        return None
    rows = engine.asked(
        f"SELECT record FROM {_records(engine, place)} WHERE target = {engine.text(place.table)}"
    )
    try:
        return json.loads(rows[0][0]) if rows else None
    except ValueError:
        return None


def kept_records(place: InDatabase) -> KeptRecords:
    """Return the records kept with a target, the newest first, and the hash of what it holds."""
    values = record_of(place)
    keys = values.get("keys", ()) if isinstance(values, dict) else ()

    def hashed() -> str | None:
        try:
            return hash_of_target(engine_of(place.database), place, keys)
        except UnopenableError:
            raise
        except DataError:  # of what lies there no hash is to be had: it is something else
            return None

    return KeptRecords([] if values is None else [values], hashed)


def hash_of_target(engine: Engine, place: InDatabase, keys: Sequence[str] = ()) -> str:
    """Return what tells what a target holds from anything else: of a view its text, and the rows of the tables of keys beside it."""
    text = engine.view_text(place)
    if text is None:
        return engine.hash_of(place)
    of_keys = []
    for name in keys:
        table = InDatabase(place.database, str(name), place.schema)
        of_keys.append(engine.hash_of(table) if engine.has_table(table) else "")
    return xxhash.xxh3_128_hexdigest(f"{text} {of_keys}".encode())


def load_table(engine: Engine, place: InDatabase, rows: pa.Table) -> None:
    """Make a table anew that holds some rows, within the transaction."""
    load_batches(engine, place, rows.schema, rows.combine_chunks().to_batches(_ROWS_AT_ONCE))


def load_batches(
    engine: Engine, place: InDatabase, schema: pa.Schema, rows: Iterable[pa.RecordBatch]
) -> None:
    """Make a table anew that holds the rows of some batches, within the transaction."""
    described = [engine.kinds_of(kind) for kind in schema.types]
    sent = pa.schema([(name, kind) for name, (_, kind) in zip(schema.names, described, strict=True)])
    columns = ", ".join(
        f"{engine.quoted(name)} {word}" for name, (word, _) in zip(schema.names, described, strict=True)
    )
    engine.drop(place)
    engine.run(f"CREATE TABLE {engine.named(place)} ({columns})")
    batches = (
        pa.RecordBatch.from_arrays(
            [
                array if array.type == field.type else engine.cast(place, field.name, array, field.type)
                for array, field in zip(batch.columns, sent, strict=True)
            ],
            schema=sent,
        )
        for batch in rows
        if batch.num_rows
    )
    first = next(batches, None)
    if first is not None:
        engine.load(place, chain([first], batches), sent)
