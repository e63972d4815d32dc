"""Tables as the SQL of a database that decides each row as Kivvet does.

Numbers, dates and booleans are held against the thresholds that Kivvet's own classifier holds them against, which are of the type of the
column; texts are compared sign by sign.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import pyarrow as pa

from kivvet.core.classify.compiled import compile_table
from kivvet.core.classify.input_coder import RowSets, misfit
from kivvet.core.classify.thresholds import thresholds_of
from kivvet.core.columns.column import NumericColumn, column_from_arrow
from kivvet.core.space.table_space import row_regions
from kivvet.core.sql.dialect import Dialect, ObstacleError
from kivvet.core.sql.formula_sql import FormulaSql
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import UNFINISHED, Computed, Table
from kivvet.core.words.conditions import (
    AllOf,
    AnyOf,
    AnyValue,
    Between,
    CodeRange,
    Condition,
    Equals,
    IsMissing,
    IsPresent,
    Negation,
    StartsWith,
)
from kivvet.core.words.values import ValueType, datetime_of_microseconds

#: Of a mapping of texts, from so many on its rows are a table of their own.
MOST_IN_A_CASE = 200
_EPOCH = dt.date(1970, 1, 1)
#: In the place of a row's number where no row decides.
MISSING, UNMATCHED = -1, 0


@dataclass(frozen=True)
class ColumnRead:
    """A column as a table reads it.

    Attributes
    ----------
    sql : str
    kind : str
        Its type.
    arrow : pyarrow.DataType
        As it is stored.
    """

    sql: str
    kind: ValueType
    arrow: pa.DataType


@dataclass(frozen=True)
class KeyTable:
    """The rows of a lookup, or of a long mapping, as a table of their own.

    Attributes
    ----------
    rows : pyarrow.Table
        ``row``, the keys ``key_1``, ends of ranges ``from_1``, ``to_1``, and the results ``result_1``.
    on : tuple of str
        What joins them: conditions, in which ``k`` is this table.
    """

    rows: pa.Table
    on: tuple[str, ...]


def refuse_table(table: Table) -> None:
    """Raise where a table cannot be the same in any database.

    Raises
    ------
    ObstacleError
    """
    if table.match == "every":
        raise ObstacleError('several rows give their results together (match = "every")')
    if table.lookup is None and compile_table(table).may_combine:
        raise ObstacleError(
            'rows of it may meet and give different results (match = "one"), which a view cannot refuse',
            'narrow one of them, or set match = "first"',
        )
    if any(input_.fold for input_ in table.inputs):
        raise ObstacleError("an input folds texts, in which databases differ", "fold in a column of the data")
    if any(input_.tz is not None for input_ in table.inputs):
        raise ObstacleError("an input has a time zone")
    if any(UNFINISHED in row.results for row in table.rows):
        raise ObstacleError("a row has no class yet", "fill it in")


def deciding_row(
    table: Table,
    columns: Callable[[str], ColumnRead],
    dialect: Dialect,
    formulas: FormulaSql,
    gives: Callable[[int], str] = str,
) -> str:
    """Return what gives the number of the row that decides, from 1; `MISSING` or `UNMATCHED` where none does.

    Parameters
    ----------
    gives : callable
        What is given instead of a number.
    """
    tests = _tests_by_input(table, columns, dialect, formulas)
    lines = []
    for number in range(1, len(table.rows) + 1):
        parts = [text for of_rows in tests if (text := of_rows[number - 1])]
        asked = " AND ".join(parts) or dialect.truth(True) + " = " + dialect.truth(True)
        lines.append(f"WHEN {asked} THEN {gives(number)}")
    gone = [
        f"{_column_of(table, at, columns, dialect, formulas).sql} IS NULL"
        for at, about in enumerate(table.dimensions)
        if about.required or any(not isinstance(table.asked(row, at), AnyValue) for row in table.rows)
    ]
    rest = f"WHEN {' OR '.join(gone)} THEN {gives(MISSING)} " if gone else ""
    return f"CASE {' '.join(lines)} {rest}ELSE {gives(UNMATCHED)} END"


def _column_of(
    table: Table,
    at: int,
    columns: Callable[[str], ColumnRead],
    dialect: Dialect,
    formulas: FormulaSql,
) -> ColumnRead:
    """Return the column of a dimension: of an input, or of what `when` compares."""
    if at < len(table.inputs):
        return columns(table.inputs[at].name)
    computed = table.computed_inputs[at - len(table.inputs)]
    if computed.compared is None and computed.whole is None:
        return columns(computed.about.name)
    if computed.whole is not None:
        return ColumnRead(f"({formulas.sql(computed.whole)})", "boolean", pa.bool_())
    left, right = formulas.compared(*computed.compared)  # type: ignore[misc]
    less, same, more = (dialect.whole(one) for one in (-1, 0, 1))
    return ColumnRead(
        f"(CASE WHEN {left} < {right} THEN {less} WHEN {left} = {right} THEN {same} WHEN {left} > {right} THEN {more} END)",
        "integer",
        pa.int64(),
    )


def _tests_by_input(
    table: Table, columns: Callable[[str], ColumnRead], dialect: Dialect, formulas: FormulaSql
) -> list[list[str]]:
    """Return by dimension and row what a value must meet; empty where any does."""
    made = []
    for at, about in enumerate(table.dimensions):
        column = _column_of(table, at, columns, dialect, formulas)
        if fault := misfit(about, column.kind, getattr(column.arrow, "tz", None), about.name):
            raise ObstacleError(fault.problem, fault.fix or "")
        if about.type == "text":
            made.append([_of_text(about, table.asked(row, at), column.sql, dialect) for row in table.rows])
        else:
            made.append(_of_numbers(table, at, about, column, dialect))
    return made


# Numbers, dates, booleans: by thresholds.


def _of_numbers(table: Table, at: int, about: Input, column: ColumnRead, dialect: Dialect) -> list[str]:
    empty = column_from_arrow(pa.array([], column.arrow), about.name)
    assert isinstance(empty, NumericColumn)
    if about.type == "integer" and empty.values.dtype.kind == "f":
        raise ObstacleError(
            f"input {about.name} is of whole numbers, and its column of floats, which may hold others",
            "convert the column",
        )
    regions = row_regions(table, at)
    sets = RowSets(regions)
    thresholds, numbers = thresholds_of(regions, empty, about, sets)
    cells, edges = list(numbers), list(thresholds)
    if empty.values.dtype.kind == "f":
        cells, edges = cells[1:], edges[1:]  # what stands first is what is no number
    made = []
    for number, region in enumerate(regions):
        holds = [bool(sets.masks[cell] >> number & 1) for cell in cells]
        parts = []
        if empty.kind == "boolean":
            holds = [holds[int(np.searchsorted(edges, value, side="right"))] for value in (0, 1)]
            edges_of_row: list[Any] = [1]
        else:
            edges_of_row = edges
        if all(holds) and cells:
            parts.append("" if region.missing else f"{column.sql} IS NOT NULL")
        else:
            parts += _runs(holds, edges_of_row, column, empty, dialect)
            if region.missing:
                parts.append(f"{column.sql} IS NULL")
        if not parts:
            parts = [f"{dialect.truth(True)} = {dialect.truth(False)}"]
        made.append(parts[0] if len(parts) == 1 else f"({' OR '.join(parts)})")
    return made


def _runs(
    holds: Sequence[bool], edges: Sequence[Any], column: ColumnRead, empty: NumericColumn, dialect: Dialect
) -> list[str]:
    """Return the stretches of neighbouring cells that a row holds, as SQL."""
    found, start = [], None
    for at, is_held in enumerate([*holds, False]):
        if is_held and start is None:
            start = at
        elif not is_held and start is not None:
            ends = []
            if start > 0:
                ends.append(f"{column.sql} >= {_threshold(edges[start - 1], empty, dialect)}")
            if at < len(holds):
                ends.append(f"{column.sql} < {_threshold(edges[at - 1], empty, dialect)}")
            found.append(ends[0] if len(ends) == 1 else f"({' AND '.join(ends)})")
            start = None
    return found


def _threshold(edge: Any, empty: NumericColumn, dialect: Dialect) -> str:
    """Return a threshold as the value of the column's type that it is."""
    if isinstance(edge, np.floating):
        return dialect.floating(float(edge))
    whole = int(edge)
    if empty.kind == "decimal":
        return dialect.exact(Decimal(whole).scaleb(-empty.scale))
    if empty.kind == "boolean":
        return dialect.truth(whole == 1)
    if empty.kind == "date":
        first, last = ((one - _EPOCH).days for one in (dt.date.min, dt.date.max))
        if not first <= whole <= last:
            raise ObstacleError("a bound beyond the years 1 to 9999")
        return dialect.day(_EPOCH + dt.timedelta(days=whole))
    if empty.kind == "datetime":
        per_second = {"s": 1, "ms": 1_000, "us": 1_000_000, "ns": 1_000_000_000}[empty.unit]
        microseconds, rest = divmod(whole * 1_000_000, per_second)
        moment = datetime_of_microseconds(microseconds)
        if rest or moment is None:
            raise ObstacleError("a bound finer than microseconds, or beyond the years 1 to 9999")
        return dialect.moment(moment)
    return dialect.whole(whole)


