"""Adding a dataset to a book: its entry, with what was recognised of its file, at the end of book.toml."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from kivvet.books.asks.data_read import data_read
from kivvet.books.asks.look_source import cures_of_stray
from kivvet.books.files.databases import place_text, target_said
from kivvet.books.files.entry_text import aligned, append_entry, book_lines
from kivvet.books.files.open_book import BOOK_FILE, OpenBook
from kivvet.core.draft.look_hints import no_such_field
from kivvet.core.read.options import toml_text
from kivvet.core.words.errors import BookError, DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import listed, shown_path, toml_key
from kivvet.io.databases.places import Database, InDatabase
from kivvet.io.formats import SOURCE_ENDINGS, TARGET_ENDINGS
from kivvet.io.locations import Location
from kivvet.io.recognise import Recognised
from kivvet.io.stores.store import is_url


@dataclass(frozen=True)
class Added:
    """A dataset that was added.

    Attributes
    ----------
    name : str
    lines : tuple of str
        Its entry, as it stands in book.toml.
    remarks : tuple of str
        What could not be recognised for certain, or is odd about the file.
    """

    name: str
    lines: tuple[str, ...]
    remarks: tuple[str, ...]


def add_dataset(
    book: OpenBook,
    name: str,
    source: str | Path,
    *,
    target: str | None = None,
    view: str = "",
    columns: Sequence[str] = (),
    read_as: str = "",
) -> Added:
    """Write the entry of a new dataset into book.toml, which otherwise stays as it is; see `Book.add`."""
    path = book.folder / BOOK_FILE
    if name in book.datasets or name in book.unusable_datasets:
        raise BookError(
            f"there is a dataset {name!r} already", place=Place(shown_path(path)), fix="choose another name"
        )
    if not name.strip() or any(sign in name for sign in "\n\r\0"):
        raise BookError(f"{name!r} is no name of a dataset", fix='for example "samples"')
    data = data_read(book if book.databases else None, source, read_as)
    there = _as_named(data.dataset.source, book.databases)
    if (
        not isinstance(there, InDatabase)
        and not str(source).endswith("/")
        and not data.path.name.lower().endswith(SOURCE_ENDINGS)
    ):
        raise DataError(
            "is of a kind this version does not read",
            place=Place(shown_path(data.path)),
            expected=f"a file that ends in {listed(SOURCE_ENDINGS, 20)}",
        )
    opened = data.open()
    databases, lines_above = _with_database(book, there)
    written_to = _target(name, target, view, there, databases)
    for column in columns:
        if column not in book.tables and column not in book.formulas:
            raise BookError(
                f"the book has no table or formula {column!r}",
                expected=f"one of: {listed([*book.tables, *book.formulas], 20)}",
            )
    found = data.recognised
    if isinstance(there, InDatabase):
        place = place_text(there)
    else:
        place = toml_text(
            str(source)
            if is_url(str(source))
            else _path_for(book.folder, data.path) + ("/" if str(source).endswith("/") else "")
        )
    entry = [
        ("source", place),
        ("target", written_to),
        *([] if view else book_lines(data.dataset, {**data.dataset.types, **data.kinds_to_say})),
        *([("key", toml_text(list(data.dataset.key)))] if data.dataset.key else []),
        ("columns", toml_text(list(columns))),
    ]
    lines = [*lines_above, f"[datasets.{toml_key(name)}]", *aligned(entry)]
    append_entry(path, lines)
    remarks = [] if found is None else [*found.remarks, *_strays(found)]
    if view and data.dataset.types:
        remarks.append(
            f"{listed(data.dataset.types)}: texts that look like another type; a view reads them as they are, and a query as the source may say CAST"
        )
    if found is not None and found.by:
        remarks.insert(0, f"read as {found.by} says, which lies beside it")
    return Added(name, tuple(lines), (*remarks, *(note.message for note in opened.notes)))


def _as_named(there: Location, databases: Mapping[str, Database]) -> Location:
    """Return a place in a database that is a file as one of the database that the book names, where it names that file."""
    if isinstance(there, InDatabase) and there.database.path is not None:
        own = there.database.path.resolve()
        for database in databases.values():
            if database.path is not None and database.path.resolve() == own:
                return replace(there, database=database)
    return there


def _with_database(book: OpenBook, there: Location) -> tuple[dict[str, Database], list[str]]:
    """Return the databases of the book as they are with that of a place, and the lines that name it where the book does not yet."""
    databases = dict(book.databases)
    if not isinstance(there, InDatabase) or databases.get(there.database.name) == there.database:
        return databases, []
    database = there.database
    assert database.path is not None, "one of a URL is named by the book"
    if database.name in databases:
        raise BookError(
            f"the book names another database {database.name!r}",
            fix=f"give {shown_path(database.path)} a name under [databases.NAME] first",
        )
    said = toml_text(_path_for(book.folder, database.path))
    lines = [f"[databases.{toml_key(database.name)}]", f"path = {said}", ""]
    return {**databases, database.name: database}, lines


def _target(
    name: str, target: str | None, view: str, there: Location, databases: Mapping[str, Database]
) -> str:
    """Return where the rows of a dataset are to be written, as book.toml says it."""
    if view:
        if target is not None or not isinstance(there, InDatabase):
            raise BookError(
                "a view is made in the database that its rows lie in"
                if target is None
                else "a dataset is written to one place, and two are given",
                fix="name a table of a database as the source, such as survey:samples"
                if target is None
                else "leave one of them out",
            )
        return place_text(InDatabase(there.database, view, there.schema, is_view=True))
    written_to = target if target is not None else f"out/{name}.parquet"
    if (place := target_said(written_to, databases)) is not None:
        return place_text(place)
    if not written_to.lower().endswith(TARGET_ENDINGS):
        raise DataError(
            f"target {written_to!r} is of a kind this version does not write",
            expected=f"a file that ends in {listed(TARGET_ENDINGS, 20)}, or DATABASE:TABLE",
        )
    return toml_text(written_to)


def _strays(found: Recognised) -> list[str]:
    """Return what is said of fields that are not of the type of all others."""
    return [
        f"column {name}: {text!r} is {no_such_field(one.type)}: {cures_of_stray(name, text)}"
        for name, one in found.columns.items()
        for text in one.strays
    ]


def _path_for(folder: Path, path: Path) -> str:
    """Return a path as book.toml names it: from the book's folder where that is no longer."""
    whole, near = path.resolve(), Path(os.path.relpath(path.resolve(), folder.resolve()))
    return (near if near.parts.count("..") < 3 else whole).as_posix()
