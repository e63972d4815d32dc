"""Tables as the SQL of the same meaning: a CASE for rows of conditions, a join with its rows for a lookup; for those who go on without
Kivvet. What cannot be said so is refused.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import Any

from kivvet.core.check.check import findings_of
from kivvet.core.formulas.tree import write_formula, write_name
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.lookup_rows import RangeColumn
from kivvet.core.tables.table import UNFINISHED, Computed, Row, Table
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
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import Value, write_decimal
from kivvet.core.words.wording import count

_MOST_ROWS = 5_000  # of a lookup, that stand in the text
_DATA = "data"


def sql_of_tables(tables: Sequence[Table]) -> str:
    """Return a query that makes the columns of some tables, in their order; a table that reads what another makes comes after it.

    Raises
    ------
    DataError
        Where a table cannot be said in SQL so that it means the same.
    """
    made: list[str] = []
    for number, table in enumerate(tables):
        before = _DATA if not number else f"step_{number}"
        made.append(f"step_{number + 1} AS (\n{_select(table, before)}\n)")
    notes = sorted({note for table in tables for note in _notes(table)})
    head = [f"-- {table.name}: {table.title}" if table.title else f"-- {table.name}" for table in tables]
    head += [f"-- {note}" for note in notes]
    if len(tables) == 1:
        return "\n".join([*head, f"{_select(tables[0], _DATA)};", ""])
    return "\n".join([*head, "WITH " + ",\n".join(made), f"SELECT * FROM step_{len(tables)};", ""])


def _notes(table: Table) -> list[str]:
    """Return what holds only in engines that do as the standard says."""
    notes = [f"the data is called {_DATA} here; a text without characters is missing (NULL)"]
    conditions = [
        part for row in table.rows for condition in row.conditions for part in simple_conditions(condition)
    ]
    is_text = any(
        isinstance(condition, Between) and isinstance(condition.lower or condition.upper, str)
        for condition in conditions
    )
    if is_text or any(isinstance(condition, CodeRange) for condition in conditions):
        notes.append('texts are ordered by code point: COLLATE "C" where the engine sorts otherwise')
    if any(isinstance(condition, StartsWith) for condition in conditions):
        notes.append("LIKE tells small letters from capitals")
    return notes


def simple_conditions(condition: Condition) -> list[Condition]:
    """Return the conditions that one is put together from."""
    match condition:
        case AnyOf(parts) | AllOf(parts):
            return [inner for part in parts for inner in simple_conditions(part)]
        case Negation(part):
            return simple_conditions(part)
    return [condition]


def _select(table: Table, source: str) -> str:
    if table.lookup is not None:
        return _joined(table, source)
    _refuse(table)
    columns = [
        f"  {_case(table, place, output)} AS {write_name(output.name)}"
        for place, output in enumerate(table.outputs)
    ]
    return "\n".join(["SELECT *,", ",\n".join(columns), f"FROM {source}"])


def why_not_elsewhere(table: Table) -> str:
    """Return what of a table has no counterpart in other languages; empty where it has."""
    if table.match == "every":
        return 'several rows give their results together (match = "every")'
    if any(input_.tz is not None for input_ in table.inputs):
        return "its bounds are in a time zone"
    if any(set(input_.fold) - {"case"} for input_ in table.inputs):
        return "differences of blanks or accents do not count for it"
    if any(UNFINISHED in row.results for row in table.rows):
        return "a row has no class yet"
    if any(finding.kind == "overlap" and finding.severity == "error" for finding in findings_of(table)):
        return "rows of it meet and give different results"
    return ""


def _refuse(table: Table) -> None:
    if why := why_not_elsewhere(table):
        raise DataError(f"table {table.name} cannot be said in SQL: {why}", fix="leave it out of the tables")


def _case(table: Table, place: int, output: Output) -> str:
    lines = ["CASE"]
    for row in table.rows:
        asked = _row(table, row)
        lines.append(f"    WHEN {asked} THEN {_result(row.results[place])}")
        if asked == "TRUE":
            break
    lines.append(f"    ELSE {_rest(table, output)}")
    return "\n  ".join([*lines, "END"])


def _rest(table: Table, output: Output) -> str:
    """Return what rows get that no row decides: another result where an input is missing."""
    missing, otherwise = (_value(getattr(table, word).get(output.name)) for word in ("missing", "otherwise"))
    if missing == otherwise:
        return missing
    asked = " OR ".join(_gone(table))
    return f"CASE WHEN {asked} THEN {missing} ELSE {otherwise} END" if asked else otherwise


def _gone(table: Table) -> list[str]:
    """Return when something is missing that some row asks about, as SQL."""
    made = [
        f"{write_name(about.name)} IS NULL"
        for number, about in enumerate(table.inputs)
        if any(not isinstance(row.conditions[number], AnyValue) for row in table.rows)
    ]
    for input_ in table.computed_inputs:
        if input_.compared is not None:
            made += [f"({write_formula(side)}) IS NULL" for side in input_.compared]
        elif input_.whole is not None:
            made.append(f"({write_formula(input_.whole)}) IS NULL")
        else:
            made.append(f"{write_name(input_.about.name)} IS NULL")
    return list(dict.fromkeys(made))


def _row(table: Table, row: Row) -> str:
    parts = []
    for about, condition in zip(table.inputs, row.conditions, strict=True):
        text = _asked(about, condition)
        if about.required and isinstance(condition, AnyValue):
            text = f"{write_name(about.name)} IS NOT NULL"
        if text:
            parts.append(text)
    if row.when:
        parts.append(f"({row.when})")
    return " AND ".join(parts) or "TRUE"


def _asked(about: Input, condition: Condition) -> str:
    """Return a condition on an input as SQL, empty where it asks nothing."""
    name = write_name(about.name)
    folded = f"UPPER({name})" if about.fold else name

    def value(one: Value) -> str:
        return _value(one.upper() if about.fold and isinstance(one, str) else one)

    match condition:
        case AnyValue():
            return ""
        case IsMissing():
            return f"{name} IS NULL"
        case IsPresent():
            return f"{name} IS NOT NULL"
        case Equals(one):
            if about.type == "datetime" and not isinstance(one, dt.datetime) and isinstance(one, dt.date):
                return f"({name} >= {_value(one)} AND {name} < {_value(one + dt.timedelta(days=1))})"
            return f"{folded} = {value(one)}"
        case Between(lower, lower_closed, upper, upper_closed):
            ends = []
            if lower is not None:
                ends.append(f"{folded} {'>=' if lower_closed else '>'} {value(lower)}")
            if upper is not None:
                if (
                    about.type == "datetime"
                    and upper_closed
                    and not isinstance(upper, dt.datetime)
                    and isinstance(upper, dt.date)
                ):
                    ends.append(f"{name} < {_value(upper + dt.timedelta(days=1))}")
                else:
                    ends.append(f"{folded} {'<=' if upper_closed else '<'} {value(upper)}")
            return " AND ".join(ends) if len(ends) == 1 else f"({' AND '.join(ends)})"
        case StartsWith(prefix):
            prefix = prefix.upper() if about.fold else prefix
            escaped = prefix.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
            ending = " ESCAPE '\\'" if escaped != prefix else ""
            return f"{folded} LIKE {_value(escaped + '%')}{ending}"
        case CodeRange(lower, lower_closed, upper, upper_closed):
            n = len(lower)
            first = f"SUBSTRING({folded} FROM 1 FOR {n})"
            ends = [
                f"CHAR_LENGTH({name}) >= {n}",
                f"{first} {'>=' if lower_closed else '>'} {value(lower)}",
                f"{first} {'<=' if upper_closed else '<'} {value(upper)}",
            ]
            return f"({' AND '.join(ends)})"
        case Negation(part):
            return f"({name} IS NOT NULL AND NOT {_in_brackets(_asked(about, part) or 'TRUE')})"
        case AnyOf(parts):
            plain = [part for part in parts if isinstance(part, Equals) and about.type != "datetime"]
            if len(plain) == len(parts):
                return f"{folded} IN ({', '.join(value(one.value) for one in plain)})"
            return f"({' OR '.join(_asked(about, one) or 'TRUE' for one in parts)})"
        case AllOf(parts):
            return f"({' AND '.join(_asked(about, one) or 'TRUE' for one in parts)})"
    raise AssertionError(condition)


def _in_brackets(text: str) -> str:
    return text if text.startswith("(") else f"({text})"


def _result(result: Any) -> str:
    return f"({result.text})" if isinstance(result, Computed) else _value(result)


def _value(value: Any) -> str:
    if value is None:
        return "NULL"
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    if isinstance(value, str):
        return "'" + value.replace("'", "''") + "'"
    if isinstance(value, dt.datetime):
        return f"TIMESTAMP '{value.isoformat(' ')}'"
    if isinstance(value, dt.date):
        return f"DATE '{value.isoformat()}'"
    if isinstance(value, Decimal):
        return write_decimal(value)
    return repr(value)


# Lookups.


def _joined(table: Table, source: str) -> str:
    lookup = table.lookup
    assert lookup is not None
    if lookup.n_rows > _MOST_ROWS:
        raise DataError(
            f"lookup {table.name} has {count(lookup.n_rows, 'row')}, more than a query is to hold",
            expected=f"at most {_MOST_ROWS:,}",
            fix="load its rows into the database, and join them by their keys",
        )
    if any(set(key.about.fold) - {"case"} for key in lookup.keys) or any(
        one.about.fold for one in lookup.ranges
    ):
        raise DataError(
            f"lookup {table.name} cannot be said in SQL: differences of blanks or accents do not count for it"
        )
    if any(
        one.end is None and table.inputs and one.about.period is not None and one.about.period.end is None
        for one in lookup.ranges
    ):
        raise DataError(
            f"lookup {table.name} cannot be said in SQL: a row holds until the next of its key begins",
            fix="give its rows an end",
        )
    names: list[str] = []
    columns: list[list[Any]] = []
    on: list[str] = []
    for number, key in enumerate(lookup.keys):
        names.append(f"key_{number + 1}")
        columns.append(key.shown.to_pylist())
        mine, its = f"d.{write_name(key.about.name)}", f"l.{names[-1]}"
        on.append(f"UPPER({mine}) = UPPER({its})" if key.about.fold else f"{mine} = {its}")
    for number, one in enumerate(lookup.ranges):
        on.append(_within(one, number, names, columns))
    results = [f"result_{number + 1}" for number in range(len(table.outputs))]
    columns += [array.to_pylist() for array in lookup.results]
    rows = [
        "(" + ", ".join(map(_value, line)) + ")"
        for line in zip(*columns, strict=True)
        if not any(value is None for value in line[: len(lookup.keys)])
    ]
    head = ", ".join(["found", *names, *results])
    shown = ",\n    ".join(f"(TRUE, {row[1:]}" for row in rows)
    made = []
    asked = " OR ".join(f"d.{write_name(input_.name)} IS NULL" for input_ in table.inputs)
    for output, result in zip(table.outputs, results, strict=True):
        missing, otherwise = (
            _value(getattr(table, word).get(output.name)) for word in ("missing", "otherwise")
        )
        text = f"l.{result}"
        if missing != "NULL" or otherwise != "NULL":
            rest = (
                missing if missing == otherwise else f"CASE WHEN {asked} THEN {missing} ELSE {otherwise} END"
            )
            text = f"CASE WHEN l.found THEN l.{result} ELSE {rest} END"
        made.append(f"  {text} AS {write_name(output.name)}")
    return "\n".join(
        [
            "SELECT d.*,",
            ",\n".join(made),
            f"FROM {source} AS d",
            "LEFT JOIN (VALUES",
            f"    {shown}",
            f") AS l ({head})",
            f"  ON {' AND '.join(on)}",
        ]
    )


def _within(one: RangeColumn, number: int, names: list[str], columns: list[list[Any]]) -> str:
    """Return that a value lies in the range of a row, and add the columns of its ends."""
    mine = f"d.{write_name(one.about.name)}"
    parts = []
    ends: Mapping[str, tuple[Any, bool | Any]] = {
        "from": (one.start, one.start_closed),
        "to": (one.end, one.end_closed),
    }
    for word, (array, closed) in ends.items():
        if array is None:
            continue
        if not isinstance(closed, bool):
            raise DataError("a lookup whose rows say themselves which ends are in cannot be said in SQL")
        names.append(f"{word}_{number + 1}")
        columns.append(array.to_pylist())
        sign = (">" if word == "from" else "<") + ("=" if closed else "")
        parts.append(f"(l.{names[-1]} IS NULL OR {mine} {sign} l.{names[-1]})")
    return f"({mine} IS NOT NULL AND {' AND '.join(parts)})"
