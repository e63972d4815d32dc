"""A folder of parts as a source: the files that its manifest names, in order."""

from __future__ import annotations

from collections.abc import Sequence

from kivvet.io.files import FileMarks, FileState
from kivvet.io.folders import FolderLocation, folder_at
from kivvet.io.many_files import ManyFiles
from kivvet.io.parts.manifest import MANIFEST, read_manifest
from kivvet.io.source_and_target import AS_IT_SAYS, ReadOptions


class PartsSource(ManyFiles):
    """The rows of a folder of parts.

    Raises
    ------
    UnopenableError, DataError
        If there is none, or a part of it is not there or cannot be read.
    """

    def __init__(self, location: FolderLocation, _: ReadOptions = AS_IT_SAYS) -> None:
        self.folder = folder_at(location)
        names = [part.name for part in read_manifest(self.folder).parts]
        super().__init__(self.folder.shown, names, [self.folder.open(name) for name in names])

    def of_states(self, states: Sequence[FileState]) -> FileState:
        state, marks = super().of_states(states), self.marks()
        return state if marks is None else FileState(state.hash, marks, state.looked_at)

    def marks(self) -> FileMarks | None:
        return self.folder.marks(MANIFEST)
