"""Books as users see them: a folder of tables and datasets, opened, checked, applied and kept current."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from kivvet.books.files.open_book import BOOK_FILE, OpenBook, read_book
from kivvet.core.words.findings import Report
from kivvet.rule_table import RuleTable, rule_table

if TYPE_CHECKING:
    import pandas as pd

    from kivvet.books.asks.add_dataset import Added
    from kivvet.books.asks.draft_table import Drafted
    from kivvet.books.asks.overview import Overview, Use
    from kivvet.books.asks.rows import RowsShown
    from kivvet.books.asks.try_formula import Trial
    from kivvet.books.asks.unmatched import Unmatched
    from kivvet.books.files.dataset import Dataset
    from kivvet.books.runs.refresh import Refreshed
    from kivvet.books.runs.status import DatasetStatus
    from kivvet.core.draft.look import Look
    from kivvet.core.formulas.formula import Formula
    from kivvet.core.run.cross_table import CrossTable, Share
    from kivvet.core.run.explain import Explanation
    from kivvet.core.run.reports import Applied, ApplyReport
    from kivvet.core.run.shares import Shares

FrameT = TypeVar("FrameT")
OnRows = Callable[[int], None]


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
    n_rows: int = 10_000,
    read_as: str = "",
    on_rows: OnRows = lambda _: None,
) -> Trial:
    """Return what a formula gives on a file, or on a dataset of a book if there is one; see `Book.formula`."""
    from kivvet.books.asks.try_formula import try_formula

    opened = None if book is None else book._opened
    return try_formula(opened, on, text, among=among, n_rows=n_rows, read_as=read_as, on_rows=on_rows)


def cross_table_of(
    book: Book | None,
    source: str | Path,
    *,
    by: Sequence[str] = (),
    across: str | None = None,
    values: Sequence[str] | Mapping[str, str] = (),
    where: str | None = None,
    share: Share | None = None,
    most_across: int | None = 12,
    read_as: str = "",
    on_rows: OnRows = lambda _: None,
) -> CrossTable:
    """Return the cross-table of a file, or of a dataset of a book if there is one; see `Book.cross_table`."""
    from kivvet.books.asks.summary import summary_of, wanted_of

    wanted = wanted_of(by, across, values, where, most_across, share)
    opened = None if book is None else book._opened
    return summary_of(opened, source, wanted, read_as=read_as, on_rows=on_rows)


def rows_of(
    book: Book | None,
    source: str | Path,
    *,
    where: str | None = None,
    keys: Sequence[str] | Mapping[str, str] = (),
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

    given = keys if isinstance(keys, Mapping) else dict(map(asked.key_of, keys))
    wanted = asked.RowsWanted(where, given, tuple(columns), tuple(map(asked.sort_of, sort)), first, each, why)
    return asked.rows_of(
        None if book is None else book._opened, source, wanted, read_as=read_as, on_rows=on_rows
    )


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


class Book:
    """A book as it was when it was opened; its files are read once. It is made by `open_book`."""

    def __init__(self, opened: OpenBook) -> None:
        self._opened = opened

    def __repr__(self) -> str:
        return f"<{repr(self._opened)[5:]}"

    @property
    def folder(self) -> Path:
        return self._opened.folder

    @property
    def title(self) -> str:
        return self._opened.title

    @cached_property
    def tables(self) -> Mapping[str, RuleTable]:
        """The tables that could be read, by name."""
        return {name: rule_table(table) for name, table in self._opened.tables.items()}

    @property
    def formulas(self) -> Mapping[str, Formula]:
        """The formulas that could be read, by name."""
        return self._opened.formulas

    @property
    def dataset_names(self) -> tuple[str, ...]:
        """The names of all datasets, those that could not be read too; `TableError` where book.toml cannot be
        read.
        """
        return self._opened.dataset_names

    @property
    def datasets(self) -> Mapping[str, Dataset]:
        """The datasets whose definition could be read, by name."""
        return self._opened.datasets

    def table(self, name: str) -> RuleTable:
        """Return a table by name.

        Raises
        ------
        BookError
            With the near name, if there is none.
        TableError
            If it could not be read.
        """
        return rule_table(self._opened.table(name))

    def dataset(self, name: str) -> Dataset:
        """Return the definition of a dataset by name.

        Raises
        ------
        BookError
            With the near name, if there is none.
        TableError
            If it could not be read.
        """
        return self._opened.dataset(name)

    def check(
        self,
        tables: Iterable[str] | None = None,
        *,
        data: bool = True,
        budget: int | None = None,
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
        on_rows : callable
            Called with a number of rows after each batch that was read.
        """
        from kivvet.books.asks.check_book import check_book

        names = None if tables is None else _names(tables)
        return check_book(self._opened, names, data=data, budget=budget, on_rows=on_rows)

    def apply(
        self, frame: FrameT, columns: Sequence[str | Mapping[str, Any]], *, where: str | None = None
    ) -> FrameT:
        """Return `frame` with new columns, the same kind of frame that was given.

        Parameters
        ----------
        frame : pandas.DataFrame or pyarrow.Table
        columns : sequence of str or mapping
            As in a dataset of book.toml: names of tables, or
            ``{"table": "station", "input": {"station": "site"}, "keep": ["river"]}``.
        where : str, optional
            The condition of the rows that come back, as in a dataset: ``"load_tenth = 10"``. It is decided after the
            columns are made, which see all rows.

        Raises
        ------
        TableError
            If the tables used have errors, or a name is not found.
        DataError
            If a column is of a type the tables do not read.
        """
        from kivvet.books.asks.apply_to_frame import apply_to_frame

        return apply_to_frame(self._opened, frame, columns, where=where, with_report=False).frame

    def apply_with_report(
        self, frame: FrameT, columns: Sequence[str | Mapping[str, Any]], *, where: str | None = None
    ) -> Applied[FrameT]:
        """Do as `apply` does, and return the frame with a report that accounts for every row."""
        from kivvet.books.asks.apply_to_frame import apply_to_frame

        return apply_to_frame(self._opened, frame, columns, where=where)

    def apply_dataset(
        self, name: str, *, replace: bool = False, on_rows: OnRows = lambda _: None
    ) -> ApplyReport:
        """Write the target of a dataset: all rows of its source, with the new columns.

        Parameters
        ----------
        name : str
        replace : bool
            Whether a file may be replaced that Kivvet did not write.
        on_rows : callable
            Called with a number of rows after each batch that was read.

        Raises
        ------
        TableError, DataError, OutputError
            If anything stands in the way; the target is then as it was.
        """
        from kivvet.books.runs.apply import apply_dataset

        dataset = self._opened.dataset(name)
        return apply_dataset(self._opened, dataset, replace_other=replace, on_rows=on_rows)

    def look(
        self,
        source: str | Path,
        columns: Sequence[str] = (),
        *,
        read_as: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> Look:
        """Return what the columns of a dataset's source, or of a file, look like; it is read in batches.

        Parameters
        ----------
        source : str or Path
            The name of a dataset, whose options say how its source is read; else a file.
        columns : sequence of str
            Just these; none for all.
        read_as : str
            For a file: how it is written, in the words of a dataset, such as ``delimiter = ";", decimal = ","``. Without
            it that is recognised.
        on_rows : callable
            Called with a number of rows after each batch that was read.

        Raises
        ------
        DataError
            If the file cannot be read, has no rows, or lacks a column.
        """
        return look_at(self, source, columns, read_as=read_as, on_rows=on_rows)

    def uses_of_column(self, name: str) -> tuple[str, ...]:
        """Return how the book uses a column, in words: the tables that read it, and those that make it."""
        from kivvet.books.asks.look_source import uses_of_column

        return tuple(uses_of_column(self._opened, name))

    def add(
        self, name: str, source: str | Path, *, target: str | None = None, columns: Sequence[str] = ()
    ) -> Added:
        """Add a dataset to the book: its entry at the end of book.toml, which otherwise stays as it is.

        Parameters
        ----------
        name : str
        source : str or Path
            A file. How a CSV or TSV file is written is recognised: encoding, delimiter, line of the headings, decimal
            mark and mark of thousands, patterns of dates, units, words for true and false.
        target : str, optional
            Where rows and new columns are written; ``out/NAME.parquet`` without it.
        columns : sequence of str
            The tables and formulas to apply.

        Returns
        -------
        Added
            The lines written, and what could not be recognised for certain. The book has to be opened again to use it.

        Raises
        ------
        BookError
            If there is a dataset of that name, or no table of one of those names.
        DataError, OutputError
            If the file cannot be read, or book.toml not be written.
        """
        from kivvet.books.asks.add_dataset import add_dataset

        return add_dataset(self._opened, name, source, target=target, columns=columns)

    def draft(
        self,
        name: str,
        source: str | Path,
        *,
        column: str | None = None,
        keys: Sequence[str] = (),
        keep: Sequence[str] = (),
        classes: str | None = None,
        output: str | None = None,
        method: str | None = None,
        n_bins: int = 5,
        bounds: Sequence[Any] = (),
        by_value: bool = False,
        quantiles: Sequence[Any] = (),
        results: str | None = None,
        as_csv: bool = False,
        copy: bool = False,
        replace: bool = False,
        read_as: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> Drafted:
        """Write a new table, drafted from data, into the book; its results are left blank to be filled in.

        Parameters
        ----------
        name : str
            Of the table, and of its file.
        source : str or Path
            The name of a dataset, or a file.
        column : str, optional
            The column that the table is to read.
        keys : sequence of str
            Instead of `column`: the columns whose values a lookup looks up.
        keep : sequence of str
            The columns that a lookup gives; none for all others.
        classes, output, method, n_bins, bounds, by_value, quantiles, results
            As in `kivvet.draft`.
        as_csv : bool
            Whether the rows stand in a CSV file beside the table.
        copy : bool
            Whether the file of a lookup is copied beside the table, instead of being pointed at.
        replace : bool
            Whether a table of that name is written over.
        read_as : str
            For a file: how it is written, in the words of a dataset, such as ``delimiter = ";", decimal = ","``. Without
            it that is recognised.
        on_rows : callable
            Called with a number of rows after each batch that was read.

        Raises
        ------
        BookError
            If there is a table of that name and `replace` is false, or the name can be no file's.
        DataError
            If the data cannot be read, or there is nothing to draft from.
        """
        from kivvet.books.asks.draft_table import draft_into

        return draft_into(
            self._opened,
            name,
            source,
            column=column,
            keys=keys,
            keep=keep,
            classes=classes,
            output=output,
            method=method,
            n_bins=n_bins,
            bounds=bounds,
            by_value=by_value,
            quantiles=quantiles,
            results=results,
            as_csv=as_csv,
            copy=copy,
            replace=replace,
            read_as=read_as,
            on_rows=on_rows,
        )

    def shares(
        self,
        table: str,
        on: str | Path,
        *,
        beside: str | Path | None = None,
        column: str | None = None,
        read_as: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> Shares:
        """Return how data falls into the rows of a table, beside the data it was drafted from, or other data.

        Parameters
        ----------
        table : str
            Of ranges, or any other with rows of conditions.
        on : str or Path
            The name of a dataset, or a file.
        beside : str or Path, optional
            A dataset or a file to hold it against. Without it, what `draft` noted in the table.
        column : str, optional
            The column to read, of the source or made, where that is not the one the dataset feeds the table.
        read_as : str
            How a bare file is written, as of `look`; that of `beside`, where both are given.

        Raises
        ------
        BookError, TableError, DataError
            If there is no such table, it is a lookup, or it has errors; or the data cannot be read.
        """
        from kivvet.books.asks.shares import shares_in

        return shares_in(
            self._opened, table, on, beside=beside, column=column, read_as=read_as, on_rows=on_rows
        )

    def cross_table(
        self,
        source: str | Path,
        *,
        by: Sequence[str] = (),
        across: str | None = None,
        values: Sequence[str] | Mapping[str, str] = (),
        where: str | None = None,
        share: Share | None = None,
        most_across: int | None = 12,
        read_as: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> CrossTable:
        """Return data counted and summed up, with subtotals and totals.

        Parameters
        ----------
        source : str or Path
            The name of a dataset, of whose rows those count that it keeps; or a file.
        by : sequence of str
            What the lines stand for: columns of the source, classes or formulas of the book, or formulas;
            ``"EXTRACT(YEAR FROM day) AS year"`` gives one a name.
        across : str, optional
            What the columns stand for.
        values : sequence of str, or mapping of str to str
            Aggregates, such as ``"SUM(load)"`` or ``"100 * SUM(a) / SUM(b) AS share"``, or by name; the number of
            rows without any.
        where : str, optional
            The condition of the rows that count.
        share : {"row", "column", "total"}, optional
            What shares are asked for; an error where no value is a count or a total.
        most_across : int or None
            At most so many columns; the smallest are joined as the rest. None: all.

        Raises
        ------
        TableError
            If an expression cannot be read, or names what there is not; or a table used has errors.
        DataError
            If the data cannot be read.
        """
        return cross_table_of(
            self,
            source,
            by=by,
            across=across,
            values=values,
            where=where,
            share=share,
            most_across=most_across,
            read_as=read_as,
            on_rows=on_rows,
        )

    def keep_summary(
        self,
        name: str,
        source: str,
        *,
        by: Sequence[str] = (),
        values: Sequence[str] | Mapping[str, str] = (),
    ) -> tuple[str, ...]:
        """Write a summary into book.toml, so that it is applied, classified and refreshed like a dataset; return the
        lines written. The book has to be opened again to use it.

        Raises
        ------
        BookError, DataError, TableError
            If the name is taken, `source` is no dataset, or an expression cannot be read.
        """
        from kivvet.books.asks.summary import keep_summary, wanted_of

        wanted = wanted_of(by, None, values, None, None)
        self.cross_table(source, by=by, values=values)
        return keep_summary(self._opened, name, source, wanted)

    def summary(
        self,
        source: str | Path,
        *,
        by: Sequence[str] = (),
        across: str | None = None,
        values: Sequence[str] | Mapping[str, str] = (),
        where: str | None = None,
        share: Share | None = None,
        totals: bool = False,
    ) -> pd.DataFrame:
        """Return data counted and summed up as a pandas frame, a row a line; see `cross_table`.

        Classes are categories in their order. With `totals`, subtotals and totals are rows and columns too.

        Raises
        ------
        TableError, DataError
            As of `cross_table`.
        """
        found = self.cross_table(
            source, by=by, across=across, values=values, where=where, share=share, most_across=None
        )
        return found.to_frame(share, totals=totals)

    def rows(
        self,
        source: str | Path,
        *,
        where: str | None = None,
        keys: Sequence[str] | Mapping[str, str] = (),
        columns: Sequence[str] = (),
        sort: Sequence[str] = (),
        first: int = 20,
        each: str | None = None,
        why: bool = False,
        read_as: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> RowsShown:
        """Return rows of a dataset, with all that it makes, or of a file.

        Parameters
        ----------
        source : str or Path
            The name of a dataset, of which the rows are shown that it keeps; or a file.
        where : str, optional
            A condition over anything that the source holds or the dataset makes, written or not.
        keys : mapping of str to str, or sequence of str
            By column the value that rows are to have: ``{"sample_id": "S00812"}``, or ``["sample_id=S00812"]``.
        columns : sequence of str
            Columns and formulas; none for all.
        sort : sequence of str
            Columns or formulas, such as ``"load DESC"``; missing values come last.
        first : int
            At most so many rows; with `each`, of each class.
        each : str, optional
            A column of whose classes some rows each are returned.
        why : bool
            Whether it is told which row of its table decided each class.

        Raises
        ------
        TableError, DataError
            If a condition or a column fits nothing, or the data cannot be read.
        """
        return rows_of(
            self,
            source,
            where=where,
            keys=keys,
            columns=columns,
            sort=sort,
            first=first,
            each=each,
            why=why,
            read_as=read_as,
            on_rows=on_rows,
        )

    def show(self, source: str | Path, *, where: str | None = None, **wanted: Any) -> pd.DataFrame:
        """Return rows as a pandas frame whose index is their number in the source, from 1; see `rows`.

        Raises
        ------
        TableError, DataError
            As of `rows`.
        """
        return self.rows(source, where=where, **wanted).to_frame()

    def overview(self) -> Overview:
        """Return what is in the book: tables with their shape, rows, findings and users, formulas, datasets, summaries."""
        from kivvet.books.asks.overview import overview_of

        return overview_of(self._opened)

    def uses(self, name: str) -> tuple[Use, ...]:
        """Return for each dataset how it uses a column, or those that a table or a formula makes: what makes it, which
        columns it rests on, what reads it, and which columns it leads to.

        Raises
        ------
        BookError
            With the near name, if nothing reads or makes it.
        """
        from kivvet.books.asks.overview import uses_of

        return uses_of(self._opened, name)

    def extend(
        self,
        name: str,
        source: str | Path,
        *,
        column: str | None = None,
        read_as: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> Drafted:
        """Add a row with blank results for each value of the data that a table does not know; see `draft`.

        Every line that is there stays as it was.

        Parameters
        ----------
        source : str or Path
            The name of a dataset: the columns are those it feeds the table; or a file: its columns named like
            the inputs.
        column : str, optional
            The column to read instead, for a table of one input.
        read_as : str
            For a file: how it is written, in the words of a dataset, such as ``delimiter = ";", decimal = ","``. Without
            it that is recognised.

        Raises
        ------
        BookError, TableError, DataError
            If the table cannot be read or is one of ranges, or the data cannot be read.
        """
        from kivvet.books.asks.data_read import data_read
        from kivvet.books.asks.extend_table import extend_table

        return extend_table(self._opened, name, data_read(self._opened, source, read_as), column, on_rows)

    def formula(
        self,
        text: str,
        on: str | Path,
        *,
        among: str | None = None,
        n_rows: int = 10_000,
        read_as: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> Trial:
        """Return what a formula gives on the first rows of a dataset or a file, without adding it to the
        book.

        Parameters
        ----------
        text : str
            It may name columns of the source, other formulas and outputs of tables.
        on : str or Path
            The name of a dataset, or a file.
        among : str, optional
            The condition of the rows that take part in calculations within groups.
        n_rows : int
            A formula that looks at other rows is given all of them.
        read_as : str
            For a file: how it is written, in the words of a dataset, such as ``delimiter = ";", decimal = ","``. Without
            it that is recognised.
        on_rows : callable
            Called with a number of rows after each batch that was read.

        Raises
        ------
        TableError, DataError
            If it cannot be read, names what there is not, or the source cannot be read.
        """
        return formula_on(self, text, on, among=among, n_rows=n_rows, read_as=read_as, on_rows=on_rows)

    def unmatched(
        self, datasets: Iterable[str] | None = None, *, on_rows: OnRows = lambda _: None
    ) -> tuple[Unmatched, ...]:
        """Return every value of the datasets that no row of a table holds, with its rows and the first of
        them.

        Raises
        ------
        TableError, DataError
            If the tables or the data cannot be read.
        """
        from kivvet.books.asks.unmatched import unmatched_in

        return unmatched_in(self._opened, self._chosen(datasets), on_rows)

    def explain(
        self, dataset: str, row: int | Mapping[str, str], tables: Iterable[str] = ()
    ) -> tuple[Explanation, ...]:
        """Return why one row of a dataset, or values for one table, get their classes: an `Explanation` for
        each table.

        Parameters
        ----------
        dataset : str
            With fields, the name of a table does as well.
        row : int or mapping of str to str
            The row of the source, counted from 1, the header left out; or fields by column, as in a CSV file.
        tables : iterable of str, optional
            Only these.

        Raises
        ------
        TableError, DataError, BookError
            If the tables have errors, there is no such row, or a field does not convert.
        """
        from kivvet.books.asks.explain import explain_in_book

        return explain_in_book(self._opened, dataset, row, _names(tables))

    def status(self, datasets: Iterable[str] | None = None) -> tuple[DatasetStatus, ...]:
        """Return a `DatasetStatus` for each dataset: whether its target is current, and if not, why."""
        from kivvet.books.runs.status import status_of

        return tuple(status_of(self._opened, dataset) for dataset in self._chosen(datasets))

    def refresh(
        self,
        datasets: Iterable[str] | None = None,
        *,
        replace: bool = False,
        on_rows: OnRows = lambda _: None,
    ) -> tuple[Refreshed, ...]:
        """Bring every target that is not current up to date; what is current is left alone.

        Parameters
        ----------
        datasets : iterable of str, optional
            Only these.
        replace : bool
            Whether files may be replaced that Kivvet did not write.
        on_rows : callable
            Called with a number of rows after each batch that was read.

        Raises
        ------
        TableError, DataError, OutputError
            As `apply_dataset`; datasets refreshed before stay refreshed.
        """
        from kivvet.books.runs.refresh import refresh_datasets

        names = [dataset.name for dataset in self._chosen(datasets)]
        return refresh_datasets(self._opened, names, replace=replace, on_rows=on_rows)

    def _chosen(self, datasets: Iterable[str] | None) -> list[Dataset]:
        names = self._opened.dataset_names if datasets is None else _names(datasets)
        return [self._opened.dataset(name) for name in names]


def _names(given: Iterable[str]) -> tuple[str, ...]:
    """Return names as a tuple: a single one stands for itself, not for its letters."""
    return (given,) if isinstance(given, str) else tuple(given)
