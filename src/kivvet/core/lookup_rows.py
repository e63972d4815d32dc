"""The rows of a lookup: keys and results as columns, from file to result; there may be millions."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.convert import EXPECTED, arrow_type, convert_text
from kivvet.core.findings import Finding, finding
from kivvet.core.values import Value, ValueType, fold_text
from kivvet.errors import Place, count, did_you_mean, listed

if TYPE_CHECKING:
    from kivvet.core.tables import Input, Output

#: Metadata of a frame of lookup rows: the file it was read from, so that rows can be placed in it.
SOURCE_FILE = b"kivvet.file"


@dataclass(frozen=True)
class LookupRows:
    """Keys and results, one array each, all of the same length.

    Attributes
    ----------
    key : pyarrow.Array
        As compared: folded, where the input says so. Null where blank.
    shown_key : pyarrow.Array
        As written.
    results : tuple of pyarrow.Array
        One for each output, typed; null where blank.
    locate_row : callable
        Gives the place of a row, counted from 1, or None.
    """

    key: pa.Array
    shown_key: pa.Array
    results: tuple[pa.Array, ...]
    locate_row: Callable[[int], Place | None]

    @property
    def n_rows(self) -> int:
        return len(self.key)

    def distinct_results(self, position: int) -> list[Value]:
        """Return the different results of one output in the order of the rows."""
        return [value for value in pc.unique(self.results[position]).to_pylist() if value is not None]


def parse_lookup(
    given: Any, column: Input, outputs: tuple[Output, ...], place: Place | None, table: str
) -> tuple[LookupRows | None, list[Finding]]:
    """Return the rows of a lookup given as a frame, and the faults found.

    Parameters
    ----------
    given : pyarrow.Table, pandas.DataFrame or list of mappings
        Text columns are converted to the declared types; typed columns have to fit them.
    """
    from kivvet.core.tables import columns_of

    findings: list[Finding] = []
    frame = _as_arrow(given)
    if frame is None:
        fault = finding(
            "syntax", f"lookup is the name of a CSV file, a frame or a list of mappings; found {type(given).__name__}",
            table=table, places=(place,) if place else (),
        )  # fmt: skip
        return None, [fault]
    locate_row = _row_locator(frame)
    arrays: list[pa.Array] = []
    for one in columns_of([column], outputs):
        heading = _heading(one, frame.column_names)
        if heading is None:
            wanted = one.column or one.name
            findings.append(
                finding(
                    "unknown-column", f"the lookup has no column {wanted!r}", table=table,
                    places=(place,) if place else (),
                    remedy=did_you_mean(wanted, frame.column_names) or f"its columns: {listed(frame.column_names)}",
                )
            )  # fmt: skip
            continue
        array = _combined(frame.column(heading))
        converted, faults = _typed(array, one.type, heading, table, locate_row)
        findings += faults
        arrays.append(converted)
    if len(arrays) < 1 + len(outputs):
        return None, findings
    findings += _unfit_results(arrays[1:], outputs, table, locate_row)
    shown = arrays[0]
    folded = shown
    if column.fold:
        folded = pa.array(
            [None if v is None else fold_text(v, column.fold) for v in shown.to_pylist()], pa.string()
        )
    return LookupRows(folded, shown, tuple(arrays[1:]), locate_row), findings


def _heading(one: Input | Output, names: list[str]) -> str | None:
    """Return the heading of an input or output: its `column`, else its name."""
    return next((name for name in (one.column, one.name) if name is not None and name in names), None)


def _as_arrow(given: Any) -> pa.Table | None:
    if isinstance(given, pa.Table):
        return given
    if isinstance(given, (list, tuple)):
        return pa.Table.from_pylist(list(given)) if all(isinstance(row, dict) for row in given) else None
    if hasattr(given, "__dataframe__") or hasattr(given, "__arrow_c_stream__"):
        return pa.table(given)
    return None


def _combined(column: pa.ChunkedArray) -> pa.Array:
    array = column.combine_chunks()
    if isinstance(array, pa.ChunkedArray):
        array = array.chunk(0) if array.num_chunks else pa.array([], column.type)
    if pa.types.is_dictionary(array.type):
        array = array.dictionary_decode()
    return array


def _row_locator(frame: pa.Table) -> Callable[[int], Place | None]:
    file = (frame.schema.metadata or {}).get(SOURCE_FILE)
    if file is None:
        return lambda _: None
    name, path = file.decode().split("\n")
    lines: list[int] = []

    def locate(row: int) -> Place | None:
        if not lines:
            lines.extend(_lines_of_records(path))
        return Place(name, lines[row] if row < len(lines) else None)

    return locate


def _lines_of_records(path: str) -> list[int]:
    """Return the line on which each record of a CSV file begins, the header first."""
    import csv

    starts, at = [], 1
    with open(path, encoding="utf-8-sig", newline="") as file:  # noqa: PTH123
        reader = csv.reader(file)
        for record in reader:
            if record:
                starts.append(at)
            at = reader.line_num + 1
    return starts or [1]


def _typed(
    array: pa.Array, kind: ValueType, heading: str, table: str, locate_row: Callable[[int], Place | None]
) -> tuple[pa.Array, list[Finding]]:
    is_text = (
        pa.types.is_string(array.type)
        or pa.types.is_large_string(array.type)
        or pa.types.is_string_view(array.type)
    )
    if is_text:
        converted = convert_text(array.cast(pa.string()), kind)
        if converted.bad is None:
            return converted.array, []
        bad = np.flatnonzero(converted.bad)
        examples = listed(dict.fromkeys(repr(array[int(i)].as_py()) for i in bad[:50]), 3)
        rows = tuple(int(i) + 1 for i in bad[:20])
        fault = finding(
            "type", f"{count(len(bad), 'field')} of column {heading!r} cannot be read as {EXPECTED[kind]}: {examples}",
            table=table, rows=rows, places=_places(rows, locate_row),
            remedy=f"correct the fields, or declare {heading} as text",
        )  # fmt: skip
        return converted.array, [fault]
    if pa.types.is_null(array.type):
        return pa.nulls(len(array), arrow_type(kind) if kind != "decimal" else pa.decimal128(1, 0)), []
    if kind == "text" or not _fits(array.type, kind):
        fault = finding(
            "type", f"column {heading!r} holds {array.type}; {kind} is declared", table=table,
            remedy=f"declare {heading} by the type it has, or convert the column first",
        )  # fmt: skip
        return array, [fault]
    if kind == "decimal" or array.type == arrow_type(kind):
        return array, []
    return array.cast(arrow_type(kind)), []


def _fits(type_: pa.DataType, kind: ValueType) -> bool:
    is_numeric = pa.types.is_integer(type_) or pa.types.is_floating(type_) or pa.types.is_decimal(type_)
    fits: dict[str, bool] = {
        "integer": pa.types.is_integer(type_),
        "number": is_numeric,
        "decimal": pa.types.is_integer(type_) or pa.types.is_decimal(type_),
        "boolean": pa.types.is_boolean(type_),
        "date": pa.types.is_date(type_) or pa.types.is_timestamp(type_),
        "datetime": pa.types.is_timestamp(type_) or pa.types.is_date(type_),
    }
    return fits[kind]


def _places(rows: tuple[int, ...], locate_row: Callable[[int], Place | None]) -> tuple[Place, ...]:
    return tuple(place for row in rows if (place := locate_row(row)) is not None)


def _unfit_results(
    results: list[pa.Array],
    outputs: tuple[Output, ...],
    table: str,
    locate_row: Callable[[int], Place | None],
) -> list[Finding]:
    findings = []
    for array, output in zip(results, outputs, strict=True):
        if not pa.types.is_string(array.type):
            continue
        if output.width is not None:
            wide = np.flatnonzero(pc.fill_null(pc.greater(pc.utf8_length(array), output.width), False))
            if len(wide):
                rows = tuple(int(i) + 1 for i in wide[:20])
                text = array[int(wide[0])].as_py()
                findings.append(
                    finding(
                        "width", f"{count(len(wide), 'value')} of {output.name!r} have more than {output.width} characters, such as {text!r}",
                        table=table, rows=rows, places=_places(rows, locate_row), remedy="shorten them, or widen the output",
                    )
                )  # fmt: skip
        if output.order:
            known = pc.or_kleene(pc.is_null(array), pc.is_in(array, pa.array(output.order, pa.string())))
            odd = np.flatnonzero(pc.invert(known))
            if len(odd):
                rows = tuple(int(i) + 1 for i in odd[:20])
                text = array[int(odd[0])].as_py()
                findings.append(
                    finding(
                        "type", f"{count(len(odd), 'value')} of {output.name!r} are not in its order, such as {text!r}",
                        table=table, rows=rows, places=_places(rows, locate_row),
                        remedy=did_you_mean(text, output.order) or "add them to order",
                    )
                )  # fmt: skip
    return findings
