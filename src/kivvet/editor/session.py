"""One editor's work on books: the texts that are open, what was found in them, and what is told of a change."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path

from kivvet.books.asks.check_book import check_book
from kivvet.books.files.open_book import BOOK_FILE, OpenBook
from kivvet.books.files.read_formulas import FORMULAS_FILE
from kivvet.core.words.collecting import no_collecting
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.findings import Finding
from kivvet.editor.data_seen import DataSeen
from kivvet.editor.diagnoses import Diagnosis, Told, diagnoses_of
from kivvet.editor.fixes import Fix, fixes_of
from kivvet.editor.open_books import OpenBooks
from kivvet.editor.texts import Span, Texts

OnRows = Callable[[int], None]


@dataclass
class Session:
    """The state of one editor.

    Attributes
    ----------
    texts : Texts
    books : OpenBooks
    seen : dict of Path to DataSeen
        By book what was counted of its data last.
    shown : dict of Path to list of Diagnosis
        By file what is shown.
    """

    texts: Texts = field(default_factory=Texts)
    seen: dict[Path, DataSeen] = field(default_factory=dict)
    shown: dict[Path, list[Diagnosis]] = field(default_factory=dict)
    _told: dict[Path, Told] = field(default_factory=dict)
    _files: dict[Path, set[Path]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.books = OpenBooks(self.texts)

    def folder_of(self, path: Path) -> Path | None:
        """Return the folder of the book that a file belongs to."""
        return self.books.folder_of(path)

    def seen_of(self, folder: Path | None) -> DataSeen:
        """Return what was counted of the data of a book; nothing where that was not done yet."""
        return self.seen.get(folder, DataSeen()) if folder is not None else DataSeen()

    def diagnose(self, folder: Path) -> dict[Path, list[Diagnosis]]:
        """Check a book as it is typed, without data; return by file all that is to be shown, also where that is nothing
        any more.
        """
        with no_collecting():
            book = self.books.read(folder)
            if book is None:
                self._told.pop(folder, None)
                return self._show(folder, [])
            with self.books.as_typed():
                found = _checked(book, data=False)
        told = self._told.setdefault(folder, Told())
        return self._show(
            folder, told.after(diagnoses_of(book, found, self.texts), _broken(book), self.texts)
        )

    def diagnose_data(self, folder: Path, on_rows: OnRows) -> dict[Path, list[Diagnosis]]:
        """Check a book as it is typed with its data, and count; return as `diagnose` does."""
        book = self.books.read(folder)
        if book is None:
            return {}
        found = _checked(book, data=True, on_rows=on_rows)
        self.seen[folder] = DataSeen.of(book, on_rows)
        told = self._told.setdefault(folder, Told())
        return self._show(folder, told.with_data(diagnoses_of(book, found, self.texts), self.texts))

    def fixes(self, path: Path, span: Span) -> list[Fix]:
        """Return the fixes of what is shown at a stretch of a file."""
        folder = self.folder_of(path)
        if folder is None:
            return []
        touched = [
            one
            for one in self.shown.get(path, ())
            if one.span.start <= span.end and span.start <= one.span.end
        ]
        return [fix for one in touched for fix in fixes_of(self.books, folder, one)]

    def _show(self, folder: Path, diagnoses: Iterable[Diagnosis]) -> dict[Path, list[Diagnosis]]:
        by_file: dict[Path, list[Diagnosis]] = {path: [] for path in self._files.get(folder, ())}
        for diagnosis in diagnoses:
            by_file.setdefault(diagnosis.path, []).append(diagnosis)
        self._files[folder] = {path for path, held in by_file.items() if held}
        self.shown |= by_file
        return by_file


def _checked(book: OpenBook, *, data: bool, on_rows: OnRows = lambda _: None) -> list[Finding]:
    """Return the findings of a check; those of reading alone where it cannot be done."""
    try:
        return list(check_book(book, data=data, on_rows=on_rows))
    except KivvetError:
        return list(book.reading_findings)


def _broken(book: OpenBook) -> set[Path]:
    """Return the files of a book that cannot be read as they stand."""
    found = {
        path.resolve()
        for path, what in book.files_of_tables.items()
        if what.rpartition(" ")[2] in book.unusable_tables
    }
    if not book.is_readable:
        found.add((book.folder / BOOK_FILE).resolve())
    if book.unusable_formulas or not book.formulas:
        found.add((book.folder / FORMULAS_FILE).resolve())
    return found
