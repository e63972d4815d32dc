"""Looking at a file, or at the source of a dataset."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from kivvet.books.asks.data_read import DataRead, data_read
from kivvet.books.files.entry_text import aligned, book_lines
from kivvet.core.draft.look import Look, LookBuilder, ReadAs
from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import did_you_mean, listed, shown_path
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
    return replace(builder.look(), read_as=_read_as(data, opened), n_more=n_more)


def _read_as(data: DataRead, source: Source) -> ReadAs | None:
    """Return how a bare file was read, where that is otherwise than a book reads it without being told."""
    found = data.recognised
    if found is None:
        return None
    remarks = (*found.remarks, *(note.message for note in source.notes))
    lines = tuple(aligned(book_lines(data.dataset, {name: one.type for name, one in found.columns.items()})))
    return ReadAs(lines, remarks) if lines or remarks else None


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
