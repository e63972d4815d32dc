"""Looking at a file, or at the source of a dataset."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from kivvet.books.files.dataset import Dataset
from kivvet.core.draft.look import Look, LookBuilder
from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import did_you_mean, listed, shown_path
from kivvet.io.formats import open_source
from kivvet.io.source_and_target import Source

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

OnRows = Callable[[int], None]
_BLOCK_BYTES = 24 << 20  # large batches hold fewer values twice


def look_at(
    book: OpenBook | None, source: str | Path, columns: Sequence[str] = (), on_rows: OnRows = lambda _: None
) -> Look:
    """Return what the columns of a dataset's source, or of a file, look like; see `Book.look`."""
    dataset = book.datasets.get(str(source)) if book is not None else None
    return look_at_source(dataset.source if dataset else Path(source), columns, dataset, on_rows)


def look_at_source(
    path: Path, columns: Sequence[str] = (), dataset: Dataset | None = None, on_rows: OnRows = lambda _: None
) -> Look:
    """Return what the columns of a file look like; it is read in batches.

    Parameters
    ----------
    path : Path
    columns : sequence of str
        Just these; none for all.
    dataset : Dataset, optional
        Says how the file is read, and which words mean missing.

    Raises
    ------
    DataError
        If the file cannot be read, has no rows, or lacks a column.
    """
    source = dataset.open() if dataset else open_source(path)
    names = named_columns(source, columns)
    words = {name: dataset.words_that_mean_missing(name) for name in names} if dataset else {}
    builder = LookBuilder(names, words, dataset.types if dataset else None)
    for batch in source.batches(names, _BLOCK_BYTES):
        builder.see(batch)
        on_rows(batch.num_rows)
    if not builder.rows:
        raise DataError(
            "has headings and no rows", place=Place(shown_path(path)), expected="at least one row to look at"
        )
    return builder.look()


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
