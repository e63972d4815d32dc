"""Where rows lie, a file or a place in a database: opened, begun to be written, replaced and known again, whichever it is."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pyarrow as pa

from kivvet.core.words.wording import shown_path
from kivvet.io.databases.places import InDatabase, Location
from kivvet.io.files import FileMarks, replacing
from kivvet.io.formats import LAKE, PARTS, Format, format_of, open_source, target_format
from kivvet.io.formats import open_written as open_written_file
from kivvet.io.lakes.lake import holds_lake
from kivvet.io.parts.manifest import MANIFEST, holds_parts
from kivvet.io.source_and_target import ReadOptions, Source, Target, WriteOptions

#: What a table of a database can do, as a format of files says it.
DATABASE = Format("database", (), keeps_types=True)


def shown_location(location: Location) -> str:
    """Return a location as messages name it."""
    return location.shown if isinstance(location, InDatabase) else shown_path(location)


def identity_of(location: Location) -> Any:
    """Return what is the same for one location by whatever name."""
    return location.identity if isinstance(location, InDatabase) else Path(os.path.realpath(location))


def format_at(location: Location) -> Format | None:
    """Return what can be done with a location; None where it is no file of ours."""
    return DATABASE if isinstance(location, InDatabase) else format_of(location)


def format_to(location: Location) -> Format:
    """Return the format of a target, which was looked at when the book was read."""
    return DATABASE if isinstance(location, InDatabase) else target_format(location)


def holds_sheets(location: Location) -> bool:
    """Whether it is a workbook."""
    known = format_at(location)
    return known is not None and known.has_sheets


def is_there(location: Location) -> bool:
    """Whether a location is there; `UnopenableError` where a database cannot be asked."""
    if isinstance(location, InDatabase):
        from kivvet.io.databases.engines import engine_of

        return bool(location.query) or engine_of(location.database).has_table(location)
    if is_a_lake(location):
        return holds_lake(location)
    return holds_parts(location) if format_of(location) is PARTS else location.is_file()


def is_a_lake(location: Location) -> bool:
    """Whether it is a table of a lake, a folder."""
    return not isinstance(location, InDatabase) and format_of(location) is LAKE


def is_of_parts(location: Location) -> bool:
    """Whether it is a folder of files of which some count: a lake, or a folder of parts."""
    return not isinstance(location, InDatabase) and format_of(location) in (LAKE, PARTS)


def open_location(location: Location, options: ReadOptions | None = None) -> Source:
    """Return the rows of a location as a source.

    Raises
    ------
    UnopenableError
        If it is not there, or of a kind that is not read.
    """
    if isinstance(location, InDatabase):
        from kivvet.io.databases.database_source import DatabaseSource

        return DatabaseSource(location)
    return open_source(location, options)


def open_written(location: Location, options: WriteOptions) -> Source:
    """Return a target that was written so as a source."""
    return (
        open_location(location) if isinstance(location, InDatabase) else open_written_file(location, options)
    )


def marks_of(location: Location) -> FileMarks | None:
    """Return the marks that change when a file does; of a place in a database always the same, since it is asked anew."""
    if isinstance(location, InDatabase):
        return FileMarks(0, 0, 0)
    if is_a_lake(location):
        from kivvet.io.lakes.lake_source import marks_of_lake

        return marks_of_lake(location)
    if is_of_parts(location):
        return FileMarks.of(location / MANIFEST)
    return FileMarks.of(location)


@contextmanager
def replacing_at(location: Location) -> Iterator[Path]:
    """Give where to write what takes the place of a location when the block ends well; a database is written in its place, in a
    transaction.
    """
    if isinstance(location, InDatabase):
        from kivvet.io.databases.database_target import writing_to

        with writing_to(location):
            yield Path(location.shown)
        return
    if is_of_parts(location):  # whose files lie beside those that count, until one of them says so
        yield location
        return
    with replacing(location) as part:
        yield part


def begun(part: Path, location: Location, schema: pa.Schema, options: WriteOptions) -> Target:
    """Return a target begun."""
    if isinstance(location, InDatabase):
        from kivvet.io.databases.database_target import DatabaseTarget

        return DatabaseTarget(location, schema)
    create = target_format(location).create
    assert create is not None
    return create(part, location, schema, options)


def merged(location: InDatabase, schema: pa.Schema, key: Sequence[str], n_rows: int) -> Target:
    """Return a table begun whose rows stay, but for those of the same key as a row that is written; it has a number of rows then."""
    from kivvet.io.databases.database_target import DatabaseTarget

    return DatabaseTarget(location, schema, key, n_rows)


def records_at(location: Location) -> tuple[list[Any], str | None] | None:
    """Return the records kept with a target, the newest first, and the hash of what it holds; None where it is not there, or keeps
    none.
    """
    if isinstance(location, InDatabase):
        from kivvet.io.databases.database_target import kept_records

        return kept_records(location) if is_there(location) else None
    known = format_of(location)
    if known is None or known.kept_records is None or not is_there(location):
        return None
    return known.kept_records(location)


def make_ready(location: Location) -> None:
    """Make ready for being written, before anything beside it is read."""
    if isinstance(location, InDatabase):
        from kivvet.io.databases.engines import engine_of

        engine_of(location.database).open_to_write()
