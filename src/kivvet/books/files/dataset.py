"""A dataset of a book: its source, the columns to add, its target."""

from __future__ import annotations

import fnmatch
import os
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path, PurePath
from typing import Any

from kivvet.books.files.databases import is_in_database, read_place
from kivvet.books.files.read_options import (
    SHEET_KEYWORDS,
    TEXT_KEYWORDS,
    WRITTEN_AS,
    options_recorded,
    read_options,
    write_options,
)
from kivvet.core.formulas.formula import Formula
from kivvet.core.read.fields_read import AS_IT_STANDS, FIELD_KEYWORDS, FieldsRead, fields_read
from kivvet.core.read.file_keywords import NOTE, PLACE, READ_KEYWORDS, TITLE, WRITTEN_PLACE
from kivvet.core.read.forms import FILLED, TEXT, Keywords, by_name, list_of, options_of
from kivvet.core.read.options import Faults, Locate, Options
from kivvet.core.run.entries import COLUMNS, Entry, parse_entries
from kivvet.core.run.where import parse_where
from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import listed
from kivvet.io.databases.places import Database, InDatabase
from kivvet.io.files import FileMarks
from kivvet.io.formats import (
    SOURCE_ENDINGS,
    TARGET_ENDINGS,
    delimiter_of,
    format_of,
)
from kivvet.io.locations import Location, marks_of, open_location, read_as_others, shown_location
from kivvet.io.many_files import ManyFiles, marks_of_many
from kivvet.io.patterns import files_of, is_pattern, name_within, place_at
from kivvet.io.source_and_target import AS_IT_IS_NAMED, AS_IT_SAYS, ReadOptions, Source, WriteOptions
from kivvet.io.stores.store import InStore, is_url, url_fault

NO_DATABASES: Mapping[str, Database] = {}
DATASET_KEYWORDS: Keywords = {
    "source": (TEXT | list_of(TEXT, at_least=1) | PLACE).says(
        "the data: a file, a pattern, a list of files, a lake (a name that ends in /), or a place in a database"
    ),
    "file_column": FILLED.says("of many files, the column that holds the name of each"),
    "target": (TEXT | WRITTEN_PLACE).says("where the data is written with its new columns"),
    "written_as": WRITTEN_AS.says("how a CSV target is written"),
    "key": (TEXT | list_of(TEXT, each_once=True)).says("the columns that together name a row"),
    **FIELD_KEYWORDS,
    "input": by_name(TEXT).says("by name used in the rules, the column of the source"),
    "columns": COLUMNS.says("the tables and formulas that make the new columns, in order"),
    "where": FILLED.says("a condition of the rows that are written"),
    **READ_KEYWORDS,
    "title": TITLE,
    "note": NOTE,
}
#: Of a ``[datasets.NAME]``.
DATASET_FORM = options_of(DATASET_KEYWORDS, "source")