# Texts: sign by sign.


def _of_text(about: Input, condition: Condition, name: str, dialect: Dialect) -> str:
    """Return a condition on a text as SQL, empty where it asks nothing."""
    always = f"{dialect.truth(True)} = {dialect.truth(True)}"
    match condition:
        case AnyValue():
            return f"{name} IS NOT NULL" if about.required else ""
        case IsMissing():
            return f"{name} IS NULL"
        case IsPresent():
            return f"{name} IS NOT NULL"
        case Equals(value):
            return f"{name} = {dialect.text(str(value))}"
        case Between(lower, lower_closed, upper, upper_closed):
            ends = []
            if lower is not None:
                ends.append(f"{name} {'>=' if lower_closed else '>'} {dialect.text(str(lower))}")
            if upper is not None:
                ends.append(f"{name} {'<=' if upper_closed else '<'} {dialect.text(str(upper))}")
            return ends[0] if len(ends) == 1 else f"({' AND '.join(ends)})"
        case StartsWith(prefix):
            return dialect.starts_with(name, prefix)
        case CodeRange(lower, lower_closed, upper, upper_closed):
            n = str(len(lower))
            first = dialect.substring(name, "1", n)
            ends = [
                f"{dialect.length(name)} >= {n}",
                f"{first} {'>=' if lower_closed else '>'} {dialect.text(lower)}",
                f"{first} {'<=' if upper_closed else '<'} {dialect.text(upper)}",
            ]
            return f"({' AND '.join(ends)})"
        case Negation(part):
            inner = _of_text(about, part, name, dialect)
            return (
                f"({name} IS NOT NULL AND NOT ({inner}))"
                if inner
                else f"{name} IS NULL AND {name} IS NOT NULL"
            )
        case AnyOf(parts):
            texts = [part.value for part in parts if isinstance(part, Equals)]
            if len(texts) == len(parts):
                return f"{name} IN ({', '.join(dialect.text(str(one)) for one in texts)})"
            return f"({' OR '.join(_of_text(about, one, name, dialect) or always for one in parts)})"
        case AllOf(parts):
            return f"({' AND '.join(_of_text(about, one, name, dialect) or always for one in parts)})"
    raise AssertionError(condition)


