"""An opened book, shared: what was applied when, and done again."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from kivvet.faces.opened import OpenedBook, names_of

if TYPE_CHECKING:
    from kivvet.books.asks.described import CsvMetadata
    from kivvet.books.asks.history import DoneAgain, History
    from kivvet.books.asks.pin_books import Pins
    from kivvet.books.asks.review_table import TableReview
    from kivvet.books.asks.rules_in import RulesIn
    from kivvet.core.tables.review import Review
    from kivvet.pages.report import BookReport
    from kivvet.pages.rules_workbook import RulesWorkbook


class Sharing(OpenedBook):
    """What a book gives those who share it."""

    def report(
        self,
        datasets: Iterable[str] = (),
        *,
        data: bool = True,
        on_rows: Callable[[int], None] = lambda _: None,
    ) -> BookReport:
        """Return all there is to say of the book as a page for those who will never run a command.

        Parameters
        ----------
        datasets : iterable of str, optional
            Only these, and the tables and formulas that they use; the whole book by default.
        data : bool
            Whether the sources are read: without, rules and history alone are told.

        Returns
        -------
        BookReport
            Its `save` writes one file of HTML that needs nothing else.

        Raises
        ------
        BookError
            If there is no such dataset. What is wrong with the book, its tables or data is told in the report.
        """
        from kivvet.books.asks.report import facts_of
        from kivvet.pages.report import BookReport

        return BookReport(facts_of(self._opened, names_of(datasets), data=data, on_rows=on_rows))

    def export(
        self,
        tables: Iterable[str] = (),
        *,
        data: bool = True,
        on_rows: Callable[[int], None] = lambda _: None,
    ) -> RulesWorkbook:
        """Return tables of the book as a workbook for those who review rules: a sheet each, with what was found beside the
        rows. What they change there, `import_rules` takes back.

        Parameters
        ----------
        tables : iterable of str, optional
            Their names; all tables of the book by default.
        data : bool
            Whether the sources are read, for the rows of data that each row decides.

        Returns
        -------
        RulesWorkbook
            Its `save` writes the workbook.

        Raises
        ------
        BookError, TableError
            If there is no such table, or it could not be read.
        """
        from kivvet.books.asks.long_rules import long_lines
        from kivvet.books.asks.rules_out import rules_out
        from kivvet.pages.rules_workbook import RulesWorkbook

        made = rules_out(self._opened, names_of(tables), data=data, on_rows=on_rows)
        lines, others = long_lines(self._opened, made)
        values = tuple(self._opened.table(table.name) for table in made.tables)
        faulty = {finding.table for finding in self._opened.reading_findings if finding.severity == "error"}
        unusable = tuple(table.name for table in made.tables if table.name in faulty)
        return RulesWorkbook(made, tuple(lines), others, values, unusable)

    def describe(self, names: Iterable[str]) -> CsvMetadata:
        """Return what is to be said of files of CSV that the book writes or looks up in, in the form of the W3C's "CSV on the
        Web": headings, types and how they are written, classes, words for missing, keys.

        Parameters
        ----------
        names : iterable of str
            Datasets, whose targets are meant, and tables that are lookups.

        Returns
        -------
        CsvMetadata
            Its `save` writes it as JSON. Beside FILE.csv and called ``FILE.csv-metadata.json``, `look`, `draft` and `add` read
            the file as it says.

        Raises
        ------
        BookError
            If there is no such dataset or table, or its file is no CSV.
        TableError, DataError
            If the dataset has errors, or its source cannot be read.
        """
        from kivvet.books.asks.described import described

        return described(self._opened, names_of(names))

    def import_rules(
        self,
        path: str | Path,
        *,
        write: bool = False,
        data: bool = True,
        on_rows: Callable[[int], None] = lambda _: None,
    ) -> RulesIn:
        """Return what was changed in a workbook that `export` wrote, or what a file of many mappings says otherwise: by
        meaning, and what it moves in the data.

        Cells, rows that came or went, and their order are taken over into the text of the tables' files; comments stay. Where
        the book changed meanwhile, the two are merged by what they mean.

        Parameters
        ----------
        path : str or Path
        write : bool
            Whether the files are written: all of them, or none where something is left to decide or to mend. The book has
            to be opened again then.
        data : bool
            Whether sources are read, for what the changes move.

        Raises
        ------
        BookError
            If it is no such workbook; or it is to be written, and is not ready.
        DataError
            If it cannot be read.
        """
        from kivvet.books.asks.rules_in import rules_in

        return rules_in(self._opened, Path(path), write=write, data=data, on_rows=on_rows)

    def history(self, names: Iterable[str] = (), *, first: int | None = None) -> History:
        """Return what is remembered of runs: by this machine, and by the team where the book says ``history = FOLDER``.

        Parameters
        ----------
        names : iterable of str, optional
            Datasets, whose runs are told, and tables and formulas, whose versions are; all datasets by default.
        first : int, optional
            At most so many runs of each dataset, the last ones; all without it.

        Raises
        ------
        BookError
            With the near name, if nothing is called so.
        """
        from kivvet.books.asks.history import history_of

        return history_of(self._opened, names_of(names), first)

    def apply_as_of(
        self,
        dataset: str,
        as_of: str,
        to: str | Path,
        *,
        any_source: bool = False,
        on_rows: Callable[[int], None] = lambda _: None,
    ) -> DoneAgain:
        """Write to a file of its own what a past run of a dataset wrote: from the source as it was, by the rules of then.

        Parameters
        ----------
        as_of : str
            The name of the run, or the beginning of it; or a date or time (UTC): the last run until then.
        to : str or Path
            The file to write.
        any_source : bool
            Whether the rules of then may be applied to a source that is another one today.
        on_rows : callable
            Called with a number of rows after each batch that was read.

        Raises
        ------
        BookError
            If there is no such run, its rules are not remembered, or its source is not there any more.
        TableError, DataError, OutputError
            If it cannot be worked out or written.
        """
        from kivvet.books.asks.history import apply_as_of

        return apply_as_of(self._opened, dataset, as_of, to, any_source=any_source, on_rows=on_rows)

    def review(
        self,
        table: str,
        *,
        against: str | Path | None = None,
        data: bool = True,
        on_rows: Callable[[int], None] = lambda _: None,
    ) -> TableReview:
        """Return what is said of a table, who changed it last, and what changed since it was reviewed: by meaning, with what
        that moves in the data.

        Parameters
        ----------
        against : str or Path, optional
            Another version than the one that was reviewed, as of `compare`.
        data : bool
            Whether it is worked out what the change moves in the data.

        Raises
        ------
        BookError, TableError
            If there is no such table, or it cannot be read.
        """
        from kivvet.books.asks.review_table import review_of

        return review_of(self._opened, table, against, data=data, on_rows=on_rows)

    def mark_reviewed(self, table: str, *, reviewer: str = "", note: str = "") -> Review:
        """Write into a table's file that it was reviewed today, as it is now. The review holds as long as it means the same.

        Parameters
        ----------
        reviewer : str
            Who; without it whoever runs this, as the version control or the machine knows them.
        note : str

        Raises
        ------
        BookError, TableError
            If there is no such table, it cannot be read, or its file was changed since.
        OutputError
            If it cannot be written.
        """
        from kivvet.books.asks.review_table import mark_reviewed

        return mark_reviewed(self._opened, table, reviewer, note)

    def pin(
        self,
        books: Iterable[str] = (),
        *,
        take: bool = False,
        on_rows: Callable[[int], None] = lambda _: None,
    ) -> Pins:
        """Pin the used books that are not pinned yet, and return of each what is pinned, what changed since, and what taking
        it would move here.

        Parameters
        ----------
        books : iterable of str, optional
            Only these.
        take : bool
            Whether the book goes by what they are today from now on; open it again to see it do so.
        on_rows : callable
            Called with a number of rows after each batch that was read.

        Raises
        ------
        BookError
            If the book uses no such book, or its pins cannot be read.
        OutputError
            If they cannot be written.
        """
        from kivvet.books.asks.pin_books import pin_books

        return pin_books(self._opened, names_of(books), take=take, on_rows=on_rows)

    def pack(self, to: str | Path) -> tuple[str, ...]:
        """Write the rules of the book into a ZIP file, the same bytes for the same rules; return the names of the files.

        Raises
        ------
        BookError
            If the name of the file does not end in .zip, or the rows of a table stand outside the folder of the book.
        OutputError
            If it cannot be written.
        """
        from kivvet.books.asks.pack_book import pack_book

        return pack_book(self._opened, to)

    def shrink_history(self, n_bytes: int) -> str:
        """Forget the oldest runs of this machine until its journal has no more bytes; the last run of each dataset stays.
        Return in words what was forgotten.

        Raises
        ------
        OutputError
            If the journal cannot be written.
        """
        from kivvet.books.asks.history import shrink_history

        return shrink_history(self._opened, n_bytes)
