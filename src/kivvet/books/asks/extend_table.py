"""Adding to a table's file a row for each value of the data that the table does not know; all else stays as
it was.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from kivvet.books.asks.data_read import DataRead
from kivvet.books.asks.draft_table import Drafted, csv_text
from kivvet.books.asks.look_source import named_columns
from kivvet.books.files.database_rows import refuse_edits
from kivvet.books.files.open_book import OpenBook
from kivvet.books.files.read_table import how_rows_are_read, row_files
from kivvet.books.files.readers import read_csv_rows, read_text, read_toml
from kivvet.books.files.toml_places import TomlPlaces
from kivvet.books.runs.plans import prepare
from kivvet.books.runs.run import Run
from kivvet.core.classify.compiled import compile_table
from kivvet.core.columns.alike import Alike
from kivvet.core.columns.column import Column, column_from_arrow
from kivvet.core.columns.convert import convert_text
from kivvet.core.columns.field_form import field_of
from kivvet.core.draft.draft import blank_rows
from kivvet.core.draft.known_texts import results_by_text
from kivvet.core.read.fields_read import FieldsRead
from kivvet.core.read.table_text import row_lines, row_records
from kivvet.core.run.plan import Plan
from kivvet.core.run.value_texts import combinations
from kivvet.core.space.table_space import open_dimensions
from kivvet.core.tables.inputs import Input, columns_of
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.errors import BookError, DataError, TableError
from kivvet.core.words.places import Place
from kivvet.core.words.values import Value, fold_text, parse_value
from kivvet.core.words.wording import count, listed, shell_word, shown_path
from kivvet.io.files import replacing
from kivvet.io.formats import ROW_ENDINGS
from kivvet.io.source_and_target import AS_IT_SAYS, ReadOptions
from kivvet.rule_table import rule_table

OnRows = Callable[[int], None]


def extend_table(
    book: OpenBook,
    name: str,
    data: DataRead,
    column: str | None = None,
    on_rows: OnRows = lambda _: None,
    *,
    alike: bool = False,
) -> Drafted:
    """Add a row with blank results for each value of the data, or each combination of keys, that a table does
    not know.

    Every line that is there stays as it was. A table of ranges has no values to add; its gaps are what
    `check` shows. The ranges of a lookup are left blank, which is open.

    Parameters
    ----------
    data : DataRead
        A dataset: the columns are those it feeds the table, made by other tables or not. A file: its
        columns named like the inputs.
    column : str, optional
        The column to read instead, for a table of one input.
    alike : bool
        Whether values that are spelled like known ones get the results of these, and a note that says so.
    """
    table = book.table(name)
    keys = _keys_of(table, name)
    path = book.folder / "tables" / f"{name}.toml"
    refuse_edits(path)
    files = row_files(path)
    if files and not files[0].name.lower().endswith(ROW_ENDINGS):
        raise BookError(
            f"the rows of table {name!r} are in a file of another kind than text",
            place=Place(shown_path(files[0])),
            fix="add them with what wrote it; they are listed by: kivvet unmatched --csv",
        )
    unknown = _unknown_values(book, table, keys, data, column, on_rows)
    if not unknown:
        return Drafted(rule_table(table), ())
    known = results_by_text(table)
    if alike and not known:
        raise BookError(
            f"table {name!r} lists no texts, so that nothing is spelled like one of them",
            fix="leave --alike out",
        )
    texts = [values for values, _ in unknown if isinstance(values[0], str)] if known else []
    found = Alike(known).nearest([str(values[0]) for values in texts])
    near = {values: one for values, one in zip(texts, found, strict=True) if one is not None}
    taken = near if alike else {}
    target = files[0] if files else path
    options, fields = how_rows_are_read(path) if files else (AS_IT_SAYS, FieldsRead())
    text, faults = read_text(target, encoding=options.encoding)
    if faults:
        raise BookError(faults[0].message, place=faults[0].places[0])
    mark = "\ufeff" if target.read_bytes().startswith(b"\xef\xbb\xbf") else ""
    if table.lookup is not None:
        headings = {key.name: key.column or key.name for key in keys}
        records = [
            {
                headings[key.name]: field_of(value, fields.form_of(headings[key.name]))
                for key, value in zip(keys, values, strict=True)
            }
            | _results_of(table, known.get(taken.get(values, ""), ()), fields)
            | {"note": _noted(rows, taken.get(values))}
            for values, rows in unknown
        ]
        made = _appended_records(text, table, records, target, options)
    else:
        rows = [
            replace(row, results=known[taken[values]], note=_noted(n, taken[values]))
            if values in taken
            else row
            for row, (values, n) in zip(
                blank_rows([(values[0], n) for values, n in unknown], table.n_rows + 1, len(table.outputs)),
                unknown,
                strict=True,
            )
        ]
        extra = Table(table.name, table.inputs, table.outputs, tuple(rows))
        records_made = row_records(extra)[1:]
        about = keys[0]
        made = (
            _appended_records(
                text,
                table,
                [
                    {about.column or about.name: record[0], about.name: record[0]}
                    | _by_heading(table, record[1:])
                    | {"note": row.note}
                    for record, row in zip(records_made, rows, strict=True)
                ],
                target,
                options,
            )
            if files
            else _inserted_rows(text, table, rows, path)
        )
    _write(target, mark + made, options.encoding)
    made_of = rule_table(OpenBook(book.folder).table(name))
    return Drafted(made_of, (target,), len(unknown), n_near=len(near), n_alike=len(taken))


def _noted(rows: int, near: str | None) -> str:
    """Return what a new row says of itself."""
    return count(rows, "row") + ("" if near is None else f"; spelled like {near!r}")


def _results_of(table: Table, results: Sequence[Any], fields: FieldsRead) -> dict[str, str]:
    """Return the results of a row of a lookup as the fields of its file."""
    headings = [output.column or output.name for output in table.outputs]
    return {
        heading: "" if value is None else field_of(value, fields.form_of(heading))
        for heading, value in zip(headings, results, strict=False)
    }


def _by_heading(table: Table, cells: Sequence[str]) -> dict[str, str]:
    """Return the cells of results by the headings that a file may have."""
    found = {}
    for output, cell in zip(table.outputs, cells, strict=False):
        found[output.name] = found[output.column or output.name] = cell
    return found


def _keys_of(table: Table, name: str) -> tuple[Input, ...]:
    """Return the inputs whose values make a row; `BookError` where a value makes none."""
    if not table.is_complete:
        raise BookError(f"table {name!r} has faults", fix=f"mend them first: kivvet check {shell_word(name)}")
    quoted = shell_word(name)
    its_gaps = f"bounds stay as they are; its gaps, with rows to add: kivvet check {quoted}; whether later data fits: kivvet shares {quoted} --on SOURCE"
    if table.lookup is not None:
        keys = tuple(key.about for key in table.lookup.keys)
        if not keys:
            raise BookError(f"table {name!r} has ranges, not values", fix=its_gaps)
        return keys
    if len(table.dimensions) > 1:
        raise BookError(
            f"table {name!r} has several inputs, so a single new value makes no row", fix=its_gaps
        )
    about = table.inputs[0]
    if about.type in ("number", "date", "datetime") and not open_dimensions(table)[0]:
        raise BookError(f"table {name!r} has ranges, not values", fix=its_gaps)
    return (about,)


Unknown = list[tuple[tuple[Value, ...], int]]


def _unknown_values(
    book: OpenBook, table: Table, keys: Sequence[Input], data: DataRead, column: str | None, on_rows: OnRows
) -> Unknown:
    """Return the values of the keys that no row holds, as the inputs type them, most frequent first."""
    if column is not None and len(table.inputs) > 1:
        raise BookError(
            f"table {table.name!r} has several inputs, and --column names one column",
            fix="leave it out: columns are read by the names of the inputs, or as a dataset feeds them",
        )
    uses = data.is_of_book and any(entry.table == table.name for entry in data.dataset.entries)
    batches = (
        _batches_of_dataset(book, data, table, on_rows)
        if uses and column is None
        else _batches_of_file(
            data, {about.name: column or about.name for about in table.inputs}, table, on_rows
        )
    )
    found: Counter[tuple[str, ...]] = Counter()
    for columns, names in batches:
        outcomes = compile_table(table).classify(columns, names=names, refuses_overlaps=False).labels
        mask = outcomes == compile_table(table).outcomes.unmatched
        if mask.any():
            for texts, n in combinations({key.name: columns[key.name] for key in keys}, mask):
                found[texts] += n
    made: dict[tuple[str, ...], tuple[tuple[Value, ...], int]] = {}
    for texts, n in sorted(found.items(), key=lambda pair: (-pair[1], pair[0])):
        values = tuple(
            parse_value(text, "number" if about.type == "integer" else about.type)
            for about, text in zip(keys, texts, strict=True)
        )
        # What the inputs take as one value makes one row, as it is most often written.
        same = tuple(fold_text(text, about.fold) for about, text in zip(keys, texts, strict=True))
        first, rows = made.get(same, (values, 0))
        made[same] = first, rows + n
    return sorted(made.values(), key=lambda pair: -pair[1])


Batches = Iterator[tuple[Mapping[str, Column], Mapping[str, str]]]


def _batches_of_dataset(book: OpenBook, data: DataRead, table: Table, on_rows: OnRows) -> Batches:
    """Yield the columns that a dataset feeds a table, made ones too, once for each entry that feeds it
    others.
    """
    prepared, faults = prepare(book, data.dataset)
    steps = [step for step in prepared.plan.table_steps if step.table.name == table.name]
    if not steps:
        raise TableError([fault for fault in faults if fault.severity == "error"])
    plan = Plan(prepared.plan.leading_to(steps), ())
    different = list({step.columns: step for step in steps}.values())
    run = Run(prepared, plan=plan, on_rows=on_rows)
    for batch in run.batches(plan.source_columns):
        for step in different:
            yield batch.columns_of(step), {read.name: read.column for read in step.reads}
    run.stop_at_faults()


def _batches_of_file(data: DataRead, columns: Mapping[str, str], table: Table, on_rows: OnRows) -> Batches:
    source = data.open()
    named_columns(source, list(columns.values()))
    for batch in data.batches(source, list(dict.fromkeys(columns.values()))):
        made = {}
        for about in table.inputs:
            name = columns[about.name]
            array = batch.column(name)
            if pa.types.is_string(array.type):
                converted = convert_text(array, about.type, data.words(name))
                if converted.bad is not None:
                    example = array[int(np.flatnonzero(converted.bad)[0])].as_py()
                    raise DataError(
                        f"column {name!r} holds {example!r}, which is no {about.type}",
                        place=Place(shown_path(data.path)),
                        fix=f"correct the data, or the type of input {about.name!r}",
                    )
                array = converted.array
            made[about.name] = column_from_arrow(array, name)
        yield made, columns
        on_rows(batch.num_rows)


# Files


def _appended_records(
    text: str, table: Table, fields: Iterable[Mapping[str, str]], path: Path, options: ReadOptions
) -> str:
    """Return a CSV text with records added at its end, fields under its own headings."""
    line_end = "\r\n" if "\r\n" in text else "\n"
    rows, faults = read_csv_rows(path, table.name, options)
    if rows is None:
        raise BookError(faults[0].message, place=faults[0].places[0])
    headings = rows.records[0]
    is_output = any(output.name == "note" for output in table.outputs)
    records = [
        ["" if heading == "note" and is_output else field.get(heading, "") for heading in headings]
        for field in fields
    ]
    end = "" if text.endswith(("\n", "\r")) or not text else line_end
    return text + end + csv_text(records, rows.delimiter, line_end, options.quote)


def _write(path: Path, text: str, encoding: str) -> None:
    try:
        written = text.encode(encoding)
    except UnicodeEncodeError as error:
        raise BookError(
            f"{text[error.start]!r} cannot be written in {encoding}",
            place=Place(shown_path(path)),
            fix='save the file as UTF-8, and say encoding = "utf-8"',
        ) from error
    with replacing(path) as part:
        part.write_bytes(written)


def _inserted_rows(text: str, table: Table, rows: Sequence[Row], path: Path) -> str:
    """Return a TOML text with rows added at the end of its list, every other character as it was."""
    document, _ = read_toml(path)
    assert document is not None
    places = TomlPlaces(text.replace("\r\n", "\n"), str(path))
    line_end = "\r\n" if "\r\n" in text else "\n"
    plain = text.replace("\r\n", "\n")
    n_there = len(document.values["rows"])
    headings = [str(cell) for cell in document.values["rows"][0]] if n_there else []
    names = [column.name for column in columns_of(table.inputs, table.outputs)]
    if len(table.outputs) > 1 and headings[: len(names)] != names:
        raise BookError(
            "has its columns in another order than inputs, outputs",
            place=document.locate(("rows",)),
            fix=f"begin its rows with {listed(names)}",
        )
    lines = row_lines(Table(table.name, table.inputs, table.outputs, tuple(rows)))
    added = "\n".join(lines[1:] if len(table.outputs) > 1 else lines) + "\n"
    closing = places.end(("rows",))
    if n_there:
        last = places.end(("rows", n_there - 1))
        if not plain[last:closing].lstrip().startswith(","):
            plain = plain[:last] + "," + plain[last:]
            closing += 1
    start = plain.rfind("\n", 0, closing) + 1
    if plain[start:closing].strip():  # the bracket stands at the end of a line of rows
        plain = f"{plain[:closing].rstrip()}\n{added}{plain[closing:]}"
    else:
        plain = plain[:start] + added + plain[start:]
    return plain.replace("\n", line_end) if line_end != "\n" else plain
