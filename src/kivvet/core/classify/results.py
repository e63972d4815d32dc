"""From outcomes to new columns: one take for each output, however many there are."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.calculate.evaluate import Evaluator, merged
from kivvet.core.calculate.vectors import as_kind, made_of_vector, of_column
from kivvet.core.classify.combined import Combined
from kivvet.core.classify.compiled import compile_table
from kivvet.core.classify.outcomes import STATUSES, Outcomes
from kivvet.core.columns.arrays import Array
from kivvet.core.columns.convert import arrow_type
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.columns.taking import Taker
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import UNFINISHED, Result, Table, value_or_none
from kivvet.core.words.errors import DataError
from kivvet.core.words.kept import kept
from kivvet.core.words.values import Value, ValueType

_NULL8 = np.uint8(255)


class OutputMaker:
    """Makes the column of one output of a table from outcomes.

    Attributes
    ----------
    classes : pyarrow string array or None
        For text: the classes in order.
    code_of_outcome : ndarray or None
        For text: the class of each outcome, -1 for missing.
    value_of_outcome : pyarrow.Array or None
        For other types: the value of each outcome.
    """

    def __init__(self, table: Table, output: Output) -> None:
        self.output = output
        self.combined = Combined(table, output) if table.match == "every" else None
        self.is_ordered = table.is_ordered(output)
        self.is_lookup = table.lookup is not None  # whose outputs mostly lack a value in the same rows
        position = table.outputs.index(output)
        of_others = table.otherwise.get(output.name)
        ends = compile_table(table).outcomes.ends(of_others, table.missing.get(output.name))
        self.classes: pa.Array | None = None
        self.code_of_outcome: npt.NDArray[np.int64] | None = None
        self.value_of_outcome: pa.Array | None = None
        self.computed = table.computed(output) if table.lookup is None else {}
        if output.type == "text" and not self.computed:
            self.classes = pa.array([str(class_) for class_ in table.classes(output)], pa.string())
            self.code_of_outcome = self._codes(table, position, ends)
        else:
            self.value_of_outcome = self._values(table, position, ends)

    def _codes(self, table: Table, position: int, ends: list[Value | None]) -> npt.NDArray[np.int64]:
        assert self.classes is not None
        if table.lookup is not None:
            texts = pa.concat_arrays(
                [_finished(table, table.lookup.results[position], ends[0]), pa.array(ends, pa.string())]
            )
            codes = pc.index_in(texts, value_set=self.classes, skip_nulls=True)
            made: npt.NDArray[np.int64] = (
                pc.fill_null(codes, -1).to_numpy(zero_copy_only=False).astype(np.int64)
            )
            return made
        code_of = {text: code for code, text in enumerate(self.classes.to_pylist())}
        results = [_value_of(row.results[position], ends[0]) for row in table.rows] + ends
        return np.array([-1 if result is None else code_of[str(result)] for result in results], np.int64)

    def _values(self, table: Table, position: int, ends: list[Value | None]) -> pa.Array:
        if table.lookup is not None:
            results = table.lookup.results[position]
            if pa.types.is_decimal(results.type):
                results = results.cast(_decimal_of_all(results.type, ends))
            results = _finished(table, results, ends[0])
            return pa.concat_arrays([results, _typed_array(ends, results.type)])
        values = [_value_of(row.results[position], ends[0]) for row in table.rows] + ends
        if self.output.type == "decimal":
            return (
                pa.array(values)
                if any(value is not None for value in values)
                else pa.nulls(len(values), pa.decimal128(1, 0))
            )
        if self.output.type == "number":
            return pa.array([None if value is None else float(value) for value in values], pa.float64())  # type: ignore[arg-type]
        return pa.array(values, arrow_type(self.output.type))

    def made(self, name: str, taker: Taker, sets: Sequence[tuple[int, ...]]) -> dict[str, MadeColumn]:
        """Return the columns made of outcomes, by name; some outcomes may stand for several rows."""
        if self.combined is None:
            return {name: self.from_outcomes(name, taker)}
        return self.combined.made(name, taker.outcomes, sets)

    def with_formulas(self, made: MadeColumn, outcomes: Array, evaluator: Evaluator) -> MadeColumn:
        """Return a column in which rows whose result is a formula have its value.

        Raises
        ------
        DataError
            If a formula does not give values of the output's type.
        """
        n_rows = len(outcomes)
        rest = np.ones(n_rows, bool)
        pieces = []
        for result, places in self.computed.items():
            rows = np.flatnonzero(np.isin(outcomes, places))
            rest[rows] = False
            vector = evaluator.value_on(rows, result.tree)[1]
            fits = vector.kind == self.output.type or (vector.kind, self.output.type) in (
                ("integer", "number"),
                ("date", "datetime"),
            )
            if not fits and not (vector.missing is not None and vector.missing.all()):
                raise DataError(
                    f"{self.output.name} {result} gives {vector.kind}",
                    expected=self.output.type,
                    found=vector.kind,
                    fix=f"CAST({result.text} AS {self.output.type.upper()})",
                )
            pieces.append((rows, as_kind(vector, self.output.type)))
        others = np.flatnonzero(rest)
        pieces.append((others, as_kind(of_column(made.as_column()).take(others), self.output.type)))
        return made_of_vector(made.name, merged(pieces, n_rows), n_rows)

    @cached_property
    def labels(self) -> Array | None:
        """Return for each outcome a label that is the class code itself, so that no take is needed."""
        codes = self.code_of_outcome
        if codes is None or len(self.classes) > 127:  # type: ignore[arg-type]
            return None
        return np.where(codes < 0, _NULL8, codes).astype(np.uint8)

    def from_labels(self, name: str, labels: Array) -> MadeColumn:
        """Return the column from labels made of `labels`."""
        return MadeColumn(name, self.classes, labels.view(np.int8), self.is_ordered)

    def from_outcomes(self, name: str, taker: Taker) -> MadeColumn:
        """Return the column of outcomes."""
        if self.code_of_outcome is None:
            return MadeColumn(name, values=taker.take_arrow(self.value_of_outcome))
        small, is_there = self._codes_to_take
        codes = taker.take(small)
        validity = taker.validity(is_there) if self.is_lookup else None
        return MadeColumn(name, self.classes, codes, self.is_ordered, validity=validity)

    @cached_property
    def _codes_to_take(self) -> tuple[Array, Array]:
        """The class of each outcome in as few bytes as hold all, and whether it has one."""
        assert self.code_of_outcome is not None and self.classes is not None
        n_classes = len(self.classes)
        dtype = np.int8 if n_classes <= 127 else np.int16 if n_classes <= 32_767 else np.int32
        return self.code_of_outcome.astype(dtype), self.code_of_outcome >= 0

    @property
    def kind(self) -> ValueType:
        return self.output.type


def output_maker(table: Table, output: str) -> OutputMaker:
    """Return what makes the column of an output, worked out once for a table."""
    known = _known_makers(table)
    if output not in known:
        known[output] = OutputMaker(table, table.output(output))
    return known[output]


@kept
def _known_makers(_: Table) -> dict[str, OutputMaker]:
    return {}


def _value_of(result: Result, otherwise: Value | None) -> Value | None:
    """Return the value of a result; what is still blank has the one for all others."""
    return otherwise if result is UNFINISHED else value_or_none(result)


def _finished(table: Table, results: pa.Array, otherwise: Value | None) -> pa.Array:
    """Return the results of one output of a lookup; rows without any have the one for all others."""
    blank = compile_table(table).outcomes.unfinished
    if otherwise is None or not blank.any():
        return results
    return pc.if_else(pa.array(blank), _typed_array([otherwise], results.type)[0], results)


def _decimal_of_all(type_: pa.DataType, ends: Sequence[Value | None]) -> pa.DataType:
    """Return the decimal type that holds what a type holds, and some values besides."""
    others = [pa.array([end]).type for end in ends if end is not None]
    scale = max(one.scale for one in (type_, *others))
    whole = max(one.precision - one.scale for one in (type_, *others))
    return (
        pa.decimal128(min(38, whole + scale), scale)
        if whole + scale <= 38
        else pa.decimal256(whole + scale, scale)
    )


def _typed_array(values: Sequence[Value | None], type_: pa.DataType) -> pa.Array:
    """Return results of `missing` and `otherwise` as the type that a lookup's are."""
    if pa.types.is_floating(type_):
        values = [None if value is None else float(value) for value in values]  # type: ignore[arg-type,misc]
    return pa.array(values, type_)


def status_column(name: str, labels: Array, outcomes: Outcomes) -> MadeColumn:
    """Return how each row was decided: matched, unmatched, missing, by several rows, (no-period) by none of
    its key, or (unfinished) by a row that is still to be filled in.

    Parameters
    ----------
    name : str
    labels : ndarray
        The outcome of each row of data.
    outcomes : Outcomes
    """
    return MadeColumn(name, pa.array(STATUSES, pa.string()), outcomes.status_codes()[labels])


def row_column(name: str, labels: Array, outcomes: Outcomes, *, is_list: bool = False) -> MadeColumn:
    """Return the number, from 1, of the row that decided, or the list of them; missing where none did."""
    if is_list:
        deciding = [outcomes.rows_of(outcome) for outcome in range(outcomes.number)]
        numbers = [[row + 1 for row in rows] or None for rows in deciding]
        return MadeColumn(name, values=pa.array(numbers, pa.list_(pa.int64())).take(pa.array(labels)))
    return MadeColumn(name, values=pa.array(labels.astype(np.int64) + 1, mask=labels >= outcomes.unmatched))