# Results.


def results_by_row(table: Table, place: int, dialect: Dialect, formulas: FormulaSql) -> dict[int, str]:
    """Return what each row gives for an output, and what is given where none decides."""
    output = table.outputs[place]
    kind = output.type
    if kind == "decimal":
        raise ObstacleError(
            f"output {output.name} is of decimals, which have one scale there", "let it be a number"
        )
    made = {}
    for at, row in enumerate(table.rows, 1):
        result = row.results[place]
        if isinstance(result, Computed):
            made[at] = formulas.written(result.tree, kind)
        else:
            made[at] = dialect.value(result, kind)  # type: ignore[arg-type]
    for at, word in ((MISSING, "missing"), (UNMATCHED, "otherwise")):
        made[at] = dialect.value(getattr(table, word).get(output.name), kind)
    return made


def result_sql(table: Table, place: int, number: str, dialect: Dialect, formulas: FormulaSql) -> str:
    """Return what gives an output, from the number of the row that decides."""
    by_result: dict[str, list[int]] = {}
    for at, made in results_by_row(table, place, dialect, formulas).items():
        by_result.setdefault(made, []).append(at)
    lines = [
        f"WHEN {number} IN ({', '.join(map(str, rows))}) THEN {made}" for made, rows in by_result.items()
    ]
    return f"CASE {' '.join(lines)} END"


def status_sql(number: str, dialect: Dialect) -> str:
    """Return how each row was decided."""
    words = [dialect.text(one) for one in ("missing", "unmatched", "matched")]
    return f"CASE WHEN {number} = {MISSING} THEN {words[0]} WHEN {number} = {UNMATCHED} THEN {words[1]} ELSE {words[2]} END"


def row_sql(number: str, dialect: Dialect) -> str:
    """Return the number of the row that decided."""
    return f"CASE WHEN {number} > 0 THEN {number} ELSE {dialect.null('integer')} END"


# Keys.


def is_long_mapping(table: Table) -> bool:
    """Whether a table maps so many single texts that they are a table of their own."""
    return (
        table.lookup is None
        and len(table.inputs) == 1
        and not table.computed_inputs
        and table.inputs[0].type == "text"
        and len(table.rows) > MOST_IN_A_CASE
        and all(_texts(row.conditions[0]) is not None for row in table.rows)
        and not any(isinstance(result, Computed) for row in table.rows for result in row.results)
    )


