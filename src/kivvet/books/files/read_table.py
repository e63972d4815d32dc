"""Reading one table of a book: its TOML file, and the rows that stand in a file beside it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from kivvet.books.files.database_rows import as_records, place_of_rows, read_rows_there
from kivvet.books.files.databases import is_in_database
from kivvet.books.files.examples import with_examples
from kivvet.books.files.read_options import read_options
from kivvet.books.files.readers import Document, read_csv_rows, read_toml, unmerged
from kivvet.books.files.sheet_rows import read_sheet_rows
from kivvet.core.read.fields_read import FieldsRead, fields_read
from kivvet.core.read.options import Faults, Locate, Options
from kivvet.core.read.row_reader import RowsAre
from kivvet.core.read.table_parser import parse_table
from kivvet.core.tables.lookup_rows import LocateRow, no_place
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.formats import LOOKUP_ENDINGS, ROW_ENDINGS, SHEET_ENDINGS, has_sheets, lookup_source
from kivvet.io.locations import Location
from kivvet.io.source_and_target import ReadOptions
from kivvet.io.stand_ins import stand_in
from kivvet.io.stores.store import is_url


def read_table(path: Path) -> tuple[Table | None, tuple[Location, ...], list[Finding]]:
    """Return the table of a TOML file, the files or the place in a database that hold its rows, and every fault found in any of them.

    The table is None where its inputs or outputs could not be understood.
    """
    name = path.stem
    document, faults = read_toml(path, name)
    if document is None:
        return None, (), faults
    definition = dict(document.values)
    there = place_of_rows(path, definition)
    files: tuple[Location, ...] = (*files_beside(path, definition), *([there] if there else []))
    locate, faults = document.locate, []
    locate_row: LocateRow = no_place
    if isinstance(definition.get("rows"), str):
        locate, faults = _attach_rows(definition, path, document, name)
    elif is_in_database(definition.get("rows")):
        locate, faults = _attach_database(definition, "rows", path, document, name)
    elif is_in_database(definition.get("lookup")):
        _, faults = _attach_database(definition, "lookup", path, document, name)
    elif isinstance(definition.get("lookup"), str):
        locate_row, faults = _attach_lookup(definition, path, document, name)
    is_read = not any(fault.severity == "error" for fault in faults)
    rows_are: RowsAre = "unreadable" if not is_read else "file" if locate is not document.locate else "inline"
    if isinstance(definition.get("examples"), str):
        definition, locate, others = with_examples(definition, path, locate, name)
        faults += others
    parts, others = parse_table(name, definition, locate, rows_are, locate_row)
    return (None if parts is None else parts), files, [*faults, *others]


def row_files(path: Path) -> list[Path]:
    """Return the files beside a table's TOML file that hold its rows, whether they exist or not."""
    document, _ = read_toml(path)
    return [] if document is None else list(files_beside(path, document.values, ("rows", "lookup")))


def how_rows_are_read(path: Path) -> tuple[ReadOptions, FieldsRead]:
    """Return how the file of a table's rows is read, and the fields of its columns, as the table's TOML file says."""
    document, _ = read_toml(path)
    options = Options({} if document is None else dict(document.values), Faults())
    return read_options(options), fields_read(options)


def files_beside(
    path: Path, definition: Mapping[str, Any], words: Sequence[str] = ("rows", "lookup", "examples")
) -> tuple[Path, ...]:
    """Return the files that a table's definition names, whether they exist or not."""
    given = (definition.get(key) for key in words)
    return tuple(path.parent / one for one in given if isinstance(one, str) and "\0" not in one)


