"""What Spark's tasks do for a frame: the steps of a plan in parts, by batches where they look at one row at a time, else by groups.

A plan is cut where a step looks at other rows. Such a step is done for the rows of one group of its partition keys after the
other, each in the order that is said; keys are cleaned before, since Spark groups a blank text, NaN and NULL apart.
"""

from __future__ import annotations

import pickle
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from kivvet.core.columns.column import column_from_arrow, type_of_arrow
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.formulas.tree import ColumnName, Window, walk
from kivvet.core.run.execution import Execution
from kivvet.core.run.formula_step import FormulaStep
from kivvet.core.run.plan import Plan
from kivvet.core.run.reports import ApplyReport
from kivvet.core.run.steps import Step
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import did_you_mean, listed, repeated

if TYPE_CHECKING:
    from pyspark.sql import DataFrame

#: Columns under way begin so; no column of a frame may.
HIDDEN = "__kivvet_"
#: And so those that hold what was counted.
REPORT = f"{HIDDEN}report_"


def all_parts(
    frame: DataFrame, plan: Plan, given: SparkSchema, order_by: Sequence[str], *, counts: bool = False
) -> DataFrame:
    """Return a frame with all that a plan makes, in columns under way; and with what each part of it counted, if that is asked for."""
    made, under_way = frame, list[str]()
    for number, part in enumerate(parts_of(plan)):
        column = f"{REPORT}{number}" if counts else ""
        work = _Work(part, tuple(given.names), tuple(under_way), tuple(order_by), plan.where, column)
        made = work.by_groups(made) if part[0].needs_all_rows else work.by_batches(made)
        under_way += work.made
    return made


class SparkSchema:
    """The names and types of a frame of Spark, as those of other frames are asked."""

    def __init__(self, frame: DataFrame, order_by: Sequence[str]) -> None:
        from pyspark.sql.pandas.types import to_arrow_schema

        self.names: list[str] = list(frame.columns)
        if twice := repeated([name.casefold() for name in self.names]):
            raise DataError(
                f"two columns are named {twice[0]!r} but for their case",
                expected="column names that differ",
                fix="rename one",
            )
        for name in order_by:
            if name not in self.names:
                raise DataError(
                    f"order_by names {name!r}, and the frame has no such column",
                    fix=did_you_mean(name, self.names) or f"its columns: {listed(self.names, 20)}",
                )
        zone = frame.sparkSession.conf.get("spark.sql.session.timeZone")
        self.schema: pa.Schema = to_arrow_schema(frame.schema, timezone=zone)

    def type_of(self, name: str) -> ValueType | None:
        """Return the type of a column; None where it can have no values."""
        kind = self.schema.field(name).type
        return None if pa.types.is_null(kind) else type_of_arrow(kind)


def parts_of(plan: Plan) -> list[tuple[Step, ...]]:
    """Return the steps in parts: those between two that look at other rows together, each of these by itself."""
    parts: list[tuple[Step, ...]] = []
    for step in plan.steps:
        if step.needs_all_rows or not parts or parts[-1][0].needs_all_rows:
            parts.append((step,))
        else:
            parts[-1] = (*parts[-1], step)
    return parts


def windows_of(step: Step) -> list[Window]:
    """Return the windows of a step; none where it is no formula."""
    if not isinstance(step, FormulaStep):
        return []
    trees = [step.formula.tree, *([] if step.formula.among is None else [step.formula.among])]
    return [node for tree in trees for node in walk(tree) if isinstance(node, Window)]


