"""Files: hashing what was read, writing beside and then replacing, so that a crash leaves old or new."""

from __future__ import annotations

import os
import re
import socket
import time
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

import xxhash

from kivvet.core.words.errors import OutputError, UnopenableError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path

_HASH_CHUNK = 1 << 20
_SECONDS_TO_SETTLE = 2  # some file systems note times no finer
_HOST = xxhash.xxh3_64_hexdigest(socket.gethostname().encode())[
    :8
]  # of this machine, in names of files under way


@dataclass(frozen=True, slots=True)
class FileMarks:
    """What changes when a file is written or replaced: `changed_ns`, too, where its time of change was set back."""

    size: int
    modified_ns: int
    inode: int
    changed_ns: int = 0

    @classmethod
    def of(cls, path: Path) -> FileMarks | None:
        """Return the marks of a file; None where there is none."""
        try:
            return cls.at(path)
        except OSError:
            return None

    @classmethod
    def at(cls, path: Path) -> FileMarks:
        """Return the marks of a file; `OSError` where there is none."""
        return cls._of(path.stat())

    @classmethod
    def _of(cls, stat: os.stat_result) -> FileMarks:
        return cls(stat.st_size, stat.st_mtime_ns, stat.st_ino, stat.st_ctime_ns)


@dataclass(frozen=True, slots=True)
class FileState:
    """What a file was when it was read: its 128-bit hash, and its marks then.

    `looked_at` is when the marks were taken, in seconds of this machine's steady clock.
    """

    hash: str
    marks: FileMarks
    looked_at: float = field(default_factory=time.monotonic, compare=False)

    @property
    def is_settled(self) -> bool:
        """Whether the marks have stood so long that whoever changes the file from now on leaves others, whatever the
        clock says that the file's times are of.
        """
        return time.monotonic() - self.looked_at >= _SECONDS_TO_SETTLE


def hash_bytes_of(path: Path, length: int | None = None) -> str:
    """Return the 128-bit hash of a file's bytes, or of its first `length` bytes, as hexadecimal digits."""
    return digest_of(path, length).hexdigest()


def digest_of(path: Path, length: int | None = None) -> xxhash.xxh3_128:
    """Return the 128-bit hash of a file's bytes, or of its first `length` bytes, to which more can be added."""
    digest = xxhash.xxh3_128()
    left = length if length is not None else -1
    with path.open("rb") as file:
        while left and (chunk := file.read(_HASH_CHUNK if left < 0 else min(_HASH_CHUNK, left))):
            digest.update(chunk)
            left -= len(chunk) if left > 0 else 0
    return digest


def state_of(path: Path) -> FileState:
    """Return the state of a file; `UnopenableError` if it cannot be read."""
    try:
        looked_at, marks = time.monotonic(), FileMarks._of(path.stat())
        return FileState(hash_bytes_of(path), marks, looked_at)
    except OSError as error:
        raise unreadable(path, error) from error


def unreadable(path: Path, error: OSError | EOFError) -> UnopenableError:
    """Return the error for a source that cannot be opened."""
    place = Place(shown_path(path))
    if isinstance(error, EOFError):
        return UnopenableError(
            "is cut short", place=place, found=str(error), fix="fetch or write the file anew"
        )
    if isinstance(error, FileNotFoundError):
        near = (
            sorted(one.name for one in path.parent.glob("*") if one.is_file())[:8]
            if path.parent.is_dir()
            else []
        )
        return UnopenableError(
            "there is no such file",
            place=place,
            fix=f"files there: {', '.join(near)}" if near else "correct the path",
        )
    if isinstance(error, IsADirectoryError):
        return UnopenableError("is a folder, not a file", place=place)
    return UnopenableError(f"cannot be read: {error.strerror or error}", place=place)


def unwritable(path: Path, error: OSError) -> OutputError:
    """Return the error for a target that cannot be written."""
    reason = re.sub(r".*Detail: \[errno \d+\] ", "", error.strerror or str(error))  # as Arrow tells it
    return OutputError(
        f"cannot be written: {reason}",
        place=Place(shown_path(path)),
        fix="see that the folder exists, is writable and has room; nothing was changed",
    )


@contextmanager
def replacing(path: Path) -> Iterator[Path]:
    """Give a new path beside `path` to write to; it takes the place of `path` when the block ends well.

    Raises
    ------
    OutputError
        If the folder or the file cannot be written. `path` is then as it was.
    """
    _refuse_url(path)
    beside = path.with_name(f".{path.name}.{_HOST}.{os.getpid()}.{os.urandom(4).hex()}.part")
    _remove_left_over(path)
    try:
        if path.parent.exists() and not path.parent.is_dir():
            raise NotADirectoryError(20, f"{path.parent.name} is a file, not a folder")
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.is_dir():
            raise IsADirectoryError(21, "is a folder")
        with beside.open("wb"):
            pass
        yield beside
        _to_disk(beside)
        beside.replace(path)
        _to_disk(path.parent)
    except OSError as error:
        raise unwritable(path, error) from error
    finally:
        with suppress(OSError):
            beside.unlink()


@contextmanager
def replacing_all(paths: Sequence[Path]) -> Iterator[tuple[Path, ...]]:
    """Give new paths beside several files; none takes its place before all are written, and then they do in the order given.

    Raises
    ------
    OutputError
        If one of them cannot be written. All are then as they were.
    """
    with ExitStack() as stack:
        parts = [stack.enter_context(replacing(path)) for path in reversed(paths)]
        yield tuple(reversed(parts))


_SCHEMES = ("s3:", "gs:", "gcs:", "abfs:", "abfss:", "http:", "https:", "ftp:")


def _refuse_url(path: Path) -> None:
    """Raise where a path was a URL, so that no folder is made that is called like its scheme."""
    if any(part.lower() in _SCHEMES for part in path.parts):
        raise OutputError(
            "is no file of this machine: to a URL goes the target of a dataset alone",
            place=Place(path.as_posix()),
            fix="write a file here, and copy it there",
        )


def _remove_left_over(path: Path) -> None:
    """Remove what runs of this machine wrote beside `path` before they were killed."""
    left = re.compile(re.escape(f".{path.name}.{_HOST}.") + r"(\d+)\.[0-9a-f]{8}\.part")
    with suppress(OSError):
        for one in path.parent.iterdir():
            match = left.fullmatch(one.name)
            if match is not None and not _is_running(int(match[1])):
                with suppress(OSError):
                    one.unlink()


def _is_running(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


def _to_disk(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
