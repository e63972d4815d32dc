"""Folders of files of which some count, on a disk or in an object store: written file by file, and made to count by one that says which."""

from __future__ import annotations

import os
from abc import ABC, abstractmethod
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from kivvet.core.words.errors import OutputError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.files import FileMarks, FileState, replacing, state_of
from kivvet.io.parquet_files import ParquetSource
from kivvet.io.stores.copies import path_of_copy
from kivvet.io.stores.store import InStore, told
from kivvet.io.stores.stored_parquet import StoredParquet

if TYPE_CHECKING:
    from pyarrow.parquet import FileMetaData

#: Where such a folder lies.
FolderLocation = Path | InStore


class Folder(ABC):
    """A folder.

    Attributes
    ----------
    shown : str
        It as messages name it.
    """

    shown: str

    @property
    def place(self) -> Place:
        return Place(self.shown)

    def place_of(self, name: str) -> Place:
        """Return the place of a file in it."""
        return Place(f"{self.shown.rstrip('/')}/{name}")

    @abstractmethod
    def is_there(self) -> bool:
        """Whether there is such a folder."""

    @abstractmethod
    def has(self, name: str) -> bool:
        """Whether there is a file, or a folder, of a name."""

    @abstractmethod
    def begin(self) -> None:
        """See that it can be written to; `OutputError` where it cannot."""

    @abstractmethod
    def content(self, name: str) -> bytes | None:
        """Return what a file holds; None where there is none."""

    @abstractmethod
    def replace(self, name: str, content: bytes) -> None:
        """Write a file whole, in the place of what is there."""

    @abstractmethod
    def path_to(self, name: str) -> Path:
        """Return where a new file is written; it is in the folder when it is `settled`."""

    @abstractmethod
    def settle(self, name: str) -> None:
        """See that a file which was written lies in the folder, safely."""

    @abstractmethod
    def about(self, name: str) -> tuple[FileMetaData, FileMarks]:
        """Return what the footer of a Parquet file says, and the marks of the file."""

    @abstractmethod
    def state(self, name: str) -> FileState:
        """Return what tells a file's content from any other; `UnopenableError` if it cannot be read."""

    @abstractmethod
    def marks(self, name: str) -> FileMarks | None:
        """Return the marks of a file; None where there is none."""

    @abstractmethod
    def open(self, name: str) -> ParquetSource:
        """Return a Parquet file as a source."""

    @abstractmethod
    def files(self) -> list[tuple[str, float]]:
        """Return what lies in it: names, and when each was written, in seconds."""

    @abstractmethod
    def remove(self, name: str) -> None:
        """Remove a file, if that can be."""

    @abstractmethod
    def end(self) -> None:
        """Remove the folder, where nothing lies in it."""


def folder_at(location: FolderLocation) -> Folder:
    """Return the folder that lies there."""
    return FolderOnDisk(location) if isinstance(location, Path) else FolderInStore(location)


class FolderOnDisk(Folder):
    """A folder of this machine, or one that it reaches as such."""

    def __init__(self, path: Path) -> None:
        self.path, self.shown = path, shown_path(path)

    def is_there(self) -> bool:
        return self.path.is_dir()

    def has(self, name: str) -> bool:
        return (self.path / name).exists()

    def begin(self) -> None:
        try:
            self.path.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise OutputError(f"cannot be written: {error.strerror}", place=self.place) from error

    def content(self, name: str) -> bytes | None:
        try:
            return (self.path / name).read_bytes()
        except FileNotFoundError:
            return None

    def replace(self, name: str, content: bytes) -> None:
        with replacing(self.path / name) as beside:
            beside.write_bytes(content)

    def path_to(self, name: str) -> Path:
        return self.path / name

    def settle(self, name: str) -> None:
        descriptor = os.open(self.path / name, os.O_RDONLY)
        os.fsync(descriptor)
        os.close(descriptor)

    def about(self, name: str) -> tuple[FileMetaData, FileMarks]:
        from pyarrow import parquet

        return parquet.read_metadata(self.path / name), FileMarks.at(self.path / name)

    def state(self, name: str) -> FileState:
        return state_of(self.path / name)

    def marks(self, name: str) -> FileMarks | None:
        return FileMarks.of(self.path / name)

    def open(self, name: str) -> ParquetSource:
        return ParquetSource(self.path / name)

    def files(self) -> list[tuple[str, float]]:
        found = []
        for path in self.path.iterdir():
            with suppress(OSError):
                found.append((path.name, path.stat().st_mtime))
        return found

    def remove(self, name: str) -> None:
        with suppress(OSError):
            (self.path / name).unlink()

    def end(self) -> None:
        with suppress(OSError):
            self.path.rmdir()


class FolderInStore(Folder):
    """All below a name in an object store."""

    def __init__(self, location: InStore) -> None:
        self.location, self.shown = location, location.url

    def is_there(self) -> bool:
        return self.location.holds()

    def has(self, name: str) -> bool:
        return self.location.holds(name)

    def begin(self) -> None:
        """Nothing is to be made: a name is there when an object is."""

    def content(self, name: str) -> bytes | None:
        system, key = self.location.child(name).opened
        with told(self.location, OutputError, "cannot be read"):
            try:
                with system.open_input_stream(key, compression=None) as stream:
                    return bytes(stream.read())
            except FileNotFoundError:
                return None

    def replace(self, name: str, content: bytes) -> None:
        path = self.path_to(name)
        path.write_bytes(content)
        self.settle(name)

    def path_to(self, name: str) -> Path:
        return path_of_copy(self.location.child(name))

    def settle(self, name: str) -> None:
        path = self.path_to(name)
        self.location.child(name).put(path)
        path.unlink()

    def about(self, name: str) -> tuple[FileMetaData, FileMarks]:
        from pyarrow import parquet

        one = self.location.child(name)
        system, key = one.opened
        with told(one, OutputError, "was written, and cannot be read"), system.open_input_file(key) as file:
            return parquet.read_metadata(file), one.identity().marks

    def state(self, name: str) -> FileState:
        return self.location.child(name).identity()

    def marks(self, name: str) -> FileMarks | None:
        return self.location.child(name).marks()

    def open(self, name: str) -> ParquetSource:
        return StoredParquet(self.location.child(name))

    def files(self) -> list[tuple[str, float]]:
        return self.location.below()

    def remove(self, name: str) -> None:
        self.path_to(name).unlink(missing_ok=True)
        with suppress(OutputError):
            self.location.child(name).remove()

    def end(self) -> None:
        """Nothing is to be removed: a name is there while an object is."""
