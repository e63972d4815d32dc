"""A table, a view or a query of a database as a source of data."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import pyarrow as pa
import xxhash

from kivvet.io.databases.engines import engine_of
from kivvet.io.databases.places import InDatabase
from kivvet.io.files import FileMarks, FileState
from kivvet.io.source_and_target import Source


class DatabaseSource(Source):
    """The rows of a table or query; columns have the types that the database gives them."""

    def __init__(self, place: InDatabase) -> None:
        self.place = place
        self.path = Path(place.shown)
        self.engine = engine_of(place.database)
        self.stored_schema: pa.Schema = self.engine.schema_of(place)
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
        return xxhash.xxh3_128_hexdigest(f"{self.place.identity} {said}".encode())

    def identity(self) -> FileState:
        marks = self.marks()
        return FileState(f"{marks.size:016x}{marks.inode:016x}", marks)

    def marks(self) -> FileMarks:
        """Return the version of the rows, where the book says what tells it; else always the same."""
        version = self._version()
        return FileMarks(int(version[:16], 16), 0, int(version[16:], 16))