def _attach_rows(
    definition: dict[str, Any], path: Path, document: Document, name: str
) -> tuple[Locate, list[Finding]]:
    file, faults = _named_file(definition["rows"], "rows", path, document, name)
    if file is None:
        return document.locate, faults
    options, faults = _options_of(definition, document, name)
    for word in ("decimal", "thousands"):
        if word in definition:
            place = document.locate((word,))
            message = f"{word} is how numbers of data are written; rows of conditions and results have a point, and nothing between thousands"
            remedy = f"leave {word} out, and write the rows so, for example < 5600.5"
            faults.append(
                finding("syntax", message, table=name, places=(place,) if place else (), remedy=remedy)
            )
    if faults:
        return document.locate, faults
    rows, faults = (read_sheet_rows if has_sheets(file) else read_csv_rows)(file, name, options)
    if rows is None:
        return document.locate, faults
    definition["rows"] = rows.records
    shown = shown_path(file)

    def locate(at: tuple[str | int, ...]) -> Place | None:
        if len(at) > 1 and at[0] == "rows" and isinstance(at[1], int) and at[1] < len(rows.lines):
            return rows.place(shown, at[1], at[2] if len(at) > 2 and isinstance(at[2], int) else None)
        return document.locate(at)

    return locate, faults


def _attach_database(
    definition: dict[str, Any], word: str, path: Path, document: Document, name: str
) -> tuple[Locate, list[Finding]]:
    rows, place, faults = read_rows_there(word, definition, path, document, name)
    if rows is None:
        return document.locate, faults
    definition[word] = rows if word == "lookup" else as_records(rows)

    def locate(at: tuple[str | int, ...]) -> Place | None:
        return place if len(at) > 1 and at[0] == "rows" else document.locate(at)

    return locate, []


def _attach_lookup(
    definition: dict[str, Any], path: Path, document: Document, name: str
) -> tuple[LocateRow, list[Finding]]:
    file, faults = _named_file(definition["lookup"], "lookup", path, document, name)
    if file is None:
        return no_place, faults
    options, faults = _options_of(definition, document, name)
    if faults:
        return no_place, faults
    there = stand_in(file)

    def named(place: Place | None) -> Place:
        """Return a place in what was read as one in the file that is meant."""
        whole = Place(shown_path(file))
        return whole if place is None else place if there == file else replace(place, file=whole.file)

    if file.name.lower().endswith(ROW_ENDINGS) and (faults := unmerged(file, there.read_bytes(), name)):
        return no_place, faults
    try:
        read = lookup_source(there, options, fields_read(Options(definition, Faults())))
    except DataError as error:
        return no_place, [
            finding(
                "unreadable" if not file.exists() else "syntax",
                error.problem,
                table=name,
                places=(named(error.place),),
                remedy=error.fix or "",
            )
        ]
    definition["lookup"] = read.rows
    notes = [
        finding(note.kind, note.message, table=name, places=(named(note.place),), remedy=note.fix)
        for note in read.notes
    ]
    if there == file or read.place_of_row is None:
        return read.place_of_row or no_place, notes
    place_of_row = read.place_of_row
    return lambda row: None if (place := place_of_row(row)) is None else named(place), notes


def _options_of(
    definition: dict[str, Any], document: Document, name: str
) -> tuple[ReadOptions, list[Finding]]:
    """Return how the file of a table's rows is read, and the faults found."""
    faults = Faults(document.locate, table=name)
    return read_options(Options(definition, faults)), faults.found


def _named_file(
    given: str, key: str, path: Path, document: Document, name: str
) -> tuple[Path | None, list[Finding]]:
    place = document.locate((key,))
    places = (place,) if place else ()
    if "\0" in given:
        message = f"{key} holds a sign that no path has"
        return None, [finding("syntax", message, table=name, places=places)]
    if is_url(given):
        message = f"{key} = {given!r}: rules lie with their book, whose history they share, and in no store"
        remedy = "copy the file beside the table"
        return None, [finding("syntax", message, table=name, places=places, remedy=remedy)]
    file = path.parent / given
    kinds = LOOKUP_ENDINGS if key == "lookup" else (*ROW_ENDINGS, *SHEET_ENDINGS)
    if not file.name.endswith(kinds):
        return None, [
            finding(
                "syntax",
                f"{key} = {given!r} is of a kind this version does not read",
                table=name,
                places=places,
                remedy=f"a file of {' or '.join(kinds)}",
            )
        ]
    if not file.is_file():
        beside = sorted(one.name for one in path.parent.glob("*") if one.name.endswith(kinds))
        return None, [
            finding(
                "unreadable",
                f"{key} = {given!r}: there is no such file beside the table",
                table=name,
                places=places,
                remedy=f"files there: {', '.join(beside) or 'none'}",
            )
        ]
    return file, []
