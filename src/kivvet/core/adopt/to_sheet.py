"""Tables as formulas of a sheet that mean the same, in the functions of the OpenFormula standard; for those who go on without Kivvet. What
cannot be said so is refused.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any

from kivvet.core.adopt.to_sql import simple_conditions, why_not_elsewhere
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import Computed, Row, Table
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
from kivvet.core.words.places import column_letters
from kivvet.core.words.values import write_decimal
from kivvet.core.words.wording import count

_MOST_ROWS = 2_000  # of keys, that a formula looks through
_MOST_NESTED, _MOST_SIGNS = 60, 8_000  # of what common programs take
#: Stands in a formula for the number of its row.
ROW = "\0"


@dataclass(frozen=True)
class SheetRules:
    """A table as a sheet holds it.

    Attributes
    ----------
    inputs, outputs : tuple of str
        Headings of its columns: the inputs are the first.
    formulas : tuple of str
        One for each output, without the sign of equality; `ROW` stands for the number of its row.
    keys : tuple of tuple
        What the formulas look in: a line for each key, first its parts, then the results.
    """

    inputs: tuple[str, ...]
    outputs: tuple[str, ...]
    formulas: tuple[str, ...]
    keys: tuple[tuple[Any, ...], ...] = field(default=(), repr=False)


def rules_of_sheet(table: Table, keys_sheet: str) -> SheetRules:
    """Return a table as formulas of a sheet.

    Parameters
    ----------
    keys_sheet : str
        The name of the sheet that is to hold the keys, from its first row, where there are some.

    Raises
    ------
    DataError
        Where it cannot be said so that it means the same.
    """
    if why := _why_not(table):
        raise DataError(
            f"table {table.name} cannot be said as a formula: {why}", fix="leave it out of the tables"
        )
    keys = _keys(table)
    cells = {input_.name: f"${column_letters(at)}{ROW}" for at, input_ in enumerate(table.inputs, 1)}
    if keys is None:
        formulas = [_nested(table, place, output, cells) for place, output in enumerate(table.outputs)]
    else:
        formulas = [
            _looked_up(table, place, output, cells, len(keys), keys_sheet)
            for place, output in enumerate(table.outputs)
        ]
    for formula in formulas:
        if len(formula) > _MOST_SIGNS:
            raise DataError(
                f"table {table.name} cannot be said as a formula: it would have {len(formula):,} signs",
                expected=f"at most {_MOST_SIGNS:,}, which programs take",
            )
    return SheetRules(
        tuple(input_.name for input_ in table.inputs),
        tuple(output.name for output in table.outputs),
        tuple(formulas),
        () if keys is None else tuple(keys),
    )


def _why_not(table: Table) -> str:
    if why := why_not_elsewhere(table):
        return why
    if table.computed_inputs or any(row.when for row in table.rows):
        return "it compares what is worked out of several columns"
    if any(isinstance(result, Computed) for row in table.rows for result in row.results):
        return "results of it are worked out"
    if "datetime" in {*(input_.type for input_ in table.inputs), *(output.type for output in table.outputs)}:
        return "sheets keep times as fractions of a day, which are not exact"
    asked = [(input_, row.conditions[at]) for row in table.rows for at, input_ in enumerate(table.inputs)]
    if any(
        isinstance(part, CodeRange) or (isinstance(part, Between) and about.type == "text")
        for about, condition in asked
        for part in simple_conditions(condition)
    ):
        return "it asks for the order of texts, which sheets order as their language does"
    if table.lookup is not None and table.lookup.ranges:
        return "it looks up in ranges"
    if (n := _n_keys(table)) > _MOST_ROWS:
        return f"it has {count(n, 'key')}, and a formula looks through {_MOST_ROWS:,} at most"
    if _n_keys(table) == 0 and len(table.rows) > _MOST_NESTED:
        return f"it has {count(len(table.rows), 'row')}, and programs nest {_MOST_NESTED} conditions at most"
    return ""


def _texts_of(condition: Condition) -> list[str] | None:
    """Return the texts that a condition lists, if it lists nothing but texts."""
    match condition:
        case Equals(str() as text):
            return [text]
        case AnyOf(parts):
            found = [_texts_of(part) for part in parts]
            return None if None in found else [text for one in found for text in one or ()]
    return None


def _n_keys(table: Table) -> int:
    keys = _keys(table)
    return 0 if keys is None else len(keys)


def _keys(table: Table) -> list[tuple[Any, ...]] | None:
    """Return the keys of a lookup, or of a mapping of single texts, each with its results; None where it is neither."""
    if table.lookup is not None:
        columns = [key.shown.to_pylist() for key in table.lookup.keys]
        columns += [result.to_pylist() for result in table.lookup.results]
        n = len(table.lookup.keys)
        return [line for line in zip(*columns, strict=True) if None not in line[:n]]
    if len(table.inputs) != 1 or len(table.rows) <= _MOST_NESTED // 2:
        return None
    made: dict[str, tuple[Any, ...]] = {}
    for row in table.rows:
        texts = _texts_of(row.conditions[0])
        if texts is None:
            return None
        for text in texts:
            made.setdefault(text.upper() if table.inputs[0].fold else text, (text, *row.results))
    return list(made.values())


def _looked_up(
    table: Table, place: int, output: Output, cells: dict[str, str], n_keys: int, sheet: str
) -> str:
    """Return a formula that finds the one key that is the same sign by sign, and gives what stands beside it."""

    def column(number: int) -> str:
        letters = column_letters(number)
        return f"'{sheet}'!${letters}$1:${letters}${max(n_keys, 1)}"

    asked = []
    for number, about in enumerate(table.inputs, 1):
        asked.append(_same(cells[about.name], column(number), about))
    at = f"SUMPRODUCT({'*'.join(asked)}*ROW({column(1)}))"
    found = f"INDEX({column(len(table.inputs) + 1 + place)},{at})"
    missing, otherwise = (_value(getattr(table, word).get(output.name)) for word in ("missing", "otherwise"))
    gone = [_gone(cells[input_.name]) for input_ in table.inputs]
    return f'IF(OR({",".join(gone)}),{missing},IF({at}=0,{otherwise},IF({found}="","",{found})))'


def _same(cell: str, column: str, about: Input) -> str:
    if about.type == "text":
        return f"EXACT(UPPER({cell}),UPPER({column}))" if about.fold else f"EXACT({cell},{column})"
    return f"({cell}={column})"


def _nested(table: Table, place: int, output: Output, cells: dict[str, str]) -> str:
    made, ends = [], 0
    for row in table.rows:
        asked = _row(table, row, cells)
        gives = _value(row.results[place])
        if not asked:
            made.append(gives)
            break
        made.append(f"IF({asked},{gives},")
        ends += 1
    else:
        made.append(_rest(table, output, cells))
    return "".join(made) + ")" * ends


def _rest(table: Table, output: Output, cells: dict[str, str]) -> str:
    missing, otherwise = (_value(getattr(table, word).get(output.name)) for word in ("missing", "otherwise"))
    gone = [
        _gone(cells[about.name])
        for number, about in enumerate(table.inputs)
        if any(not isinstance(row.conditions[number], AnyValue) for row in table.rows)
    ]
    if missing == otherwise or not gone:
        return otherwise
    return f"IF({_any_of(gone)},{missing},{otherwise})"


def _gone(cell: str) -> str:
    return f'({cell}="")'  # true of blank cells too


def _row(table: Table, row: Row, cells: dict[str, str]) -> str:
    parts = []
    for about, condition in zip(table.inputs, row.conditions, strict=True):
        cell = cells[about.name]
        text = _asked(about, condition, cell)
        if about.required and isinstance(condition, AnyValue):
            text = f'({cell}<>"")'
        if text:
            parts.append(text)
    return _all_of(parts) if parts else ""


def _all_of(parts: Sequence[str]) -> str:
    return parts[0] if len(parts) == 1 else f"AND({','.join(parts)})"


def _any_of(parts: Sequence[str]) -> str:
    return parts[0] if len(parts) == 1 else f"OR({','.join(parts)})"


_IS_OF_TYPE = {
    "boolean": "ISLOGICAL",
    "text": "",
    "integer": "ISNUMBER",
    "number": "ISNUMBER",
    "decimal": "ISNUMBER",
    "date": "ISNUMBER",
}


def _asked(about: Input, condition: Condition, cell: str) -> str:
    """Return a condition on an input as a formula, empty where it asks nothing."""
    match condition:
        case AnyValue():
            return ""
        case IsMissing():
            return _gone(cell)
        case IsPresent():
            return f'({cell}<>"")'
        case Equals(str() as text):
            return (
                f"EXACT(UPPER({cell}),{_value(text.upper())})"
                if about.fold
                else f"EXACT({cell},{_value(text)})"
            )
        case Equals(value):
            return f"AND({_IS_OF_TYPE[about.type]}({cell}),{cell}={_value(value)})"
        case Between(lower, lower_closed, upper, upper_closed) if about.type != "text":
            parts = [f"ISNUMBER({cell})"]
            if lower is not None:
                parts.append(f"{cell}{'>=' if lower_closed else '>'}{_value(lower)}")
            if upper is not None:
                parts.append(f"{cell}{'<=' if upper_closed else '<'}{_value(upper)}")
            return _all_of(parts)
        case StartsWith(prefix):
            first = f"LEFT({cell},{len(prefix)})"
            return (
                f"EXACT(UPPER({first}),{_value(prefix.upper())})"
                if about.fold
                else f"EXACT({first},{_value(prefix)})"
            )
        case Negation(part):
            return f'AND({cell}<>"",NOT({_asked(about, part, cell) or "TRUE()"}))'
        case AnyOf(parts):
            return _any_of([_asked(about, part, cell) or "TRUE()" for part in parts])
        case AllOf(parts):
            return _all_of([_asked(about, part, cell) or "TRUE()" for part in parts])
    raise AssertionError(condition)


def _value(value: Any) -> str:
    if value is None:
        return '""'
    if isinstance(value, bool):
        return "TRUE()" if value else "FALSE()"
    if isinstance(value, str):
        return '"' + value.replace('"', '""') + '"'
    if isinstance(value, dt.date):
        return f"DATE({value.year},{value.month},{value.day})"
    if isinstance(value, Decimal):
        return write_decimal(value)
    return repr(value)