def _texts(condition: Condition) -> list[str] | None:
    match condition:
        case Equals(str() as text):
            return [text]
        case AnyOf(parts):
            found = [_texts(part) for part in parts]
            return None if None in found else [text for one in found for text in one or ()]
    return None


def keys_of_mapping(table: Table, columns: Callable[[str], ColumnRead]) -> KeyTable:
    """Return the rows of a long mapping as a table of keys."""
    keys: dict[str, int] = {}
    for at, row in enumerate(table.rows):
        for text in _texts(row.conditions[0]) or ():
            keys.setdefault(text, at)
    places = list(keys.values())
    arrays: dict[str, pa.Array] = {
        "row": pa.array([place + 1 for place in places], pa.int64()),
        "key_1": pa.array(list(keys), pa.string()),
    }
    for number, output in enumerate(table.outputs, 1):
        if output.type == "decimal":
            raise ObstacleError(f"output {output.name} is of decimals", "let it be a number")
        values = [table.rows[place].results[number - 1] for place in places]
        arrays[f"result_{number}"] = pa.array(values, _ARROW[output.type])
    return KeyTable(pa.table(arrays), (f"k.key_1 = {columns(table.inputs[0].name).sql}",))


_ARROW: dict[ValueType, pa.DataType] = {
    "text": pa.string(),
    "integer": pa.int64(),
    "number": pa.float64(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "datetime": pa.timestamp("us"),
}


def keys_of_lookup(table: Table, columns: Callable[[str], ColumnRead]) -> KeyTable:
    """Return the rows of a lookup as a table of keys."""
    lookup = table.lookup
    assert lookup is not None
    arrays: dict[str, pa.Array] = {"row": pa.array(range(1, lookup.n_rows + 1), pa.int64())}
    on = []
    for number, key in enumerate(lookup.keys, 1):
        column = columns(key.about.name)
        if column.kind != key.about.type or column.kind in ("number", "decimal"):
            raise ObstacleError(
                f"key {key.about.name} is a {key.about.type}, and its column a {column.kind}",
                "let both be texts, whole numbers or dates",
            )
        arrays[f"key_{number}"] = _plain(key.values)
        on.append(f"k.key_{number} = {column.sql}")
    for number, one in enumerate(lookup.ranges, 1):
        column = columns(one.about.name)
        if column.kind != one.about.type or column.kind not in ("date", "integer"):
            raise ObstacleError(
                f"the range of {one.about.name} is over a {column.kind}", "let it be days or whole numbers"
            )
        if one.end is None:
            raise ObstacleError("a row holds until the next of its key begins", "give its rows an end")
        for word, array, closed in (("from", one.start, one.start_closed), ("to", one.end, one.end_closed)):
            if not isinstance(closed, bool):
                raise ObstacleError("its rows say themselves which ends are in")
            name = f"{word}_{number}"
            arrays[name] = _plain(array)
            sign = (">" if word == "from" else "<") + ("=" if closed else "")
            on.append(f"(k.{name} IS NULL OR {column.sql} {sign} k.{name})")
        on.append(f"{column.sql} IS NOT NULL")
    for number, (output, array) in enumerate(zip(table.outputs, lookup.results, strict=True), 1):
        if output.type == "decimal":
            raise ObstacleError(f"output {output.name} is of decimals", "let it be a number")
        arrays[f"result_{number}"] = _plain(array)
    rows = pa.table(arrays)
    whole = [name for name in rows.column_names if name.startswith("key_")]
    for name in whole:  # a row without a key is never met
        rows = rows.filter(rows[name].is_valid())
    return KeyTable(rows, tuple(on))


def _plain(array: pa.Array) -> pa.Array:
    if pa.types.is_dictionary(array.type):
        array = array.dictionary_decode()
    return array.cast(pa.string()) if pa.types.is_large_string(array.type) else array


def joined_row(table: Table, columns: Callable[[str], ColumnRead], found: str) -> str:
    """Return what gives the number of the row that decides, where rows are joined by keys and `found` is theirs."""
    gone = " OR ".join(f"{columns(input_.name).sql} IS NULL" for input_ in table.inputs)
    return f"CASE WHEN {found} IS NOT NULL THEN {found} WHEN {gone} THEN {MISSING} ELSE {UNMATCHED} END"


def joined_result(table: Table, place: int, number: str, found: str, dialect: Dialect) -> str:
    """Return what gives an output of a table whose rows are joined."""
    output = table.outputs[place]
    missing, otherwise = (
        dialect.value(getattr(table, word).get(output.name), output.type) for word in ("missing", "otherwise")
    )
    return f"CASE {number} WHEN {MISSING} THEN {missing} WHEN {UNMATCHED} THEN {otherwise} ELSE {found} END"
