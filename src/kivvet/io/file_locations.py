"""Files and folders of this machine, as places where rows lie."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pyarrow as pa

from kivvet.core.words.wording import shown_path
from kivvet.io.files import FileMarks, replacing
from kivvet.io.formats import Format, format_of, open_source, open_written, target_format
from kivvet.io.kept_records import KeptRecords
from kivvet.io.location_kind import LocationKind
from kivvet.io.source_and_target import ReadOptions, Source, Target, WriteOptions


class Files(LocationKind[Path]):
    """Such places."""

    def shown(self, location: Path) -> str:
        return shown_path(location)

    def identity(self, location: Path) -> Path:
        return Path(os.path.realpath(location))

    def format(self, location: Path) -> Format | None:
        return format_of(location)

    def is_there(self, location: Path) -> bool:
        known = format_of(location)
        return (
            location.is_file() if known is None or known.folder is None else known.folder.is_there(location)
        )

    def open(self, location: Path, options: ReadOptions) -> Source:
        return open_source(location, options)

    def open_written(self, location: Path, options: WriteOptions) -> Source:
        return open_written(location, options)

    def marks(self, location: Path) -> FileMarks | None:
        known = format_of(location)
        return (
            FileMarks.of(location) if known is None or known.folder is None else known.folder.marks(location)
        )

    def as_file(self, location: Path) -> Path:
        return location

    @contextmanager
    def replacing(self, location: Path) -> Iterator[Path]:
        if target_format(location).folder is not None:
            yield location  # its files lie beside those that count, until one of them says so
            return
        with replacing(location) as part:
            yield part

    def begun(self, part: Path, location: Path, schema: pa.Schema, options: WriteOptions) -> Target:
        create = target_format(location).create
        assert create is not None
        return create(part, location, schema, options)

    def extended(self, part: Path, location: Path, schema: pa.Schema, options: WriteOptions) -> Target | None:
        extend = target_format(location).extend
        return None if extend is None else extend(part, location, schema, options)

    def records(self, location: Path) -> KeptRecords | None:
        known = format_of(location)
        if known is None or known.kept_records is None or not self.is_there(location):
            return None
        return known.kept_records(location)
