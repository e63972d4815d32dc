"""Drafting tables into a book: new files, or rows added to a table's file that is otherwise left as it was."""

from __future__ import annotations

import csv
import io
import shutil
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from kivvet.book.book import Book
from kivvet.book.dataset import Dataset
from kivvet.book.look_source import named_columns
from kivvet.book.read_table import row_files
from kivvet.book.reading import read_text, read_toml
from kivvet.book.toml_places import TomlPlaces
from kivvet.core.applied import value_counts
from kivvet.core.columns import column_from_arrow
from kivvet.core.conditions import Equals
from kivvet.core.convert import convert_text
from kivvet.core.draft import (
    MOST_DISTINCT,
    PairCounter,
    Wishes,
    blank_rows,
    draft_from_examples,
    draft_from_values,
)
from kivvet.core.look import Look, LookBuilder
from kivvet.core.table_text import row_lines, row_records, table_text
from kivvet.core.tables import Input, Output, Row, RuleTable, TableParts, columns_of
from kivvet.core.values import Value, ValueType, parse_value, write_value
from kivvet.errors import BookError, DataError, OutputError, Place, listed, shown_path
from kivvet.io.files import replacing, unwritable
from kivvet.io.sources import Source, is_parquet, open_source

OnRows = Callable[[int], None]
_MOST_INLINE = 40


@dataclass(frozen=True)
class Drafted:
    """What a draft came to: the table, and the files written."""

    table: RuleTable
    files: tuple[Path, ...]
    n_added: int = 0


@dataclass(frozen=True)
class From:
    """Where a draft takes its data: a file, or a dataset's source as the dataset reads it."""

    path: Path
    dataset: Dataset | None = None

    def open(self) -> Source:
        return (
            open_source(self.path, self.dataset.encoding, self.dataset.delimiter)
            if self.dataset
            else open_source(self.path)
        )

    def words(self, column: str) -> tuple[str, ...]:
        return self.dataset.words_that_mean_missing(column) if self.dataset else ()


def data_named(book: Book, given: str) -> From:
    """Return the dataset of that name, or the file at that path."""
    dataset = book.datasets.get(given)
    return From(dataset.source, dataset) if dataset is not None else From(Path(given))


def draft_table(
    book: Book, name: str, data: From, column: str, *, classes: str | None = None, wishes: Wishes | None = None,
    as_csv: bool = False, replace: bool = False, on_rows: OnRows = lambda _: None,
) -> Drafted:  # fmt: skip
    """Write a new table, drafted from a column of data, into a book.

    Raises
    ------
    BookError
        If there is a table of that name and `replace` is false.
    DataError
        If the data cannot be read, or there is nothing to draft from.
    """
    path = _free_path(book, name, replace=replace)
    source = data.open()
    wanted = [column, *([classes] if classes else [])]
    named_columns(source, wanted)
    declared = data.dataset.types if data.dataset else None
    builder, pairs = (
        LookBuilder([column], {column: data.words(column)}, declared, MOST_DISTINCT),
        PairCounter(),
    )
    for batch in source.batches(list(dict.fromkeys(wanted))):
        builder.see(batch)
        if classes:
            values = batch.column(column)
            if source.is_text:
                values = convert_text(values, "text", data.words(column)).array
            pairs.add(values, batch.column(classes))
        on_rows(batch.num_rows)
    made_from = wishes or Wishes()
    table = (
        draft_from_examples(name, column, builder, pairs, made_from)
        if classes
        else draft_from_values(name, column, builder, made_from)
    )
    rows_file = f"{name}.csv" if as_csv or table.n_rows > _MOST_INLINE else None
    texts = {path: table_text(table, rows_file)}
    if rows_file is not None:
        texts[path.with_name(rows_file)] = _csv_text(row_records(table))
    return Drafted(table, _written(texts))


