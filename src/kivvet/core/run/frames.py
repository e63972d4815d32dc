"""Applying tables to a frame in memory, giving back the kind of frame that was given."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, Protocol, TypeVar

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.column import (
    BoolArray,
    CodedColumn,
    Column,
    NumericColumn,
    column_from_arrow,
    missing_mask,
    rows_of,
    type_of_arrow,
)
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.formulas.errors import FormulaError, pointed_at
from kivvet.core.formulas.formula import Formula
from kivvet.core.formulas.parser import parse_formula
from kivvet.core.run.entries import Entry
from kivvet.core.run.examples import formula_example_findings
from kivvet.core.run.execution import Execution
from kivvet.core.run.fed_domains import fed_by, limited
from kivvet.core.run.own_findings import own_findings
from kivvet.core.run.plan import Plan
from kivvet.core.run.planner import make_plan
from kivvet.core.run.polars_frames import NewColumn, arrow_of, is_polars, with_new_columns
from kivvet.core.run.reports import Applied, ApplyReport
from kivvet.core.run.where import where_misfit
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError, TableError
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import repeated

if TYPE_CHECKING:
    import pandas as pd

FrameT = TypeVar("FrameT")
_ROWS_A_BATCH = 1 << 23


def apply_tables(frame: FrameT, tables: Sequence[Table], *, with_report: bool = True) -> Applied[FrameT]:
    """Return `frame` with the outputs of tables as new columns, and the report."""
    return apply_entries(
        frame,
        [Entry(table.name) for table in tables],
        {table.name: table for table in tables},
        with_report=with_report,
    )


def with_formulas(frame: FrameT, formulas: Mapping[str, str]) -> FrameT:
    """Return `frame` with a new column for each formula; see `kivvet.with_formulas`."""
    made, faults = {}, []
    for name, text in formulas.items():
        if not isinstance(text, str):
            faults.append(
                finding(
                    "syntax",
                    f"a formula is a text; found {text!r}",
                    table=name,
                    is_of_formula=True,
                    remedy='for example "flow * nitrate"',
                )
            )
            continue
        try:
            made[name] = Formula(name, text, parse_formula(text))
        except FormulaError as error:
            faults.append(formula_finding(name, text, error))
    if faults:
        raise TableError(faults)
    return apply_entries(frame, [Entry(name) for name in made], {}, formulas=made, with_report=False).frame


def formula_finding(name: str, text: str, error: FormulaError, *, kind: str = "syntax") -> Finding:
    """Return what is wrong with a formula, with the place in its text."""
    message = f"{error.problem}\n{pointed_at(text, error.offset)}"
    return finding(kind, message, table=name, is_of_formula=True, remedy=error.fix)


def apply_entries(
    frame: FrameT,
    entries: Sequence[Entry],
    tables: Mapping[str, Table],
    *,
    formulas: Mapping[str, Formula] | None = None,
    where: Formula | None = None,
    with_report: bool = True,
) -> Applied[FrameT]:
    """Return `frame` with the columns of the entries, and the report; without one, it says but how many rows there were."""
    given = _as_frame(frame)
    plan = plan_for(given, entries, tables, formulas, where)
    execution = Execution(plan, with_report=with_report)
    made = given.with_columns(plan, execution)
    return Applied(made, execution.report() if with_report else ApplyReport(execution.n_rows, ()))


def plan_for(
    frame: GivenFrame,
    entries: Sequence[Entry],
    tables: Mapping[str, Table],
    formulas: Mapping[str, Formula] | None = None,
    where: Formula | None = None,
) -> Plan:
    """Return the plan for a frame; raise `TableError` if tables have errors or names are not found.

    Tables are judged by what this frame and these formulas feed them.
    """
    plan, faults = make_plan(entries, tables, frame.names, formulas=formulas, where=where, in_python=True)
    fed = fed_by([plan])
    for table in plan.tables.values():
        faults += own_findings(table, checked=limited(table, fed))
    faults += [one for step in plan.formula_steps for one in formula_example_findings(step.formula)]
    errors = [item for item in faults if item.severity == "error"]
    if errors:
        raise TableError(errors, where="the columns asked of a frame")
    plan, misfits = plan.typed(frame.type_of)
    if (misfit := where_misfit(plan, where)) is not None:
        misfits.append(misfit)
    for misfit in misfits:
        place = misfit.places[0] if misfit.places else None
        raise DataError(f"{misfit.table}: {misfit.message}", place=place, fix=misfit.remedy or None)
    return plan


def _as_frame(frame: Any) -> GivenFrame:
    if is_polars(frame):
        return _PolarsFrame(frame)
    return _PandasFrame(frame) if _is_pandas(frame) else _ArrowFrame(frame)


def as_frame(frame: Any) -> GivenFrame:
    """Return a frame in memory as what its columns are read from."""
    return _as_frame(frame)


class GivenFrame(Protocol):
    """A frame in memory: its columns, with their types, and itself with more of them."""

    names: list[str]

    def column(self, name: str) -> Column:
        """Return a column, whole, made once."""

    def __len__(self) -> int: ...

    def with_made(self, made: Mapping[str, MadeColumn], kept: BoolArray | None) -> Any:
        """Return the same kind of frame with columns that were made for all of its rows, and only the rows kept."""

    def type_of(self, name: str) -> ValueType | None:
        """Return the type of a column; None where it has no values, so that it fits everywhere."""

    def with_columns(self, plan: Plan, execution: Execution) -> Any:
        """Return the same kind of frame with the written columns of a plan."""


class _PandasFrame:
    def __init__(self, frame: pd.DataFrame) -> None:
        self.frame = frame
        self.names = column_names(frame)
        self.columns: dict[str, Column] = {}

    def column(self, name: str) -> Column:
        """Return a column, made once."""
        if name not in self.columns:
            self.columns[name] = column_from_pandas(self.frame[name])
        return self.columns[name]

    def type_of(self, name: str) -> ValueType | None:
        column = self.column(name)
        return None if _is_empty(column) else column.kind

    def __len__(self) -> int:
        return len(self.frame)

    def with_columns(self, plan: Plan, execution: Execution) -> pd.DataFrame:
        made = execution.apply(self.column, len(self.frame))
        return self.with_made({name: made[name] for name in plan.written}, execution.kept)

    def with_made(self, made: Mapping[str, MadeColumn], kept: BoolArray | None) -> pd.DataFrame:
        """Return the frame with new columns; neither the old values nor the new are copied."""
        import pandas as pd

        index = self.frame.index
        new = {name: pd.Series(one.as_pandas(), index=index, copy=False) for name, one in made.items()}
        wide = self.frame.assign(**new)
        return wide if kept is None else wide[kept]


class _ArrowFrame:
    """A table of Arrow, or a frame that gives a stream of Arrow, which is read once."""

    def __init__(self, frame: Any) -> None:
        self.frame = frame
        self.names = self._names()
        self.columns: dict[str, Column] = {}

    def _names(self) -> list[str]:
        return column_names(self.table)

    @cached_property
    def table(self) -> pa.Table:
        return _table_of(self.frame)  # once: a stream ends

    def __len__(self) -> int:
        return len(self.table)

    def selected(self, names: Sequence[str]) -> pa.Table:
        """Return some columns."""
        return self.table.select(list(names))

    def column(self, name: str) -> Column:
        if name not in self.columns:
            column = self.selected([name]).unify_dictionaries()[name]
            self.columns[name] = column_from_arrow(_one_chunk(column), name)
        return self.columns[name]

    def with_made(self, made: Mapping[str, MadeColumn], kept: BoolArray | None) -> Any:
        new = []
        for name, one in made.items():
            array = one.as_arrow()
            new.append((pa.field(name, array.type, metadata=one.field_metadata), pa.chunked_array([array])))
        return self._with_new(new, kept)

    def type_of(self, name: str) -> ValueType | None:
        column = self.selected([name])[name]
        if not pa.types.is_floating(column.type):
            return type_of_arrow(column.type)
        # The first thousand mostly tell that there are values.
        is_empty = all(
            pc.all(pc.is_null(some, nan_is_null=True), min_count=0).as_py()
            for some in (column.slice(0, 1_000), column)
        )
        return None if is_empty else type_of_arrow(column.type)

    def with_columns(self, plan: Plan, execution: Execution) -> Any:
        return self._with_new(*_apply_to_arrow(self, plan, execution))

    def _with_new(self, new: Sequence[NewColumn], kept: BoolArray | None) -> Any:
        """Return the same kind of frame with new columns, and only the rows kept."""
        table = self.table
        for field, column in new:
            table = table.append_column(field, column)
        return _same_kind(self.frame, table if kept is None else _filtered(table, pa.array(kept)))


class _PolarsFrame(_ArrowFrame):
    """A frame of polars, of which only the columns that are read become Arrow's."""

    def __init__(self, frame: Any) -> None:
        super().__init__(frame)
        self._read: dict[str, pa.ChunkedArray] = {}

    def _names(self) -> list[str]:
        return column_names(self.frame)

    def __len__(self) -> int:
        return len(self.frame)

    def selected(self, names: Sequence[str]) -> pa.Table:
        for name in names:
            if name not in self._read:
                self._read[name] = arrow_of(self.frame.get_column(name))
        return pa.table({name: self._read[name] for name in names})

    def _with_new(self, new: Sequence[NewColumn], kept: BoolArray | None) -> Any:
        return with_new_columns(self.frame, new, kept)


