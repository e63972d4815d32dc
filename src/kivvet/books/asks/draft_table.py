"""Drafting tables into a book as new files."""

from __future__ import annotations

import csv
import datetime as dt
import io
import os
import shutil
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from dataclasses import replace as with_fields
from pathlib import Path

import pyarrow as pa

from kivvet.books.asks.data_read import DataRead
from kivvet.books.asks.look_source import named_columns
from kivvet.books.files.entry_text import aligned, lookup_lines
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.expressions import ask, column_formula
from kivvet.books.runs.run import Run
from kivvet.core.columns.alike import alike_pairs
from kivvet.core.columns.convert import convert_text
from kivvet.core.draft.draft import MOST_DISTINCT, drafted_from
from kivvet.core.draft.from_examples import DraftReport, PairCounter
from kivvet.core.draft.look import Look, LookBuilder
from kivvet.core.draft.look_hints import stray_hint
from kivvet.core.draft.wishes import Wishes
from kivvet.core.read.table_text import row_records, table_text
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import Equals
from kivvet.core.words.errors import BookError, DataError, OutputError
from kivvet.core.words.places import Place
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import listed, shown_path
from kivvet.io.files import replacing_all
from kivvet.io.formats import ROW_ENDINGS, SHEET_ENDINGS
from kivvet.rule_table import RuleTable, rule_table

OnRows = Callable[[int], None]
_MOST_INLINE = 40


@dataclass(frozen=True)
class Drafted:
    """What a draft came to: the table, and the files written."""

    table: RuleTable
    files: tuple[Path, ...]
    n_added: int = 0
    text: str = ""  # of the table's file, where it is a new one
    n_near: int = 0  # of the values added those that are spelled like known ones
    n_alike: int = 0  # of these those that got the results of these
    #: Of a new mapping, texts that are spelled like more frequent ones: the text, its rows, the other, its rows.
    near: tuple[tuple[str, int, str, int], ...] = ()
    strays: tuple[
        str, ...
    ] = ()  # what is said of fields that are not of the type of all others: they count as missing
    unused: tuple[str, ...] = ()  # of classes given by value, the values that the data does not hold


def draft_table(
    book: OpenBook,
    name: str,
    data: DataRead,
    column: str,
    *,
    given: str | Path = "",
    classes: str | None = None,
    wishes: Wishes | None = None,
    as_csv: bool = False,
    replace: bool = False,
    on_rows: OnRows = lambda _: None,
) -> Drafted:
    """Write a new table, drafted from a column of data, which was named as `given`, into a book.

    Raises
    ------
    BookError
        If there is a table of that name and `replace` is false.
    DataError
        If the data cannot be read, or there is nothing to draft from.
    """
    path = free_path(book, name, replace=replace)
    source, asked = data.open(), wishes or Wishes()
    other = classes or asked.noting
    wanted = list(dict.fromkeys([column, *([other] if other else [])]))
    pairs = PairCounter()
    if data.is_of_book and not set(wanted) <= set(source.names):
        builder = _counted_of_made(book, data, wanted, pairs, on_rows)
    else:
        named_columns(source, wanted)
        builder = LookBuilder([column], {column: data.words(column)}, data.declared, MOST_DISTINCT)
        for batch in data.batches(source, wanted):
            builder.see(batch)
            if other:
                values = batch.column(column)
                if pa.types.is_string(values.type):
                    values = convert_text(values, "text", data.words(column)).array
                pairs.add(values, batch.column(other))
            on_rows(batch.num_rows)
    table, report = drafted_from(name, column, builder, pairs, asked, is_of_classes=bool(classes))
    done = written_table(path, name, table, report, given, as_csv=as_csv)
    (seen,) = builder.look().columns
    is_of_texts = report is None and table.inputs[0].type == "text"
    near = tuple(alike_pairs(seen.values)) if is_of_texts else ()
    return with_fields(done, near=near, strays=tuple(stray_hint(*stray, seen.type) for stray in seen.strays))


def _counted_of_made(
    book: OpenBook, data: DataRead, wanted: Sequence[str], pairs: PairCounter, on_rows: OnRows
) -> LookBuilder:
    """Return what a column looks like that a dataset makes: a formula, or the class of another table; with a second one, their
    pairs are counted.
    """
    asked = ask(book, data.dataset, data.open(), {one: column_formula(one) for one in wanted})
    column = wanted[0]
    kind = asked.types[column]
    builder = LookBuilder(
        [column], declared={} if kind is None else {column: kind}, most_distinct=MOST_DISTINCT
    )
    run = Run(asked.prepared, plan=asked.plan, with_report=False, on_rows=on_rows)
    for batch in run.batches(asked.plan.source_columns or None):
        arrays = [plain_array(batch.made[asked.columns[one]].as_arrow()) for one in wanted]
        builder.see(pa.RecordBatch.from_arrays(arrays[:1], names=[column]))
        if len(wanted) > 1:
            pairs.add(*arrays)
    run.stop_at_faults()
    return builder


def plain_array(array: pa.Array) -> pa.Array:
    """Return values themselves where they are codes into a dictionary."""
    return array.dictionary_decode() if pa.types.is_dictionary(array.type) else array


def written_table(
    path: Path, name: str, table: Table, report: DraftReport | None, given: str | Path, *, as_csv: bool
) -> Drafted:
    """Write a drafted table to its files."""
    if table.origin is not None:
        origin = table.origin.of_source(str(given), dt.date.today().isoformat())
        table = with_fields(table, origin=origin, note=origin.note())
    rows_file = f"{name}.csv" if as_csv or table.n_rows > _MOST_INLINE else None
    if rows_file is not None and report is None:
        table = _in_order_of_values(table)
    texts = {path: table_text(table, rows_file)}
    if rows_file is not None:
        texts[path.with_name(rows_file)] = csv_text(row_records(table))
    return Drafted(rule_table(table, report), write_files(texts), text=texts[path])


