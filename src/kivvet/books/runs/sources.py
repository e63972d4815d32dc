"""The sources of a book, each opened once, and once more only where its file has changed since."""

from __future__ import annotations

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.open_book import OpenBook
from kivvet.books.runs.summary_source import SummarySource
from kivvet.core.words.kept import kept
from kivvet.io.files import FileMarks
from kivvet.io.locations import holds_sheets
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
    if dataset.of is not None:
        return _summary_source(book, dataset)
    known, key = (
        _known_sources(book),
        (
            (str(dataset.source), *dataset.sources, str(dataset.file_column), _said_of(dataset)),
            dataset.options,
        ),
    )
    marks = dataset.source_marks()
    if key not in known or marks is None or known[key][0] != marks:
        known[key] = marks, dataset.open()
    return known[key][1]


def remember_sources(before: OpenBook, after: OpenBook) -> None:
    """Let a book that was read again go by the sources that were opened for it before; those whose files changed are not taken."""
    _known_sources(after).update(_known_sources(before))


def _said_of(dataset: Dataset) -> str:
    """Return what of its types decides what is read: of a workbook, numbers may be read as what they stand for."""
    return str((dataset.fields.types, dataset.fields.forms)) if holds_sheets(dataset.source) else ""


def _summary_source(book: OpenBook, summary: Dataset) -> Source:
    """Return what a summary sums up as its source, made once."""
    assert summary.of is not None
    known, below = _known_summaries(book), book.datasets[summary.of.name]
    source = source_of(book, below)
    if summary.name not in known or known[summary.name][0] is not source:
        known[summary.name] = source, SummarySource(book, summary, below, source)
    return known[summary.name][1]


@kept
def _known_summaries(_: OpenBook) -> dict[str, tuple[Source, Source]]:
    return {}


@kept
def _known_sources(_: OpenBook) -> _Known:
    return {}
