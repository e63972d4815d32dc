"""The table behind classes that data already holds, and how well it reproduces them."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping
from dataclasses import dataclass
from decimal import Decimal
from itertools import groupby, pairwise
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.classify.compiled import CompiledTable
from kivvet.core.columns.column import column_from_arrow
from kivvet.core.columns.convert import convert_text
from kivvet.core.draft.look import ColumnLook, LookBuilder
from kivvet.core.draft.look_hints import FEW_INTEGERS
from kivvet.core.draft.typed_values import (
    MOST_DRAFTED_ROWS,
    TypedValues,
    drafted_table,
    exact_value,
    half_open,
    input_of,
    typed_values,
)
from kivvet.core.draft.wishes import Wishes
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.conditions import Equals, write_bound
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import Value, ValueType
from kivvet.core.words.wording import count


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
    unclassed, newly_classed : int
        Rows of the data without a class, and those of them to which the table gives one.
    """

    rows: int
    reproduced: int
    contradictions: tuple[tuple[str, tuple[tuple[str, int, int], ...]], ...] = ()
    unclassed: int = 0
    newly_classed: int = 0

    def __str__(self) -> str:
        parts = [f"reproduces {self.reproduced:,} of {count(self.rows, 'row')}"]
        if self.contradictions:
            parts.append(f"{count(len(self.contradictions), 'value')} in several classes")
        if self.unclassed:
            parts.append(self.of_unclassed)
        return "; ".join(parts)

    @property
    def of_unclassed(self) -> str:
        """What becomes of the rows without a class, in words."""
        return f"of {count(self.unclassed, 'row')} without a class, {self.newly_classed:,} would get one"


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

    def pairs(self) -> list[tuple[Any, str | None, int, int]]:
        """Return each value, one of its classes or None, the rows of both and the first of them."""
        merged = _summed(pa.concat_tables(self.parts)) if self.parts else None
        if merged is None:
            return []
        columns = (merged.column(name).to_pylist() for name in _PAIR_COLUMNS)
        return list(zip(*columns, strict=True))


_PAIR_COLUMNS = ("value", "class", "rows", "first")


def _summed(part: pa.Table) -> pa.Table:
    made = part.group_by(["value", "class"], use_threads=False).aggregate([("rows", "sum"), ("first", "min")])
    return made.select(["value", "class", "rows_sum", "first_min"]).rename_columns(list(_PAIR_COLUMNS))


def draft_from_examples(
    name: str, column: str, builder: LookBuilder, counter: PairCounter, wishes: Wishes
) -> tuple[Table, DraftReport]:
    """Return the table that gives each value the class the data gives it most often, with a report on it."""
    (seen,) = builder.look().columns
    given = typed_values(seen, builder.counters[column])
    by_value: dict[Any, dict[str, int]] = {}
    first_rows: dict[tuple[Any, str], int] = {}
    unclassed: dict[Any, int] = {}
    for value, label, n, first in counter.pairs():
        typed = typed_plainly(value, given.kind)
        if label is None:
            unclassed[typed] = unclassed.get(typed, 0) + n
            continue
        classes = by_value.setdefault(typed, {})
        classes[label] = classes.get(label, 0) + n
        first_rows[typed, label] = min(first, first_rows.get((typed, label), first))
    of_missing = by_value.pop(None, {})
    if not by_value:
        raise DataError("no row has both a value and a class", expected=f"classes for column {column!r}")
    winner = {value: _most_frequent(classes) for value, classes in by_value.items()}
    is_bins = given.kind in ("integer", "number", "date", "datetime") and not wishes.by_value
    is_bins = is_bins and not (
        given.kind == "integer" and seen.distinct <= FEW_INTEGERS and not _is_in_runs(winner)
    )
    output = Output(wishes.output_of(name, [column]), "text")
    about = input_of(column, given, is_bins=is_bins)
    rows = _run_rows(winner, by_value, given) if is_bins else _class_rows(winner, by_value, seen)
    more: dict[str, Any] = {}
    if of_missing:
        more["missing"] = {output.name: max(of_missing, key=of_missing.__getitem__)}
    table = drafted_table(name, about, output, rows, **more)
    report = _report(table, by_value, of_missing, given, first_rows, unclassed)
    return table, report


def _most_frequent(classes: Mapping[str, int]) -> str:
    return max(classes, key=lambda label: classes[label])


def typed_plainly(value: Any, kind: ValueType) -> Any:
    """Return a value as it was counted as a value of a type."""
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
    if len(winner) > MOST_DRAFTED_ROWS:
        raise DataError(
            f"column {seen.name!r} has {len(winner):,} distinct values",
            expected=f"at most {MOST_DRAFTED_ROWS:,} for a mapping",
        )
    total = {value: sum(classes.values()) for value, classes in by_value.items()}
    ranked = sorted(winner, key=lambda value: -total[value])
    return [
        Row(number, (Equals(exact_value(value)),), (winner[value],), note=count(total[value], "row"))
        for number, value in enumerate(ranked, 1)
    ]


def _run_rows(
    winner: Mapping[Any, str], by_value: Mapping[Any, Mapping[str, int]], given: TypedValues
) -> list[Row]:
    """Return one range for each run of neighbouring values of one class; between runs the roundest bound."""
    values = sorted(winner)
    runs = [(label, list(same)) for label, same in groupby(values, key=winner.__getitem__)]
    bounds = [bound_between(low[-1], high[0], given) for (_, low), (_, high) in pairwise(runs)]
    made: list[Row] = []
    for number, ((label, same), condition) in enumerate(
        zip(runs, half_open(bounds, given.step), strict=True), 1
    ):
        rows = sum(sum(by_value[value].values()) for value in same)
        made.append(Row(number, (condition,), (label,), note=count(rows, "row")))
    return made


def bound_between(low: Any, high: Any, given: TypedValues) -> Value:
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
    given: TypedValues,
    first_rows: Mapping[tuple[Any, str], int],
    unclassed: Mapping[Any, int],
) -> DraftReport:
    """Return how many rows the table gives their class, by applying it to each value."""
    values = list(dict.fromkeys([*by_value, *(value for value in unclassed if value is not None)]))
    array = pa.array(values, pa.float64()) if given.kind == "number" else pa.array(values)
    outcomes = CompiledTable(table).classify({table.inputs[0].name: column_from_arrow(array)}).labels
    labels = [
        table.rows[outcome].results[0] if outcome < table.n_rows else None for outcome in outcomes.tolist()
    ]
    by_table = dict(zip(values, labels, strict=True))
    if table.missing:
        by_table[None] = table.missing[table.outputs[0].name]
    reproduced = sum(classes.get(str(by_table[value]), 0) for value, classes in by_value.items())
    newly = sum(n for value, n in unclassed.items() if by_table.get(value) is not None)
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
    return DraftReport(rows, reproduced, tuple(contradictions), sum(unclassed.values()), newly)


def _shown(value: Any) -> str:
    return value if isinstance(value, str) else write_bound(exact_value(value))
