"""A table, a view or a query of a database as a source of data."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path

import pyarrow as pa
import xxhash

from kivvet.io.databases.engines import engine_of
from kivvet.io.databases.places import InDatabase
from kivvet.io.files import FileMarks, FileState
from kivvet.io.source_and_target import Source


class DatabaseSource(Source):
    """The rows of a table or query; columns have the types that the database gives them."""

    def __init__(self, place: InDatabase, schema: pa.Schema | None = None) -> None:
        self.place = place
        self.path = Path(place.shown)
        self.engine = engine_of(place.database)
        self.stored_schema: pa.Schema = schema or self.engine.schema_of(place)
        self.schema = dict(zip(self.stored_schema.names, self.stored_schema.types, strict=True))
        self.can_tell = bool(place.version)

    @property
    def shown_name(self) -> str:
        return self.place.shown

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        wanted = pa.schema(
            [self.stored_schema.field(name) for name in (self.names if names is None else names)]
        )
        yield from self.engine.batches(self.place, wanted)

    def n_rows(self) -> int:
        return self.engine.n_rows(self.place)

    def _version(self) -> str:
        said = self.engine.version_of(self.place)
        return xxhash.xxh3_128_hexdigest(f"{self.place.said} {said}".encode())

    def last_version(self) -> int | float | str | None:
        """Return the highest value of the column that grows with each change; None where there is none, or a row has none."""
        name = self.engine.version_column(self.place)
        if not name:
            return None
        column, from_ = self.engine.quoted(name), self.engine.from_(self.place)
        if int(self.engine.value(f"SELECT COUNT(*) FROM {from_} WHERE {column} IS NULL")):
            return None
        last = self.engine.value(f"SELECT MAX({column}) FROM {from_}")
        return last if last is None or isinstance(last, (int, float)) else str(last)

    def since(self, version: int | float | str) -> DatabaseSource | None:
        """Return the rows whose version is that one or a higher one, as a source of their own; None where not all have one."""
        if self.last_version() is None:
            return None
        value = self.engine.text(version) if isinstance(version, str) else repr(version)
        column = self.engine.quoted(self.engine.version_column(self.place))
        query = f"SELECT * FROM {self.engine.from_(self.place)} WHERE {column} >= {value}"
        return DatabaseSource(replace(self.place, table="", schema="", query=query), self.stored_schema)

    def identity(self) -> FileState:
        marks = self.marks()
        return FileState(f"{marks.size:016x}{marks.inode:016x}", marks)

    def marks(self) -> FileMarks:
        """Return the version of the rows, where the book says what tells it; else always the same."""
        version = self._version()
        return FileMarks(int(version[:16], 16), 0, int(version[16:], 16))
