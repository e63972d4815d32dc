"""Checking a book, applying it, and keeping its targets current."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from kivvet.core.words.findings import Report
from kivvet.core.words.printed import Several
from kivvet.faces.opened import OpenedBook, names_of

if TYPE_CHECKING:
    from threading import Event

    from kivvet.books.asks.review_forms import ReviewForm
    from kivvet.books.asks.unmatched import Unmatched
    from kivvet.books.runs.refresh import Refreshed
    from kivvet.books.runs.status import DatasetStatus
    from kivvet.books.runs.watch import WatchRound
    from kivvet.core.compare.comparison import Comparison
    from kivvet.core.run.impact import Impact
    from kivvet.core.run.reports import ApplyReport
    from kivvet.rule_table import RuleTable

FrameT = TypeVar("FrameT")
OnRows = Callable[[int], None]


class Applying(OpenedBook):
    """What a book does with its rules: check, apply, follow."""

    def check(
        self,
        tables: Iterable[str] | None = None,
        *,
        data: bool = True,
        budget: int | None = None,
        engine: str | None = None,
        on_rows: OnRows = lambda _: None,
    ) -> Report:
        """Return a report of everything wrong with the book, its tables and the data they read.

        Parameters
        ----------
        tables : iterable of str, optional
            Only these; formulas may be named too.
        data : bool
            Whether to read the sources of the datasets too.
        budget : int, optional
            As for `Table.check`.
        engine : {"sqlite", "duckdb", "postgresql", "spark"}, optional
            Tell too what of the datasets could not be the same in a view of such a database, or in the parts that Spark works on.
        on_rows : callable
            Called with a number of rows after each batch that was read.
        """
        from kivvet.books.asks.check_book import check_book

        names = None if tables is None else names_of(tables)
        return check_book(self._opened, names, data=data, budget=budget, engine=engine, on_rows=on_rows)

    def propose_promises(
        self, tables: Iterable[str] | None = None, *, budget: int | None = None
    ) -> dict[str, tuple[str, ...]]:
        """Return by table the promises that hold of it already, to be kept in its file: which way results go as an input rises, between
        which numbers they lie, that every class can occur.

        Parameters
        ----------
        tables : iterable of str, optional
            Only these.
        budget : int, optional
            Steps that each question may take; one that is not settled is not proposed.

        Raises
        ------
        BookError, TableError
            If there is no such table, or it cannot be read.
        """
        from kivvet.books.asks.promises import proposed_promises

        return proposed_promises(self._opened, None if tables is None else names_of(tables), budget)

    def report_as(self, report: Report, form: ReviewForm) -> str:
        """Return a report of this book in a form that other programs read.

        Parameters
        ----------
        report : Report
            As `check` returned it.
        form : {"sarif", "junit"}
            "sarif": SARIF 2.1.0, an OASIS standard, which review tools show in place; a remedy that is one change of a
            row is a suggested change. "junit": the XML of test results, a case for each table, formula and dataset.
            `to_markdown` of it, as of any result, is for a comment on a change that is under review.

        Raises
        ------
        BookError
            If there is no such form of it.
        """
        from kivvet.books.asks.review_forms import report_as

        return report_as(self._opened, report, form)

    def compare(
        self,
        table: str,
        against: RuleTable | str | Path = "last",
        *,
        shared: bool = False,
        budget: int | None = None,
        data: bool = True,
        on_rows: OnRows = lambda _: None,
    ) -> Comparison:
        """Return how the meaning of a table differs from that of another version of it.

        Parameters
        ----------
        table : str
        against : RuleTable, str or Path
            The other version: ``"last"`` for what was applied last, a table's file, the folder of a book that has a
            table of this name, another table of this book, or a revision of the git repository that the book lies in.
        shared : bool
            Whether tables of different inputs or outputs are compared on what both have.
        budget : int, optional
            As of `RuleTable.compare`.
        data : bool
            Whether the rows are counted that the book's datasets have in each changed region.

        Raises
        ------
        BookError, TableError
            If there is no such table or version, or it cannot be read.
        DataError
            If the two cannot be compared.
        """
        from kivvet.books.asks.compare_table import compare_in_book
        from kivvet.rule_table import RuleTable, value_of

        other = value_of(against) if isinstance(against, RuleTable) else against
        return compare_in_book(
            self._opened, table, other, shared=shared, budget=budget, data=data, on_rows=on_rows
        )

    def impact(
        self,
        names: Iterable[str] = (),
        *,
        against: str | Path = "last",
        as_of: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> Impact:
        """Return what rules that changed do to the data of the book, before anything is written.

        Parameters
        ----------
        names : iterable of str
            Of tables and formulas: only their changes count. Of datasets: only these are looked at.
        against : str or Path
            ``"last"`` for the rules by which each target was made, a revision of the git repository that the book lies
            in, the folder of another book, or a table's file.
        as_of : str
            On which rows: those that a past run read (its name, or a date: the last until then), or those of a version of a
            lake (``"version 12"``); empty: those that are there now.

        Raises
        ------
        BookError, TableError
            If there is no such name or version, or it cannot be read. What keeps one dataset from being told is no
            error: see `DatasetImpact.why_not`.
        """
        from kivvet.books.asks.impact import impact_in_book

        return impact_in_book(self._opened, names_of(names), against, as_of=as_of, on_rows=on_rows)

    def apply_dataset(
        self,
        name: str,
        *,
        replace: bool = False,
        replace_edited: bool = False,
        engine: str | None = None,
        note: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> ApplyReport:
        """Write the target of a dataset: all rows of its source, with the new columns.

        Parameters
        ----------
        name : str
        replace : bool
            Whether a file may be replaced that Kivvet did not write.
        replace_edited : bool
            Whether a target may be replaced that something else changed since it was written.
        engine : {"spark"}, optional
            What does the work, on each file of the source by itself: the session of Spark that is active, or one on this
            machine. The target is a folder of parts or a lake.
        note : str
            What the history is to say of the run.
        on_rows : callable
            Called with a number of rows after each batch that was read.

        Raises
        ------
        TableError, DataError, OutputError
            If anything stands in the way; the target is then as it was.
        """
        from kivvet.books.runs.apply import apply_dataset
        from kivvet.books.runs.engines import engine_named

        dataset = self._opened.dataset(name)
        return apply_dataset(
            self._opened,
            dataset,
            replace_other=replace,
            replace_edited=replace_edited,
            engine=engine_named(engine),
            note=note,
            on_rows=on_rows,
        )

    @property
    def names_of_views(self) -> tuple[str, ...]:
        """The datasets whose target is a view of a database."""
        from kivvet.books.runs.views import is_view

        return tuple(name for name, one in self._opened.datasets.items() if is_view(one))

    def view_sql(self, name: str) -> str:
        """Return the SQL that would make the view of a dataset, and touch nothing.

        Raises
        ------
        BookError
            If its target is no view.
        TableError, DataError
            If it cannot be the same in the database, or the source cannot be read.
        """
        from kivvet.books.runs.views import sql_of_view

        return sql_of_view(self._opened, self._opened.dataset(name))

    def unmatched(
        self,
        datasets: Iterable[str] | None = None,
        *,
        engine: str | None = None,
        on_rows: OnRows = lambda _: None,
    ) -> Several[Unmatched]:
        """Return every value of the datasets that no row of a table holds, with its rows and the first of
        them.

        Parameters
        ----------
        engine : {"spark"}, optional
            What counts, each file of the sources by itself; see `apply_dataset`.

        Raises
        ------
        TableError, DataError
            If the tables or the data cannot be read.
        BookError
            If a source is not in parts, with an engine.
        """
        from kivvet.books.asks.unmatched import unmatched_in
        from kivvet.books.runs.engines import engine_named

        return Several(unmatched_in(self._opened, self._chosen(datasets), on_rows, engine_named(engine)))

    def status(self, datasets: Iterable[str] | None = None) -> Several[DatasetStatus]:
        """Return a `DatasetStatus` for each dataset: whether its target is current, and if not, why."""
        from kivvet.books.runs.status import status_of

        return Several(status_of(self._opened, dataset) for dataset in self._chosen(datasets))

    def refresh(
        self,
        datasets: Iterable[str] | None = None,
        *,
        replace: bool = False,
        replace_edited: bool = False,
        anew: bool = False,
        note: str = "",
        dry_run: bool = False,
        on_rows: OnRows = lambda _: None,
    ) -> Several[Refreshed]:
        """Bring every target that is not current up to date; what is current is left alone.

        Parameters
        ----------
        datasets : iterable of str, optional
            Only these, and those whose targets they read. Each is written after what it reads.
        replace : bool
            Whether files may be replaced that Kivvet did not write.
        replace_edited : bool
            Whether targets may be replaced that something else changed since they were written.
        anew : bool
            Whether what is current is written anew too, from the source.
        note : str
            What the history is to say of the runs.
        dry_run : bool
            Whether it is only told what would be done: see `Refreshed.is_due`.
        on_rows : callable
            Called with a number of rows after each batch that was read.

        Raises
        ------
        TableError, DataError, OutputError
            As `apply_dataset`; datasets refreshed before stay refreshed.
        """
        from kivvet.books.runs.refresh import refresh_datasets

        names = [dataset.name for dataset in self._chosen(datasets)]
        return refresh_datasets(
            self._opened,
            names,
            replace=replace,
            replace_edited=replace_edited,
            everything=anew,
            note=note,
            dry_run=dry_run,
            on_rows=on_rows,
        )

    def watch(
        self, datasets: Iterable[str] | None = None, *, stop: Event | None = None, debounce: float = 0.4
    ) -> Iterator[WatchRound]:
        """Refresh what is not current, then again whenever files of the book or sources are saved; yield what was done.

        The book is read anew each time. What is wrong with a half-saved file is told in the round, and the last good
        target stays.

        Parameters
        ----------
        datasets : iterable of str, optional
            Only these, and those whose targets they read.
        stop : threading.Event, optional
            Ends it once it is set; else the first Ctrl-C does.
        debounce : float
            Seconds in which further changes count as the same.
        """
        from kivvet.books.runs.watch import watch_book

        names = None if datasets is None else names_of(datasets)
        return watch_book(self.folder, names, stop=stop, debounce=debounce)
