"""Tables of a lake: folders of Parquet files and a log that says which of them count, in the open format Delta Lake.

A table has an identity of its own and a version that each commit raises: the two tell what it holds from anything else, without
looking at a byte of it.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import xxhash

from kivvet.core.words.errors import KivvetError, UnopenableError
from kivvet.io.folders import FolderLocation, folder_at
from kivvet.io.stores.store import InStore, lake_options

if TYPE_CHECKING:
    from deltalake import DeltaTable

LOG = "_delta_log"
ENDING = ".delta"
_COLOUR = re.compile(r"\x1b\[[0-9;]*m")


def is_lake(name: str) -> bool:
    """Whether a folder is a table of a lake, or is to be one, by its name."""
    return name.lower().endswith(ENDING)


def holds_lake(location: FolderLocation) -> bool:
    """Whether a table is there."""
    return folder_at(location).has(LOG)


def in_package(location: FolderLocation) -> tuple[str, dict[str, str] | None]:
    """Return how the package is told where a table is, and what it needs to know of a store."""
    return str(location), lake_options() if isinstance(location, InStore) else None


def open_lake(location: FolderLocation, version: int | None = None) -> DeltaTable:
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
            place=folder_at(location).place,
            fix='pip install "kivvet[lake]"',
        ) from error
    if not holds_lake(location):
        raise UnopenableError(
            "there is no such table of a lake", place=folder_at(location).place, fix="correct the path"
        )
    where, options = in_package(location)
    with told(location, UnopenableError, "cannot be opened"):
        return DeltaTable(where, version=version, storage_options=options)


@contextmanager
def told(location: FolderLocation, kind: type[KivvetError], what: str) -> Iterator[None]:
    """Turn what the package raises into an error of ours."""
    try:
        yield
    except KivvetError:
        raise
    except Exception as error:  # some of its errors are plain ones
        lines = [line.strip(" ↳\t") for line in _COLOUR.sub("", str(error)).strip().split("\n")]
        said = lines[0] if len(lines) == 1 else f"{lines[0]}: {lines[-1]}"
        raise kind(f"{what}: {said}", place=folder_at(location).place) from error


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
    said = sorted((file["path"], file["size_bytes"]) for file in files)
    return xxhash.xxh3_128_hexdigest(repr(said).encode())
