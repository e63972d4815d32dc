"""Data as a command is given it: a dataset's source as the dataset reads it, or a bare file, which is recognised."""

from __future__ import annotations

import tomllib
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import pyarrow as pa

from kivvet.books.files.databases import place_said
from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import OpenBook
from kivvet.books.files.read_options import read_options
from kivvet.books.runs.sources import source_of
from kivvet.core.columns.convert import as_written_here
from kivvet.core.columns.field_form import PLAIN, FieldForm
from kivvet.core.read.fields_read import FIELD_KEYWORDS, FieldsRead, fields_read
from kivvet.core.read.file_keywords import READ_KEYWORDS
from kivvet.core.read.options import Faults, Options
from kivvet.core.words.errors import DataError, TableError, UnopenableError
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import did_you_mean, listed
from kivvet.io.csv_metadata import Metadata, metadata_beside
from kivvet.io.formats import open_source
from kivvet.io.frame_source import SHOWN, FrameSource
from kivvet.io.locations import as_file, format_at, is_there
from kivvet.io.patterns import files_of, is_pattern, place_at
from kivvet.io.queued import read_ahead
from kivvet.io.recognise import Recognised, recognise, recognise_texts
from kivvet.io.source_and_target import AS_IT_SAYS, Source

_ROWS_LOOKED_AT = 10_000


