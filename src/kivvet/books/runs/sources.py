"""The sources of a book, each opened once, and once more only where its file has changed since."""

from __future__ import annotations

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import OpenBook
from kivvet.core.words.kept import kept
from kivvet.io.files import FileMarks
from kivvet.io.source_and_target import ReadOptions, Source

_Known = dict[tuple[tuple[str, ...], ReadOptions], tuple[FileMarks | None, Source]]


def source_of(book: OpenBook | None, dataset: Dataset) -> Source:
    """Return the opened source of a dataset; datasets that read one file alike share it.

    Raises
    ------
    DataError
        If it cannot be read.
    """
    if book is None:
        return dataset.open()
    known, key = (
        _known_sources(book),
        ((str(dataset.source), *dataset.sources, str(dataset.file_column)), dataset.options),
    )
    marks = dataset.source_marks()
    if key not in known or marks is None or known[key][0] != marks:
        known[key] = marks, dataset.open()
    return known[key][1]


@kept
def _known_sources(_: OpenBook) -> _Known:
    return {}
