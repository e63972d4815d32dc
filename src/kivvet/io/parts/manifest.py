"""Folders of parts: Parquet files, each written by itself, and one manifest that says which of them count.

The manifest is replaced last, and as a whole: what lies beside it and is not named in it is no part, whoever left it there.
"""

from __future__ import annotations

import json
import re
import time
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import xxhash

from kivvet.core.words.errors import DataError, UnopenableError
from kivvet.io.folders import Folder, FolderLocation, folder_at
from kivvet.io.kept_records import KeptRecords

ENDING = ".parts"
MANIFEST = "parts.json"
VERSION = 1
_SECONDS_OF_A_RUN = 86_400  # no longer is one under way
#: How parts are called that are written here, and what lies there while the manifest is replaced.
OURS = re.compile(r"part-\d{5}-[0-9a-f]{12}\.parquet|\.parts\.json\..*")


@dataclass(frozen=True, slots=True)
class Part:
    """A file that counts.

    Attributes
    ----------
    name : str
        Within the folder.
    rows, size : int
    hash : str
        Of its bytes.
    """

    name: str
    rows: int
    size: int
    hash: str


@dataclass(frozen=True)
class Manifest:
    """What counts of a folder, in order, and how it was made."""

    parts: tuple[Part, ...]
    record: Mapping[str, Any]

    @property
    def rows(self) -> int:
        return sum(part.rows for part in self.parts)

    @property
    def hash(self) -> str:
        """What tells the parts from others."""
        return hash_of(self.parts)


def hash_of(parts: Sequence[Part]) -> str:
    """Return what tells parts, in their order, from others."""
    return xxhash.xxh3_128_hexdigest(repr([(part.rows, part.hash) for part in parts]).encode())


def is_parts(name: str) -> bool:
    """Whether a folder is one of parts, or is to be one, by its name."""
    return name.lower().endswith(ENDING)


def holds_parts(location: FolderLocation) -> bool:
    """Whether parts are there."""
    return folder_at(location).has(MANIFEST)


def read_manifest(folder: Folder) -> Manifest:
    """Return what counts of a folder.

    Raises
    ------
    UnopenableError
        If there is no manifest.
    DataError
        If it cannot be read, or is of a newer version.
    """
    place = folder.place_of(MANIFEST)
    try:
        content = folder.content(MANIFEST)
    except OSError as error:
        raise DataError("cannot be read as the manifest of a folder of parts", place=place) from error
    if content is None:
        raise UnopenableError(
            f"has no {MANIFEST}, which says what counts"
            if folder.is_there()
            else "there is no such folder of parts",
            place=folder.place,
            fix='correct the path; for any folder of Parquet files write it with "/" at its end',
        )
    try:
        given = json.loads(content)
        if given["version"] > VERSION:
            raise DataError("was written by a newer Kivvet", place=place, fix="update Kivvet")
        parts = tuple(
            Part(str(one["name"]), int(one["rows"]), int(one["size"]), str(one["hash"]))
            for one in given["parts"]
        )
        return Manifest(parts, dict(given["record"]))
    except (KeyError, TypeError, ValueError, RecursionError) as error:
        raise DataError("cannot be read as the manifest of a folder of parts", place=place) from error


def write_manifest(folder: Folder, manifest: Manifest) -> None:
    """Write what counts, atomically; then remove the parts that counted before, and those that some run left long ago.

    Others that do not count may be those of a run under way elsewhere.
    """
    try:
        before = {part.name for part in read_manifest(folder).parts}
    except (DataError, UnopenableError):
        before = set()
    values = {
        "version": VERSION,
        "parts": [asdict(part) for part in manifest.parts],
        "record": dict(manifest.record),
    }
    folder.replace(MANIFEST, (json.dumps(values, indent=1, ensure_ascii=False) + "\n").encode())
    counts = {part.name for part in manifest.parts}
    for name, written_at in folder.files():
        is_left = name in before or time.time() - written_at > _SECONDS_OF_A_RUN
        if OURS.fullmatch(name) and name not in counts and is_left:
            folder.remove(name)


def parts_there(folder: Folder) -> tuple[Part, ...] | None:
    """Return the parts as they are now; None where one is not there any more."""
    try:
        manifest = read_manifest(folder)
        found = []
        for part in manifest.parts:
            state = folder.state(part.name)
            found.append(Part(part.name, part.rows, state.marks.size, state.hash))
    except (DataError, UnopenableError):
        return None
    return tuple(found)


def kept_records(location: FolderLocation) -> KeptRecords:
    """Return the record of a folder of parts, and what tells the parts that are there from others."""
    folder = folder_at(location)
    try:
        manifest = read_manifest(folder)
    except (DataError, UnopenableError):
        return KeptRecords([], lambda: None)
    there = parts_there(folder)
    return KeptRecords([dict(manifest.record)], lambda: None if there is None else hash_of(there))
