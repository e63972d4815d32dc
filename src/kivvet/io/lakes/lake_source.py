"""A table of a lake as a source: its files in the order in which they came, of each no more columns than are asked for."""

from __future__ import annotations

import copy
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import pyarrow as pa

from kivvet.core.words.errors import DataError, UnopenableError
from kivvet.core.words.wording import count
from kivvet.io.files import FileMarks, FileState
from kivvet.io.folders import FolderLocation, folder_at
from kivvet.io.lakes.lake import files_of, identity_of, open_lake, told, version_in
from kivvet.io.other_files import without_views
from kivvet.io.source_and_target import GrownFrom, ReadOptions, Source, TellsSince

_ROWS_A_BATCH = 1 << 17


class LakeSource(Source, TellsSince):
    """The rows of one version of a table.

    Attributes
    ----------
    version : int
    """

    def __init__(
        self, location: FolderLocation, _: ReadOptions | None = None, version: int | None = None
    ) -> None:
        self.location = location
        self.path = location if isinstance(location, Path) else Path(location.name)
        self._table = open_lake(location, version)
        self.version = int(self._table.version())
        with told(location, UnopenableError, "cannot be opened"):
            self._dataset = self._table.to_pyarrow_dataset()
        self._files = files_of(self._table)
        self._first, self._end = 0, len(self._files)  # of the files that are read, where only some are
        self.stored_schema: pa.Schema = without_views(self._dataset.schema)
        self.schema = dict(zip(self.stored_schema.names, self.stored_schema.types, strict=True))

    @property
    def shown_name(self) -> str:
        return folder_at(self.location).shown

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        wanted = pa.schema(
            [self.stored_schema.field(name) for name in (self.names if names is None else names)]
        )
        fragments = {fragment.path: fragment for fragment in self._dataset.get_fragments()}
        with told(
            self.location, DataError, "cannot be read; a version whose files were cleaned away is gone"
        ):
            for file in self._files[self._first : self._end]:
                fragment = fragments[
                    unquote(file["path"])
                ]  # the log writes the name on disk once more quoted
                for batch in fragment.to_batches(
                    schema=self._dataset.schema, columns=wanted.names, batch_size=_ROWS_A_BATCH
                ):
                    if batch.num_rows:
                        yield batch if batch.schema.equals(wanted) else batch.cast(wanted)

    def n_rows(self) -> int:
        known = [file.get("num_records") for file in self._files[self._first : self._end]]
        return sum(one for one in known if one is not None) if None not in known else super().n_rows()

    def as_it_was(self, identity: str) -> LakeSource | None:
        version = version_in(identity)
        if version is None or identity[:16] != identity_of(self._table)[:16]:
            return None
        return self.at_version(version)

    def at_version(self, version: int) -> LakeSource | None:
        """Return what it held at a version; None where that is not kept."""
        try:
            return LakeSource(self.location, version=version)
        except DataError:  # a version whose log was cleaned away
            return None

    def in_parts(self) -> list[Source] | None:
        made: list[Source] = []
        for number in range(self._first, self._end):
            one = copy.copy(self)
            one._first, one._end = number, number + 1
            made.append(one)
        return made or [self]

    def of_states(self, states: Sequence[FileState]) -> FileState:
        return self.identity()

    def __getstate__(self) -> dict[str, Any]:
        """Return which version it is, and which of its files: elsewhere it is opened anew."""
        return {"location": self.location, "version": self.version, "files": (self._first, self._end)}

    def __setstate__(self, state: dict[str, Any]) -> None:
        LakeSource.__init__(self, state["location"], version=state["version"])
        self._first, self._end = state["files"]

    def identity(self) -> FileState:
        marks = self.marks()
        return FileState(identity_of(self._table), marks)

    def marks(self) -> FileMarks:
        """Return the version that is opened, and the identity of the table."""
        identity = identity_of(self._table)
        return FileMarks(self.version, 0, int(identity[:16], 16) >> 1)

    def rows_since(self, then: GrownFrom) -> LakeSource | None:
        """Return the files that came since a version, if all of that one still count and lie before them."""
        version = version_in(then.hash)
        if version is None or then.hash[:16] != identity_of(self._table)[:16] or version >= self.version:
            return None
        try:
            before = LakeSource(self.location, version=version)
        except DataError:  # a version whose log was cleaned away
            return None
        paths, known = [[file["path"] for file in source._files] for source in (self, before)]
        if paths[: len(known)] != known or before.schema != self.schema or before.n_rows() != then.rows:
            return None
        rest = LakeSource(self.location, version=self.version)
        rest._first = len(known)
        return rest

    def said_since(self, then: GrownFrom) -> str:
        """Return how it differs from a version, in words."""
        version = version_in(then.hash)
        if version is None or then.hash[:16] != identity_of(self._table)[:16]:
            return "is another table now"
        moved = f"went from version {version} to {self.version}"
        rest = self.rows_since(then)
        if rest is not None:
            return f"{moved}, {count(rest.n_rows(), 'row')} came"
        return f"{moved}: {count(then.rows, 'row')} then, {self.n_rows():,} now"


def marks_of_lake(location: FolderLocation) -> FileMarks | None:
    """Return the marks of the newest version; None where there is none."""
    try:
        table = open_lake(location)
        identity = identity_of(table)
    except DataError:
        return None
    return FileMarks(int(table.version()), 0, int(identity[:16], 16) >> 1)
