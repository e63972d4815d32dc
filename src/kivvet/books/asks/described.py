"""Files of CSV that a book writes or looks up in, described for those who read them without the book."""

from __future__ import annotations

import dataclasses
import os
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.read_table import files_beside, how_rows_are_read
from kivvet.books.files.readers import read_toml
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.read_data import source_type
from kivvet.core.columns.field_form import PLAIN, FieldForm
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError, TableError
from kivvet.core.words.printed import Printed
from kivvet.core.words.values import ValueType, write_value
from kivvet.core.words.wording import did_you_mean, listed, shown_path
from kivvet.io.csv_metadata import CONTEXT, Described, DescribedTable, metadata_text
from kivvet.io.formats import delimiter_of, format_of, open_source
from kivvet.io.own_files import refuse_ending, refuse_other, write_whole

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

_MOST_CLASSES = 500  # that stand in a pattern


@dataclass(frozen=True)
class CsvMetadata(Printed):
    """Files of CSV, each with what is to be said of it.

    Attributes
    ----------
    tables : mapping of Path to DescribedTable
        By file.
    """

    tables: Mapping[Path, DescribedTable]

    def text(self, beside: Path) -> str:
        """Return the metadata as JSON, as it stands in a file: paths are from there."""
        return metadata_text(
            [
                dataclasses.replace(one, url=Path(os.path.relpath(path, beside.parent)).as_posix())
                for path, one in self.tables.items()
            ]
        )

    def save(self, path: str | Path, *, replace: bool = False) -> Path:
        """Write it as JSON, whole or not at all; return its path.

        Parameters
        ----------
        path : str or Path
            It ends in ``.json``; beside FILE.csv and called ``FILE.csv-metadata.json``, programs find it by themselves.
        replace : bool
            Whether a file may go that is no such metadata.

        Raises
        ------
        OutputError
            If it cannot be written, or is there already and something else.
        """
        target = Path(path)
        refuse_ending(target, (".json",), "description of CSV")
        if not replace:
            refuse_other(target, CONTEXT, "description of CSV")
        write_whole(target, self.text(target.resolve()).encode())
        return target

    def __repr__(self) -> str:
        return f"<CsvMetadata: {listed(path.name for path in self.tables)}>"

    def as_dict(self) -> dict[str, Any]:
        return {
            "version": 1,
            "files": [
                {"file": shown_path(path), "columns": len(one.columns)} for path, one in self.tables.items()
            ],
        }


def described(book: OpenBook, names: Sequence[str]) -> CsvMetadata:
    """Return what is to be said of the targets of datasets and the files of lookups; see `Book.describe`."""
    made: dict[Path, DescribedTable] = {}
    for name in dict.fromkeys(names):
        if name in book.datasets:
            path, table = _target(book, book.datasets[name])
        elif name in book.tables:
            path, table = _lookup(book, book.tables[name])
        else:
            known = [*book.dataset_names, *book.tables]
            raise BookError(
                f"there is no dataset and no table {name!r}",
                expected=f"one of: {listed(known, 20)}",
                fix=did_you_mean(name, known),
            )
        made[path.resolve()] = table
    if not made:
        raise BookError("name the datasets and lookups whose files are to be described")
    return CsvMetadata(made)


def _target(book: OpenBook, dataset: Dataset) -> tuple[Path, DescribedTable]:
    known = None if not isinstance(dataset.target, Path) else format_of(dataset.target)
    if not isinstance(dataset.target, Path) or known is None or known.delimiter is None:
        raise BookError(
            f"dataset {dataset.name} is not written as CSV",
            found="it has no target" if dataset.target is None else f"target {dataset.target.name}",
            fix="only files of CSV need such a description; the others hold their types themselves",
        )
    prepared, faults = prepare(book, dataset, with_all_types=True)
    if errors := [one for one in (*book.faults_of(dataset), *faults) if one.severity == "error"]:
        raise TableError(errors)
    source, plan, written = prepared.source, prepared.plan, dataset.written_as
    fields = dataset.fields
    columns = []
    headings = dict(zip(source.names, source.headings, strict=True))
    for name in source.names:
        kind = source_type(source, prepared.types, name) or "text"
        form = fields.form_of(name) if source.is_text else _form_written(kind, written)
        columns.append(Described(headings[name], kind, form, words=fields.words_of(name)))
    for name in plan.written:
        kind = plan.types.get(name) or "text"
        columns.append(Described(name, kind, _form_written(kind, written), _classes_of(plan.maker_of(name))))
    return dataset.target, DescribedTable(
        "",
        tuple(columns),
        tuple(headings[name] for name in dataset.key if name in headings),
        written.delimiter or known.delimiter,
        written.encoding,
        title=str(dataset.said.get("title", "")),
        note=str(dataset.said.get("note", "")),
    )


def _form_written(kind: ValueType, written: Any) -> FieldForm:
    """Return how values that have a type are written."""
    pattern = {"date": written.dates, "datetime": written.times}.get(kind, "")
    return FieldForm(written.decimal, pattern=pattern)


def _classes_of(maker: tuple[Any, str] | None) -> tuple[str, ...]:
    if maker is None:
        return ()
    table = maker[0].table
    about = table.output(maker[1])
    if about.type != "text" or table.match == "every":
        return ()
    classes = tuple(map(write_value, table.classes(about)))
    return classes if len(classes) <= _MOST_CLASSES else ()


def _lookup(book: OpenBook, table: Table) -> tuple[Path, DescribedTable]:
    path = book.file_of_table(table.name)
    document, _ = read_toml(path)
    file = None if document is None else next(iter(files_beside(path, document.values, ("lookup",))), None)
    known = None if file is None else format_of(file)
    if file is None or known is None or known.delimiter is None:
        raise BookError(
            f"table {table.name} looks nothing up in a file of CSV",
            fix="only files of CSV need such a description",
        )
    options, fields = how_rows_are_read(path)
    types: dict[str, tuple[ValueType, tuple[str, ...]]] = {}
    key: list[str] | None = []
    for input_ in table.inputs:
        if input_.period is not None:
            key = None  # ranges of one key may stand on several rows
            types[input_.period.start] = input_.type, ()
            if input_.period.end is not None:
                types[input_.period.end] = input_.type, ()
            types |= {end: ("boolean", ()) for end in input_.period.closed if isinstance(end, str)}
        else:
            types[input_.column or input_.name] = input_.type, ()
            if key is not None:
                key.append(input_.column or input_.name)
    for output in table.outputs:
        types[output.column or output.name] = output.type, ()
    headings = open_source(file, options).headings
    columns = tuple(
        Described(
            heading,
            types.get(heading, ("text", ()))[0],
            fields.form_of(heading) if heading in types else PLAIN,
            words=fields.words_of(heading),
        )
        for heading in headings
    )
    return file, DescribedTable(
        "",
        columns,
        tuple(one for one in key or () if one in headings),
        options.delimiter or delimiter_of(file),
        options.encoding,
        options.quote,
        table.title,
        table.note,
        options.lines_above,
    )
