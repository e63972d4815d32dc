"""Drafting a table from data: the rows are there, complete and without overlap; the classes are to be filled
in.

A draft is made from distinct values with their rows. From classes that the data already holds, the table
that reproduces them is worked out, and counted.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa

from kivvet.core.classify.compiled import CompiledTable
from kivvet.core.columns.column import column_from_arrow
from kivvet.core.columns.counting import as_numbers
from kivvet.core.draft.breaks import AT_VALUES, propose_bounds, quantile_bounds, round_dates
from kivvet.core.draft.from_examples import (
    DraftReport,
    PairCounter,
    bound_between,
    draft_from_examples,
)
from kivvet.core.draft.look import ColumnLook, LookBuilder
from kivvet.core.draft.typed_values import (
    FEW_INTEGERS,
    MOST_DRAFTED_ROWS,
    TypedValues,
    drafted_table,
    exact_value,
    half_open,
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
from kivvet.core.words.values import Value, ValueType, fold_text, write_value
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
    wanted = list(dict.fromkeys([column, *([classes] if classes else [])]))
    table = columns_of_frame(frame, wanted)
    builder, pairs = LookBuilder([column], most_distinct=MOST_DISTINCT), PairCounter()
    for batch in table.to_batches():
        builder.see(batch)
        if classes:
            pairs.add(batch.column(column), batch.column(classes))
    if classes:
        return draft_from_examples(name, column, builder, pairs, wishes)
    return draft_from_values(name, column, builder, wishes), None


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


def draft_from_values(name: str, column: str, builder: LookBuilder, wishes: Wishes) -> Table:
    """Return the draft of a table that reads one column: a mapping or bins, results blank."""
    (seen,) = builder.look().columns
    given = typed_values(seen, builder.counters[column])
    output = Output(wishes.output or name, "text")
    is_bins = _wants_bins(seen, given, wishes)
    if wishes.fold and given.kind != "text":
        raise DataError(f"column {column!r} is {given.kind}", expected="text for fold", fix="leave it out")
    conditions = _bins(column, given, wishes) if is_bins else _one_a_value(seen, given, wishes.fold)
    _refuse_misfit(wishes, conditions, is_bins=is_bins)
    rows = [
        Row(number, (condition,), (_result(condition, number, wishes, is_bins=is_bins),))
        for number, condition in enumerate(conditions, 1)
    ]
    about = replace(input_of(column, given, is_bins=is_bins), fold=wishes.fold)
    table = drafted_table(name, about, output, rows)
    values = given.values.cast(pa.timestamp("us")) if given.kind == "datetime" else given.values
    outcomes = CompiledTable(table).classify({column: column_from_arrow(values)}).labels
    n_rows = np.bincount(outcomes, given.rows, table.n_rows).astype(int).tolist()
    noted = [replace(row, note=count(n, "row")) for row, n in zip(rows, n_rows, strict=False)]
    made = drafted_table(name, table.inputs[0], output, noted)
    if not is_bins or wishes.bounds:
        return made
    how = "quantiles" if wishes.quantiles else wishes.method or "round"
    n_values = int(given.rows.sum())
    low, high = (
        write_value(exact_value(given.values[place].as_py())) for place in (0, len(given.values) - 1)
    )
    counts = tuple(n_rows[: len(rows)])
    asked = len(wishes.quantiles) + 1 if wishes.quantiles else wishes.n_bins
    remark = (
        f"{len(counts)} instead of {asked}, since equal values stay together"
        if how in AT_VALUES and len(counts) < asked
        else ""
    )
    origin = Origin(
        how, column, n_values, seen.rows - n_values, counts, shape_of(conditions), low, high, remark=remark
    )
    return replace(made, origin=origin)


def _result(condition: Condition, number: int, wishes: Wishes, *, is_bins: bool) -> Result:
    if not is_bins or wishes.results is None:
        return UNFINISHED
    if isinstance(wishes.results, tuple):
        return wishes.results[number - 1]
    return wishes.results.replace("{number}", str(number)).replace("{range}", write_condition(condition))


def _refuse_misfit(wishes: Wishes, conditions: Sequence[Condition], *, is_bins: bool) -> None:
    """Raise where the classes that are given are not one for each bin."""
    if wishes.results is not None and not is_bins:
        raise DataError(
            "classes by their order or number are for bins, and this table has a row for each value",
            fix="fill them in by hand, or draft from a column that holds them: classes",
        )
    if isinstance(wishes.results, tuple) and len(wishes.results) != len(conditions):
        raise DataError(
            f"{count(len(wishes.results), 'class', 'classes')} for {count(len(conditions), 'bin')}",
            expected=f"one for each: {listed(map(write_condition, conditions), 12)}",
            found=listed(wishes.results, 12),
            fix="name as many, or give the bounds",
        )


def _wants_bins(seen: ColumnLook, given: TypedValues, wishes: Wishes) -> bool:
    if given.kind in ("text", "boolean"):
        if wishes.wants_bins:
            raise DataError(
                f"column {seen.name!r} is {given.kind}: {seen.reason}",
                expected="numbers or dates for bins",
                fix="draft it without bounds: one row a value",
            )
        return False
    if wishes.by_value:
        return False
    return wishes.wants_bins or not (given.kind == "integer" and seen.distinct <= FEW_INTEGERS)


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


def _bins(column: str, given: TypedValues, wishes: Wishes) -> list[Condition]:
    numbers = as_numbers(given.values)
    finite = np.isfinite(numbers)
    if wishes.bounds:
        return half_open(_given_bounds(wishes.bounds, given.kind))
    step = Decimal(1) if given.kind == "integer" else given.step
    return half_open(_proposed_bounds(column, given, numbers[finite], given.rows[finite], wishes), step)


def _given_bounds(texts: Sequence[str], kind: ValueType) -> list[Value]:
    from kivvet.core.words.values import LiteralError, parse_value

    bounds: list[Value] = []
    for text in texts:
        try:
            bounds.append(
                parse_value(
                    text.strip(), "number" if kind == "integer" else "date" if kind == "datetime" else kind
                )
            )
        except LiteralError as error:
            raise DataError(f"the bound {text!r} is not {error.expected}", fix=error.fix or None) from error
    if sorted(set(bounds)) != bounds:
        raise DataError(
            f"the bounds {listed(texts)} do not rise", expected="each bound once, from the lowest up"
        )
    return bounds


def _proposed_bounds(
    column: str,
    given: TypedValues,
    numbers: npt.NDArray[np.float64],
    rows: npt.NDArray[np.int64],
    wishes: Wishes,
) -> list[Value]:
    method = wishes.method or "round"
    is_dates = given.kind in ("date", "datetime")
    if is_dates and method == "round" and len(given.values):
        return list(round_dates(given.values[0].as_py(), given.values[-1].as_py(), wishes.n_bins))
    at_values = bool(wishes.quantiles) or method in AT_VALUES
    n_bins = len(wishes.quantiles) + 1 if wishes.quantiles else wishes.n_bins
    if at_values and len(numbers) < n_bins:
        raise DataError(
            f"column {column!r} has {count(len(numbers), 'different value')}, and {n_bins} bins are asked for",
            expected=f"at most {count(len(numbers), 'bin')}",
            fix=f"ask for {len(numbers)}, or for one row a value",
        )
    raw = (
        quantile_bounds(numbers, rows, wishes.quantiles)
        if wishes.quantiles
        else propose_bounds(numbers, rows, method, n_bins)
    )
    if at_values and not is_dates:
        below = numbers[np.searchsorted(numbers, raw) - 1].tolist()
        # Values that differ by less than the step are one: no bound lies between them.
        return list(dict.fromkeys(_between(low, high, given) for low, high in zip(below, raw, strict=True)))
    if is_dates:
        epoch = dt.date(1970, 1, 1)
        return sorted({epoch + dt.timedelta(days=round(bound)) for bound in raw})
    return sorted({_rounded(bound, given, numbers) for bound in raw})


def _between(low: float, high: float, given: TypedValues) -> Value:
    """Return the roundest bound above one value and not above the next, so that no value changes its bin."""
    if given.kind == "integer":
        return Decimal(int(high))
    if given.step is not None:  # values are the multiples that they lie next to
        return Decimal(round(Decimal(repr(high)) / given.step) * given.step).normalize() + 0
    return bound_between(low, high, given)


def _rounded(bound: float, given: TypedValues, numbers: npt.NDArray[np.float64]) -> Decimal:
    """Return a bound as a multiple of the step, or with few digits."""
    if given.kind == "integer":
        return Decimal(round(bound))
    if given.step is not None:
        return (round(Decimal(repr(bound)) / given.step) * given.step).normalize() + 0
    span = float(numbers[-1] - numbers[0]) or 1.0
    return Decimal(repr(round(bound, 3 - int(np.floor(np.log10(span))))))


# From examples


def blank_rows(values: Sequence[tuple[Value, int]], first: int, n_outputs: int) -> list[Row]:
    """Return rows with blank results for values a table does not know yet."""
    blanks: tuple[Result, ...] = (UNFINISHED,) * n_outputs
    return [
        Row(first + n, (Equals(value),), blanks, note=count(rows, "row"))
        for n, (value, rows) in enumerate(values)
    ]