def draft_lookup(
    book: Book, name: str, data: From, key: str, *, keep: Sequence[str] = (), replace: bool = False,
    on_rows: OnRows = lambda _: None,
) -> Drafted:  # fmt: skip
    """Write a new lookup into a book: its rows are the file's, copied beside it; types are worked out.

    Parameters
    ----------
    key : str
        The column whose values are looked up.
    keep : sequence of str
        The columns to give; none for all others.
    """
    path = _free_path(book, name, replace=replace)
    source = data.open()
    if is_parquet(data.path) or data.path.suffix not in (".csv", ".tsv"):
        raise DataError(
            "a lookup's rows are read from CSV or TSV in this version",
            place=Place(shown_path(data.path)),
            fix="write the file as CSV first",
        )
    outputs = [one for one in named_columns(source, keep) if one != key]
    named_columns(source, [key])
    if not outputs:
        raise DataError(
            f"has no column besides the key {key!r}",
            place=Place(shown_path(data.path)),
            expected="at least one column to give",
        )
    builder = LookBuilder([key, *outputs])
    for batch in source.batches([key, *outputs]):
        builder.see(batch)
        on_rows(batch.num_rows)
    if not builder.rows:
        raise DataError(
            "has headings and no rows", place=Place(shown_path(data.path)), expected="a row for each key"
        )
    seen = builder.look()
    about = Input(_name(key), _type_of(seen, key), column=key if _name(key) != key else None)
    made = tuple(
        Output(_name(one), _type_of(seen, one), column=one if _name(one) != one else None) for one in outputs
    )
    target = path.with_name(f"{name}{data.path.suffix}")
    parts = TableParts(name, (about,), made, ())
    text = table_text(RuleTable.from_parts(parts), target.name).replace("\nrows = ", "\nlookup = ")
    written = _written({path: text})
    if data.path.resolve() != target.resolve():
        if target.exists() and not replace:
            path.unlink()
            raise OutputError(
                "is there already", place=Place(shown_path(target)), fix="choose another name, or --replace"
            )
        try:
            shutil.copyfile(data.path, target)
        except OSError as error:
            raise unwritable(target, error) from error
        written = (*written, target)
    return Drafted(Book(book.folder).table(name), written)


def _type_of(seen: Look, column: str) -> ValueType:
    kind = seen[column].type
    if kind == "other":
        raise DataError(f"column {column!r} is {seen[column].reason}", fix="choose other columns with --keep")
    return kind


def _name(heading: str) -> str:
    """Return a heading as a name: blanks and signs become underscores."""
    made = "".join(sign if sign.isalnum() or sign == "_" else "_" for sign in heading.strip()).strip("_")
    return made or heading


def _free_path(book: Book, name: str, *, replace: bool) -> Path:
    path = book.folder / "tables" / f"{name}.toml"
    if not name or name != name.strip() or "/" in name or "\\" in name or name.startswith("."):
        raise BookError(f"{name!r} is no name for a table", expected="a name that can be a file's")
    if path.exists() and not replace:
        raise BookError(
            f"there is a table {name!r} already",
            place=Place(shown_path(path)),
            fix="choose another name; add to it with --extend; or write it anew with --replace",
        )
    return path


def _written(texts: dict[Path, str]) -> tuple[Path, ...]:
    for path, text in texts.items():
        with replacing(path) as part:
            part.write_text(text, encoding="utf-8", newline="")
    return tuple(texts)


def _csv_text(records: Sequence[Sequence[str]], delimiter: str = ",", line_end: str = "\n") -> str:
    buffer = io.StringIO()
    csv.writer(buffer, delimiter=delimiter, lineterminator=line_end).writerows(records)
    return buffer.getvalue()


# Extending


def extend_table(
    book: Book, name: str, data: From, column: str | None = None, on_rows: OnRows = lambda _: None
) -> Drafted:
    """Add a row with blank results for each value of the data that a table does not know.

    Every line that is there stays as it was. A table of ranges has no values to add; its gaps are what
    `check` shows.
    """
    table = book.table(name)
    if len(table.dimensions) > 1:
        raise BookError(
            f"table {name!r} has several inputs, so a single new value makes no row",
            fix=f"its gaps, with rows to add, are shown by: kivvet check {name}",
        )
    about = table.inputs[0]
    columns = [column] if column else _columns_read(data, name, about.name)
    if not table.parts.is_complete:
        raise BookError(f"table {name!r} has faults", fix=f"mend them first: kivvet check {name}")
    if about.type in ("number", "date", "datetime") and table.lookup is None and not table.open_dimensions[0]:
        raise BookError(
            f"table {name!r} has ranges, not values",
            fix="its gaps, with rows to add, are shown by: kivvet check " + name,
        )
    counted: dict[Value, int] = {}
    for one in columns:
        for value, n in _unknown_values(table, data, one, on_rows):
            counted[value] = counted.get(value, 0) + n
    unknown = sorted(counted.items(), key=lambda pair: -pair[1])
    path = book.folder / "tables" / f"{name}.toml"
    if not unknown:
        return Drafted(table, ())
    files = row_files(path)
    rows = blank_rows(unknown, table.n_rows + 1, len(table.outputs))
    target = files[0] if files else path
    text, faults = read_text(target)
    if faults:
        raise BookError(faults[0].message, place=faults[0].places[0])
    raw = target.read_bytes()
    mark = "\ufeff" if raw.startswith(b"\xef\xbb\xbf") else ""
    made = _appended_records(text, table, rows, target) if files else _inserted_rows(text, table, rows, path)
    _written({target: mark + made})
    return Drafted(Book(book.folder).table(name), (target,), len(unknown))