def _in_order_of_values(table: Table) -> Table:
    """Return a mapping with its values in their order, so that those that look alike are filled in together."""
    asked = [row.conditions[0] for row in table.rows]
    if len(table.inputs) > 1 or not all(isinstance(one, Equals) for one in asked):
        return table
    rows = sorted(table.rows, key=lambda row: row.conditions[0].value)  # type: ignore[union-attr]
    return with_fields(
        table, rows=tuple(with_fields(row, number=number) for number, row in enumerate(rows, 1))
    )


def draft_lookup(
    book: OpenBook,
    name: str,
    data: DataRead,
    keys: Sequence[str],
    *,
    keep: Sequence[str] = (),
    copies: bool = False,
    replace: bool = False,
    on_rows: OnRows = lambda _: None,
) -> Drafted:
    """Write a new lookup into a book: its rows are the file's; types are worked out.

    Parameters
    ----------
    keys : sequence of str
        The columns whose values are looked up.
    keep : sequence of str
        The columns to give; none for all others.
    copies : bool
        Whether the file is copied beside the table. Otherwise the table points at it, so that it stays the
        one source.
    """
    path = free_path(book, name, replace=replace)
    source = data.open()
    if data.dataset.sources:
        raise DataError(
            "a lookup's rows are read from one file",
            place=Place(source.shown_name),
            fix="name the file that holds them",
        )
    if not data.path.name.lower().endswith((*ROW_ENDINGS, *SHEET_ENDINGS)):
        raise DataError(
            "a lookup's rows are read from CSV, TSV or a workbook in this version",
            place=Place(shown_path(data.path)),
            fix="write the file as CSV first",
        )
    named_columns(source, keys)
    outputs = [column for column in named_columns(source, keep) if column not in keys]
    if not outputs:
        raise DataError(
            f"has no column besides {listed(keys)}",
            place=Place(shown_path(data.path)),
            expected="at least one column to give",
        )
    used = [*keys, *outputs]
    builder = LookBuilder(used, {one: data.words(one) for one in used}, data.declared)
    for batch in data.batches(source, used):
        builder.see(batch)
        on_rows(batch.num_rows)
    if not builder.rows:
        raise DataError(
            "has headings and no rows", place=Place(shown_path(data.path)), expected="a row for each key"
        )
    seen, said = builder.look(), data.dataset.types
    names, kinds = _names(used), {one: said.get(one) or _type_of(seen, one) for one in used}
    headings = {one: one if names[one] != one else None for one in used}
    inputs = tuple(Input(names[key], kinds[key], column=headings[key]) for key in keys)
    made = tuple(Output(names[output], kinds[output], column=headings[output]) for output in outputs)
    target = path.with_name(f"{name}{data.path.suffix}")
    is_copied = copies and data.path.resolve() != target.resolve()
    if is_copied and target.exists() and not replace:
        raise OutputError(
            "is there already", place=Place(shown_path(target)), fix="choose another name, or --replace"
        )
    file = target.name if copies else os.path.relpath(data.path.resolve(), path.parent.resolve())
    parts = Table(name, inputs, made, ())
    text = table_text(parts, file).replace("\nrows = ", "\nlookup = ")
    text += "".join(f"{line}\n" for line in aligned(lookup_lines(data.dataset, used)))
    written = write_files({path: text, **({target: data.path} if is_copied else {})})
    return Drafted(rule_table(OpenBook(book.folder).table(name)), written, text=text)


def _names(headings: Sequence[str]) -> dict[str, str]:
    """Return headings as names, each its own."""
    made: dict[str, str] = {}
    for heading in headings:
        name, n = _name(heading), 1
        while name in made.values():
            n += 1
            name = f"{_name(heading)}_{n}"
        made[heading] = name
    return made


def _type_of(seen: Look, column: str) -> ValueType:
    kind = seen[column].type
    if kind == "other":
        raise DataError(f"column {column!r} is {seen[column].reason}", fix="choose other columns with --keep")
    return kind


def _name(heading: str) -> str:
    """Return a heading as a name: blanks and signs become underscores."""
    made = "".join(sign if sign.isalnum() or sign == "_" else "_" for sign in heading.strip()).strip("_")
    return made or heading


def free_path(book: OpenBook, name: str, *, replace: bool) -> Path:
    """Return the path of a new table; `BookError` where there is one of that name."""
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


def write_files(contents: Mapping[Path, str | Path]) -> tuple[Path, ...]:
    """Write texts, and copies of files, to files, all of them or none; return the files. What a table names is there before it."""
    in_order = sorted(contents, key=lambda path: path.suffix == ".toml")
    with replacing_all(in_order) as parts:
        for path, part in zip(in_order, parts, strict=True):
            content = contents[path]
            if isinstance(content, Path):
                shutil.copyfile(content, part)
            else:
                part.write_text(content, encoding="utf-8", newline="")
    return tuple(contents)


def csv_text(
    records: Sequence[Sequence[str]], delimiter: str = ",", line_end: str = "\n", quote: str = '"'
) -> str:
    """Return records as CSV."""
    buffer = io.StringIO()
    csv.writer(buffer, delimiter=delimiter, lineterminator=line_end, quotechar=quote).writerows(records)
    return buffer.getvalue()
