"""Copies of objects, where a format is read from a file: fetched once by each process, again where the object changed, removed at its end."""

from __future__ import annotations

import atexit
import shutil
import tempfile
from contextlib import suppress
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

import xxhash

from kivvet.core.words.errors import UnopenableError
from kivvet.core.words.wording import call_copy
from kivvet.io.files import FileMarks, FileState
from kivvet.io.stores.store import InStore

_FETCHED: dict[Path, FileMarks] = {}


@cache
def _folder() -> Path:
    folder = Path(tempfile.mkdtemp(prefix="kivvet-copies-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder


def path_of_copy(location: InStore) -> Path:
    """Return where the copy of an object is, or is to be; messages call it by its URL."""
    above = location.url.rsplit("/", 1)[0]
    path = _folder() / xxhash.xxh3_64_hexdigest(above.encode()) / location.name
    path.parent.mkdir(exist_ok=True)
    call_copy(path, location.url)
    return path


def copy_of(location: InStore) -> Path:
    """Return a file that holds what an object does; `UnopenableError` where there is none."""
    path = path_of_copy(location)
    state = location.identity()
    if _FETCHED.get(path) != state.marks or not path.is_file():
        location.fetch(path)
        if location.marks() != state.marks:
            raise UnopenableError(
                "changed while it was read", place=location.place, fix="run the command again"
            )
        _FETCHED[path] = state.marks
    return path


def copy_if_there(location: InStore) -> Path:
    """Return where the copy of an object is; the file is not there where the object is not."""
    if location.marks() is not None:
        return copy_of(location)
    path = path_of_copy(location)
    with suppress(FileNotFoundError):
        path.unlink()
    return path


def forget(*locations: InStore) -> None:
    """Let go of the copies of objects that were written: they are fetched anew when they are wanted."""
    for location in locations:
        _FETCHED.pop(path_of_copy(location), None)


@dataclass(frozen=True)
class Copied:
    """Which object a source was copied from: what tells its content from another is asked there.

    Attributes
    ----------
    location : InStore
    path : Path
        The copy. A process that has none makes one.
    """

    location: InStore
    path: Path

    def identity(self) -> FileState:
        return self.location.identity()

    def marks(self) -> FileMarks | None:
        return self.location.marks()

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        call_copy(self.path, self.location.url)
        if not self.path.is_file():
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self.location.fetch(self.path)
            atexit.register(shutil.rmtree, self.path.parent, ignore_errors=True)
