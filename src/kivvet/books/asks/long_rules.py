"""Many small mappings in one file: a line for each value of each table, out of a book and back into it."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from kivvet.books.asks.data_read import data_read
from kivvet.books.asks.rules_out import RulesOut
from kivvet.books.files.row_edits import RowEdit
from kivvet.books.files.table_files import TableFiles
from kivvet.core.read.options import toml_text
from kivvet.core.words.errors import BookError, DataError
from kivvet.core.words.wording import did_you_mean, listed, toml_key
from kivvet.io.csv_target import as_text

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook
    from kivvet.core.tables.table import Table
    from kivvet.io.source_and_target import Source

#: The headings; those of the second line may be left out.
TABLE, VALUE, CLASS = "table", "value", "class"
INPUT, OUTPUT = "input", "output"
LONG_HEADINGS = (TABLE, INPUT, VALUE, OUTPUT, CLASS)


@dataclass(frozen=True)
class LongLine:
    """One line: what a table gives for a value, in one of its outputs."""

    table: str
    value: str
    label: str
    input: str = ""
    output: str = ""
    row: int = 0  # of the file, from 1


def long_lines(book: OpenBook, rules: RulesOut) -> tuple[list[LongLine], dict[str, str]]:
    """Return the lines of all tables that are mappings, and of the others why they are not."""
    lines: list[LongLine] = []
    others: dict[str, str] = {}
    for one in rules.tables:
        table = book.tables[one.name]
        if why := _no_mapping(table):
            others[one.name] = why
            continue
        place, places = _places(table, one.headings)
        lines += [
            LongLine(one.name, record[place], record[at], table.inputs[0].name, output)
            for record in one.records
            for output, at in places.items()
        ]
    return lines, others


def _no_mapping(table: Table) -> str:
    """Return why a table is no mapping of single values; empty where it is one."""
    if len(table.inputs) != 1:
        return "it reads several inputs"
    if table.inputs[0].period is not None:
        return "it looks up ranges"
    return "it has conditions over formulas" if any(row.when for row in table.rows) else ""


def _places(table: Table, headings: Sequence[str]) -> tuple[int, dict[str, int]]:
    """Return the place of the input's column, and by output that of its own; both may have one name."""
    name = table.inputs[0].name
    last = {heading: at for at, heading in enumerate(headings)}
    return headings.index(name), {output.name: last[output.name] for output in table.outputs}


def csv_of_lines(lines: Sequence[LongLine]) -> bytes:
    """Return lines as CSV."""
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\n")
    writer.writerow(LONG_HEADINGS)
    writer.writerows([line.table, line.input, line.value, line.output, line.label] for line in lines)
    return buffer.getvalue().encode()


def read_lines(path: Path) -> list[LongLine]:
    """Return the lines of a file of text or a sheet, recognised as any data is.

    Raises
    ------
    DataError
        If it cannot be read, or lacks a column.
    """
    data = data_read(None, path)
    source = data.open()
    lacking = [name for name in (TABLE, VALUE, CLASS) if name not in source.names]
    if lacking:
        raise DataError(
            f"has no column {lacking[0]!r}",
            place=source.place_of_row(1),
            expected=f"{TABLE}, {VALUE}, {CLASS}; perhaps {INPUT} and {OUTPUT}",
            found=listed(source.names, 12),
            fix=did_you_mean(lacking[0], source.names) or "name the columns so",
        )
    return list(_lines(source))


def _lines(source: Source) -> Iterator[LongLine]:
    names = [name for name in LONG_HEADINGS if name in source.names]
    row = 0
    for batch in source.batches(names):
        columns = {name: as_text(batch.column(name)).to_pylist() for name in names}
        for at in range(batch.num_rows):
            row += 1
            cells = {name: (columns[name][at] or "") for name in names}
            if not any(text.strip() for text in cells.values()):
                continue
            label = cells[CLASS]
            yield LongLine(
                cells[TABLE].strip(),
                cells[VALUE].strip(),
                label[1:] if label.startswith(":=") else label.strip(),
                cells.get(INPUT, "").strip(),
                cells.get(OUTPUT, "").strip(),
                row,
            )


