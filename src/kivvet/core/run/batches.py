"""Columns made of a stream of Arrow, batch by batch: what is held is one batch, and of formulas that look at other rows what they need."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import pyarrow as pa

from kivvet.core.columns.column import column_from_arrow, type_of_arrow
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.formulas.formula import Formula
from kivvet.core.run.entries import Entry
from kivvet.core.run.execution import Execution
from kivvet.core.run.frames import plan_for
from kivvet.core.run.look_ahead import LookAhead
from kivvet.core.run.plan import Plan
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import listed, repeated

_ROWS_A_BATCH = 1 << 17


class Stream:
    """Rows of Arrow that come in batches, once or as often as they are asked for.

    Parameters
    ----------
    given : pyarrow.Table, pyarrow.RecordBatch, pyarrow.dataset.Dataset or Scanner, a frame, pyarrow.RecordBatchReader, or anything
        with the stream interface of Arrow (``__arrow_c_stream__``)
        What is neither a table, a dataset, a scanner nor a frame with a length is taken to be read once.

    Attributes
    ----------
    schema : pyarrow.Schema
    is_read_once : bool
    """

    def __init__(self, given: Any) -> None:
        self._given = given
        self._reader: pa.RecordBatchReader | None = None
        schema = getattr(given, "projected_schema", None) or getattr(given, "schema", None)
        self._has_batches = hasattr(given, "to_batches") and isinstance(schema, pa.Schema)
        if self._has_batches and not isinstance(given, pa.RecordBatchReader):
            self.is_read_once = False
            self.schema: pa.Schema = schema
        elif hasattr(given, "__arrow_c_stream__") and not isinstance(given, (list, tuple, dict, str)):
            self.is_read_once = not hasattr(given, "__len__")
            self._reader = self._opened()
            self.schema = self._reader.schema
        else:
            kind = type(given).__name__
            raise DataError(
                f"{'an' if kind[0] in 'aeiouAEIOU' else 'a'} {kind} is no stream",
                expected="a dataset, a scanner or a reader of pyarrow, or anything that gives an Arrow stream",
                fix="for files: pyarrow.dataset.dataset(path)",
            )
        if twice := repeated(self.schema.names):
            raise DataError(
                f"two columns are named {twice[0]!r}", expected="column names that differ", fix="rename one"
            )

    def _opened(self) -> pa.RecordBatchReader:
        if isinstance(self._given, pa.RecordBatchReader):
            return self._given
        try:
            return pa.RecordBatchReader.from_stream(self._given)
        except (pa.ArrowException, ValueError, TypeError) as error:
            raise DataError(
                f"the stream cannot be read: {error}", expected="a stream of rows with named columns"
            ) from error

    @property
    def names(self) -> list[str]:
        """The columns."""
        return list(self.schema.names)

    def type_of(self, name: str) -> ValueType | None:
        """Return the type of a column; None where it can have no values."""
        kind = self.schema.field(name).type
        return None if pa.types.is_null(kind) else type_of_arrow(kind)

    def batches(self) -> Iterator[pa.RecordBatch]:
        """Yield the rows from the first on; large batches in parts."""
        if self._has_batches and not self.is_read_once:
            batches = iter(self._given.to_batches())
        else:
            batches, self._reader = iter(self._reader or self._opened()), None
        for batch in batches:
            for start in range(0, batch.num_rows, _ROWS_A_BATCH):
                yield batch.slice(start, _ROWS_A_BATCH)


def apply_to_batches(
    given: Any,
    entries: Sequence[Entry],
    tables: Mapping[str, Table],
    *,
    formulas: Mapping[str, Formula] | None = None,
    where: Formula | None = None,
) -> pa.RecordBatchReader:
    """Return a stream with the columns of the entries, made as it is read.

    Raises
    ------
    TableError
        If tables have errors, or names are not found.
    DataError
        If it is no stream, or a formula looks at other rows and the stream is read once.
    """
    stream = Stream(given)
    plan = plan_for(stream, entries, tables, formulas, where)  # type: ignore[arg-type]
    if plan.needing_all_rows and stream.is_read_once:
        names = listed(step.name for step in plan.needing_all_rows)
        raise DataError(
            f"{names} {'looks' if len(plan.needing_all_rows) == 1 else 'look'} at other rows, and this stream is read once",
            expected="rows that can be read twice: a table, a frame, pyarrow.dataset.dataset(path), or a scanner of it",
            fix="write the stream to a Parquet file first, and give a dataset of that",
        )
    schema = _schema(stream, plan)
    return pa.RecordBatchReader.from_batches(schema, _made(stream, plan, schema))


def _made(stream: Stream, plan: Plan, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
    execution = Execution(plan, with_report=False)
    if plan.needing_all_rows:
        ahead = LookAhead(plan)
        for batch in stream.batches():
            ahead.see(batch.column, batch.num_rows)
        if not ahead.n_rows:
            ahead.see(_empty(stream.schema).column, 0)
        known = ahead.all_rows()
        execution.look_ahead(known.source.__getitem__, known.n_rows, known.steps, known.made)
    for batch in stream.batches():
        made = _columns_of(execution, plan, batch)
        arrays = [
            *batch.columns,
            *(_as(made[name].as_arrow(), schema.field(name).type) for name in plan.written),
        ]
        whole = pa.RecordBatch.from_arrays(arrays, schema=schema)
        yield whole if execution.kept is None else whole.filter(pa.array(execution.kept))


def _columns_of(execution: Execution, plan: Plan, batch: pa.RecordBatch) -> Mapping[str, MadeColumn]:
    columns = {name: column_from_arrow(batch.column(name), name) for name in plan.source_columns}
    return execution.apply(columns.__getitem__, batch.num_rows)


def _schema(stream: Stream, plan: Plan) -> pa.Schema:
    """Return the schema with the columns made, as no rows make them; codes into classes are of one size in all batches."""
    execution = Execution(plan, with_report=False)
    empty = _empty(stream.schema)
    if plan.needing_all_rows:
        execution.look_ahead(lambda name: column_from_arrow(empty.column(name), name), 0)
    schema = stream.schema
    for name, one in _columns_of(execution, plan, empty).items():
        if name in plan.written:
            kind = one.as_arrow().type
            if pa.types.is_dictionary(kind):
                kind = pa.dictionary(pa.int32(), kind.value_type, kind.ordered)
            schema = schema.append(pa.field(name, kind, metadata=one.field_metadata))
    order = {name: place for place, name in enumerate([*stream.names, *plan.written])}
    return pa.schema(sorted(schema, key=lambda field: order[field.name]), metadata=schema.metadata)


def _as(array: pa.Array, kind: pa.DataType) -> pa.Array:
    return array if array.type == kind else array.cast(kind)


def _empty(schema: pa.Schema) -> pa.RecordBatch:
    return pa.RecordBatch.from_arrays([pa.nulls(0, field.type) for field in schema], schema=schema)
