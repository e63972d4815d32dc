"""A folder of parts as a source: the files that its manifest names, in order."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from kivvet.core.words.wording import shown_path
from kivvet.io.files import FileMarks, FileState
from kivvet.io.many_files import ManyFiles
from kivvet.io.parquet_files import ParquetSource
from kivvet.io.parts.manifest import MANIFEST, read_manifest
from kivvet.io.source_and_target import AS_IT_SAYS, ReadOptions


class PartsSource(ManyFiles):
    """The rows of a folder of parts.

    Raises
    ------
    UnopenableError, DataError
        If there is none, or a part of it is not there or cannot be read.
    """

    def __init__(self, path: Path, _: ReadOptions = AS_IT_SAYS) -> None:
        files = [path / one.name for one in read_manifest(path).parts]
        super().__init__(shown_path(path), path, files, ParquetSource)
        self.path = path

    def of_states(self, states: Sequence[FileState]) -> FileState:
        state = super().of_states(states)
        marks = FileMarks.of(self.path / MANIFEST)
        return state if marks is None else FileState(state.hash, marks, state.looked_at)

    def marks(self) -> FileMarks | None:
        return FileMarks.of(self.path / MANIFEST)
