"""Looking at data, trying formulas, drafting tables, adding datasets."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.faces.opened import Data, OpenedBook, names_of

if TYPE_CHECKING:
    from kivvet.books.asks.add_dataset import Added
    from kivvet.books.asks.adopted import RulesAdopted
    from kivvet.books.asks.draft_table import Drafted
    from kivvet.books.asks.try_formula import Trial
    from kivvet.core.draft.look import Look

OnRows = Callable[[int], None]


class Drafting(OpenedBook):
    """What a book does before there are rules: look, draft, take over, try out."""

    def adopt(
        self,
        path: str | Path | None = None,
        *,
        sql: str = "",
        column: str = "",
        read_as: str = "",
        name: str = "",
        on: Data | None = None,
        against: str = "",
        write: bool = False,
        replace: bool = False,
        on_rows: OnRows = lambda _: None,
    ) -> RulesAdopted:
        """Return rules that stand in a query, or down a column of a sheet, as tables and formulas of this book: each CASE, or
        nested IF, as a table in the order of its branches, a lookup into a range as a table, what else is worked out for each
        row as a formula.

        Parameters
        ----------
        path : str or Path, optional
            A file of SQL, as the standard ISO/IEC 9075 writes it; a workbook (.xlsx, .ods); or decision tables of the OMG's
            standard DMN (.dmn).
        sql : str
            The query itself, instead of a file.
        column : str
            Of a workbook, the heading of the column whose formulas are taken over. The data that they are held against is the
            sheet itself.
        read_as : str
            Of a workbook, where its table lies, in the words of a dataset; without it that is recognised.
        name : str
            What the table is called, where the query does not say so; by default as the file.
        on : str, Path or frame, optional
            Data on which it is proved that the tables give what the CASEs give; its columns give types, and names however they
            are written in the query.
        against : str
            The column of that data that holds the results of the old rule.
        write : bool
            Whether they are written into the book, which has to be opened again then.
        replace : bool
            Whether tables of the same names may go.

        Raises
        ------
        BookError
            If the file cannot be read, or a name is taken.
        DataError
            With line and column, where something is not understood; if the data lacks a column.
        """
        from kivvet.books.asks.adopt_decisions import DECISION_ENDINGS, adopt_decisions
        from kivvet.books.asks.adopt_sql import adopt_sql
        from kivvet.books.asks.adopted import write_adopted
        from kivvet.io.formats import has_sheets

        file = None if path is None else Path(path)
        if file is not None and has_sheets(file):
            from kivvet.books.asks.adopt_sheet import adopt_sheet

            made = adopt_sheet(self._opened, file, column, name=name, read_as=read_as, on_rows=on_rows)
            return write_adopted(self._opened, made, replace_them=replace) if write else made
        if file is not None and file.suffix.lower() in DECISION_ENDINGS:
            made = adopt_decisions(self._opened, file, name=name)
            return write_adopted(self._opened, made, replace_them=replace) if write else made
        made = adopt_sql(self._opened, file, sql, name=name, on=on, against=against, on_rows=on_rows)
        return write_adopted(self._opened, made, replace_them=replace) if write else made

    def look(
        self,
        source: Data,
        columns: Sequence[str] = (),
        *,
        read_as: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> Look:
        """Return what the columns of a dataset's source, or of a file, look like; it is read in batches.

        Parameters
        ----------
        source : str, Path or frame
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
        from kivvet.books.asks.look_source import look_at

        return look_at(self._opened, source, names_of(columns), on_rows, read_as)

    def uses_of_column(self, name: str) -> tuple[str, ...]:
        """Return how the book uses a column, in words: the tables that read it, and those that make it."""
        from kivvet.books.asks.look_source import uses_of_column

        return tuple(uses_of_column(self._opened, name))

    def formula(
        self,
        text: str,
        on: Data,
        *,
        among: str | None = None,
        first: int = 10_000,
        read_as: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> Trial:
        """Return what a formula gives on the first rows of a dataset or a file, without adding it to the
        book.

        Parameters
        ----------
        text : str
            It may name columns of the source, other formulas and outputs of tables.
        on : str, Path or frame
            The name of a dataset, a file, or a frame of pandas, polars or Arrow.
        among : str, optional
            The condition of the rows that take part in calculations within groups.
        first : int
            How many of the first rows; a formula that looks at other rows is given all of them.
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
        from kivvet.books.asks.try_formula import try_formula

        return try_formula(
            self._opened, on, text, among=among, n_rows=first, read_as=read_as, on_rows=on_rows
        )

    def draft(
        self,
        name: str,
        on: Data,
        *,
        column: str | Sequence[str] | None = None,
        key: str | Sequence[str] = (),
        keep: str | Sequence[str] = (),
        classes: str | None = None,
        output: str | None = None,
        propose: str | None = None,
        bins: int | None = None,
        bounds: Sequence[Any] = (),
        by_value: bool = False,
        quantiles: Sequence[Any] = (),
        results: str | Sequence[str] | Mapping[str, str] | None = None,
        fold: str | Sequence[str] = (),
        noting: str | None = None,
        rows_file: bool = False,
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
        on : str, Path or frame
            The data to draft from: the name of a dataset, a file, or a frame of pandas, polars or Arrow.
        column : str or sequence of str, optional
            The column that the table is to read. Of several, the combinations that occur become rows, and numbers and dates
            are divided into bins; with `classes`, as few rows as were found that give every combination its class.
        key : str or sequence of str
            Instead of `column`: the columns whose values a lookup looks up.
        keep : str or sequence of str
            The columns that a lookup gives; none for all others.
        classes, output, propose, bins, bounds, by_value, quantiles, results, fold, noting
            As in `kivvet.draft`; `results` may be the path of a CSV or TSV file too that holds a class for each value.
        rows_file : bool
            Whether the rows stand in a CSV file of their own beside the table.
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
        from kivvet.books.asks.draft_into import draft_into

        return draft_into(
            self._opened,
            name,
            on,
            column=column,
            keys=names_of(key),
            keep=names_of(keep),
            classes=classes,
            output=output,
            method=propose,
            n_bins=bins,
            bounds=bounds,
            by_value=by_value,
            quantiles=quantiles,
            results=results,
            fold=fold,
            noting=noting,
            as_csv=rows_file,
            copy=copy,
            replace=replace,
            read_as=read_as,
            on_rows=on_rows,
        )

    def extend(
        self,
        name: str,
        on: Data,
        *,
        column: str | None = None,
        alike: bool = False,
        read_as: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> Drafted:
        """Add a row with blank results for each value of the data that a table does not know; see `draft`.

        Every line that is there stays as it was.

        Parameters
        ----------
        on : str, Path or frame
            The name of a dataset: the columns are those it feeds the table; or a file: its columns named like
            the inputs.
        column : str, optional
            The column to read instead, for a table of one input.
        alike : bool
            Whether values that are spelled like one that the table knows get the results of that, and a note that says so.
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

        data = data_read(self._opened, on, read_as)
        return extend_table(self._opened, name, data, column, on_rows, alike=alike)

    def add(
        self,
        name: str,
        source: str | Path,
        *,
        to: str | Path | None = None,
        view: str = "",
        apply: str | Sequence[str] = (),
        read_as: str = "",
    ) -> Added:
        """Add a dataset to the book: its entry at the end of book.toml, which otherwise stays as it is.

        Parameters
        ----------
        name : str
        source : str or Path
            A file. How a CSV or TSV file is written is recognised: encoding, delimiter, line of the headings, decimal
            mark and mark of thousands, patterns of dates, units, words for true and false. Or ``DATABASE:TABLE``, the
            database being one that the book names, or a file that ends in .db, .sqlite, .sqlite3, .duckdb or .ddb.
        to : str or Path, optional
            Where rows and new columns are written, a file or ``DATABASE:TABLE``; ``out/NAME.parquet`` without it.
        view : str
            Instead the name of a view, in the database of the source, which follows the rules.
        apply : str or sequence of str
            The tables and formulas to apply.
        read_as : str
            How the file is written, in the words of a dataset, such as ``delimiter = ";", decimal = ","``. Without it that
            is recognised.

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

        return add_dataset(
            self._opened,
            name,
            source,
            target=None if to is None else str(to),
            view=view,
            columns=names_of(apply),
            read_as=read_as,
        )