def with_lines(files: TableFiles, lines: Sequence[LongLine]) -> tuple[TableFiles, int]:
    """Return the files of a table with what some lines say of it, and how many of its values no line names: these stay.

    Raises
    ------
    BookError
        If the table is no mapping, a line names an output or input that it does not have, or two lines say different
        things of one value.
    """
    table = files.table
    if why := _no_mapping(table):
        raise BookError(f"table {table.name} is no mapping of single values: {why}")
    name, outputs = table.inputs[0].name, [output.name for output in table.outputs]
    wanted: dict[str, dict[str, str]] = {}
    for line in lines:
        output = _output_of(table.name, line, outputs)
        if line.input and line.input != name:
            raise BookError(f"row {line.row}: table {table.name} reads {name}, not {line.input}")
        cells = wanted.setdefault(line.value, {})
        if cells.setdefault(output, line.label) != line.label:
            raise BookError(
                f"row {line.row}: {line.value!r} of table {table.name} is {line.label!r} here, and {cells[output]!r} above",
                fix="keep one of them",
            )
    headings, records = files.headings, files.records
    at, places = _places(table, headings)
    edits: dict[int, RowEdit] = {}
    known = {record[at].strip() for record in records}
    for number, record in enumerate(records, 1):
        cells = wanted.get(record[at].strip(), {})
        changed = {
            places[output]: text for output, text in cells.items() if text != record[places[output]].strip()
        }
        if changed:
            edits[number] = RowEdit(changed)
    edited = files.with_edits(edits) if edits else files
    new = []
    for value in [one for one in wanted if one not in known]:
        record = [""] * len(headings)
        record[at] = value
        for output, text in wanted[value].items():
            record[places[output]] = text
        new.append(record)
    return edited.with_rows(new), len(known - set(wanted))


def _output_of(table: str, one: LongLine, outputs: Sequence[str]) -> str:
    if one.output in outputs:
        return one.output
    if one.output or len(outputs) > 1:
        raise BookError(
            f"row {one.row}: table {table} has "
            + (f"no output {one.output!r}" if one.output else "several outputs, and the line names none"),
            expected=f"in {OUTPUT}: {listed(outputs, 12)}",
            fix=did_you_mean(one.output, outputs),
        )
    return outputs[0]


def new_table_text(name: str, lines: Sequence[LongLine]) -> str:
    """Return the text of a table that a book does not have yet."""
    outputs = list(dict.fromkeys(line.output or f"{name}_class" for line in lines))
    given = next((line.input for line in lines if line.input), name)
    if given in outputs:
        outputs = [f"{output}_class" if output == given else output for output in outputs]
    by_value: dict[str, dict[str, str]] = {}
    for line in lines:
        by_value.setdefault(line.value, {})[line.output or outputs[0]] = line.label
    rows = [[value, *(cells.get(output, "") for output in outputs)] for value, cells in by_value.items()]
    head = [[given, *outputs]] if len(outputs) > 1 else []
    made = [
        f'inputs.{toml_key(given)} = "text"',
        *(f'outputs.{toml_key(output)} = "text"' for output in outputs),
    ]
    return "\n".join([*made, "rows = [", *(f"  {toml_text(row)}," for row in [*head, *rows]), "]", ""])


def by_table(lines: Sequence[LongLine]) -> Mapping[str, list[LongLine]]:
    """Return lines by the table that they name; `DataError` where one names none."""
    made: dict[str, list[LongLine]] = {}
    for line in lines:
        if not line.table:
            raise DataError(f"row {line.row} names no table", fix="each line names the table that it is of")
        made.setdefault(line.table, []).append(replace(line))
    return made
