"""Applying a book to frames and streams in memory."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, TypeVar

from kivvet.faces.opened import OpenedBook

if TYPE_CHECKING:
    import pyarrow as pa

    from kivvet.books.asks.live import Live
    from kivvet.core.run.impact import Impact
    from kivvet.core.run.reports import Applied

FrameT = TypeVar("FrameT")


class InMemory(OpenedBook):
    """What a book does with data that is no file."""

    def apply(
        self,
        frame: FrameT,
        columns: Sequence[str | Mapping[str, Any]],
        *,
        where: str | None = None,
        order_by: Sequence[str] = (),
    ) -> FrameT:
        """Return `frame` with new columns, the same kind of frame that was given.

        Parameters
        ----------
        frame : pandas.DataFrame, polars.DataFrame, pyarrow.Table or pyspark.sql.DataFrame
        columns : sequence of str or mapping
            As in a dataset of book.toml: names of tables, or
            ``{"table": "station", "input": {"station": "site"}, "keep": ["river"]}``.
        where : str, optional
            The condition of the rows that come back, as in a dataset: ``"load_tenth = 10"``. It is decided after the
            columns are made, which see all rows.
        order_by : sequence of str
            Of a frame of Spark, whose rows have no order, the columns that together tell one row from any other: needed where
            a formula depends on the order of rows.

        Raises
        ------
        TableError
            If the tables used have errors, or a name is not found.
        DataError
            If a column is of a type the tables do not read, or an order is needed and not said.
        """
        from kivvet.books.asks.apply_to_frame import apply_to_frame

        return apply_to_frame(
            self._opened, frame, columns, where=where, order_by=order_by, with_report=False
        ).frame

    def apply_batches(
        self, source: Any, columns: Sequence[str | Mapping[str, Any]], *, where: str | None = None
    ) -> pa.RecordBatchReader:
        """Return a stream of Arrow with new columns, made batch by batch as it is read; no more is held than that takes.

        Parameters
        ----------
        source : pyarrow.dataset.Dataset or Scanner, pyarrow.RecordBatchReader, pyarrow.Table, a frame
            Or anything with the stream interface of Arrow (``__arrow_c_stream__``), such as a cursor of a database. What has
            a schema and batches, or a length, can be read again; all else is read once.
        columns, where
            As of `apply`.

        Returns
        -------
        pyarrow.RecordBatchReader
            The columns of the source, then the new ones; codes into classes are of 32 bits. Formulas that look at other rows
            read the source twice.

        Raises
        ------
        TableError
            If the tables used have errors, or a name is not found.
        DataError
            If it is no stream, a column is of a type the tables do not read, or a formula looks at other rows and the source
            can be read only once.
        """
        from kivvet.books.asks.apply_to_frame import apply_to_stream

        return apply_to_stream(self._opened, source, columns, where=where)

    def live(
        self,
        frame: FrameT,
        columns: Sequence[str | Mapping[str, Any]],
        *,
        where: str | None = None,
        on_change: Callable[[Impact], None] | None = None,
    ) -> Live[FrameT]:
        """Return a frame in memory whose new columns follow the rules of the book.

        Parameters
        ----------
        frame, columns, where
            As of `apply`.
        on_change : callable, optional
            Called by `Live.refresh` with what changed, where something did.

        Returns
        -------
        Live
            Its `frame` has the new columns. `refresh` reads the book anew, works out only the columns that depend on what
            changed, and returns what moved.

        Raises
        ------
        TableError, DataError
            As of `apply`.
        """
        from kivvet.books.asks.live import Live

        return Live(self._opened, frame, columns, where, on_change)

    def apply_with_report(
        self,
        frame: FrameT,
        columns: Sequence[str | Mapping[str, Any]],
        *,
        where: str | None = None,
        order_by: Sequence[str] = (),
    ) -> Applied[FrameT]:
        """Do as `apply` does, and return the frame with a report that accounts for every row.

        Of a frame of Spark the report is not complete (`is_complete`), and asking it for a figure is an error, until its `count` has
        read all rows.
        """
        from kivvet.books.asks.apply_to_frame import apply_to_frame

        return apply_to_frame(self._opened, frame, columns, where=where, order_by=order_by)
