"""Rows of conditions, and lookups, that lie in a database which the book of their table names."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pyarrow as pa

from kivvet.books.files.databases import is_in_database, read_databases, read_place
from kivvet.books.files.readers import Document, read_toml
from kivvet.core.read.options import Faults, Options
from kivvet.core.words.errors import BookError, DataError
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.values import write_plain
from kivvet.core.words.wording import shown_path
from kivvet.io.databases.places import Database, InDatabase

_BOOK_FILE = "book.toml"
#: In a folder of copies, the file that names the folder which they were copied from.
_COPIED_FROM = ".copied-from"
_WORDS = ("rows", "lookup")


def remember_origin(copies: Path, folder: Path) -> None:
    """Let tables that are copied somewhere below a folder find the databases that the book in another one names."""
    (copies / _COPIED_FROM).write_text(str(folder.absolute()), encoding="utf-8")


def databases_near(path: Path) -> Mapping[str, Database]:
    """Return the databases of the nearest book above a table's file; none where there is no book."""
    for folder in path.absolute().parents:
        origin = folder / _COPIED_FROM
        if origin.is_file():
            return databases_near(Path(origin.read_text(encoding="utf-8")) / path.name)
        if (folder / _BOOK_FILE).is_file():
            document, _ = read_toml(folder / _BOOK_FILE)
            values = {} if document is None else document.values
            return read_databases(Options(values, Faults()), folder)[0]
    return {}


def rows_in_database(path: Path) -> str:
    """Return the word of a table's file whose rows lie in a database; empty where they do not."""
    document, _ = read_toml(path)
    values = {} if document is None else document.values
    return next((word for word in _WORDS if is_in_database(values.get(word))), "")


def place_of_rows(path: Path, definition: Mapping[str, Any]) -> InDatabase | None:
    """Return the place in a database where the rows of a table lie; None where they lie elsewhere, or it is not said right."""
    word = next((word for word in _WORDS if is_in_database(definition.get(word))), "")
    return read_place(Options(definition, Faults()), word, databases_near(path)) if word else None


def refuse_edits(path: Path) -> None:
    """Raise `BookError` where the rows of a table lie in a database, which is not edited from here."""
    if word := rows_in_database(path):
        raise BookError(
            f"the {word} of table {path.stem} {'lies' if word == 'lookup' else 'lie'} in a database, which is not edited here",
            place=Place(shown_path(path)),
            fix="change them there",
        )


def read_rows_there(
    word: str, definition: Mapping[str, Any], path: Path, document: Document, name: str
) -> tuple[pa.Table | None, Place | None, list[Finding]]:
    """Return what lies where a table says that its rows or its lookup do, the place, and the faults found."""
    faults = Faults(document.locate, table=name)
    place = read_place(Options(definition, faults), word, databases_near(path))
    if place is None:
        return None, None, faults.found
    if word == "rows" and place.table and definition.get("match", "one") != "one":
        faults.add(
            "a table in a database has no order, and the order of these rows decides",
            (word,),
            fix=f'query = "SELECT * FROM {place.table} ORDER BY ..."',
        )
        return None, None, faults.found
    try:
        from kivvet.io.databases.database_source import DatabaseSource

        source = DatabaseSource(place)
        assert source.stored_schema is not None
        rows = pa.Table.from_batches(list(source.batches()), source.stored_schema)
    except DataError as error:
        at = error.place or document.locate((word,))
        message = f"{error.problem}; found: {error.found}" if error.found else error.problem
        fix = error.fix or (f"expected: {error.expected}" if error.expected else "")
        places = (at,) if at else ()
        return None, None, [finding("unreadable", message, table=name, places=places, remedy=fix)]
    return rows, place.place, []


def as_records(rows: pa.Table) -> list[list[str]]:
    """Return rows as texts, headings first; a missing value is an empty cell."""
    columns = [list(map(_cell, column.to_pylist())) for column in rows.columns]
    return [rows.column_names, *(list(record) for record in zip(*columns, strict=True))]


def _cell(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, dt.datetime):
        return value.isoformat(" ")
    return value if isinstance(value, str) else write_plain(value)
