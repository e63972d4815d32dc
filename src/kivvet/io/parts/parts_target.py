"""A folder of parts as a target: Parquet files written beside those that count, and the manifest replaced last."""

from __future__ import annotations

import os
import uuid
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

import pyarrow as pa

from kivvet.core.words.errors import OutputError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.files import state_of
from kivvet.io.parquet_files import ParquetTarget
from kivvet.io.parts.manifest import (
    OURS,
    Manifest,
    Part,
    hash_of,
    holds_parts,
    manifest_text,
    read_manifest,
    write_manifest,
)
from kivvet.io.source_and_target import AS_IT_IS_NAMED, PartedTarget, Seal, WriteOptions, WrittenPart

_ROWS_A_PART = 1 << 22


class PartsTarget(PartedTarget):
    """The rows of a folder that is written anew, or come to those it has.

    Parameters
    ----------
    target : Path
    schema : pyarrow.Schema
    is_extended : bool
    """

    def __init__(self, target: Path, schema: pa.Schema, *, is_extended: bool = False) -> None:
        self.target, self.schema, self.is_extended = target, schema, is_extended
        self.before = read_manifest(target).parts if is_extended else ()
        self.seen = manifest_text(target)
        self.parts: list[WrittenPart] = []
        self.file: ParquetTarget | None = None
        self.n_in_file = 0
        try:
            target.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise OutputError(
                f"cannot be written: {error.strerror}", place=Place(shown_path(target))
            ) from error
        if not holds_parts(target) and not all(OURS.fullmatch(one.name) for one in target.iterdir()):
            raise OutputError(
                "is a folder that holds something else",
                place=Place(shown_path(target)),
                fix="name another folder, one that is new or empty",
            )

    def write(self, columns: Sequence[pa.Array]) -> None:
        if self.file is None:
            name = f"part-{len(self.before) + len(self.parts):05}-{uuid.uuid4().hex[:12]}.parquet"
            self.parts.append(WrittenPart(name, 0))
            self.file = ParquetTarget(self.target / name, self.target / name, self.schema)
        self.file.write(columns)
        self.n_in_file += len(columns[0]) if columns else 0
        if self.n_in_file >= _ROWS_A_PART:
            self._close()

    def _close(self) -> None:
        if self.file is not None:
            self.file.finish()
            self.parts[-1] = WrittenPart(self.parts[-1].name, self.n_in_file)
            self.file, self.n_in_file = None, 0

    def written_parts(self) -> list[WrittenPart]:
        self._close()
        return self.parts

    def commit(self, seal: Seal) -> None:
        self._close()
        counted = [*self.before, *(self._verified(one) for one in self.parts)]
        if manifest_text(self.target) != self.seen:
            self.remove(self.parts)
            raise OutputError(
                "was written by something else meanwhile, and that stands",
                place=Place(shown_path(self.target)),
                fix="look at what is there, and apply again",
            )
        record = dict(seal(hash_of(counted)))
        write_manifest(self.target, Manifest(tuple(counted), record))

    def _verified(self, one: WrittenPart) -> Part:
        """Return a part as it lies there; `OutputError` where that is not what was written."""
        from pyarrow import parquet

        path = self.target / one.name
        try:
            about = parquet.read_metadata(path)
            descriptor = os.open(path, os.O_RDONLY)
            os.fsync(descriptor)
            os.close(descriptor)
        except (OSError, pa.ArrowException) as error:
            raise OutputError(
                f"{one.name} was written, and cannot be read: {error}"[:200],
                place=Place(shown_path(self.target)),
            ) from error
        if about.num_rows != one.rows or about.schema.to_arrow_schema().names != self.schema.names:
            raise OutputError(f"{one.name} is not what was written", place=Place(shown_path(self.target)))
        state = state_of(path)
        return Part(one.name, one.rows, state.marks.size, state.hash)

    def abandon(self) -> None:
        if self.file is not None:
            self.file.abandon()
        self.remove(self.parts)

    def remove(self, parts: Sequence[WrittenPart]) -> None:
        for one in parts:
            with suppress(OSError):
                (self.target / one.name).unlink()
        with suppress(OSError):
            self.target.rmdir()


def begin(_: Path, target: Path, schema: pa.Schema, __: WriteOptions = AS_IT_IS_NAMED) -> PartedTarget:
    """Begin a target."""
    return PartsTarget(target, schema)


def extend(
    _: Path, target: Path, schema: pa.Schema, __: WriteOptions = AS_IT_IS_NAMED
) -> PartedTarget | None:
    """Begin a target with all rows that it holds already; None where its columns are others."""
    from pyarrow import parquet

    there = parquet.read_schema(target / read_manifest(target).parts[0].name)
    same = [(one.name, one.type) for one in there] == [(one.name, one.type) for one in schema]
    return PartsTarget(target, schema, is_extended=True) if same else None
