"""The lock of a target, so that two processes never write it at once."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from kivvet.books.runs.noted_content import key_of_target
from kivvet.core.words.errors import OutputError
from kivvet.core.words.places import Place
from kivvet.io.locations import Location, shown_location

_SECONDS_FOR_LOCK = 20


@contextmanager
def locked(folder: Path, target: Location) -> Iterator[None]:
    """Hold the lock of a target, so that two processes never write it at once."""
    import filelock

    name = f"{key_of_target(target)}.lock"
    lock: filelock.BaseFileLock | None = None
    # A book that may only be read has its locks elsewhere.
    for locks in (folder / ".kivvet" / "locks", Path(tempfile.gettempdir())):
        try:
            locks.mkdir(parents=True, exist_ok=True)
            lock = filelock.FileLock(locks / name, timeout=_SECONDS_FOR_LOCK)
            lock.acquire()
            break
        except filelock.Timeout:
            raise OutputError(
                "another kivvet is writing this target",
                place=Place(shown_location(target)),
                fix="wait until it has ended, then try again",
            ) from None
        except OSError:
            lock = None
    try:
        yield
    finally:
        if lock is not None:
            lock.release()