@dataclass(frozen=True, slots=True)
class SummaryOf:
    """What a summary sums up.

    Attributes
    ----------
    name : str
        Of a dataset, or another summary.
    by, values : tuple of (str, str)
        Names and expressions: of the keys, and of the aggregates.
    """

    name: str
    by: tuple[tuple[str, str], ...]
    values: tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class Dataset:
    """A dataset as the book defines it.

    Attributes
    ----------
    name : str
    source, target : Location
        The first or only one of its files, as the book says it, or what lies in a database; `target` is None where columns are
        not to be written.
    sources : tuple of str
        Paths and patterns of the files that are read as one source, from `folder`; empty where it is one file.
    file_column : str or None
        Of many files, the column that holds the name of each.
    folder : Path
        The folder of the book.
    fields : FieldsRead
        How the fields of text columns of its source are read.
    renamed : mapping of str to str
        By name used in the book, the source column that stands for it.
    entries : tuple of Entry
    options : ReadOptions
        How the file of its source is read.
    written_as : WriteOptions
        How the text of its target is written.
    where : Formula or None
        The condition of the rows that are kept, decided after the columns are made.
    key : tuple of str
        The columns of the source that together name each row, and no other.
    said : mapping
        All of it as the book says it, as plain values.
    of : SummaryOf or None
        Of a summary, what it sums up; `source` is then the file that this rests on in the end.
    """

    name: str
    source: Location
    target: Location | None
    fields: FieldsRead = AS_IT_STANDS
    renamed: Mapping[str, str] = field(default_factory=dict)
    entries: tuple[Entry, ...] = ()
    options: ReadOptions = AS_IT_SAYS
    written_as: WriteOptions = AS_IT_IS_NAMED
    sources: tuple[str, ...] = ()
    file_column: str | None = None
    folder: Path = Path()
    place: Place | None = None
    where: Formula | None = None
    of: SummaryOf | None = None
    key: tuple[str, ...] = ()
    said: Mapping[str, Any] = field(default_factory=dict, compare=False, repr=False)

    @property
    def types(self) -> Mapping[str, ValueType]:
        """By column of the source, the type that is said."""
        return self.fields.types

    def open(self) -> Source:
        """Return the opened source; `DataError` if it cannot be read."""
        if not self.sources:
            return open_location(self.source, self.options).as_said(self.fields)
        files = self.files()
        return ManyFiles(
            shown_location(place_at(self.folder, self.sources[0]))
            if len(self.sources) == 1
            else listed(self.sources),
            [name_within(self.folder, file) for file in files],
            [
                open_location(file, read_as_others(file, files[0], self.options)).as_said(self.fields)
                for file in files
            ],
            self.file_column,
            with_folders=any(source.endswith("/") for source in self.sources),
        )

    def files(self) -> list[Path | InStore]:
        """Return the files of its source, in order; none where it lies in a database."""
        if not self.sources:
            return [] if isinstance(self.source, InDatabase) else [self.source]
        return list(dict.fromkeys(path for source in self.sources for path in files_of(self.folder, source)))

    @property
    def files_here(self) -> list[Path]:
        """The files of its source that lie on this machine; none of a summary."""
        return [] if self.of is not None else [one for one in self.files() if isinstance(one, Path)]

    def source_marks(self) -> FileMarks | None:
        """Return the marks that change when its source does, a file that comes or goes included; None where one cannot
        be looked at.
        """
        if not self.sources:
            return marks_of(self.source)
        files = self.files()
        marks = [marks_of(path) for path in files]
        if not files or None in marks:
            return None
        return marks_of_many(list(map(str, files)), [mark for mark in marks if mark is not None])

    def read_options(self) -> dict[str, Any]:
        """Return all that decides how the source is read, but the types of its columns, as plain values."""
        if self.of is not None:
            return {
                "from": self.of.name,
                "by": [list(one) for one in self.of.by],
                "values": [list(value) for value in self.of.values],
            }
        return {
            "missing_words": sorted(set(self.fields.missing_words)),
            "missing_words_of": {
                name: sorted(set(words)) for name, words in self.fields.missing_words_of.items() if words
            },
            **(
                {"database": list(self.source.said), "version": self.source.version}
                if isinstance(self.source, InDatabase)
                else options_recorded(self.options, delimiter_of(PurePath(self.source.name)))
            ),
            **({"sources": list(self.sources)} if self.sources else {}),
            **({} if self.file_column is None else {"file_column": self.file_column}),
            **({} if self.written_as == AS_IT_IS_NAMED else {"written_as": asdict(self.written_as)}),
            **(
                {"forms": {name: form.as_dict() for name, form in sorted(self.fields.forms.items())}}
                if self.fields.forms
                else {}
            ),
        }


def parse_dataset(
    name: str, given: Any, folder: Path, locate: Locate, databases: Mapping[str, Database] = NO_DATABASES
) -> tuple[Dataset | None, list[Finding]]:
    """Return the dataset that a ``[datasets.NAME]`` of book.toml defines, and the faults found."""
    root = ("datasets", name)
    faults = Faults(locate, dataset=name, root=root)
    if not isinstance(given, Mapping):
        faults.add(
            f"a dataset is a heading with a source and columns; found {given!r}",
            fix=f'[datasets.{name}]  source = "data/{name}.csv"',
        )
        return None, faults.found
    options = Options(given, faults)
    options.unknown(DATASET_KEYWORDS, "a dataset")
    for word in ("target",):
        if isinstance(given.get(word), str) and "\0" in given[word]:
            fix = f'for example {word} = "data/{name}.csv"'
            options.fault(word, f"{word} holds a sign that no path has", fix)
            return None, faults.found
    sources = [] if is_in_database(given.get("source")) else _sources(options)
    source: Location | None = place_at(folder, sources[0]) if sources else None
    if is_in_database(given.get("source")):
        source = read_place(options, "source", databases)
    target: str | None = None
    written: Location | None = None
    if is_in_database(given.get("target")):
        written = read_place(options, "target", databases, is_target=True)
    else:
        target = _target(options)
        written = place_at(folder, target) if target else None
    is_many = len(sources) > 1 or any(map(is_pattern, sources))
    file_column = options.text("file_column", "file_column is the name of a column", fix='for example "file"')
    if file_column is not None and not is_many:
        options.fault(
            "file_column",
            "file_column is for a source of many files",
            'source = "data/*.csv", or leave it out',
        )
    if target and any(_is_source(folder, source, target) for source in sources):
        fix = "name another file: the source is never changed"
        options.fault("target", "target is the source itself", fix)
    read, fields = read_options(options), fields_read(options)
    _refuse_for_other_formats(options, sources)
    if isinstance(source, InDatabase):
        for word in READ_KEYWORDS:
            if word in options:
                options.fault(word, f"{word} is for files, and {source} lies in a database", "leave it out")
        if isinstance(written, InDatabase) and written.identity == source.identity:
            options.fault(
                "target", "target is the source itself", "name another table: the source is never changed"
            )
    renamed = options.by_name(
        "input",
        "input says which source column stands for a name",
        'for example input = { issued_on = "date" }',
        of_texts=True,
    )
    entries, entry_faults = parse_entries(
        given.get("columns", []), lambda path: locate((*root, "columns", *path))
    )
    faults.found += [replace(fault, dataset=name) for fault in entry_faults]
    if source is None:
        return None, faults.found
    dataset = Dataset(
        name,
        source,
        written,
        fields,
        dict(renamed),
        tuple(entries),
        read,
        write_options(options, target),
        tuple(sources) if is_many else (),
        file_column if is_many else None,
        folder,
        locate(root),
        parse_where(options),
        key=_key(options),
        said=given,
    )
    return dataset, faults.found