def _is_empty(column: Column) -> bool:
    """Whether a column of numbers has no values at all; the first thousand mostly tell that it has."""
    if column.kind != "number":
        return False
    return bool(missing_mask(rows_of(column, slice(1_000))).all() and missing_mask(column).all())


def column_names(frame: Any) -> list[str]:
    """Return the names of a frame's columns; raise `DataError` if it is none, or a name stands twice."""
    has_columns = _is_pandas(frame) or is_polars(frame)
    names = [str(name) for name in frame.columns] if has_columns else list(_table_of(frame).column_names)
    if twice := repeated(names):
        raise DataError(
            f"two columns are named {twice[0]!r}", expected="column names that differ", fix="rename one"
        )
    return names


def frame_table(frame: Any) -> pa.Table:
    """Return a frame as a table of Arrow; `DataError` where it is none, or a column holds what no table reads."""
    column_names(frame)
    if not _is_pandas(frame):
        return _table_of(frame)
    try:
        return pa.Table.from_pandas(frame, preserve_index=False)
    except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
        raise DataError(f"the frame cannot be read: {error}", fix="give each column one type") from error


def _table_of(frame: Any) -> pa.Table:
    """Return a frame that gives a stream of Arrow as a table; raise `DataError` if it is none."""
    if isinstance(frame, pa.Table):
        return frame
    if not hasattr(frame, "__arrow_c_stream__"):
        raise _no_frame(frame)
    try:
        return pa.table(frame)
    except (pa.ArrowException, ValueError, TypeError) as error:  # the stream of a single column has no names
        raise _no_frame(frame) from error


