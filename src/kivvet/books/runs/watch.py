"""Following a book: targets are refreshed as files of the book and sources are saved."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.files.open_book import BOOK_FILE, OpenBook, read_book
from kivvet.books.files.pins import PINS_FILE
from kivvet.books.files.read_formulas import FORMULAS_FILE
from kivvet.books.runs.refresh import Refreshed, refresh_datasets
from kivvet.core.words.errors import KivvetError
from kivvet.io.databases.engines import close_all

if TYPE_CHECKING:
    from threading import Event

_MILLISECONDS_BETWEEN_LOOKS = 50
_MILLISECONDS_AT_ONCE = 200


@dataclass(frozen=True)
class WatchRound:
    """What was done after files were saved.

    Attributes
    ----------
    changed : tuple of Path
        The files that were saved; empty for the first round.
    done : tuple of Refreshed
        By dataset what was done, as of `Book.refresh`.
    errors : mapping of str to KivvetError
        By dataset what kept it from being refreshed; its target is as it was. Under an empty name what keeps the book
        from being read.
    """

    changed: tuple[Path, ...] = ()
    done: tuple[Refreshed, ...] = ()
    errors: Mapping[str, KivvetError] = field(default_factory=dict)

    @property
    def is_quiet(self) -> bool:
        """Whether there was nothing to do and nothing is wrong."""
        return not self.errors and all(one.report is None for one in self.done)


def watch_book(
    folder: Path, names: Sequence[str] | None, *, stop: Event | None = None, debounce: float = 0.4
) -> Iterator[WatchRound]:
    """Yield what is done first, and then each time that files are saved; see `Book.watch`."""
    from watchfiles import watch

    watched = _Watched(folder)
    while True:
        folders = watched.folders
        looks = watch(
            *folders,
            watch_filter=lambda _, path: watched.concerns(Path(path)),
            debounce=int(1000 * debounce),
            step=_MILLISECONDS_BETWEEN_LOOKS,
            stop_event=stop,
            rust_timeout=_MILLISECONDS_AT_ONCE,
            yield_on_timeout=True,
            raise_interrupt=False,
            recursive=False,
        )
        # From the first look on no change is missed: what is saved during a round is told after it.
        changes = next(looks, None)
        if changes is None:
            return
        yield watched.round(names, _paths(changes))
        for changes in looks:
            if watched.folders != folders:
                break
            if changes:
                yield watched.round(names, _paths(changes))
        else:
            return
        looks.close()


def _paths(changes: Iterable[tuple[Any, str]]) -> tuple[Path, ...]:
    return tuple(sorted({Path(path) for _, path in changes}))


class _Watched:
    """The files that a book is made of, and those that its datasets read."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder.resolve()
        self.files: set[Path] = set()
        self.folders_of_parts: set[Path] = set()
        self._know(None)
        with suppress(KivvetError):  # the first round tells
            self._know(read_book(self.folder))

    def _know(self, book: OpenBook | None) -> None:
        files = {self.folder / BOOK_FILE, self.folder / FORMULAS_FILE, self.folder / PINS_FILE}
        if book is not None:
            files |= {path.resolve() for path in book.files_of_tables}
            for dataset in book.datasets.values():
                here = {path.resolve() for path in dataset.files_here}
                files |= here
                if dataset.sources:  # a file more may be part of it
                    self.folders_of_parts |= {path.parent for path in here}
            # What is written here is no reason to write again.
            files -= {
                dataset.target.resolve()
                for dataset in book.datasets.values()
                if isinstance(dataset.target, Path)
            }
            self.files = files
        self.files |= files

    @property
    def folders(self) -> list[Path]:
        """The folders to be looked at: those of all files, as far as they are there."""
        found = {path.parent for path in self.files} | {self.folder, self.folder / "tables"}
        return sorted(path for path in found if path.is_dir())

    def concerns(self, path: Path) -> bool:
        """Whether a file that was saved is one of them, or a new table."""
        real = path.resolve()
        is_of_table = real.parent == self.folder / "tables" and not real.name.startswith(".")
        is_part = real.parent in self.folders_of_parts and not real.name.startswith(".")
        return real in self.files or is_of_table or is_part

    def round(self, names: Sequence[str] | None, changed: tuple[Path, ...] = ()) -> WatchRound:
        """Refresh what is not current; an error of one dataset keeps no other from its turn."""
        try:
            book = read_book(self.folder)
            self._know(book)
            wanted = book.in_order(book.dataset_names if names is None else names)
        except KivvetError as error:
            return WatchRound(changed, errors={"": error})
        done: list[Refreshed] = []
        errors: dict[str, KivvetError] = {}
        for name in wanted:
            try:
                done += [one for one in refresh_datasets(book, [name]) if one.dataset == name]
            except KivvetError as error:
                errors[name] = error
        close_all()  # until the next round others may write what was read
        return WatchRound(changed, tuple(done), errors)
