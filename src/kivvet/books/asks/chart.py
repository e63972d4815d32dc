"""A picture of data, a table, a summary or what changed rules move, as a command or a call asks for it."""

from __future__ import annotations

from pathlib import Path

from kivvet.books.asks.chart_of_change import chart_of_change
from kivvet.books.asks.chart_of_data import chart_of_data, chart_of_summary, sheet_of
from kivvet.books.asks.chart_of_table import chart_of_table
from kivvet.books.asks.chart_wanted import ChartWanted, OnRows, Picture, shown_kind
from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import OpenBook
from kivvet.core.words.errors import BookError, DataError
from kivvet.core.words.wording import did_you_mean, listed, shell_word
from kivvet.io.patterns import is_pattern
from kivvet.io.stores.store import is_url


def picture_of(
    book: OpenBook | None, name: str | Path, wanted: ChartWanted, on_rows: OnRows = lambda _: None
) -> tuple[Picture, str]:
    """Return a picture, and what a file of it would be called; see `Book.chart`."""
    text = str(name)
    is_dataset = book is not None and text in book.dataset_names
    is_table = book is not None and (text in book.tables or text in book.unusable_tables)
    asks_a_table = wanted.kind in ("histogram", "map", "triangle") or any(
        (wanted.on, wanted.output, wanted.axes, wanted.panels, wanted.set)
    )
    if is_table and (asks_a_table or not is_dataset):
        assert book is not None
        return chart_of_table(book, book.table(text), wanted, on_rows)
    if is_dataset and book is not None:
        return _of_dataset(book, book.dataset(text), wanted, on_rows)
    if not text or not (Path(name).exists() or is_pattern(text) or is_url(text)):
        known = [] if book is None else [*book.dataset_names, *sorted(book.tables)]
        near = did_you_mean(text, known)
        raise BookError(
            f"there is no dataset, summary, table or file {text!r}",
            fix=near
            or (f"there are {listed(known, 20)}" if known else "name a file, or a book: --book FOLDER"),
        )
    if wanted.kind in ("histogram", "map", "triangle", "flows"):
        raise DataError(
            f"{text} is data, and {shown_kind(wanted.kind)} is of a {'dataset' if wanted.kind == 'flows' else 'table'}",
            fix="name one of the book"
            if wanted.kind == "flows"
            else f"kivvet chart TABLE --on {shell_word(text)}",
        )
    return chart_of_data(book, text, wanted, on_rows)


def _of_dataset(
    book: OpenBook, dataset: Dataset, wanted: ChartWanted, on_rows: OnRows
) -> tuple[Picture, str]:
    if wanted.kind == "flows" or wanted.against is not None:
        return chart_of_change(book, dataset, wanted, on_rows)
    if wanted.kind in ("histogram", "map", "triangle"):
        raise DataError(
            f"{dataset.name!r} is a dataset, and {shown_kind(wanted.kind)} is of a table",
            fix=f"kivvet chart TABLE --on {shell_word(dataset.name)}",
        )
    if dataset.of is not None and not wanted.by:
        return chart_of_summary(book, dataset, wanted, on_rows)
    if not wanted.by and wanted.across is None and wanted.kind in (None, "bars"):
        return sheet_of(book, dataset, wanted, on_rows)
    return chart_of_data(book, dataset.name, wanted, on_rows)
