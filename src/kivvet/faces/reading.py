"""Reading the result: rows, counts, shares, why a row got its class, what is in the book."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.core.words.printed import Several
from kivvet.faces.opened import Data, OpenedBook, names_of

if TYPE_CHECKING:
    import pandas as pd

    from kivvet.books.asks.add_example import ExampleAdded
    from kivvet.books.asks.chart_wanted import Kind as ChartKind
    from kivvet.books.asks.overview import Overview, Use
    from kivvet.books.asks.rows import RowsShown
    from kivvet.core.run.cross_table import CrossTable, Share
    from kivvet.core.run.explanation import Explanation
    from kivvet.core.run.shares import Shares
    from kivvet.draw.chart import Chart

OnRows = Callable[[int], None]


class Reading(OpenedBook):
    """What a book tells of its data: rows, cross-tables, shares, explanations, uses."""

    def rows(
        self,
        source: Data,
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
        """Return rows of a dataset, with all that it makes, or of a file.

        Parameters
        ----------
        source : str, Path or frame
            The name of a dataset, of which the rows are shown that it keeps; a file, or a frame.
        where : str, optional
            A condition over anything that the source holds or the dataset makes, written or not.
        only : mapping of str to str, or sequence of str
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
        from kivvet.books.asks.rows import rows_of, wanted_rows

        wanted = wanted_rows(where, only, names_of(columns), names_of(sort), first, each, why=why)
        return rows_of(self._opened, source, wanted, read_as=read_as, on_rows=on_rows)

    def show(self, source: Data, *, where: str | None = None, **wanted: Any) -> pd.DataFrame:
        """Return rows as a pandas frame whose index is their number in the source, from 1; see `rows`.

        Raises
        ------
        TableError, DataError
            As of `rows`.
        """
        return self.rows(source, where=where, **wanted).to_frame()

    def cross_table(
        self,
        source: Data,
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
        """Return data counted and summed up, with subtotals and totals.

        Parameters
        ----------
        source : str, Path or frame
            The name of a dataset, of whose rows those count that it keeps; a file, or a frame.
        by : sequence of str
            What the lines stand for: columns of the source, classes or formulas of the book, or formulas;
            ``"EXTRACT(YEAR FROM day) AS year"`` gives one a name.
        across : str, optional
            What the columns stand for.
        value : str, sequence of str, or mapping of str to str
            Aggregates, such as ``"SUM(load)"`` or ``"100 * SUM(a) / SUM(b) AS share"``, or by name; the number of
            rows without any.
        where : str, optional
            The condition of the rows that count.
        share : {"row", "column", "total"}, optional
            What shares are asked for; an error where no value is a count or a total.
        most_columns : int or None
            At most so many columns; the smallest are joined as the rest. None: all.
        engine : {"spark"}, optional
            What counts, each file of the source by itself; see `apply_dataset`.

        Raises
        ------
        TableError
            If an expression cannot be read, or names what there is not; or a table used has errors.
        DataError
            If the data cannot be read.
        BookError
            If the source is not in parts, with an engine.
        """
        from kivvet.books.asks.summary import summary_of, wanted_of
        from kivvet.books.runs.engines import engine_named

        wanted = wanted_of(by, across, value, where, most_columns, share)
        return summary_of(
            self._opened, source, wanted, read_as=read_as, engine=engine_named(engine), on_rows=on_rows
        )

    def summary(
        self,
        source: Data,
        *,
        by: Sequence[str] = (),
        across: str | None = None,
        value: str | Sequence[str] | Mapping[str, str] = (),
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
            source, by=by, across=across, value=value, where=where, share=share, most_columns=None
        )
        return found.to_frame(share, totals=totals)

    def keep_summary(
        self,
        name: str,
        source: str,
        *,
        by: Sequence[str] = (),
        value: str | Sequence[str] | Mapping[str, str] = (),
    ) -> tuple[str, ...]:
        """Write a summary into book.toml, so that it is applied, classified and refreshed like a dataset; return the
        lines written. The book has to be opened again to use it.

        Raises
        ------
        BookError, DataError, TableError
            If the name is taken, `source` is no dataset, or an expression cannot be read.
        """
        from kivvet.books.asks.summary import keep_summary, wanted_of

        wanted = wanted_of(by, None, value, None, None)
        self.cross_table(source, by=by, value=value)
        return keep_summary(self._opened, name, source, wanted)

    def shares(
        self,
        table: str,
        on: Data,
        *,
        against: str | Path | None = None,
        column: str | None = None,
        read_as: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> Shares:
        """Return how data falls into the rows of a table, beside the data it was drafted from, or other data.

        Parameters
        ----------
        table : str
            Of ranges, or any other with rows of conditions.
        on : str, Path or frame
            The name of a dataset, a file, or a frame of pandas, polars or Arrow.
        against : str or Path, optional
            A dataset or a file to hold it against. Without it, what `draft` noted in the table.
        column : str, optional
            The column to read, of the source or made, where that is not the one the dataset feeds the table.
        read_as : str
            How a bare file is written, as of `look`; that of `against`, where both are given.

        Raises
        ------
        BookError, TableError, DataError
            If there is no such table, it is a lookup, or it has errors; or the data cannot be read.
        """
        from kivvet.books.asks.shares import shares_in

        return shares_in(
            self._opened, table, on, beside=against, column=column, read_as=read_as, on_rows=on_rows
        )

    def chart(
        self,
        name: str | Path,
        kind: ChartKind | None = None,
        *,
        by: Sequence[str] = (),
        across: str | None = None,
        value: str | None = None,
        where: str | None = None,
        share: Share | None = None,
        on: str | Path | None = None,
        column: str | None = None,
        output: str | None = None,
        axes: Sequence[str] = (),
        panels: str | None = None,
        set: Mapping[str, Any] | None = None,  # noqa: A002 (the word of the command line)
        against: str | Path | None = None,
        title: str = "",
        read_as: str = "",
        on_rows: OnRows = lambda _: None,
    ) -> Chart:
        """Return a chart of a dataset, a summary, a table or a file. Nothing is drawn before it is saved or shown.

        Parameters
        ----------
        name : str or Path
        kind : {"bars", "beside", "lines", "histogram", "map", "triangle", "flows"}, optional
            Without it, what suits: of a dataset bars, of a table of one ordered input a histogram with its bounds, of one
            of several inputs a map of its regions.
        by, across, where, share
            Of bars and lines, as of `cross_table`: what bars or periods stand for, and what their parts or the lines do. A
            dataset without them is drawn with all its columns of classes. Of flows `by` is the column.
        value : str, optional
            An aggregate that is measured, such as ``"SUM(load)"``; of a summary one of its values by name.
        on, column : str, optional
            The data that a table is drawn with, and the column of it that the table reads; without it, the first dataset
            that uses the table.
        output : str, optional
            The output of a table whose classes are drawn.
        axes, panels, set
            Of a map: the two inputs along its axes; the one of which each part has a panel; values of others by input.
        against : str or Path, optional
            Of flows, as of `impact`.
        title : str

        Raises
        ------
        BookError
            If there is nothing of that name.
        TableError, DataError
            If it cannot be drawn, something is asked for that this kind has not, or the data cannot be read.
        """
        from kivvet.books.asks.chart import picture_of
        from kivvet.books.asks.chart_wanted import ChartWanted
        from kivvet.draw.chart import Chart

        wanted = ChartWanted(
            kind=kind,
            by=names_of(by),
            across=across,
            value=value,
            where=where,
            share=share,
            on=None if on is None else str(on),
            column=column,
            output=output,
            axes=names_of(axes),
            panels=panels,
            set={name: "missing" if value is None else str(value) for name, value in (set or {}).items()},
            against=None if against is None else str(against),
            title=title,
            read_as=read_as,
        )
        return Chart(*picture_of(self._opened, name, wanted, on_rows))

    def explain(
        self,
        dataset: str,
        row: int | Mapping[str, str],
        table: str | Iterable[str] = (),
        *,
        wanted: str = "",
    ) -> Several[Explanation]:
        """Return why one row of a dataset, or values for one table, get their classes: an `Explanation` for
        each table.

        Parameters
        ----------
        dataset : str
            With fields, the name of a table does as well.
        row : int or mapping of str to str
            The row of the source, counted from 1, the header left out; or fields by column, as in a CSV file.
        table : str or iterable of str, optional
            Only this table, or these.
        wanted : str
            A result, or ``output=result``: the least change of inputs that gives it is sought too, of one table.

        Raises
        ------
        TableError, DataError, BookError
            If the tables have errors, there is no such row, a field does not convert, or no such result.
        """
        from kivvet.books.asks.explain import explain_in_book

        return Several(explain_in_book(self._opened, dataset, row, names_of(table), wanted))

    def add_example(self, explained: Explanation, note: str = "") -> ExampleAdded:
        """Add the case that an explanation speaks of to the examples of its table: it must come out so from now on.

        Parameters
        ----------
        explained : Explanation
            Of a table of this book; see `explain`.
        note : str
            Words that messages name the example by.

        Raises
        ------
        BookError
            If the table's file cannot be changed.
        """
        from kivvet.books.asks.add_example import add_example

        return add_example(self._opened, explained, note)

    def columns_of(self, dataset: str) -> tuple[str, ...]:
        """Return the names of a dataset's columns: of its source, then those that the book makes of them.

        Raises
        ------
        BookError, DataError, TableError
            If there is no such dataset, or its source or a table cannot be read.
        """
        from kivvet.books.runs.plans import prepare

        prepared, _ = prepare(self._opened, self._opened.dataset(dataset))
        return tuple(dict.fromkeys([*prepared.source.names, *prepared.plan.written]))

    def overview(self) -> Overview:
        """Return what is in the book: tables with their shape, rows, findings and users, formulas, datasets, summaries."""
        from kivvet.books.asks.overview import overview_of

        return overview_of(self._opened)

    def uses(self, name: str) -> Several[Use]:
        """Return for each dataset how it uses a column, or those that a table or a formula makes: what makes it, which
        columns it rests on, what reads it, and which columns it leads to.

        Raises
        ------
        BookError
            With the near name, if nothing reads or makes it.
        """
        from kivvet.books.asks.overview import uses_of

        return Several(uses_of(self._opened, name))