def _no_frame(given: Any) -> DataError:
    kind = type(given).__name__
    return DataError(
        f"{'an' if kind[0] in 'aeiouAEIOU' else 'a'} {kind} is no frame",
        expected="a frame of pandas, of pyarrow, or one that gives an Arrow stream",
        fix="make one of them from it, such as: to_frame()"
        if hasattr(given, "to_frame")
        else "make one of them from it",
    )


def _is_pandas(frame: Any) -> bool:
    return type(frame).__module__.partition(".")[0] == "pandas" and hasattr(frame, "columns")


def _same_kind(frame: Any, table: pa.Table) -> Any:
    """Return a table as the kind of frame given, if that kind can be made from any Arrow stream; else as it
    is.
    """
    kind = type(frame)
    if isinstance(frame, pa.Table):
        return table
    if isinstance(frame, pa.RecordBatch):
        return table.combine_chunks().to_batches()[0] if len(table) else _empty_batch(table.schema)
    try:
        made = kind(table)
    except Exception:  # the kinds of others may refuse in any way
        return table
    return made if hasattr(made, "__arrow_c_stream__") and len(made) == len(table) else table


def _apply_to_arrow(
    frame: _ArrowFrame, plan: Plan, execution: Execution
) -> tuple[list[NewColumn], BoolArray | None]:
    """Return the written columns of a plan, worked out batch by batch, and which rows are kept; None: all are."""
    chunks: dict[str, list[pa.Array]] = {name: [] for name in plan.written}
    kept: list[BoolArray] = []
    read = frame.selected(plan.source_columns).unify_dictionaries()
    if plan.needing_all_rows:
        read = read.combine_chunks()
        execution.look_ahead(lambda name: column_from_arrow(_one_chunk(read[name]), name), len(read))
    batches = read.to_batches(max_chunksize=_ROWS_A_BATCH) if plan.source_columns else []
    for batch in batches or [_empty_batch(read.schema)]:
        columns = {name: column_from_arrow(batch.column(name), name) for name in plan.source_columns}
        made = execution.apply(columns.__getitem__, batch.num_rows if plan.source_columns else len(frame))
        for name in plan.written:
            chunks[name].append(made[name].as_arrow())
        if execution.kept is not None:
            kept.append(execution.kept)
    new = []
    for name, arrays in chunks.items():
        column = pa.chunked_array(arrays).unify_dictionaries()
        new.append((pa.field(name, column.type, metadata=made[name].field_metadata), column))
    return new, np.concatenate(kept) if plan.where is not None else None


