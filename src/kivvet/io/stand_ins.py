"""Texts that are open in an editor and not saved yet stand in for the files they are of."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path

_STAND_INS: ContextVar[Mapping[Path, Path]] = ContextVar("stand_ins")


def stand_in(path: Path) -> Path:
    """Return the file that is read in place of a file of a book: the file itself, unless another stands in for it."""
    files = _STAND_INS.get({})
    return files.get(path.resolve(), path) if files else path


@contextmanager
def standing_in(files: Mapping[Path, Path]) -> Iterator[None]:
    """Let files stand in for others, each named by its absolute path, as long as the block runs in this thread."""
    token = _STAND_INS.set(files)
    try:
        yield
    finally:
        _STAND_INS.reset(token)
