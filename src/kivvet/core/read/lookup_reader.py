"""The rows of a lookup read from a frame: columns found by name, converted, held against their types."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.convert import arrow_type, convert_text, expected
from kivvet.core.read.class_order import Ranked, ranked_of_arrays
from kivvet.core.read.fields_read import FieldsRead
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.values import ValueType, fold_text
from kivvet.core.words.wording import count, did_you_mean, listed

if TYPE_CHECKING:
    from kivvet.core.tables.inputs import Input, Output

from kivvet.core.tables.lookup_rows import KeyColumn, LocateRow, LookupRows, RangeColumn, no_place


def parse_lookup(
    given: Any,
    inputs: tuple[Input, ...],
    outputs: tuple[Output, ...],
    place: Place | None,
    table: str,
    locate_row: LocateRow = no_place,
    fields: FieldsRead | None = None,
) -> tuple[LookupRows | None, list[Finding], dict[str, list[Ranked]]]:
    """Return the rows of a lookup given as a frame, the faults found, and what orders the classes of its outputs.

    Parameters
    ----------
    given : pyarrow.Table, pandas.DataFrame or list of mappings
        Text columns are converted to the declared types; typed columns have to fit them.
    fields : FieldsRead, optional
        How the fields of text columns are read.
    """
    frame = _as_arrow(given)
    if frame is None:
        fault = finding(
            "syntax",
            f"lookup is the name of a file, a frame or a list of mappings; found {type(given).__name__}",
            table=table,
            places=(place,) if place else (),
        )
        return None, [fault], {}
    reader = _LookupReader(frame, place, table, locate_row, fields or FieldsRead())
    rows, faults = reader.read(inputs, outputs)
    return rows, faults, reader.ranks


class _LookupReader:
    def __init__(
        self, frame: pa.Table, place: Place | None, table: str, locate_row: LocateRow, fields: FieldsRead
    ) -> None:
        self.fields = fields
        self.frame = frame
        self.place = place
        self.table = table
        self.locate_row = locate_row
        self.findings: list[Finding] = []
        self.ranks: dict[str, list[Ranked]] = {}

    def unknown_columns(self) -> None:
        """Tell columns that something is said of, and that are not there."""
        names = self.frame.column_names
        for heading in dict.fromkeys([*self.fields.types, *self.fields.missing_words_of]):
            if heading not in names:
                self.findings.append(
                    finding(
                        "unknown-column",
                        f"{'types' if heading in self.fields.types else 'missing_words'} names column {heading!r}, which the lookup does not have",
                        table=self.table,
                        places=(self.place,) if self.place else (),
                        remedy=did_you_mean(heading, names) or f"its columns: {listed(names, 20)}",
                    )
                )

    def read(
        self, inputs: tuple[Input, ...], outputs: tuple[Output, ...]
    ) -> tuple[LookupRows | None, list[Finding]]:
        keys, ranges, results = [], [], []
        self.unknown_columns()
        for input_ in inputs:
            if input_.period is not None:
                ranges.append(self.range(input_))
            elif (
                array := self.column(
                    _heading(input_, self.frame.column_names), input_.column or input_.name, input_.type
                )
            ) is not None:
                keys.append(KeyColumn(input_, _folded(array, input_), array))
        for output in outputs:
            heading = _heading(output, self.frame.column_names)
            results.append(self.column(heading, output.column or output.name, output.type))
        complete = [array for array in results if array is not None]
        if len(keys) + len(ranges) < len(inputs) or len(complete) < len(outputs) or None in ranges:
            return None, self.findings
        self.findings += _unfit_results(complete, outputs, self.table, self.locate_row)
        for output, array in zip(outputs, complete, strict=True):
            self.rank(output, array)
        made = [range_ for range_ in ranges if range_ is not None]
        return LookupRows(tuple(keys), tuple(made), tuple(complete), self.locate_row), self.findings

    def column(self, heading: str | None, wanted: str, kind: ValueType) -> pa.Array | None:
        """Return a column as its type; None where there is none."""
        names = self.frame.column_names
        if heading is None or names.count(heading) > 1:
            is_twice = heading is not None
            self.findings.append(
                finding(
                    "unknown-column",
                    f"the lookup has {'two columns' if is_twice else 'no column'} {wanted!r}",
                    table=self.table,
                    places=(self.place,) if self.place else (),
                    remedy="rename one of them"
                    if is_twice
                    else did_you_mean(wanted, names) or f"its columns: {listed(names, 20)}",
                )
            )
            return None
        array = _combined(self.frame.column(heading))
        said = self.fields.types.get(heading, kind)
        if said != kind:
            self.findings.append(
                finding(
                    "type",
                    f"types says that column {heading!r} is {said}, and the table that it is {kind}",
                    table=self.table,
                    places=(self.place,) if self.place else (),
                    remedy="say one of them",
                )
            )
            return None
        converted, faults = _typed(array, kind, heading, self.table, self.locate_row, self.fields)
        self.findings += faults
        return converted

    def rank(self, output: Output, labels: pa.Array) -> None:
        """Note the ranks that stand beside the classes of an output, where a column orders them."""
        if output.ordered_by == "":
            self.ranks[output.name] = [
                (None, label, 0) for label in pc.unique(labels).to_pylist() if label is not None
            ]
        elif output.ordered_by:
            heading = output.ordered_by
            names = self.frame.column_names
            if heading not in names:
                self.findings.append(
                    finding(
                        "unknown-column",
                        f"{output.name} is ordered by {heading!r}, and the lookup has no such column",
                        table=self.table,
                        places=(self.place,) if self.place else (),
                        remedy=did_you_mean(heading, names) or f"its columns: {listed(names, 20)}",
                    )
                )
                return
            self.ranks[output.name] = ranked_of_arrays(_combined(self.frame.column(heading)), labels)

    def range(self, about: Input) -> RangeColumn | None:
        """Return the range that an input has in each row; None where a column is not there."""
        period = about.period
        assert period is not None
        names = self.frame.column_names

        n_findings = len(self.findings)

        def named(heading: str, kind: ValueType) -> pa.Array | None:
            return self.column(heading if heading in names else None, heading, kind)

        start = named(period.start, about.type)
        end = None if period.end is None else named(period.end, about.type)
        closed = [named(one, "boolean") if isinstance(one, str) else one for one in period.closed]
        if start is None or (end is None and period.end is not None) or any(one is None for one in closed):
            return None
        if len(self.findings) > n_findings:
            return None  # a bound that cannot be read is none that is left open
        if about.fold:
            start, end = _folded(start, about), None if end is None else _folded(end, about)
        return RangeColumn(about, start, end, closed[0], closed[1])


def _folded(array: pa.Array, about: Input) -> pa.Array:
    if not about.fold:
        return array
    return pa.array([None if v is None else fold_text(v, about.fold) for v in array.to_pylist()], pa.string())


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


def _typed(
    array: pa.Array, kind: ValueType, heading: str, table: str, locate_row: LocateRow, fields: FieldsRead
) -> tuple[pa.Array, list[Finding]]:
    is_text = (
        pa.types.is_string(array.type)
        or pa.types.is_large_string(array.type)
        or pa.types.is_string_view(array.type)
    )
    if is_text:
        form = fields.form_of(heading)
        converted = convert_text(array.cast(pa.string()), kind, fields.words_of(heading), form)
        if converted.bad is None:
            return converted.array, []
        bad = np.flatnonzero(converted.bad)
        examples = listed(dict.fromkeys(repr(array[int(i)].as_py()) for i in bad[:50]), 3)
        rows = tuple(int(i) + 1 for i in bad[:20])
        fault = finding(
            "type",
            f"{count(len(bad), 'field')} of column {heading!r} cannot be read as {expected(kind, form)}: {examples}",
            table=table,
            rows=rows,
            places=_places(rows, locate_row),
            remedy=f"correct the fields, or declare {heading} as text",
        )
        return converted.array, [fault]
    if pa.types.is_null(array.type):
        return pa.nulls(len(array), arrow_type(kind) if kind != "decimal" else pa.decimal128(1, 0)), []
    if kind == "integer" and pa.types.is_floating(array.type):
        return _wholes(array, heading, table, locate_row)
    if kind == "text" or not _fits(array.type, kind):
        fault = finding(
            "type",
            f"column {heading!r} holds {array.type}; {kind} is declared",
            table=table,
            remedy=f"declare {heading} by the type it has, or convert the column first",
        )
        return array, [fault]
    if kind == "decimal" or array.type == arrow_type(kind):
        return array, []
    try:
        return array.cast(arrow_type(kind)), []
    except pa.ArrowInvalid as error:
        fault = finding(
            "type",
            f"column {heading!r} holds values that {kind} does not: {str(error).split(chr(10))[0]}",
            table=table,
            remedy=f"declare {heading} as {'integer' if pa.types.is_integer(array.type) and kind == 'number' else 'decimal or text'}",
        )
        return pa.nulls(len(array), arrow_type(kind)), [fault]


def _wholes(
    array: pa.Array, heading: str, table: str, locate_row: LocateRow
) -> tuple[pa.Array, list[Finding]]:
    """Return floats as the whole numbers that they are: a column of integers with missing values comes as
    floats.
    """
    values = array.to_numpy(zero_copy_only=False).astype(np.float64)
    gone = pc.is_null(array, nan_is_null=True).to_numpy(zero_copy_only=False)
    with np.errstate(invalid="ignore"):
        fits = gone | ((values == np.trunc(values)) & (np.abs(values) < 2.0**63))
    whole = np.where(fits & ~gone, values, 0).astype(np.int64)
    made = pa.array(whole, mask=gone | ~fits)
    if fits.all():
        return made, []
    odd = np.flatnonzero(~fits)
    rows = tuple(int(i) + 1 for i in odd[:20])
    return made, [
        finding(
            "type",
            f"{count(len(odd), 'value')} of column {heading!r} {'is' if len(odd) == 1 else 'are'} not whole, such as {float(values[odd[0]])!r}",
            table=table,
            rows=rows,
            places=_places(rows, locate_row),
            remedy=f"declare {heading} as number",
        )
    ]


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


def _places(rows: tuple[int, ...], locate_row: LocateRow) -> tuple[Place, ...]:
    return tuple(place for row in rows if (place := locate_row(row)) is not None)


def _unfit_results(
    results: list[pa.Array],
    outputs: tuple[Output, ...],
    table: str,
    locate_row: LocateRow,
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
                        "width",
                        f"{count(len(wide), 'value')} of {output.name!r} have more than {output.width} characters, such as {text!r}",
                        table=table,
                        rows=rows,
                        places=_places(rows, locate_row),
                        remedy="shorten them, or widen the output",
                    )
                )
        if output.order:
            known = pc.or_kleene(pc.is_null(array), pc.is_in(array, pa.array(output.order, pa.string())))
            odd = np.flatnonzero(pc.invert(known))
            if len(odd):
                rows = tuple(int(i) + 1 for i in odd[:20])
                text = array[int(odd[0])].as_py()
                findings.append(
                    finding(
                        "type",
                        f"{count(len(odd), 'value')} of {output.name!r} are not in its order, such as {text!r}",
                        table=table,
                        rows=rows,
                        places=_places(rows, locate_row),
                        remedy=did_you_mean(text, output.order) or "add them to order",
                    )
                )
    return findings