def _filtered(table: pa.Table, kept: pa.Array | pa.ChunkedArray) -> pa.Table:
    """Return the rows that are kept; Arrow itself filters no texts that are held as views."""
    views = [field.name for field in table.schema if pa.types.is_string_view(field.type)]
    plain = table.schema
    for name in views:
        place = plain.get_field_index(name)
        plain = plain.set(place, plain.field(place).with_type(pa.large_string()))
    return table.cast(plain).filter(kept).cast(table.schema) if views else table.filter(kept)


def _one_chunk(column: pa.ChunkedArray) -> pa.Array:
    if column.num_chunks == 1:
        return column.chunk(0)
    made = column.combine_chunks()
    return made if isinstance(made, pa.Array) else pa.array([], column.type)


def _empty_batch(schema: pa.Schema) -> pa.RecordBatch:
    return pa.RecordBatch.from_arrays([pa.nulls(0, field.type) for field in schema], schema=schema)


def column_from_pandas(series: pd.Series[Any]) -> Column:
    """Return a pandas column as a column, sharing memory where its type allows.

    Raises
    ------
    DataError
        If it mixes types, or is of a type that no table reads.
    """
    import pandas as pd

    dtype = series.dtype
    name = str(series.name)
    if isinstance(dtype, pd.CategoricalDtype):
        distinct = column_from_pandas(pd.Series(dtype.categories, name=series.name))
        assert not isinstance(distinct, CodedColumn)
        return CodedColumn(series.cat.codes.to_numpy(), distinct)
    if isinstance(dtype, np.dtype) and dtype.kind in "iufb":
        values = series.to_numpy()
        if dtype.kind == "b":
            return NumericColumn("boolean", values.view(np.uint8))
        if dtype.kind == "f":
            return NumericColumn("number", values.astype(np.float32) if dtype.itemsize == 2 else values)
        return NumericColumn("integer", values)
    if isinstance(dtype, np.dtype) and dtype.kind == "M":
        ticks = series.to_numpy().view(np.int64)
        gone = ticks == np.iinfo(np.int64).min
        return NumericColumn(
            "datetime",
            ticks,
            ~gone if gone.any() else None,
            unit=np.datetime_data(dtype)[0],  # type: ignore[arg-type]
        )
    try:
        array = pa.array(series, from_pandas=True)
    except (pa.ArrowInvalid, pa.ArrowTypeError) as error:
        kinds = sorted({type(value).__name__ for value in series.dropna()})
        raise DataError(
            f"column {name!r} mixes types",
            expected="values of one type",
            found=", ".join(kinds),
            fix=f"make it text, for example frame[{name!r}].astype('str')",
        ) from error
    if isinstance(array, pa.ChunkedArray):
        array = array.combine_chunks()
    return column_from_arrow(array, name)
