"""The books that open files belong to, read from the texts in the editor; what did not change is not read again."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from threading import RLock
from typing import Literal

from kivvet.books.files.open_book import BOOK_FILE, OpenBook, read_book
from kivvet.books.files.read_formulas import FORMULAS_FILE
from kivvet.books.files.read_table import read_table
from kivvet.books.runs.sources import remember_sources
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError
from kivvet.core.words.findings import Finding
from kivvet.editor.texts import Texts
from kivvet.io.files import FileMarks
from kivvet.io.locations import Location
from kivvet.io.stand_ins import standing_in

FileKind = Literal["book", "table", "formulas", "rows", "other"]
_Read = tuple[Table | None, tuple[Location, ...], list[Finding]]


@dataclass(frozen=True)
class BookFile:
    """A file, and what it is of its book.

    Attributes
    ----------
    path : Path
    folder : Path or None
        Of the book; None where it belongs to none.
    kind : {"book", "table", "formulas", "rows", "other"}
        ``rows``: the CSV file of a table's rows, lookup or examples.
    table : str
        The table that it is of.
    """

    path: Path
    folder: Path | None
    kind: FileKind
    table: str = ""


@dataclass
class OpenBooks:
    """Books by folder, and how they were read last."""

    texts: Texts
    _tables: dict[Path, tuple[object, _Read]] = field(default_factory=dict)
    _books: dict[Path, tuple[object, OpenBook]] = field(default_factory=dict)
    _whole: dict[tuple[Path, str], OpenBook] = field(
        default_factory=dict
    )  # by table, the last it could be read in
    _lock: RLock = field(default_factory=RLock)

    @staticmethod
    def folder_of(path: Path) -> Path | None:
        """Return the folder of the book that a file belongs to: the nearest upward that holds book.toml."""
        return next((parent for parent in path.parents if (parent / BOOK_FILE).is_file()), None)

    def file(self, path: Path) -> BookFile:
        """Return what a file is of its book."""
        folder = self.folder_of(path)
        if folder is None:
            return BookFile(path, None, "other")
        if path == folder / BOOK_FILE:
            return BookFile(path, folder, "book")
        if path == folder / FORMULAS_FILE:
            return BookFile(path, folder, "formulas")
        if path.parent == folder / "tables" and path.suffix == ".toml":
            return BookFile(path, folder, "table", path.stem)
        book = self.read(folder)
        said = {} if book is None else {file.resolve(): what for file, what in book.files_of_tables.items()}
        return BookFile(path, folder, "rows", said[path].rpartition(" ")[2]) if path in said else BookFile(path, folder, "other")  # fmt: skip

    @contextmanager
    def as_typed(self) -> Iterator[None]:
        """Let what is read be what stands in the editor, as long as the block runs."""
        with self._lock, standing_in(self.texts.stand_ins):
            yield

    def read(self, folder: Path) -> OpenBook | None:
        """Return a book as it stands in the editor; None where there is none any more."""
        with self.as_typed():
            files = [folder / BOOK_FILE, folder / FORMULAS_FILE, *sorted((folder / "tables").glob("*"))]
            state = self._state(files)
            kept = self._books.get(folder)
            if kept is not None and kept[0] == state:
                return kept[1]
            try:
                book = read_book(folder, reads=self._read_table)
            except BookError:
                self._books.pop(folder, None)
                return None
            if kept is not None:
                remember_sources(kept[1], book)
            self._books[folder] = state, book
            self._whole |= {(folder, name): book for name in (*book.tables, *([""] if book.formulas else []))}
            return book

    def known(self, file: BookFile) -> OpenBook | None:
        """Return the book of a file; while its table cannot be read, the book as it was when it could."""
        book = None if file.folder is None else self.read(file.folder)
        name = file.table or (file.path.stem if file.kind == "table" else "")
        if book is None or file.folder is None:
            return book
        if name in book.unusable_tables or (file.kind == "formulas" and not book.formulas):
            return self._whole.get((file.folder, name), book)
        return book

    def _read_table(self, path: Path) -> _Read:
        kept = self._tables.get(path)
        if kept is not None:
            table, files, faults = kept[1]
            if kept[0] == self._state([path, *(file for file in files if isinstance(file, Path))]):
                return table, files, list(faults)
        read = read_table(path)
        files = read[1]
        self._tables[path] = self._state([path, *(file for file in files if isinstance(file, Path))]), read
        return read[0], read[1], list(read[2])

    def _state(self, files: Sequence[Path]) -> object:
        """Return what changes when one of some files does, in the editor or on disk."""
        found = []
        for path in files:
            text = self.texts.opened.get(path.resolve())
            found.append((path, FileMarks.of(path) if text is None else text.version))
        return tuple(found)
