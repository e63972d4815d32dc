"""The formats of files: which endings each has, and what can be done with it. This is the one list of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path, PurePath
from typing import Any

import pyarrow as pa

from kivvet.core.read.fields_read import AS_IT_STANDS, FieldsRead
from kivvet.core.words.errors import DataError, UnopenableError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io import csv_source, csv_target, other_files, parquet_assembly, parquet_files, parquet_target
from kivvet.io.csv_lines import line_of_headings
from kivvet.io.csv_records import LinesOfRows
from kivvet.io.files import FileMarks
from kivvet.io.folders import FolderLocation, folder_at
from kivvet.io.kept_records import KeptRecords
from kivvet.io.lakes.lake import ENDING, LOG, holds_lake
from kivvet.io.parts.manifest import ENDING as PARTS_ENDING
from kivvet.io.parts.manifest import MANIFEST, holds_parts, kept_records
from kivvet.io.source_and_target import AS_IT_SAYS, ReadOptions, Source, SourceNote, Target, WriteOptions


@dataclass(frozen=True)
class FolderFormat:
    """Of a format that is a folder of files, some of which count: whether one is there, and the marks that change when it does."""

    is_there: Callable[[FolderLocation], bool]
    marks: Callable[[FolderLocation], FileMarks | None]


@dataclass(frozen=True)
class Format:
    """A format of files.

    Attributes
    ----------
    name : str
    endings : tuple of str
        In lower case.
    open : callable or None
        Opens a source; None where it is none.
    create : callable or None
        Begins a target: from the path to write to, the path it will have, the schema of what is to come, and how text
        is written.
    extend : callable or None
        Begins a target as `create` does, with all rows that it holds already; it gives None where that cannot be.
    kept_records : callable or None
        Gives the records kept with a target, the newest first, and the hash of what it holds.
    keeps_types : bool
        Whether a target has typed columns. In others the fields of a source's text stand as they were.
    takes_columns_later : bool
        Whether a target takes columns when all rows of the others are written.
    keeps_classes : bool
        Whether a target holds the classes of a column in their order, used or not, besides the values.
    read_all : callable or None
        Reads the rows of a lookup whole; None where it holds none.
    delimiter : str or None
        For text with rows of fields: what stands between them.
    has_sheets : bool
        Whether a file holds sheets, on which tables are looked for.
    folder : FolderFormat or None
        Where it is a folder, here or in a store, which its calls are handed as it is.
    """

    name: str
    endings: tuple[str, ...]
    open: Callable[[Any, ReadOptions], Source] | None = None
    create: Callable[[Path, Any, pa.Schema, WriteOptions], Target] | None = None
    kept_records: Callable[[Any], KeptRecords] | None = None
    keeps_types: bool = False
    takes_columns_later: bool = False
    keeps_classes: bool = False
    extend: Callable[[Path, Any, pa.Schema, WriteOptions], Target | None] | None = None
    read_all: Callable[[Path, ReadOptions], pa.Table] | None = None
    delimiter: str | None = None
    has_sheets: bool = False
    folder: FolderFormat | None = None

    def lines_of_rows(self, path: Path, options: ReadOptions = AS_IT_SAYS) -> LinesOfRows | None:
        """Return what gives the places of the rows of a file; None where rows stand on no lines."""
        if self.delimiter is None:
            return None
        return LinesOfRows(path, shown_path(path), partial(csv_source.form_of, path, options))


@dataclass(frozen=True)
class LookupFile:
    """The rows of a lookup as its file holds them.

    Attributes
    ----------
    rows : pyarrow.Table
    place_of_row : callable or None
        Gives the place of a row, counted from 1; None where rows stand on no lines.
    notes : tuple of SourceNote
    """

    rows: pa.Table
    place_of_row: Callable[[int], Place | None] | None = None
    notes: tuple[SourceNote, ...] = ()


def _open_workbook(path: Path, options: ReadOptions) -> Source:
    from kivvet.io.workbook_source import WorkbookSource

    return WorkbookSource(path, options)


def _begin_workbook(path: Path, target: Path, schema: pa.Schema, options: WriteOptions) -> Target:
    from kivvet.io.workbook_target import WorkbookTarget

    return WorkbookTarget(path, target, schema, options)


def _open_lake(location: FolderLocation, options: ReadOptions) -> Source:
    from kivvet.io.lakes.lake_source import LakeSource

    return LakeSource(location, options)


def _begin_lake(path: Path, target: FolderLocation, schema: pa.Schema, options: WriteOptions) -> Target:
    from kivvet.io.lakes.lake_target import begin

    return begin(path, target, schema, options)


def _extend_lake(
    path: Path, target: FolderLocation, schema: pa.Schema, options: WriteOptions
) -> Target | None:
    from kivvet.io.lakes.lake_target import extend

    return extend(path, target, schema, options)


def _records_of_lake(location: FolderLocation) -> KeptRecords:
    from kivvet.io.lakes.lake_target import kept_records

    return kept_records(location)


def _marks_of_lake(location: FolderLocation) -> FileMarks | None:
    from kivvet.io.lakes.lake_source import marks_of_lake

    return marks_of_lake(location)


def _open_parts(location: FolderLocation, options: ReadOptions) -> Source:
    from kivvet.io.parts.parts_source import PartsSource

    return PartsSource(location, options)


def _begin_parts(path: Path, target: FolderLocation, schema: pa.Schema, options: WriteOptions) -> Target:
    from kivvet.io.parts.parts_target import begin

    return begin(path, target, schema, options)


def _extend_parts(
    path: Path, target: FolderLocation, schema: pa.Schema, options: WriteOptions
) -> Target | None:
    from kivvet.io.parts.parts_target import extend

    return extend(path, target, schema, options)


def _marks_of_parts(location: FolderLocation) -> FileMarks | None:
    return folder_at(location).marks(MANIFEST)


def open_written(path: Path, options: WriteOptions) -> Source:
    """Return a target as a source, read as it was written."""
    if has_sheets(path):
        from kivvet.io.workbook_target import ROWS_SHEET

        return open_source(path, ReadOptions(sheet=(ROWS_SHEET,)))
    return open_source(path, ReadOptions(options.encoding, options.delimiter))


def _read_sheet(path: Path, options: ReadOptions) -> pa.Table:
    source = _open_workbook(path, options)
    return pa.Table.from_batches(list(source.batches()), source.stored_schema)


def _delimited(name: str, delimiter: str, *, is_compressed: bool = False) -> Format:
    if is_compressed:
        return Format(name, (f".{name}",), csv_source.CsvSource, delimiter=delimiter)
    return Format(
        name,
        (f".{name}",),
        csv_source.CsvSource,
        csv_target.begin(delimiter),
        csv_target.kept_records,
        extend=csv_target.extend(delimiter),
        read_all=csv_source.read_all,
        delimiter=delimiter,
    )


FORMATS: tuple[Format, ...] = (
    _delimited("csv", ","),
    _delimited("tsv", "\t"),
    _delimited("csv.gz", ",", is_compressed=True),
    _delimited("tsv.gz", "\t", is_compressed=True),
    Format(
        "parquet",
        (".parquet",),
        parquet_files.ParquetSource,
        parquet_target.ParquetTarget,
        parquet_files.kept_records,
        keeps_types=True,
        takes_columns_later=True,
        keeps_classes=True,
        extend=parquet_assembly.extend,
        read_all=parquet_files.read_all,
    ),
    Format(
        "arrow",
        (".arrow",),
        other_files.ArrowSource,
        other_files.ArrowTarget,
        csv_target.kept_records,
        keeps_types=True,
        keeps_classes=True,
        read_all=other_files.read_arrow,
    ),
    Format(
        "jsonl",
        (".jsonl",),
        other_files.JsonLinesSource,
        other_files.JsonLinesTarget,
        csv_target.kept_records,
        keeps_types=True,
        read_all=other_files.read_json_lines,
    ),
    Format(
        "xlsx",
        (".xlsx",),
        _open_workbook,
        _begin_workbook,
        csv_target.kept_records,
        keeps_types=True,
        keeps_classes=True,
        read_all=_read_sheet,
        has_sheets=True,
    ),
    *(
        Format(ending[1:], (ending,), _open_workbook, read_all=_read_sheet, has_sheets=True)
        for ending in (".xlsm", ".ods", ".xls", ".xlsb")
    ),
)

#: A folder with a log of its own, whatever its name.
LAKE = Format(
    "lake",
    (ENDING,),
    _open_lake,
    _begin_lake,
    _records_of_lake,
    keeps_types=True,
    extend=_extend_lake,
    folder=FolderFormat(holds_lake, _marks_of_lake),
)

#: A folder of files and a manifest of those that count.
PARTS = Format(
    "parts",
    (PARTS_ENDING,),
    _open_parts,
    _begin_parts,
    kept_records,
    keeps_types=True,
    keeps_classes=True,
    extend=_extend_parts,
    folder=FolderFormat(holds_parts, _marks_of_parts),
)


def _endings(can: Callable[[Format], object]) -> tuple[str, ...]:
    return tuple(ending for each in (*FORMATS, LAKE, PARTS) if can(each) for ending in each.endings)


#: The endings of sources, of targets, of files of a lookup's rows, and of text with rows of conditions.
SOURCE_ENDINGS = _endings(lambda each: each.open)
TARGET_ENDINGS = _endings(lambda each: each.create)
LOOKUP_ENDINGS = _endings(lambda each: each.read_all)
ROW_ENDINGS = _endings(lambda each: each.delimiter and each.create)
#: Of files that hold sheets.
SHEET_ENDINGS = _endings(lambda each: each.has_sheets)


def format_named(name: str) -> Format | None:
    """Return the format of a file, or a folder, by the ending of its name; None where it is none of ours."""
    lower = name.lower()
    found = [
        (ending, each)
        for each in (*FORMATS, LAKE, PARTS)
        for ending in each.endings
        if lower.endswith(ending)
    ]
    return max(found, key=lambda pair: len(pair[0]))[1] if found else None


def format_of(path: Path) -> Format | None:
    """Return the format of a file by the ending of its name, of a folder by what it holds too; None where it is none of ours."""
    return format_named(path.name) or (LAKE if (path / LOG).is_dir() else None)


def open_source(path: Path, options: ReadOptions | None = None) -> Source:
    """Return the source at `path`.

    Raises
    ------
    UnopenableError
        If there is no such file, or it is of a kind that is not read.
    """
    known = format_of(path)
    if known is not None and known.open is not None:
        return known.open(path, options or AS_IT_SAYS)
    raise UnopenableError(
        "is of a kind this version does not read",
        place=Place(shown_path(path)),
        expected=f"a file that ends in {', '.join(SOURCE_ENDINGS)}",
    )


def headings_where_they_are(path: Path, first: Path, options: ReadOptions) -> ReadOptions:
    """Return how one of several files of text is read: where the headings of the first stand on another line of it, from there.

    A file that cannot be read so is opened as the options say, which tells what is wrong with it.
    """
    try:
        wanted = csv_source.CsvSource(first, options).headings
        line = line_of_headings(path, options, wanted)
    except (DataError, OSError, EOFError, UnicodeError):
        return options
    return options if line is None else replace(options, headings_on_line=line)


def has_sheets(path: Path) -> bool:
    """Whether a file is a workbook, by its name."""
    known = format_of(path)
    return known is not None and known.has_sheets


def target_format(path: Path) -> Format:
    """Return the format of a target, whose ending was looked at when the book was read."""
    known = format_of(path)
    assert known is not None and known.create is not None
    return known


def lookup_source(
    path: Path, options: ReadOptions = AS_IT_SAYS, fields: FieldsRead = AS_IT_STANDS
) -> LookupFile:
    """Return the rows of a lookup's file, whole, and where each stands.

    Raises
    ------
    DataError
        If it cannot be read, or is not what its name says.
    """
    known = format_of(path)
    assert known is not None and known.read_all is not None
    if known.has_sheets:
        source = _open_workbook(path, options).as_said(fields)
        rows = pa.Table.from_batches(list(source.batches()), source.stored_schema)
        return LookupFile(rows, source.place_of_row, tuple(source.notes))
    try:
        return LookupFile(known.read_all(path, options), known.lines_of_rows(path, options))
    except (pa.ArrowInvalid, pa.ArrowTypeError, OSError) as error:
        said = str(error).strip().split("\n")[0]
        raise DataError(
            f"cannot be read as {known.name}: {said}",
            place=Place(shown_path(path)),
            fix="write the file again, or name it as what it is",
        ) from error


def delimiter_of(path: PurePath) -> str:
    """Return what stands between the fields of a file of text, by its name; a comma where that says nothing."""
    known = format_named(path.name)
    return (known.delimiter if known is not None else None) or ","
