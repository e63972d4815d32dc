"""Drafting a table from data: the rows are there, complete and without overlap; the classes are to be filled
in.

A draft is made from distinct values with their rows. From classes that the data already holds, the table
that reproduces them is worked out, and counted.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from itertools import groupby, pairwise
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.classify.compiled import CompiledTable
from kivvet.core.columns.column import column_from_arrow
from kivvet.core.columns.convert import convert_text
from kivvet.core.columns.counting import ValueCounter, as_numbers, finest_step
from kivvet.core.draft.breaks import METHODS, Method, propose_bounds, round_dates
from kivvet.core.draft.look import ColumnLook, LookBuilder
from kivvet.core.run.frames import column_names
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import UNFINISHED, Result, Row, Table
from kivvet.core.words.conditions import Between, Condition, Equals, write_bound
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import Value, ValueType, write_value
from kivvet.core.words.wording import count, listed

MOST_ROWS = 100_000
#: Distinct values a draft looks at; beyond, bounds are proposed from these many.
MOST_DISTINCT = 2_000_000
_FEW_INTEGERS = 20


@dataclass(frozen=True, slots=True)
class DraftReport:
    """How well a table drafted from examples reproduces them, counted by applying it.

    Attributes
    ----------
    rows, reproduced : int
        Rows with a class, and those to which the table gives the same one.
    contradictions : tuple of (str, tuple of (str, int, int))
        Values that the data puts into several classes: the value, and its classes, each with its rows and
        the number of the first of them, most frequent first; the table takes the first class.
    """

    rows: int
    reproduced: int
    contradictions: tuple[tuple[str, tuple[tuple[str, int, int], ...]], ...] = ()

    def __str__(self) -> str:
        return f"reproduces {self.reproduced:,} of {count(self.rows, 'row')}" + (
            f"; {count(len(self.contradictions), 'value')} in several classes" if self.contradictions else ""
        )


@dataclass(frozen=True)
class Wishes:
    """What the caller of a draft asks for.

    Attributes
    ----------
    output : str or None
        The name of the output; None: the table's name.
    method : str or None
        How to bin numbers and dates; None: a mapping for texts and few whole numbers, round bounds otherwise.
    n_bins : int
    bounds : tuple of str
        Bounds that are given; they win over `method`.
    by_value : bool
        Whether numbers and dates too get one row a value.
    """

    output: str | None = None
    method: Method | None = None
    n_bins: int = 5
    bounds: tuple[str, ...] = ()
    by_value: bool = False


def wishes_of(
    output: str | None, method: str | None, n_bins: int, bounds: Sequence[Any], *, by_value: bool
) -> Wishes:
    """Return what is wished for, as calls give it; `DataError` where there is no such way to propose bounds."""
    if method is not None and method not in METHODS:
        raise DataError(f"{method!r} is no way to propose bounds", expected=f"one of: {listed(METHODS)}")
    texts = tuple(
        write_value(Decimal(repr(bound)) if isinstance(bound, float) else bound) for bound in bounds
    )
    return Wishes(output, method, n_bins, texts, by_value)


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
    names = column_names(frame)
    for heading in wanted:
        if heading not in names:
            raise DataError(f"the frame has no column {heading!r}", expected=f"one of: {listed(names)}")
    table = (
        frame.select(wanted)
        if isinstance(frame, pa.Table)
        else pa.table({heading: pa.array(frame[heading], from_pandas=True) for heading in wanted})
    )
    builder, pairs = LookBuilder([column], most_distinct=MOST_DISTINCT), PairCounter()
    for batch in table.to_batches():
        builder.see(batch)
        if classes:
            pairs.add(batch.column(column), batch.column(classes))
    if classes:
        return draft_from_examples(name, column, builder, pairs, wishes)
    return draft_from_values(name, column, builder, wishes), None


# From values


@dataclass(frozen=True)
class _Values:
    """The distinct values of a column, typed and in order, with their rows."""

    kind: ValueType
    values: pa.Array
    rows: npt.NDArray[np.int64]
    step: Decimal | None


def draft_from_values(name: str, column: str, builder: LookBuilder, wishes: Wishes) -> Table:
    """Return the draft of a table that reads one column: a mapping or bins, results blank."""
    (seen,) = builder.look().columns
    given = _typed_values(seen, builder.counters[column])
    output = Output(wishes.output or name, "text")
    is_bins = _wants_bins(seen, given, wishes)
    conditions = _bins(given, wishes) if is_bins else _one_a_value(seen, given)
    rows = [Row(number, (condition,), (UNFINISHED,)) for number, condition in enumerate(conditions, 1)]
    table = _table(name, _input(column, given, is_bins=is_bins), output, rows)
    values = given.values.cast(pa.timestamp("us")) if given.kind == "datetime" else given.values
    outcomes = CompiledTable(table).classify({column: column_from_arrow(values)}).labels
    n_rows = np.bincount(outcomes, given.rows, table.n_rows).astype(int).tolist()
    noted = [replace(row, note=count(n, "row")) for row, n in zip(rows, n_rows, strict=False)]
    return _table(name, table.inputs[0], output, noted)


def _table(name: str, about: Input, output: Output, rows: Sequence[Row], **more: Any) -> Table:
    return Table(name, (about,), (output,), tuple(rows), **more)


def _typed_values(seen: ColumnLook, counter: ValueCounter) -> _Values:
    if not seen.rows:
        raise DataError(f"column {seen.name!r} has no rows", expected="data to draft from")
    if not seen.distinct:
        raise DataError(
            f"column {seen.name!r} has no values: all {count(seen.rows, 'row')} are missing",
            fix="choose another column",
        )
    values, rows = counter.merge()
    if seen.type == "other":
        raise DataError(f"column {seen.name!r} is {seen.reason}", fix="choose another column")
    kind: ValueType = seen.type
    if not seen.is_counted and kind in ("text", "boolean"):
        raise _too_many(seen)
    if pa.types.is_string(values.type):
        values = convert_text(values, kind).array
    elif pa.types.is_decimal(values.type):
        values = values.cast(pa.float64())
    kept = pc.is_valid(values)
    values, rows = values.filter(kept), rows[kept.to_numpy(zero_copy_only=False)]
    if pa.types.is_timestamp(values.type):
        values = values.cast(pa.date32(), safe=False)
    summed = (
        pa.table({"value": values, "rows": rows})
        .group_by("value", use_threads=False)
        .aggregate([("rows", "sum")])
        .sort_by("value")
    )
    values = summed.column("value").combine_chunks()
    values = values.chunk(0) if isinstance(values, pa.ChunkedArray) else values
    step = None
    if kind == "number":
        finest = finest_step(as_numbers(values))
        step = Decimal(f"{finest:.10g}") if finest is not None else None
    return _Values(kind, values, summed.column("rows_sum").to_numpy(), step)


def _input(column: str, given: _Values, *, is_bins: bool) -> Input:
    return Input(column, given.kind, step=given.step if is_bins else None)


def _wants_bins(seen: ColumnLook, given: _Values, wishes: Wishes) -> bool:
    if given.kind in ("text", "boolean"):
        if wishes.method or wishes.bounds:
            raise DataError(
                f"column {seen.name!r} is {given.kind}: {seen.reason}",
                expected="numbers or dates for bins",
                fix="draft it without bounds: one row a value",
            )
        return False
    if wishes.by_value:
        return False
    return bool(wishes.method or wishes.bounds) or not (
        given.kind == "integer" and seen.distinct <= _FEW_INTEGERS
    )


def _one_a_value(seen: ColumnLook, given: _Values) -> list[Condition]:
    """Return a condition for each value, most frequent first."""
    if not seen.is_counted or seen.distinct > MOST_ROWS:
        raise _too_many(seen)
    order = np.argsort(-given.rows, kind="stable")
    return [Equals(_value(given.values[int(place)].as_py())) for place in order]


def _too_many(seen: ColumnLook) -> DataError:
    return DataError(
        f"column {seen.name!r} has {'more than ' if not seen.is_counted else ''}{seen.distinct:,} distinct values",
        expected=f"at most {MOST_ROWS:,} for a mapping with a row each",
        fix="for numbers and dates propose bounds; for codes write prefixes (C3*) or code ranges (C30* to C39*); for attributes of each key use a lookup",
    )


def _value(value: Any) -> Value:
    return (
        Decimal(repr(value))
        if isinstance(value, float)
        else Decimal(value)
        if isinstance(value, int) and not isinstance(value, bool)
        else value
    )


def _bins(given: _Values, wishes: Wishes) -> list[Condition]:
    numbers = as_numbers(given.values)
    finite = np.isfinite(numbers)
    if wishes.bounds:
        return _half_open(_given_bounds(wishes.bounds, given.kind))
    return _half_open(_proposed_bounds(given, numbers[finite], given.rows[finite], wishes))


def _half_open(bounds: Sequence[Value]) -> list[Condition]:
    """Return the ranges between bounds, each holding its lower bound: nothing lies between, nothing in two."""
    if not bounds:
        return [Between(None, False, None, False)]
    inner = [Between(low, True, high, False) for low, high in pairwise(bounds)]
    return [Between(None, False, bounds[0], False), *inner, Between(bounds[-1], True, None, False)]


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
    given: _Values, numbers: npt.NDArray[np.float64], rows: npt.NDArray[np.int64], wishes: Wishes
) -> list[Value]:
    method = wishes.method or "round"
    is_dates = given.kind in ("date", "datetime")
    if is_dates and method == "round" and len(given.values):
        return list(round_dates(given.values[0].as_py(), given.values[-1].as_py(), wishes.n_bins))
    raw = propose_bounds(numbers, rows, method, wishes.n_bins)
    if is_dates:
        epoch = dt.date(1970, 1, 1)
        return sorted({epoch + dt.timedelta(days=round(bound)) for bound in raw})
    return sorted({_rounded(bound, given, numbers) for bound in raw})


def _rounded(bound: float, given: _Values, numbers: npt.NDArray[np.float64]) -> Decimal:
    """Return a bound as a multiple of the step, or with few digits."""
    if given.kind == "integer":
        return Decimal(round(bound))
    if given.step is not None:
        return (round(Decimal(repr(bound)) / given.step) * given.step).normalize() + 0
    span = float(numbers[-1] - numbers[0]) or 1.0
    return Decimal(repr(round(bound, 3 - int(np.floor(np.log10(span))))))


# From examples


class PairCounter:
    """Counts pairs of a value and its class as batches come; values are compared as they are written."""

    def __init__(self) -> None:
        self.parts: list[pa.Table] = []
        self.n_rows = 0

    def add(self, values: pa.Array, classes: pa.Array) -> None:
        """Count one batch."""
        numbers = pa.array(np.arange(self.n_rows + 1, self.n_rows + len(values) + 1))
        self.n_rows += len(values)
        plain = [
            one.dictionary_decode() if pa.types.is_dictionary(one.type) else one for one in (values, classes)
        ]
        if pa.types.is_floating(plain[0].type):
            plain[0] = pc.if_else(pc.is_nan(plain[0]), pa.scalar(None, plain[0].type), plain[0])
        if pa.types.is_string(plain[0].type):
            plain[0] = pc.if_else(pc.equal(plain[0], ""), pa.scalar(None, pa.string()), plain[0])
        texts = plain[1].cast(pa.string())
        texts = pc.if_else(pc.equal(texts, ""), pa.scalar(None, pa.string()), texts)
        part = pa.table(
            {"value": plain[0], "class": texts, "rows": pa.repeat(1, len(texts)), "first": numbers}
        )
        self.parts.append(_summed(part))
        if len(self.parts) > 16:
            self.parts = [_summed(pa.concat_tables(self.parts))]

    def pairs(self) -> list[tuple[Any, str, int, int]]:
        """Return each value, one of its classes, the rows of both and the first of them.

        Rows without a class are left out.
        """
        merged = _summed(pa.concat_tables(self.parts)) if self.parts else None
        if merged is None:
            return []
        columns = (merged.column(name).to_pylist() for name in _PAIR_COLUMNS)
        return [pair for pair in zip(*columns, strict=True) if pair[1] is not None]


_PAIR_COLUMNS = ("value", "class", "rows", "first")


def _summed(part: pa.Table) -> pa.Table:
    made = part.group_by(["value", "class"], use_threads=False).aggregate([("rows", "sum"), ("first", "min")])
    return made.select(["value", "class", "rows_sum", "first_min"]).rename_columns(list(_PAIR_COLUMNS))


def draft_from_examples(
    name: str, column: str, builder: LookBuilder, counter: PairCounter, wishes: Wishes
) -> tuple[Table, DraftReport]:
    """Return the table that gives each value the class the data gives it most often, with a report on it."""
    (seen,) = builder.look().columns
    given = _typed_values(seen, builder.counters[column])
    by_value: dict[Any, dict[str, int]] = {}
    first_rows: dict[tuple[Any, str], int] = {}
    for value, label, n, first in counter.pairs():
        typed = _typed(value, given.kind)
        classes = by_value.setdefault(typed, {})
        classes[label] = classes.get(label, 0) + n
        first_rows[typed, label] = min(first, first_rows.get((typed, label), first))
    of_missing = by_value.pop(None, {})
    if not by_value:
        raise DataError("no row has both a value and a class", expected=f"classes for column {column!r}")
    winner = {value: _most_frequent(classes) for value, classes in by_value.items()}
    is_bins = given.kind in ("integer", "number", "date", "datetime") and not wishes.by_value
    is_bins = is_bins and not (
        given.kind == "integer" and seen.distinct <= _FEW_INTEGERS and not _is_in_runs(winner)
    )
    output = Output(wishes.output or name, "text")
    about = _input(column, given, is_bins=is_bins)
    rows = _run_rows(winner, by_value, given) if is_bins else _class_rows(winner, by_value, seen)
    more: dict[str, Any] = {}
    if of_missing:
        more["missing"] = {output.name: max(of_missing, key=of_missing.__getitem__)}
    table = _table(name, about, output, rows, **more)
    report = _report(table, by_value, of_missing, given, first_rows)
    return table, report


def _most_frequent(classes: Mapping[str, int]) -> str:
    return max(classes, key=lambda label: classes[label])


def _typed(value: Any, kind: ValueType) -> Any:
    if value is None:
        return None
    if isinstance(value, str) and kind != "text":
        made = convert_text(pa.array([value]), kind).array[0].as_py()
    else:
        made = value
    if isinstance(made, dt.datetime):
        return made
    return float(made) if kind == "number" else made


def _is_in_runs(winner: Mapping[Any, str]) -> bool:
    labels = [winner[value] for value in sorted(winner)]
    return len(list(groupby(labels))) == len(set(labels)) < len(labels)


def _class_rows(
    winner: Mapping[Any, str], by_value: Mapping[Any, Mapping[str, int]], seen: ColumnLook
) -> list[Row]:
    if len(winner) > MOST_ROWS:
        raise DataError(
            f"column {seen.name!r} has {len(winner):,} distinct values",
            expected=f"at most {MOST_ROWS:,} for a mapping",
        )
    total = {value: sum(classes.values()) for value, classes in by_value.items()}
    ranked = sorted(winner, key=lambda value: -total[value])
    return [
        Row(number, (Equals(_value(value)),), (winner[value],), note=count(total[value], "row"))
        for number, value in enumerate(ranked, 1)
    ]


def _run_rows(
    winner: Mapping[Any, str], by_value: Mapping[Any, Mapping[str, int]], given: _Values
) -> list[Row]:
    """Return one range for each run of neighbouring values of one class; between runs the roundest bound."""
    values = sorted(winner)
    runs = [(label, list(same)) for label, same in groupby(values, key=winner.__getitem__)]
    bounds = [_bound_between(low[-1], high[0], given) for (_, low), (_, high) in pairwise(runs)]
    made: list[Row] = []
    for number, ((label, same), condition) in enumerate(zip(runs, _half_open(bounds), strict=True), 1):
        rows = sum(sum(by_value[value].values()) for value in same)
        made.append(Row(number, (condition,), (label,), note=count(rows, "row")))
    return made


def _bound_between(low: Any, high: Any, given: _Values) -> Value:
    """Return the roundest bound above `low` and not above `high`."""
    if isinstance(high, dt.datetime):
        midnight = dt.datetime.combine(high.date(), dt.time())
        return midnight.date() if midnight > low else high
    if isinstance(high, dt.date):
        month = high.replace(day=1)
        return month.replace(month=1) if month.replace(month=1) > low else month if month > low else high
    exact_low, exact_high = Decimal(repr(low)), Decimal(repr(high))
    for digits in range(-(abs(exact_high).adjusted() + 1), 20):
        unit = Decimal(1).scaleb(-digits)
        candidate = (exact_high / unit).to_integral_value(rounding="ROUND_FLOOR") * unit
        if (
            exact_low < candidate <= exact_high
            and float(candidate) > low
            and (given.step is None or candidate % given.step == 0)
        ):
            return candidate + 0
    return exact_high


def _report(
    table: Table,
    by_value: Mapping[Any, Mapping[str, int]],
    of_missing: Mapping[str, int],
    given: _Values,
    first_rows: Mapping[tuple[Any, str], int],
) -> DraftReport:
    """Return how many rows the table gives their class, by applying it to each value."""
    values = list(by_value)
    array = pa.array(values, pa.float64()) if given.kind == "number" else pa.array(values)
    outcomes = CompiledTable(table).classify({table.inputs[0].name: column_from_arrow(array)}).labels
    labels = [
        table.rows[outcome].results[0] if outcome < table.n_rows else None for outcome in outcomes.tolist()
    ]
    reproduced = sum(by_value[value].get(str(label), 0) for value, label in zip(values, labels, strict=True))
    rows = sum(sum(classes.values()) for classes in by_value.values()) + sum(of_missing.values())
    reproduced += of_missing.get(str(table.missing.get(table.outputs[0].name)), 0)
    torn = sorted((v for v in by_value if len(by_value[v]) > 1), key=lambda v: -sum(by_value[v].values()))
    if len(of_missing) > 1:
        torn.append(None)

    def told(value: Any) -> tuple[tuple[str, int, int], ...]:
        classes = of_missing if value is None else by_value[value]
        return tuple(
            (label, classes[label], first_rows[value, label])
            for label in sorted(classes, key=lambda one: -classes[one])
        )

    contradictions = [("missing" if value is None else _shown(value), told(value)) for value in torn]
    return DraftReport(rows, reproduced, tuple(contradictions))


def _shown(value: Any) -> str:
    return value if isinstance(value, str) else write_bound(_value(value))


def blank_rows(values: Sequence[tuple[Value, int]], first: int, n_outputs: int) -> list[Row]:
    """Return rows with blank results for values a table does not know yet."""
    blanks: tuple[Result, ...] = (UNFINISHED,) * n_outputs
    return [
        Row(first + n, (Equals(value),), blanks, note=count(rows, "row"))
        for n, (value, rows) in enumerate(values)
    ]
