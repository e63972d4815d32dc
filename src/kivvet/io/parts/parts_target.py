"""A folder of parts as a target: Parquet files written beside those that count, and the manifest replaced last."""

from __future__ import annotations

import uuid
from collections.abc import Sequence
from pathlib import Path

import pyarrow as pa

from kivvet.core.words.errors import OutputError
from kivvet.io.folders import FolderLocation, folder_at
from kivvet.io.parquet_target import ParquetTarget
from kivvet.io.parted_target import PartedTarget, WrittenPart
from kivvet.io.parts.manifest import MANIFEST, OURS, Manifest, Part, hash_of, read_manifest, write_manifest
from kivvet.io.source_and_target import AS_IT_IS_NAMED, Seal, WriteOptions

_ROWS_A_PART = 1 << 22


class PartsTarget(PartedTarget):
    """The rows of a folder that is written anew, or come to those it has.

    Parameters
    ----------
    target : Path or InStore
    schema : pyarrow.Schema
    is_extended : bool
    """

    def __init__(self, target: FolderLocation, schema: pa.Schema, *, is_extended: bool = False) -> None:
        self.folder, self.schema, self.is_extended = folder_at(target), schema, is_extended
        self.before = read_manifest(self.folder).parts if is_extended else ()
        self.seen = self.folder.content(MANIFEST)
        self.parts: list[WrittenPart] = []
        self.file: ParquetTarget | None = None
        self.n_in_file = 0
        self.folder.begin()
        if self.seen is None and not all(OURS.fullmatch(name) for name, _ in self.folder.files()):
            raise OutputError(
                "is a folder that holds something else",
                place=self.folder.place,
                fix="name another folder, one that is new or empty",
            )

    def write(self, columns: Sequence[pa.Array]) -> None:
        if self.file is None:
            name = f"part-{len(self.before) + len(self.parts):05}-{uuid.uuid4().hex[:12]}.parquet"
            self.parts.append(WrittenPart(name, 0))
            path = self.folder.path_to(name)
            self.file = ParquetTarget(path, path, self.schema)
        self.file.write(columns)
        self.n_in_file += len(columns[0]) if columns else 0
        if self.n_in_file >= _ROWS_A_PART:
            self._close()

    def _close(self) -> None:
        if self.file is not None:
            self.file.finish()
            self.folder.settle(self.parts[-1].name)
            self.parts[-1] = WrittenPart(self.parts[-1].name, self.n_in_file)
            self.file, self.n_in_file = None, 0

    def written_parts(self) -> list[WrittenPart]:
        self._close()
        return self.parts

    def commit(self, seal: Seal) -> None:
        self._close()
        counted = [*self.before, *(self._verified(part) for part in self.parts)]
        if self.folder.content(MANIFEST) != self.seen:
            self.remove(self.parts)
            raise OutputError(
                "was written by something else meanwhile, and that stands",
                place=self.folder.place,
                fix="look at what is there, and apply again",
            )
        record = dict(seal(hash_of(counted)))
        write_manifest(self.folder, Manifest(tuple(counted), record))

    def _verified(self, one: WrittenPart) -> Part:
        """Return a part as it lies there; `OutputError` where that is not what was written."""
        try:
            about, marks = self.folder.about(one.name)
        except (OSError, pa.ArrowException) as error:
            raise OutputError(
                f"{one.name} was written, and cannot be read: {error}"[:200], place=self.folder.place
            ) from error
        if about.num_rows != one.rows or about.schema.to_arrow_schema().names != self.schema.names:
            raise OutputError(f"{one.name} is not what was written", place=self.folder.place)
        return Part(one.name, one.rows, marks.size, self.folder.state(one.name).hash)

    def abandon(self) -> None:
        if self.file is not None:
            self.file.abandon()
        self.remove(self.parts)

    def remove(self, parts: Sequence[WrittenPart]) -> None:
        for part in parts:
            self.folder.remove(part.name)
        self.folder.end()


def begin(
    _: Path, target: FolderLocation, schema: pa.Schema, __: WriteOptions = AS_IT_IS_NAMED
) -> PartedTarget:
    """Begin a target."""
    return PartsTarget(target, schema)


def extend(
    _: Path, target: FolderLocation, schema: pa.Schema, __: WriteOptions = AS_IT_IS_NAMED
) -> PartedTarget | None:
    """Begin a target with all rows that it holds already; None where its columns are others."""
    folder = folder_at(target)
    there = folder.open(read_manifest(folder).parts[0].name).stored_schema
    same = [(one.name, one.type) for one in there] == [(field.name, field.type) for field in schema]
    return PartsTarget(target, schema, is_extended=True) if same else None
