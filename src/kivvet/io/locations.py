"""Where rows lie, a file, a place in a database, an object of a store: the one list of kinds of places, and what is asked of any."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any

import pyarrow as pa

from kivvet.io.database_locations import Databases
from kivvet.io.databases.places import InDatabase
from kivvet.io.file_locations import Files
from kivvet.io.files import FileMarks
from kivvet.io.formats import LAKE, PARTS, Format, headings_where_they_are
from kivvet.io.kept_records import KeptRecords
from kivvet.io.location_kind import LocationKind
from kivvet.io.source_and_target import AS_IT_SAYS, ReadOptions, Source, Target, WriteOptions
from kivvet.io.store_locations import Stores
from kivvet.io.stores.store import InStore

#: Where rows lie.
Location = Path | InDatabase | InStore

#: The kinds of places.
KINDS: dict[type, LocationKind[Any]] = {Path: Files(), InDatabase: Databases(), InStore: Stores()}


def _kind(location: Location) -> LocationKind[Any]:
    return next(kind for one, kind in KINDS.items() if isinstance(location, one))


def shown_location(location: Location) -> str:
    """Return a location as messages name it."""
    return _kind(location).shown(location)


def identity_of(location: Location) -> Any:
    """Return what is the same for one location by whatever name."""
    return _kind(location).identity(location)


def format_at(location: Location) -> Format | None:
    """Return what can be done with a location; None where it is no file of ours."""
    return _kind(location).format(location)


def format_to(location: Location) -> Format:
    """Return the format of a target, which was looked at when the book was read."""
    known = format_at(location)
    assert known is not None
    return known


def holds_sheets(location: Location) -> bool:
    """Whether it is a workbook."""
    known = format_at(location)
    return known is not None and known.has_sheets


def is_there(location: Location) -> bool:
    """Whether a location is there; `UnopenableError` where it cannot be asked."""
    return _kind(location).is_there(location)


def is_of_parts(location: Location) -> bool:
    """Whether it is a folder of files of which some count: a lake, or a folder of parts."""
    return format_at(location) in (LAKE, PARTS)


def open_location(location: Location, options: ReadOptions | None = None) -> Source:
    """Return the rows of a location as a source.

    Raises
    ------
    UnopenableError
        If it is not there, or of a kind that is not read.
    """
    return _kind(location).open(location, options or AS_IT_SAYS)


def open_written(location: Location, options: WriteOptions) -> Source:
    """Return a target that was written so as a source."""
    return _kind(location).open_written(location, options)


def marks_of(location: Location) -> FileMarks | None:
    """Return the marks that change when a file does; of a place in a database always the same, since it is asked anew."""
    return _kind(location).marks(location)


def as_file(location: Path | InStore) -> Path:
    """Return a file of this machine that holds what another place does; `UnopenableError` where there is none."""
    return _kind(location).as_file(location)


def read_as_others(file: Path | InStore, first: Path | InStore, options: ReadOptions) -> ReadOptions:
    """Return how one of several files is read: where it is of text, its headings may stand on another line than those of the first."""
    known = format_at(file)
    if file == first or known is None or known.delimiter is None or options.headings:
        return options
    return headings_where_they_are(as_file(file), as_file(first), options)


def replacing_at(location: Location) -> AbstractContextManager[Path]:
    """Give where to write what takes the place of a location when the block ends well."""
    return _kind(location).replacing(location)


def begun(part: Path, location: Location, schema: pa.Schema, options: WriteOptions) -> Target:
    """Return a target begun."""
    return _kind(location).begun(part, location, schema, options)


def extended_at(part: Path, location: Location, schema: pa.Schema, options: WriteOptions) -> Target | None:
    """Return a target begun with all rows that it holds already; None where these cannot stand as they are."""
    return _kind(location).extended(part, location, schema, options)


def merged(location: InDatabase, schema: pa.Schema, key: Sequence[str], n_rows: int) -> Target:
    """Return a table begun whose rows stay, but for those of the same key as a row that is written; it has a number of rows then."""
    from kivvet.io.databases.database_target import DatabaseTarget

    return DatabaseTarget(location, schema, key, n_rows)


def records_at(location: Location) -> KeptRecords | None:
    """Return the records kept with a target, the newest first, and the hash of what it holds; None where it is not there, or keeps
    none.
    """
    return _kind(location).records(location)


def make_ready(location: Location) -> None:
    """Make ready for being written, before anything beside it is read."""
    _kind(location).make_ready(location)