@dataclass(frozen=True)
class DataRead:
    """A dataset, or what stands for one where a bare file was given.

    Attributes
    ----------
    dataset : Dataset
    recognised : Recognised or None
        Of a bare file of text, how it seems to be written; it is read so.
    book : OpenBook or None
        Whose dataset it is; None for a bare file.
    """

    dataset: Dataset
    recognised: Recognised | None = None
    book: OpenBook | None = field(default=None, compare=False, repr=False)
    frame: FrameSource | None = field(default=None, compare=False, repr=False)

    @property
    def path(self) -> Path:
        source = self.dataset.source
        return source if isinstance(source, Path) else Path(source.shown)

    @property
    def declared(self) -> dict[str, ValueType]:
        """By column, the type that the book gives; of a bare file none is given."""
        return dict(self.dataset.types) if self.is_of_book else {}

    @property
    def kinds_to_say(self) -> Mapping[str, str]:
        """By column of a bare file, the type that its entry in a book has to say."""
        if self.recognised is None:
            return {}
        if self.recognised.by:
            return self.dataset.types
        return {name: one.type for name, one in self.recognised.columns.items()}

    @property
    def is_of_book(self) -> bool:
        """Whether it is a dataset of a book."""
        return self.book is not None

    def open(self) -> Source:
        """Return the opened source; `DataError` if it cannot be read."""
        return self.frame or source_of(self.book, self.dataset)

    def words(self, column: str) -> tuple[str, ...]:
        return self.dataset.fields.words_of(column)

    def batches(
        self, source: Source, names: Sequence[str], block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        """Yield the batches of a source; fields of text are given as Kivvet itself writes their values. The next ones are
        read and written so meanwhile.
        """
        batches = source.batches(names, block_bytes)
        if source.is_text or self.dataset.types:
            batches = map(self._readable, read_ahead(batches))
        return read_ahead(batches)

    def _readable(self, batch: pa.RecordBatch) -> pa.RecordBatch:
        names = batch.schema.names
        arrays = [
            self._as_written_here(name, array) for name, array in zip(names, batch.columns, strict=True)
        ]
        return pa.RecordBatch.from_arrays(arrays, names=names)

    def _as_written_here(self, name: str, array: pa.Array) -> pa.Array:
        form, kind = self.dataset.fields.form_of(name), self.dataset.types.get(name)
        if pa.types.is_large_string(array.type):
            array = array.cast(pa.string())
        if not pa.types.is_string(array.type):
            return array
        if kind is not None:
            return as_written_here(array, kind, self.words(name), form)[0]
        if not form.concerns("number"):
            return array
        made, bad = as_written_here(array, "number", self.words(name), form)
        return made if bad is None else array  # as far as all of them are numbers


def data_read(book: OpenBook | None, given: Any, read_as: str = "") -> DataRead:
    """Return the dataset of that name, the file at that path, or a frame.

    Parameters
    ----------
    read_as : str
        For a bare file: how it is written, in the words of a dataset, such as ``delimiter = ";", decimal = ","``. Without
        it that is recognised.

    Raises
    ------
    TableError, DataError
        If `read_as` says nothing that can be, or a dataset is given, which says itself how it is read; if there is neither a
        dataset nor a file of that name.
    """
    if not isinstance(given, (str, Path)):
        return _of_frame(given, read_as)
    dataset = book.datasets.get(str(given)) if book is not None else None
    there = None if dataset else place_said(str(given), {} if book is None else book.databases)
    if there is not None and read_as:
        raise DataError(
            "a database says itself what its columns are",
            fix="leave read_as out, or name a dataset with a query",
        )
    if there is not None:
        return _recognised(DataRead(Dataset(there.name, there, None)), _of_typed)
    if read_as:
        if dataset is not None:
            raise DataError(
                f"{dataset.name!r} is a dataset, which says itself how its source is read",
                fix="change its entry in book.toml",
            )
        return DataRead(_said(Path(given), str(given), read_as))
    path = Path(given)
    if dataset is None and not path.suffix and not is_pattern(str(given)) and not path.exists():
        names = [] if book is None else book.dataset_names
        raise UnopenableError(
            f"there is no dataset and no file {str(given)!r}",
            expected=f"a dataset, {listed(names, 12)}, or a file" if names else "a file",
            fix=did_you_mean(str(given), names),
        )
    return DataRead(dataset, book=book) if dataset is not None else _bare(path, str(given))


def _of_frame(frame: Any, read_as: str) -> DataRead:
    """Return what stands for a dataset where a frame is given."""
    from kivvet.core.run.frames import frame_table

    if isinstance(frame, (list, tuple, dict)) or not hasattr(frame, "__arrow_c_stream__"):
        kind = type(frame).__name__
        raise DataError(
            f"{'an' if kind[0] in 'aeiouAEIOU' else 'a'} {kind} is given",
            expected="the name of a dataset, the path of a file, or a frame",
            fix="make a frame of pandas, of pyarrow, or one that gives an Arrow stream from it",
        )
    if read_as:
        raise DataError("a frame has its types; read_as is for files of text", fix="leave read_as out")
    source = FrameSource(frame_table(frame))
    return DataRead(Dataset(SHOWN, source.path, None), frame=source)


def _said(path: Path, text: str, read_as: str) -> Dataset:
    """Return what stands for a dataset where it is said how a bare file is written."""
    try:
        values: dict[str, Any] = tomllib.loads(f"x = {{ {read_as} }}")["x"]
    except tomllib.TOMLDecodeError as error:
        raise DataError(
            f"cannot read how the file is written: {error}",
            found=read_as,
            fix='for example \'delimiter = ";", decimal = ","\'',
        ) from error
    faults = Faults()
    options = Options(values, faults)
    options.unknown((*READ_KEYWORDS, *FIELD_KEYWORDS), "how a file is written")
    read, fields = read_options(options), fields_read(options)
    if faults.found:
        raise TableError(faults.found)
    sources = (text,) if is_pattern(text) else ()
    return Dataset(path.name, place_at(Path(), text), None, fields=fields, options=read, sources=sources)


def _bare(path: Path, text: str) -> DataRead:
    """Return what stands for a dataset where a file is given, or a pattern of files that are read as one."""
    found = files_of(Path(), text)
    sources = (text,) if is_pattern(text) else ()
    plain = DataRead(Dataset(path.name, place_at(Path(), text), None, sources=sources))
    known = format_at(found[0]) if found else None
    if known is None or not all(map(is_there, found)):
        return plain
    if known.delimiter is None and not known.has_sheets:
        return _recognised(plain, _of_typed)
    files = [as_file(one) for one in found]
    if known.delimiter is not None and (said := metadata_beside(files[0])) is not None:
        return _as_said_beside(plain, said, files[0])
    if known.has_sheets:
        return _recognised(plain, lambda _: _of_sheets(files))
    return _recognised(plain, lambda _: _of_texts(files))


def _recognised(plain: DataRead, look: Callable[[DataRead], Recognised]) -> DataRead:
    """Return what stands for a dataset, read as it seems to be written."""
    try:
        found = look(plain)
    except (OSError, EOFError, DataError):  # opening it will say why
        return plain
    certain = {name: one for name, one in found.columns.items() if not one.is_ambiguous}
    fields = FieldsRead(
        FieldForm(found.options.decimal, found.options.thousands),
        {name: one.type for name, one in certain.items()},
        {name: one.form for name, one in certain.items() if one.form != PLAIN},
    )
    return DataRead(replace(plain.dataset, fields=fields, options=found.options), found)


def _as_said_beside(plain: DataRead, said: Metadata, file: Path) -> DataRead:
    """Return what stands for a dataset where metadata beside a file says how it is read, as far as it is about its columns."""
    try:
        names = open_source(file, said.options).names
    except DataError as error:
        raise DataError(
            f"{error.problem}, as {said.path.name} says that it is written",
            place=error.place,
            fix=f"mend {said.path.name}, or say yourself how the file is read",
        ) from error
    known = {name for name in (*said.fields.types, *said.key) if name in names}
    strange = [name for name in said.fields.types if name not in known]
    fields = replace(
        said.fields,
        types={name: kind for name, kind in said.fields.types.items() if name in known},
        forms={name: form for name, form in said.fields.forms.items() if name in known},
        missing_words_of={
            name: words for name, words in said.fields.missing_words_of.items() if name in known
        },
    )
    remarks = [*said.remarks]
    if strange:
        remarks.append(f"{said.path.name} describes {listed(strange)}, which the file does not have")
    if others := [name for name in names if name not in known]:
        remarks.append(f"{said.path.name} says nothing of {listed(others)}")
    dataset = replace(
        plain.dataset,
        fields=fields,
        options=said.options,
        key=said.key if known.issuperset(said.key) else (),
    )
    return DataRead(dataset, Recognised(said.options, remarks=tuple(remarks), by=said.path.name))


def _of_texts(files: Sequence[Path]) -> Recognised:
    """Return how files of text seem to be written."""
    found, *others = map(recognise, files)
    odd = [file.name for file, other in zip(files[1:], others, strict=True) if other.options != found.options]
    remarks = [f"{listed(odd)} seems to be written otherwise than {files[0].name}"] if odd else []
    remarks += _other_units(files, [found, *others])
    return replace(found, remarks=(*found.remarks, *remarks))


def _other_units(files: Sequence[Path], found: Sequence[Recognised]) -> list[str]:
    """Return what is to be said of columns that are written in one unit here and in another there."""
    by_column: dict[str, dict[str, str]] = {}
    for file, one in zip(files, found, strict=True):
        for name, about in one.columns.items():
            if about.form.unit:
                by_column.setdefault(name, {}).setdefault(about.form.unit, file.name)
    return [
        f"column {name} has other units from file to file: "
        + listed(f"{unit} in {file}" for unit, file in units.items())
        + "; they are no numbers as one, until the files say the same unit"
        for name, units in by_column.items()
        if len(units) > 1
    ]


def _of_sheets(files: Sequence[Path]) -> Recognised:
    """Return where the tables of workbooks seem to lie."""
    from kivvet.io.recognise_sheet import recognise_sheet

    return recognise_sheet(files[0])


def _of_typed(data: DataRead) -> Recognised:
    """Return what the columns seem to hold that a file of types keeps as text, by its first rows."""
    source = data.open()
    names = [
        name
        for name, kind in source.schema.items()
        if pa.types.is_string(kind) or pa.types.is_large_string(kind)
    ]
    first = next(iter(source.batches(names)), None) if names else None
    if first is None:
        return Recognised(AS_IT_SAYS)
    rows = first.slice(0, _ROWS_LOOKED_AT)
    return recognise_texts({name: [text or "" for text in rows.column(name).to_pylist()] for name in names})