def _columns_read(data: From, table: str, name: str) -> list[str]:
    """Return the columns that a dataset reads as an input of a table, each once; the input's own name without one."""
    if data.dataset is None:
        return [name]
    renamed = data.dataset.renamed
    read = [entry.reads.get(name, name) for entry in data.dataset.entries if entry.table == table]
    return list(dict.fromkeys(renamed.get(one, one) for one in read or [name]))


def _unknown_values(table: RuleTable, data: From, column: str, on_rows: OnRows) -> list[tuple[Value, int]]:
    """Return the values that no row holds, as the table's input types them, most frequent first."""
    source = data.open()
    named_columns(source, [column])
    about = table.inputs[0]
    found: dict[str, int] = {}
    for batch in source.batches([column]):
        array = batch.column(column)
        if source.is_text:
            converted = convert_text(array, about.type, data.words(column))
            if converted.bad is not None:
                example = array[int(np.flatnonzero(converted.bad)[0])].as_py()
                raise DataError(
                    f"column {column!r} holds {example!r}, which is no {about.type}",
                    place=Place(shown_path(data.path)),
                    fix=f"correct the data, or the type of input {about.name!r}",
                )
            array = converted.array
        classified = table.compiled.classify(
            {about.name: column_from_arrow(array, column)}, names={about.name: column}
        )
        mask = classified.labels == table.compiled.unmatched
        if mask.any():
            for text, n in value_counts(column_from_arrow(array, column), mask):
                found[text] = found.get(text, 0) + n
        on_rows(batch.num_rows)
    ranked = sorted(found.items(), key=lambda pair: (-pair[1], pair[0]))
    kind = "number" if about.type == "integer" else about.type
    return [(parse_value(text, kind), n) for text, n in ranked]


def _appended_records(text: str, table: RuleTable, rows: Sequence[Row], path: Path) -> str:
    """Return a CSV text with records added at its end, in the order of its own headings."""
    delimiter = "\t" if path.suffix == ".tsv" else ","
    line_end = "\r\n" if "\r\n" in text else "\n"
    headings = [one.strip() for one in next(csv.reader(io.StringIO(text), delimiter=delimiter))]
    about = table.inputs[0]
    place = next(index for index, one in enumerate(headings) if one in (about.column, about.name))
    notes = (
        headings.index("note")
        if "note" in headings and not any(one.name == "note" for one in table.outputs)
        else None
    )
    records = []
    for row, plain in zip(
        rows,
        row_records(RuleTable.from_parts(TableParts(table.name, (about,), table.outputs, tuple(rows))))[1:],
        strict=True,
    ):
        record = [""] * len(headings)
        record[place] = plain[0] if table.lookup is None else _plain_value(row)
        if notes is not None:
            record[notes] = row.note
        records.append(record)
    end = "" if text.endswith(("\n", "\r")) or not text else line_end
    return text + end + _csv_text(records, delimiter, line_end)


def _plain_value(row: Row) -> str:
    condition = row.conditions[0]
    assert isinstance(condition, Equals)
    return write_value(condition.value)


def _inserted_rows(text: str, table: RuleTable, rows: Sequence[Row], path: Path) -> str:
    """Return a TOML text with rows added at the end of its list, every other character as it was."""
    document, _ = read_toml(path)
    assert document is not None
    places = TomlPlaces(text.replace("\r\n", "\n"), str(path))
    line_end = "\r\n" if "\r\n" in text else "\n"
    plain = text.replace("\r\n", "\n")
    n_there = len(document.values["rows"])
    headings = [str(cell) for cell in document.values["rows"][0]] if n_there else []
    names = [one.name for one in columns_of(table.inputs, table.outputs)]
    if len(table.outputs) > 1 and headings[: len(names)] != names:
        raise BookError(
            "has its columns in another order than inputs, outputs",
            place=document.locate(("rows",)),
            fix=f"begin its rows with {listed(names)}",
        )
    lines = row_lines(RuleTable.from_parts(TableParts(table.name, table.inputs, table.outputs, tuple(rows))))
    added = "\n".join(lines[1:] if len(table.outputs) > 1 else lines) + "\n"
    closing = places.ends[("rows",)]
    if n_there:
        last = places.ends[("rows", n_there - 1)]
        if not plain[last:closing].lstrip().startswith(","):
            plain = plain[:last] + "," + plain[last:]
            closing += 1
    start = plain.rfind("\n", 0, closing) + 1
    if plain[start:closing].strip():  # the bracket stands at the end of a line of rows
        plain = f"{plain[:closing].rstrip()}\n{added}{plain[closing:]}"
    else:
        plain = plain[:start] + added + plain[start:]
    return plain.replace("\n", line_end) if line_end != "\n" else plain
