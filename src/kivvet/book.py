"""Books as users see them: a folder of tables and datasets, opened, checked, applied, read and kept current."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.books.files.open_book import BOOK_FILE, read_book
from kivvet.faces.applying import Applying
from kivvet.faces.drafting import Drafting
from kivvet.faces.editing import Editing
from kivvet.faces.in_memory import InMemory
from kivvet.faces.reading import Reading
from kivvet.faces.sharing import Sharing

if TYPE_CHECKING:
    from kivvet.books.asks.chart_wanted import Kind as ChartKind
    from kivvet.books.asks.merge_table import Merged
    from kivvet.books.asks.rows import RowsShown
    from kivvet.books.asks.try_formula import Trial
    from kivvet.core.draft.look import Look
    from kivvet.core.run.cross_table import CrossTable, Share
    from kivvet.draw.chart import Chart

OnRows = Callable[[int], None]


class Book(Drafting, Editing, Applying, InMemory, Reading, Sharing):
    """A book as it was when it was opened; its files are read once. It is made by `open_book`."""


def open_book(path: str | Path) -> Book:
    """Return the book in a folder.

    Parameters
    ----------
    path : str or Path
        The folder that holds ``book.toml``, or that file.

    Raises
    ------
    BookError
        If there is no such folder, or no book in it. Faults inside its files are no exception:
        `Book.check` reports them.
    """
    return Book(read_book(path))


def new_book(folder: str | Path, title: str | None = None) -> tuple[Path, ...]:
    """Write a book with one small table into a folder; return the files written. Nothing that exists is
    overwritten.

    Parameters
    ----------
    folder : str or Path
    title : str, optional
        Without it, the folder's name.

    Raises
    ------
    BookError
        If the folder holds a book already.
    OutputError
        If it cannot be written.
    """
    from kivvet.books.files.new_book import write_new_book

    return tuple(write_new_book(Path(folder), title))


def nearest_book() -> Path | None:
    """Return the nearest folder upward from here that holds a book; None where there is none."""
    here = Path.cwd()
    return next((folder for folder in (here, *here.parents) if (folder / BOOK_FILE).is_file()), None)


def look_at(
    book: Book | None,
    source: str | Path,
    columns: Sequence[str] = (),
    *,
    read_as: str = "",
    on_rows: OnRows = lambda _: None,
) -> Look:
    """Return what a file looks like, or a dataset of a book if there is one; see `Book.look`."""
    from kivvet.books.asks.look_source import look_at as looked

    return looked(None if book is None else book._opened, source, columns, on_rows, read_as)


def formula_on(
    book: Book | None,
    text: str,
    on: str | Path,
    *,
    among: str | None = None,
    first: int = 10_000,
    read_as: str = "",
    on_rows: OnRows = lambda _: None,
) -> Trial:
    """Return what a formula gives on a file, or on a dataset of a book if there is one; see `Book.formula`."""
    from kivvet.books.asks.try_formula import try_formula

    opened = None if book is None else book._opened
    return try_formula(opened, on, text, among=among, n_rows=first, read_as=read_as, on_rows=on_rows)


def cross_table_of(
    book: Book | None,
    source: str | Path,
    *,
    by: Sequence[str] = (),
    across: str | None = None,
    value: str | Sequence[str] | Mapping[str, str] = (),
    where: str | None = None,
    share: Share | None = None,
    most_columns: int | None = 12,
    read_as: str = "",
    engine: str | None = None,
    on_rows: OnRows = lambda _: None,
) -> CrossTable:
    """Return the cross-table of a file, or of a dataset of a book if there is one; see `Book.cross_table`."""
    from kivvet.books.asks.summary import summary_of, wanted_of
    from kivvet.books.runs.engines import engine_named

    wanted = wanted_of(by, across, value, where, most_columns, share)
    opened = None if book is None else book._opened
    with_engine = engine_named(engine)
    return summary_of(opened, source, wanted, read_as=read_as, engine=with_engine, on_rows=on_rows)


def rows_of(
    book: Book | None,
    source: str | Path,
    *,
    where: str | None = None,
    only: str | Sequence[str] | Mapping[str, str] = (),
    columns: Sequence[str] = (),
    sort: Sequence[str] = (),
    first: int = 20,
    each: str | None = None,
    why: bool = False,
    read_as: str = "",
    on_rows: OnRows = lambda _: None,
) -> RowsShown:
    """Return rows of a file, or of a dataset of a book if there is one; see `Book.rows`."""
    from kivvet.books.asks import rows as asked

    wanted = asked.wanted_rows(where, only, columns, sort, first, each, why=why)
    return asked.rows_of(
        None if book is None else book._opened, source, wanted, read_as=read_as, on_rows=on_rows
    )


def chart_of(
    book: Book | None,
    name: str | Path,
    kind: ChartKind | None = None,
    *,
    on_rows: OnRows = lambda _: None,
    **wanted: Any,
) -> Chart:
    """Return a chart of a file, or of what a book has of that name if there is one; see `Book.chart`."""
    if book is not None:
        return book.chart(name, kind, on_rows=on_rows, **wanted)
    from kivvet.books.asks.chart import picture_of
    from kivvet.books.asks.chart_wanted import ChartWanted
    from kivvet.draw.chart import Chart

    return Chart(*picture_of(None, name, ChartWanted(kind=kind, **wanted), on_rows))


def merge(
    base: str | Path,
    ours: str | Path,
    theirs: str | Path,
    *,
    path: str | Path | None = None,
    called: tuple[str, str] = ("ours", "theirs"),
) -> Merged:
    """Return two versions of a table's file that both come from a third as one; nothing is written.

    Lines are merged one by one, cells where both changed one line; then the meanings of all versions are held against each
    other.

    Parameters
    ----------
    base, ours, theirs : str or Path
        Files of UTF-8: the TOML of a table, or the CSV of its rows.
    path : str or Path, optional
        Where the file lies in the book, where the three are copies elsewhere; by default `ours`.
    called : tuple of (str, str)
        What the two sides are called in what is told.

    Raises
    ------
    BookError
        If a file cannot be read.
    """
    from kivvet.books.asks.merge_table import merge_files

    return merge_files(base, ours, theirs, path=path, called=called)