@dataclass(frozen=True)
class _Work:
    """A part of a plan as Spark does it.

    Attributes
    ----------
    steps : tuple of Step
    source : tuple of str
        The columns of the frame.
    known : tuple of str
        The columns that were made before.
    order_by : tuple of str
    where : str or None
        The column of which true rows are kept.
    counts : str
        The column that holds, in the first row of some batch of each task or group, what was counted in it; empty: nothing is counted.
    """

    steps: tuple[Step, ...]
    source: tuple[str, ...]
    known: tuple[str, ...]
    order_by: tuple[str, ...]
    where: str | None
    counts: str = ""

    def begun(self) -> Execution:
        """Return the steps made ready."""
        return Execution(
            Plan(self.steps, ()), with_report=bool(self.counts), refuses_overlaps=not self.counts
        )

    def with_report(self, batch: pa.RecordBatch, report: ApplyReport | None) -> pa.RecordBatch:
        """Return a batch with what was counted in its first row."""
        if not self.counts:
            return batch
        sent = [None if report is None else pickle.dumps(report), *[None] * (batch.num_rows - 1)]
        return batch.append_column(self.counts, pa.array(sent[: batch.num_rows], pa.binary()))

    @property
    def made(self) -> list[str]:
        """The columns that it makes."""
        return [name for step in self.steps for name in step.made_names]

    def by_batches(self, frame: DataFrame) -> DataFrame:
        """Return the frame with the columns of steps that look at one row at a time."""
        return frame.mapInArrow(_batch_maker(pickle.dumps(self)), self._schema(frame))

    def by_groups(self, frame: DataFrame) -> DataFrame:
        """Return the frame with the columns of a step that looks at other rows, group by group."""
        from pyspark.sql import functions

        keys = [self._cleaned(frame, name) for name in self._keys]
        grouped = frame.groupBy(*(keys or [functions.lit(1).alias(f"{HIDDEN}all")]))
        return grouped.applyInArrow(_group_maker(pickle.dumps(self)), self._schema(frame))

    @property
    def _keys(self) -> list[str]:
        """The columns that every window of the step is partitioned by."""
        found: set[str] | None = None
        for window in windows_of(self.steps[0]):
            names = {key.name for key in window.partition if isinstance(key, ColumnName)}
            found = names if found is None else found & names
        return [
            read.column if read.from_source else f"{HIDDEN}{read.column}"
            for read in self.steps[0].reads
            if read.name in (found or set())
        ]

    def _cleaned(self, frame: DataFrame, name: str) -> Any:
        """Return a key as Kivvet groups it: no value is one group, however it is written."""
        from pyspark.sql import functions, types

        column = functions.col(f"`{name}`")
        kind = frame.schema[name].dataType
        if isinstance(kind, types.StringType):
            column = functions.when(column != "", column)
        elif isinstance(kind, (types.DoubleType, types.FloatType)):
            column = functions.when(~functions.isnan(column), column + functions.lit(0.0))
        return column.alias(f"{HIDDEN}key_{name}")

    def _schema(self, frame: DataFrame) -> Any:
        """Return the schema of what is made: that of the frame, and the new columns as no rows make them."""
        from pyspark.sql.pandas.types import from_arrow_type, to_arrow_schema
        from pyspark.sql.types import StructField, StructType

        zone = frame.sparkSession.conf.get("spark.sql.session.timeZone")
        arrow = to_arrow_schema(frame.schema, timezone=zone)
        empty = pa.RecordBatch.from_arrays([pa.nulls(0, one.type) for one in arrow], schema=arrow)
        made = self.with_report(self.applied(empty, self.begun()), None)
        new = [field for field in made.schema if field.name not in arrow.names]
        fields = [StructField(one.name, from_arrow_type(one.type, prefer_timestamp_ntz=True)) for one in new]
        return StructType([*frame.schema.fields, *fields])

    def applied(self, batch: pa.RecordBatch, execution: Execution) -> pa.RecordBatch:
        """Return a batch with the columns that the steps make of it."""
        hidden = {name: f"{HIDDEN}{name}" for name in self.known}
        known = {name: MadeColumn(name, values=_one(batch.column(column))) for name, column in hidden.items()}
        made = execution.apply(
            lambda name: column_from_arrow(_one(batch.column(name)), name), batch.num_rows, known
        )
        arrays = [_plain(made[name].as_arrow()) for name in self.made]
        names = [f"{HIDDEN}{name}" for name in self.made]
        return pa.RecordBatch.from_arrays([*batch.columns, *arrays], names=[*batch.schema.names, *names])


def _batch_maker(sent: bytes) -> Callable[[Iterator[pa.RecordBatch]], Iterator[pa.RecordBatch]]:
    """Return what makes columns of the batches of a task."""

    def made(batches: Iterator[pa.RecordBatch]) -> Iterator[pa.RecordBatch]:
        work: _Work = pickle.loads(sent)
        execution, last = work.begun(), None
        for batch in batches:
            if not batch.num_rows:
                continue
            if last is not None:
                yield work.with_report(last, None)
            last = work.applied(batch, execution)
        if last is not None:
            yield work.with_report(last, execution.report() if work.counts else None)

    return made


def _group_maker(sent: bytes) -> Callable[[pa.Table], pa.Table]:
    """Return what makes a column of all rows of a group, in order."""

    def made(rows: pa.Table) -> pa.Table:
        work: _Work = pickle.loads(sent)
        if work.order_by:
            rows = rows.sort_by([(name, "ascending") for name in work.order_by])
            _refuse_ties(rows, work.order_by, work.steps[0].name)
        (batch,) = rows.combine_chunks().to_batches() or [pa.RecordBatch.from_pylist([], rows.schema)]
        execution = work.begun()
        made = work.applied(batch, execution)
        return pa.Table.from_batches([work.with_report(made, execution.report() if work.counts else None)])

    return made


def _refuse_ties(rows: pa.Table, order_by: Sequence[str], name: str) -> None:
    """Raise where the order that is said does not tell two rows apart: what a formula gives would change from run to run."""
    counted = rows.group_by(list(order_by)).aggregate([([], "count_all")])
    if counted.num_rows < rows.num_rows:
        raise DataError(
            f"order_by ({listed(order_by)}) does not tell all rows apart, and {name} depends on their order",
            fix="name one more column, such as a key",
        )


def _one(array: pa.Array | pa.ChunkedArray) -> pa.Array:
    return array.combine_chunks() if isinstance(array, pa.ChunkedArray) else array


def _plain(array: pa.Array) -> pa.Array:
    """Return values as Spark knows them."""
    if pa.types.is_dictionary(array.type):
        array = array.dictionary_decode()
    if pa.types.is_decimal(array.type) and array.type.precision > 38:
        return array.cast(pa.decimal128(38, array.type.scale))
    return array
