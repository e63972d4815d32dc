"""Tables of a lake: folders of Parquet files and a log that says which of them count, in the open format Delta Lake.

A table has an identity of its own and a version that each commit raises: the two tell what it holds from anything else, without
looking at a byte of it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import xxhash

from kivvet.core.words.errors import KivvetError, UnopenableError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path

if TYPE_CHECKING:
    from deltalake import DeltaTable

LOG = "_delta_log"
ENDING = ".delta"
_COLOUR = re.compile(r"\x1b\[[0-9;]*m")


def is_lake(path: Path) -> bool:
    """Whether a folder is a table of a lake, or is to be one by its name."""
    return path.name.lower().endswith(ENDING) or (path / LOG).is_dir()


def holds_lake(path: Path) -> bool:
    """Whether a table is there."""
    return (path / LOG).is_dir()


def open_lake(path: Path, version: int | None = None) -> DeltaTable:
    """Return a table as it is, or was at a version.

    Raises
    ------
    UnopenableError
        If there is none, it needs what is not read here, or the version is gone.
    """
    try:
        from deltalake import DeltaTable
    except ImportError as error:
        raise UnopenableError(
            "is a table of a lake, which is read with the package deltalake",
            place=Place(shown_path(path)),
            fix='pip install "kivvet[lake]"',
        ) from error
    if not holds_lake(path):
        raise UnopenableError(
            "there is no such table of a lake", place=Place(shown_path(path)), fix="correct the path"
        )
    with told(path, UnopenableError, "cannot be opened"):
        return DeltaTable(path, version=version)


@contextmanager
def told(path: Path, kind: type[KivvetError], what: str) -> Iterator[None]:
    """Turn what the package raises into an error of ours."""
    try:
        yield
    except KivvetError:
        raise
    except Exception as error:  # some of its errors are plain ones
        said = _COLOUR.sub("", str(error)).strip().split("\n")[0]
        raise kind(f"{what}: {said}", place=Place(shown_path(path))) from error


def identity_of(table: DeltaTable) -> str:
    """Return what tells a version of a table from any other: 32 hexadecimal digits, the last 16 its version."""
    return f"{xxhash.xxh3_64_hexdigest(str(table.metadata().id).encode())}{table.version():016x}"


def version_in(identity: str) -> int | None:
    """Return the version that an identity names; None where it is none."""
    try:
        return int(identity[16:], 16) if len(identity) == 32 else None
    except ValueError:
        return None


def files_of(table: DeltaTable) -> list[dict[str, Any]]:
    """Return the files that count, in the order in which they came: their path, size and rows."""
    import pyarrow as pa

    rows = pa.table(table.get_add_actions(flatten=True)).to_pylist()
    return sorted(rows, key=lambda one: (one["modification_time"], one["path"]))


def hash_of_files(files: list[dict[str, Any]]) -> str:
    """Return what tells the files that count from others, in whatever order."""
    said = sorted((one["path"], one["size_bytes"]) for one in files)
    return xxhash.xxh3_128_hexdigest(repr(said).encode())
