"""Objects of stores, as places where rows lie: files are put as a whole, folders as those of a disk.

A file is written here first, and put in the place of the object when it is finished; a record that lies beside it is put before, and
says which of the two it speaks of.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pyarrow as pa

from kivvet.core.words.errors import OutputError, UnopenableError
from kivvet.io.csv_target import record_file
from kivvet.io.files import FileMarks
from kivvet.io.formats import SOURCE_ENDINGS, Format, format_named, open_source, open_written
from kivvet.io.kept_records import KeptRecords
from kivvet.io.location_kind import LocationKind
from kivvet.io.source_and_target import ReadOptions, Source, Target, WriteOptions
from kivvet.io.stores.copies import Copied, copy_if_there, copy_of, forget, path_of_copy
from kivvet.io.stores.store import InStore
from kivvet.io.stores.stored_parquet import StoredParquet


class Stores(LocationKind[InStore]):
    """Such places."""

    def shown(self, location: InStore) -> str:
        return location.url

    def identity(self, location: InStore) -> InStore:
        return location

    def format(self, location: InStore) -> Format | None:
        return format_named(location.name)

    def is_there(self, location: InStore) -> bool:
        known = self.format(location)
        if known is not None and known.folder is not None:
            return known.folder.is_there(location)
        return location.marks() is not None

    def open(self, location: InStore, options: ReadOptions) -> Source:
        known = self.format(location)
        if known is None or known.open is None:
            raise UnopenableError(
                "is of a kind this version does not read",
                place=location.place,
                expected=f"an object that ends in {', '.join(SOURCE_ENDINGS)}",
            )
        if known.folder is not None:
            return known.open(location, options)
        if known.name == "parquet":
            return StoredParquet(location)
        path = copy_of(location)
        source = open_source(path, options)
        source.origin = Copied(location, path)
        return source

    def open_written(self, location: InStore, options: WriteOptions) -> Source:
        known = self.format(location)
        if known is None or known.folder is not None or known.name == "parquet":
            return self.open(location, ReadOptions())
        path = copy_of(location)
        source = open_written(path, options)
        source.origin = Copied(location, path)
        return source

    def marks(self, location: InStore) -> FileMarks | None:
        known = self.format(location)
        return location.marks() if known is None or known.folder is None else known.folder.marks(location)

    def as_file(self, location: InStore) -> Path:
        return copy_of(location)

    @contextmanager
    def replacing(self, location: InStore) -> Iterator[Path]:
        known = self.format(location)
        if known is not None and known.folder is not None:
            yield path_of_copy(location)
            return
        before = location.marks()
        old = copy_if_there(location)  # of which a record beside it speaks
        beside = record_file(old)
        record = InStore(f"{location.url}{beside.name.removeprefix(old.name)}")
        if known is not None and known.name != "parquet":
            copy_if_there(record)
        part = old.with_name(f".new-{os.urandom(4).hex()}-{old.name}")
        try:
            yield part
            if location.marks() != before:
                raise OutputError(
                    "was written by something else meanwhile, and that stands",
                    place=location.place,
                    fix="look at what is there, and apply again",
                )
            if beside.is_file():
                record.put(beside)
            location.put(part)
        finally:
            part.unlink(missing_ok=True)
            forget(location, record)

    def begun(self, part: Path, location: InStore, schema: pa.Schema, options: WriteOptions) -> Target:
        known = self.format(location)
        assert known is not None and known.create is not None
        of = location if known.folder is not None else path_of_copy(location)
        return known.create(part, of, schema, options)

    def extended(
        self, part: Path, location: InStore, schema: pa.Schema, options: WriteOptions
    ) -> Target | None:
        known = self.format(location)
        if known is None or known.folder is None or known.extend is None:
            return None
        return known.extend(part, location, schema, options)

    def records(self, location: InStore) -> KeptRecords | None:
        known = self.format(location)
        if known is None or known.kept_records is None or not self.is_there(location):
            return None
        if known.folder is not None:
            return known.kept_records(location)
        path = copy_of(location)
        if known.name != "parquet":
            copy_if_there(InStore(f"{location.url}{record_file(path).name.removeprefix(path.name)}"))
        return known.kept_records(path)
