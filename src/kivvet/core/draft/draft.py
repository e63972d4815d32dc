"""Drafting a table from data: the rows are there, complete and without overlap; the classes are to be filled
in.

A draft is made from distinct values with their rows. From classes that the data already holds, the table
that reproduces them is worked out, and counted.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from kivvet.core.classify.compiled import CompiledTable
from kivvet.core.columns.column import column_from_arrow
from kivvet.core.draft.bins import bins_of, is_divided
from kivvet.core.draft.classes_by_value import ClassesByValue
from kivvet.core.draft.from_examples import DraftReport, PairCounter, draft_from_examples
from kivvet.core.draft.look import ColumnLook, LookBuilder
from kivvet.core.draft.noted import spellings, values_beside
from kivvet.core.draft.typed_values import (
    MOST_DRAFTED_ROWS,
    TypedValues,
    drafted_table,
    exact_value,
    input_of,
    too_many,
    typed_values,
)
from kivvet.core.draft.wishes import Wishes
from kivvet.core.run.frames import column_names
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.origin import Origin, shape_of
from kivvet.core.tables.table import UNFINISHED, Result, Row, Table
from kivvet.core.words.conditions import Condition, Equals, write_condition
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import Value, fold_text, write_value
from kivvet.core.words.wording import count, listed

#: Distinct values a draft looks at; beyond, bounds are proposed from these many.
MOST_DISTINCT = 2_000_000


def draft_frame(
    frame: Any, column: str, name: str, wishes: Wishes, classes: str | None = None
) -> tuple[Table, DraftReport | None]:
    """Return a table drafted from a column of a frame, and with `classes` how well it reproduces these.

    Raises
    ------
    DataError
        If a column is not there, has no values, or too many different ones for a mapping.
    """
    other = classes or wishes.noting
    table = columns_of_frame(frame, list(dict.fromkeys([column, *([other] if other else [])])))
    builder, pairs = LookBuilder([column], most_distinct=MOST_DISTINCT), PairCounter()
    for batch in table.to_batches():
        builder.see(batch)
        if other:
            pairs.add(batch.column(column), batch.column(other))
    return drafted_from(name, column, builder, pairs, wishes, is_of_classes=bool(classes))


def drafted_from(
    name: str,
    column: str,
    builder: LookBuilder,
    pairs: PairCounter,
    wishes: Wishes,
    *,
    is_of_classes: bool,
) -> tuple[Table, DraftReport | None]:
    """Return the draft from what was counted: of classes that stand beside the values, or of the values, where what stands beside
    them is noted if that is wished for.
    """
    if is_of_classes:
        return draft_from_examples(name, column, builder, pairs, wishes)
    return draft_from_values(name, column, builder, wishes, pairs if wishes.noting else None), None


def columns_of_frame(frame: Any, wanted: Sequence[str]) -> pa.Table:
    """Return some columns of a frame; `DataError` where one is not there."""
    names = column_names(frame)
    for heading in wanted:
        if heading not in names:
            raise DataError(f"the frame has no column {heading!r}", expected=f"one of: {listed(names)}")
    if isinstance(frame, pa.Table):
        return frame.select(list(wanted))
    return pa.table({heading: pa.array(frame[heading], from_pandas=True) for heading in wanted})


# From values


def draft_from_values(
    name: str,
    column: str,
    builder: LookBuilder,
    wishes: Wishes,
    beside: PairCounter | None = None,
) -> Table:
    """Return the draft of a table that reads one column: a mapping or bins, results blank.

    Parameters
    ----------
    beside : PairCounter, optional
        The values of another column that stand beside these; the most frequent are noted with each row of a mapping.
    """
    (seen,) = builder.look().columns
    given = typed_values(seen, builder.counters[column])
    output = Output(wishes.output_of(name, [column]), "text")
    is_bins = _wants_bins(seen, given, wishes)
    if wishes.fold and given.kind != "text":
        raise DataError(f"column {column!r} is {given.kind}", expected="text for fold", fix="leave it out")
    if beside is not None and is_bins:
        raise DataError("values of another column are noted beside values, and these are bins", fix=_BY_VALUE)
    bins = bins_of(column, given, wishes) if is_bins else None
    conditions = bins.conditions if bins is not None else _one_a_value(seen, given, wishes.fold)
    _refuse_misfit(wishes, conditions, is_bins=is_bins)
    classes = (
        ClassesByValue(wishes.results, given.kind, wishes.fold)
        if isinstance(wishes.results, Mapping)
        else None
    )
    rows = [
        Row(
            number,
            (condition,),
            (_result(condition, number, wishes) if classes is None else classes.of(condition),),
        )
        for number, condition in enumerate(conditions, 1)
    ]
    about = replace(input_of(column, given, is_bins=is_bins), fold=wishes.fold)
    table = drafted_table(name, about, output, rows)
    n_rows, outcomes = rows_of_each(table, given)
    notes = [count(n, "row") for n in n_rows]
    if not is_bins:
        spelled = spellings(given, outcomes, len(rows)) if wishes.fold else {}
        others = values_beside(beside, given, outcomes) if beside is not None else {}
        notes = [
            "; ".join(filter(None, (note, spelled.get(place), others.get(place))))
            for place, note in enumerate(notes)
        ]
    noted = [replace(row, note=note) for row, note in zip(rows, notes, strict=True)]
    made = drafted_table(name, table.inputs[0], output, noted)
    if bins is None or not bins.how:
        return made
    n_values = int(given.rows.sum())
    low, high = (
        write_value(exact_value(given.values[place].as_py())) for place in (0, len(given.values) - 1)
    )
    origin = Origin(
        bins.how,
        column,
        n_values,
        seen.rows - n_values,
        tuple(n_rows),
        shape_of(conditions),
        low,
        high,
        remark=bins.remark,
    )
    return replace(made, origin=origin, note=origin.note() if bins.remark else "")


_BY_VALUE = "ask for one row a value, or leave it out"


def rows_of_each(table: Table, given: TypedValues) -> tuple[list[int], npt.NDArray[np.int64]]:
    """Return how many rows of data each row of a table of one input decides, and which row decides each value."""
    values = given.values.cast(pa.timestamp("us")) if given.kind == "datetime" else given.values
    outcomes = CompiledTable(table).classify({table.inputs[0].name: column_from_arrow(values)}).labels
    counted = np.bincount(outcomes, given.rows, table.n_rows).astype(int).tolist()
    return counted[: table.n_rows], outcomes.astype(np.int64)


def _result(condition: Condition, number: int, wishes: Wishes) -> Result:
    if wishes.results is None or isinstance(wishes.results, Mapping):
        return UNFINISHED
    if isinstance(wishes.results, tuple):
        return wishes.results[number - 1]
    return wishes.results.replace("{number}", str(number)).replace("{range}", write_condition(condition))


def _refuse_misfit(wishes: Wishes, conditions: Sequence[Condition], *, is_bins: bool) -> None:
    """Raise where the classes that are given are not one for each bin, or for values where these are bins."""
    if isinstance(wishes.results, Mapping):
        if is_bins:
            raise DataError("the classes are given by value, and these are bins", fix=_BY_VALUE)
        return
    if wishes.results is not None and not is_bins:
        raise DataError(
            "classes by their order or number are for bins, and this table has a row for each value",
            fix="give a file that holds the classes by value, or draft from a column that holds them: classes",
        )
    if isinstance(wishes.results, tuple) and len(wishes.results) != len(conditions):
        raise DataError(
            f"{count(len(wishes.results), 'class', 'classes')} for {count(len(conditions), 'bin')}",
            expected=f"one for each: {listed(map(write_condition, conditions), 12)}",
            found=listed(wishes.results, 12),
            fix="name as many, or give the bounds",
        )


def _wants_bins(seen: ColumnLook, given: TypedValues, wishes: Wishes) -> bool:
    """Return whether a column is divided into ranges; `DataError` where that is asked of texts."""
    if given.kind in ("text", "boolean") and wishes.wants_bins:
        raise DataError(
            f"column {seen.name!r} is {given.kind}: {seen.reason}",
            expected="numbers or dates for bins",
            fix="draft it without bounds: one row a value",
        )
    return is_divided(given.kind, seen.distinct, wishes)


def _one_a_value(seen: ColumnLook, given: TypedValues, fold: tuple[str, ...] = ()) -> list[Condition]:
    """Return a condition for each value, most frequent first; of those that fold to one, as it is most often written."""
    if not seen.is_counted or seen.distinct > MOST_DRAFTED_ROWS:
        raise too_many(seen)
    order = np.argsort(-given.rows, kind="stable")
    values = [given.values[int(place)].as_py() for place in order]
    if fold:
        rows: dict[str, int] = {}
        spelled: dict[str, str] = {}
        for place, text in zip(order.tolist(), values, strict=True):
            same = fold_text(text, fold)
            spelled.setdefault(same, text)
            rows[same] = rows.get(same, 0) + int(given.rows[place])
        values = [spelled[same] for same in sorted(rows, key=lambda one: -rows[one])]
    return [Equals(exact_value(value)) for value in values]


# From examples


def blank_rows(values: Sequence[tuple[Value, int]], first: int, n_outputs: int) -> list[Row]:
    """Return rows with blank results for values a table does not know yet."""
    blanks: tuple[Result, ...] = (UNFINISHED,) * n_outputs
    return [
        Row(first + n, (Equals(value),), blanks, note=count(rows, "row"))
        for n, (value, rows) in enumerate(values)
    ]
