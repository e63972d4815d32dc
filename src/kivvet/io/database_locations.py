"""What lies in databases, as places where rows lie; it is asked anew each time, and written in its place, in a transaction."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pyarrow as pa

from kivvet.io.databases.places import InDatabase
from kivvet.io.files import FileMarks
from kivvet.io.formats import Format
from kivvet.io.kept_records import KeptRecords
from kivvet.io.location_kind import LocationKind
from kivvet.io.source_and_target import ReadOptions, Source, Target, WriteOptions

#: What a table of a database can do, as a format of files says it.
DATABASE = Format("database", (), keeps_types=True)


class Databases(LocationKind[InDatabase]):
    """Such places."""

    def shown(self, location: InDatabase) -> str:
        return location.shown

    def identity(self, location: InDatabase) -> tuple[object, ...]:
        return location.identity

    def format(self, location: InDatabase) -> Format:
        return DATABASE

    def is_there(self, location: InDatabase) -> bool:
        from kivvet.io.databases.engines import engine_of

        return bool(location.query) or engine_of(location.database).has_table(location)

    def open(self, location: InDatabase, options: ReadOptions) -> Source:
        from kivvet.io.databases.database_source import DatabaseSource

        return DatabaseSource(location)

    def open_written(self, location: InDatabase, options: WriteOptions) -> Source:
        from kivvet.io.databases.database_source import DatabaseSource

        return DatabaseSource(location)

    def marks(self, location: InDatabase) -> FileMarks:
        return FileMarks(0, 0, 0)

    @contextmanager
    def replacing(self, location: InDatabase) -> Iterator[Path]:
        from kivvet.io.databases.database_target import writing_to

        with writing_to(location):
            yield Path(location.shown)

    def begun(self, part: Path, location: InDatabase, schema: pa.Schema, options: WriteOptions) -> Target:
        from kivvet.io.databases.database_target import DatabaseTarget

        return DatabaseTarget(location, schema)

    def extended(
        self, part: Path, location: InDatabase, schema: pa.Schema, options: WriteOptions
    ) -> Target | None:
        return None

    def records(self, location: InDatabase) -> KeptRecords | None:
        from kivvet.io.databases.database_target import kept_records

        return kept_records(location) if self.is_there(location) else None

    def make_ready(self, location: InDatabase) -> None:
        from kivvet.io.databases.engines import engine_of

        engine_of(location.database).open_to_write()