def _refuse_for_other_formats(options: Options, sources: list[str]) -> None:
    """Tell options that say how a file of text is written, where the source is none: nothing is dropped in silence."""
    known = [format_of(Path(source)) for source in sources if not source.endswith("/")]
    is_text = any(one is None or one.delimiter is not None for one in known)
    is_workbook = any(one is not None and one.has_sheets for one in known)
    for word in READ_KEYWORDS:
        if not sources or word not in options:
            continue
        if word in SHEET_KEYWORDS and not is_workbook:
            options.fault(word, f"{word} is for workbooks, and {sources[0]} is none", "leave it out")
        elif word in TEXT_KEYWORDS and not is_text:
            options.fault(word, f"{word} is for files of text, and {sources[0]} is none", "leave it out")
        elif not is_text and not is_workbook:
            options.fault(
                word,
                f"{word} is for files of text and workbooks, and {sources[0]} is neither",
                "leave it out; rows are chosen by where",
            )


def _key(options: Options) -> tuple[str, ...]:
    given = options.plain("key", [])
    if isinstance(given, str):
        given = [given]
    if (
        isinstance(given, list)
        and all(isinstance(one, str) for one in given)
        and len(set(given)) == len(given)
    ):
        return tuple(given)
    options.fault(
        "key", "key lists the columns that name a row, each once", 'for example key = ["sample_id"]'
    )
    return ()


def _sources(options: Options) -> list[str]:
    """Return the paths and patterns of the source; none where they are no good."""
    given = options.plain("source")
    sources = given if isinstance(given, list) and given else [given]
    for source in sources:
        if not isinstance(source, str):
            message = f"source is the path of a file, a pattern, or a list of them; found {source!r}"
        elif "\0" in source:
            message = "source holds a sign that no path has"
        elif is_url(source) and url_fault(source):
            options.fault("source", url_fault(source), 'for example "s3://bucket/data/samples.parquet"')
            return []
        elif not source.endswith("/") and not source.lower().endswith(SOURCE_ENDINGS):
            message = f"{source!r} is of a kind this version does not read"
        else:
            continue
        options.fault("source", message, f"a file that ends in {', '.join(SOURCE_ENDINGS)}")
        return []
    return sources


def _is_source_in_store(source: str, target: str) -> bool:
    """The same, where one of them is a URL."""
    if source.endswith("/"):
        return target.startswith(source)
    return source == target or (is_pattern(source) and fnmatch.fnmatchcase(target, source))


def _is_source(folder: Path, source: str, target: str) -> bool:
    """Whether a target is one of the files of a source, or would be."""
    if is_url(source) or is_url(target):
        return _is_source_in_store(source, target)
    real = Path(os.path.realpath(folder / target))
    within = Path(os.path.realpath(folder / source))
    if source.endswith("/"):
        return real.suffix.lower() == ".parquet" and within in real.parents
    return real == within or (
        is_pattern(source) and fnmatch.fnmatch(str(real), str(Path(os.path.realpath(folder)) / source))
    )


def _target(options: Options) -> str | None:
    target = options.plain("target")
    if isinstance(target, str) and is_url(target) and url_fault(target):
        options.fault("target", url_fault(target), 'for example "s3://bucket/out/samples.parquet"')
        return None
    if target is None or (isinstance(target, str) and target.lower().endswith(TARGET_ENDINGS)):
        return target
    message = f"{target!r} is of a kind this version does not write"
    options.fault("target", message, f"a file that ends in {', '.join(TARGET_ENDINGS)}")
    return None
