"""Looking at a file, or at the source of a dataset."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import pyarrow as pa
import pyarrow.compute as pc

from kivvet.books.asks.data_read import DataRead, data_read
from kivvet.books.files.entry_text import aligned, book_lines
from kivvet.core.draft.look import ColumnLook, Look, LookBuilder, ReadAs
from kivvet.core.draft.look_hints import no_such_field
from kivvet.core.formulas.tree import write_name
from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import did_you_mean, listed, shown_path, toml_key
from kivvet.io.source_and_target import Source

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

OnRows = Callable[[int], None]
_BLOCK_BYTES = 16 << 20  # large batches hold fewer values twice
_MOST_COLUMNS = 1_000  # that are looked at where none are named


def look_at(
    book: OpenBook | None,
    source: str | Path,
    columns: Sequence[str] = (),
    on_rows: OnRows = lambda _: None,
    read_as: str = "",
) -> Look:
    """Return what the columns of a dataset's source, or of a file, look like; it is read in batches. See `Book.look`.

    Raises
    ------
    DataError
        If the file cannot be read, has no rows, or lacks a column.
    """
    data = data_read(book, source, read_as)
    opened = data.open()
    names = named_columns(opened, columns)
    n_more = 0 if columns else max(0, len(names) - _MOST_COLUMNS)
    names = names[: len(names) - n_more]
    builder = LookBuilder(names, {name: data.words(name) for name in names}, data.declared)
    for batch in data.batches(opened, names, _BLOCK_BYTES):
        builder.see(batch)
        on_rows(batch.num_rows)
    if not builder.rows:
        raise DataError(
            "has headings and no rows",
            place=Place(shown_path(data.path)),
            expected="at least one row to look at",
        )
    seen = builder.look()
    return replace(
        seen,
        columns=_with_places_of_strays(seen, data, opened),
        read_as=_read_as(data, opened),
        n_more=n_more,
        no_data=tuple(opened.rows_left_out().items()),
    )


def _with_places_of_strays(seen: Look, data: DataRead, source: Source) -> tuple[ColumnLook, ...]:
    """Return the columns with a hint for each value that is not as all others: where the first stands, and what it may be."""
    sought = {(column.name, text): 0 for column in seen.columns for text, _ in column.strays}
    if not sought:
        return seen.columns
    before = 0
    for batch in data.batches(source, list(dict.fromkeys(name for name, _ in sought)), _BLOCK_BYTES):
        for (name, text), row in sought.items():
            at = -1 if row else pc.index(batch.column(name).cast(pa.string()), text).as_py()
            if at >= 0:
                sought[name, text] = before + at + 1
        before += batch.num_rows
        if all(sought.values()):
            break
    return tuple(
        replace(
            one,
            hints=(
                *(hint for hint in one.hints if not _is_of_stray(hint, one)),
                *(
                    f"{text!r} in {_rows(sought[one.name, text], n)} is {no_such_field(one.type)}: "
                    f"{cures_of_stray(one.name, text)}"
                    for text, n in one.strays
                ),
            ),
        )
        for one in seen.columns
    )


def _is_of_stray(hint: str, one: ColumnLook) -> bool:
    """Whether a hint says less of a value than is said of it here."""
    return any(hint.startswith(f"{text!r} (") for text, _ in one.strays) or "cannot be read as" in hint


def cures_of_stray(column: str, text: str) -> str:
    """Return what may be done about a field that is not of the type of all others in its column."""
    return (
        f"correct it; or say that it means missing, missing_words = {{ {toml_key(column)} = [{json.dumps(text, ensure_ascii=False)}] }}; "
        f"or that such a row is no data, leave_out = {json.dumps(_is_text(column, text), ensure_ascii=False)}"
    )


def _rows(first: int, number: int) -> str:
    return f"row {first:,}" if number == 1 else f"{number:,} rows, the first is row {first:,}"


def _is_text(name: str, text: str) -> str:
    return f"{write_name(name)} = '{text.strip().replace(chr(39), chr(39) * 2)}'"


def _read_as(data: DataRead, source: Source) -> ReadAs | None:
    """Return how a bare file was read, where that is otherwise than a book reads it without being told."""
    found = data.recognised
    if found is None:
        return None
    remarks = (*found.remarks, *(note.message for note in source.notes))
    lines = tuple(aligned(book_lines(data.dataset, data.kinds_to_say)))
    return ReadAs(lines, remarks, found.by) if lines or remarks else None


def named_columns(source: Source, columns: Sequence[str]) -> list[str]:
    """Return the columns asked for, or all; `DataError` with the near name where one is not there."""
    for name in columns:
        if name not in source.names:
            raise DataError(
                f"has no column {name!r}",
                place=Place(source.shown_name),
                expected=f"one of: {listed(source.names)}",
                fix=did_you_mean(name, source.names),
            )
    return list(columns) or list(source.names)


def uses_of_column(book: OpenBook, name: str) -> list[str]:
    """Return how a book uses a column: tables that read it, and tables that make one of that name."""
    readers = [
        table.name for table in book.tables.values() if any(input_.name == name for input_ in table.inputs)
    ]
    for dataset in book.datasets.values():
        readers += [entry.table for entry in dataset.entries if name in entry.reads.values()]
    makers = [
        table.name for table in book.tables.values() if any(output.name == name for output in table.outputs)
    ]
    return [
        *(f"read by table {table}" for table in dict.fromkeys(readers)),
        *(f"made by table {table}" for table in makers),
    ]
