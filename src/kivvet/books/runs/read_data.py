"""Reading a dataset's source in batches: text fields become typed columns, faults are gathered.

Types come from the dataset's `types`; else from the inputs that read a column; else, where a typed
target needs them, from the whole column, read once before. Values with leading zeros are text.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.books.files.dataset import Dataset
from kivvet.books.files.entry_text import type_text
from kivvet.core.columns.column import Column, column_from_arrow, type_of_arrow
from kivvet.core.columns.convert import (
    FIELD_PATTERNS,
    Converted,
    are_numbers,
    arrow_type,
    coded_blank_to_null,
    convert_text,
    expected,
    fitting_types,
    holds_texts,
    is_text_type,
    long_wholes,
)
from kivvet.core.columns.field_form import FieldForm, are_zoned
from kivvet.core.read.options import toml_text
from kivvet.core.run.plan import Plan
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import count, did_you_mean, listed, toml_key
from kivvet.io.column_forms import forms_of_fields
from kivvet.io.queued import read_ahead
from kivvet.io.source_and_target import Source

_MOST_EXAMPLES = 3
_ROWS_LOOKED_AT, _MOST_FIELDS = 10_000, 200  # for fields that could be read, beside those that could not


def types_read(
    dataset: Dataset, plan: Plan, names: Sequence[str]
) -> tuple[dict[str, ValueType], list[Finding]]:
    """Return by column the type its text is read as, as far as the book says, and the faults found.

    Tables that want different types of one column are a fault, and so is a declared column that is not there.
    """
    types: dict[str, ValueType] = {}
    faults: list[Finding] = []
    places = (dataset.place,) if dataset.place else ()
    for column, kind in dataset.types.items():
        if column in names:
            types[column] = kind
        else:
            faults.append(
                finding(
                    "unknown-column",
                    f"types names {column!r}, which the source does not have",
                    dataset=dataset.name,
                    places=places,
                    remedy=did_you_mean(column, names) or f"its columns: {listed(names)}",
                )
            )
    wanted: dict[str, dict[ValueType, str]] = {}
    for step in plan.table_steps:
        for read in step.reads:
            about = step.table.reads[read.name]
            if read.from_source and read.column not in types and about is not None:
                wanted.setdefault(read.column, {}).setdefault(about.type, step.table.name)
    for column, kinds in wanted.items():
        if len(kinds) > 1 and set(kinds) != {"integer", "number"}:
            said = " and ".join(f"{kind} (table {table})" for kind, table in kinds.items())
            faults.append(
                finding(
                    "type",
                    f"tables read column {column!r} as {said}",
                    dataset=dataset.name,
                    places=places,
                    remedy=f'say which it is: types = {{ {toml_key(column)} = "{next(iter(kinds))}" }}',
                )
            )
        types[column] = "number" if len(kinds) > 1 else next(iter(kinds))
    return types, faults


def source_type(source: Source, types: Mapping[str, ValueType], name: str) -> ValueType | None:
    """Return the type of a source column, as far as it is known before it is read."""
    stored = source.schema[name]
    if stored is None:
        return types.get(name)
    found = type_of_arrow(stored)
    return types.get(name, found) if found == "text" else found


@dataclass
class Inferred:
    """What the fields of columns say of their types.

    Attributes
    ----------
    types : dict of str to str
        By column the type that fits every field of it; text where none does.
    long_wholes : dict of str to str
        By column of numbers that stay text an example: a whole number that no type of 64 bits holds.
    """

    types: dict[str, ValueType]
    long_wholes: dict[str, str]


def infer_types(
    source: Source, dataset: Dataset, columns: Sequence[str], on_rows: Callable[[int], None] = lambda _: None
) -> Inferred:
    """Return the types of text columns, from every field of them.

    Parameters
    ----------
    columns : sequence of str
        The columns to look at, in one pass over the whole source.
    """
    candidates = {name: list(FIELD_PATTERNS) for name in columns}
    seen = dict.fromkeys(columns, False)
    numeric = set(columns)  # those that hold nothing but numbers, as far as is known
    long: dict[str, str] = {}
    for batch in source.batches(columns) if columns else ():
        on_rows(batch.num_rows)
        for name in columns:
            if not candidates[name] and name not in numeric:
                continue
            words = dataset.fields.words_of(name)
            fields = pc.unique(pc.utf8_trim_whitespace(batch.column(name)))
            fields = fields.filter(pc.invert(pc.is_in(fields, pa.array(["", *words], pa.string()))))
            seen[name] = seen[name] or len(fields) > 0
            form = dataset.fields.form_of(name)
            candidates[name] = fitting_types(fields, candidates[name], form)
            if "number" not in candidates[name] and name in numeric:
                if not are_numbers(fields, form):
                    numeric.discard(name)
                elif name not in long and (found := long_wholes(fields, form)):
                    long[name] = found[0]
    types: dict[str, ValueType] = {
        name: kinds[0] if (kinds := candidates[name]) and seen[name] else "text" for name in columns
    }
    kept = {name: example for name, example in long.items() if types[name] == "text" and name in numeric}
    return Inferred(types, kept)


@dataclass
class BadFields:
    """The fields of one column that could not be converted."""

    kind: ValueType
    number: int = 0
    first_row: int = 0
    examples: dict[str, None] = field(default_factory=dict)
    others: tuple[str, ...] = ()  # some of the fields that did convert


class TypedReader:
    """Gives a source batch by batch, with typed columns on request; remembers what did not convert.

    Parameters
    ----------
    source : Source
    dataset : Dataset
    types : mapping of str to str
        By column, the type its text is read as; columns not named stay text.
    """

    def __init__(self, source: Source, dataset: Dataset, types: Mapping[str, ValueType]) -> None:
        self.source = source
        self.dataset = dataset
        self.types = types
        self.bad: dict[str, BadFields] = {}
        self.is_zoned: dict[str, bool] = {}  # by column of times
        self.converted: dict[str, tuple[str, ...]] = {}  # by column, some of the fields that could be read
        self.bad_rows: dict[
            tuple[str, int], npt.NDArray[np.bool_]
        ] = {}  # by column and rows before the batch
        self.n_rows = 0

    def batches(
        self, names: Sequence[str] | None = None, ahead: Collection[str] = (), *, keeps_texts: bool = True
    ) -> Iterator[TypedBatch]:
        """Yield the batches in order.

        Parameters
        ----------
        names : sequence of str, optional
            The columns that are read; all without it.
        ahead : collection of str
            Those of them whose fields become values while the batch before is still used; what does not convert is
            known once they are asked for.
        keeps_texts : bool
            Whether somebody wants those as they stand in the source too.
        """
        source = self.source if keeps_texts else self.source.with_numbers(self._plain_numbers(ahead))
        read = source.batches(names)
        # To find where fields end takes as long as making values of them: each has a thread.
        for batch, converted in read_ahead(
            self._converted_ahead(read_ahead(read) if source.is_text and ahead else read, ahead)
        ):
            self.bad_rows.clear()
            yield TypedBatch(self, batch, self.n_rows, converted)
            self.n_rows += batch.num_rows

    def _plain_numbers(self, names: Iterable[str]) -> dict[str, pa.DataType]:
        """Return those of some columns whose fields are numbers as any reader of CSV reads them, with their types."""
        return {
            name: arrow_type(kind)
            for name in names
            if (kind := self.types.get(name, "text")) in ("integer", "number")
            and not self.dataset.fields.words_of(name)
            and not self.dataset.fields.form_of(name).concerns(kind)
        }

    def _converted_ahead(
        self, batches: Iterator[pa.RecordBatch], ahead: Collection[str]
    ) -> Iterator[tuple[pa.RecordBatch, dict[str, Converted]]]:
        for batch in batches:
            texts = [name for name in ahead if name in batch.schema.names]
            yield batch, {name: self._as_typed(name, batch.column(name)) for name in texts}

    def convert_declared(self, batch: TypedBatch) -> None:
        """Read the columns whose type the dataset declares, so that what does not convert is known."""
        for name in self.dataset.types:
            if name in self.types and name in self.source.names:
                batch.typed(name)

    def is_read_as_it_stands(self, name: str) -> bool:
        """Whether the values of a column are certain to be those that the source holds, before they are read."""
        stored = self.source.schema[name]
        if stored is None:
            return False
        return not holds_texts(stored) or (
            self.types.get(name, "text") == "text"
            and not self.dataset.fields.words_of(name)
            and self.source.holds_no_empty_text(name)
        )

    def faults(self) -> list[Finding]:
        """Return a finding for each column with fields that did not convert."""
        made = []
        for name, bad in self.bad.items():
            examples = listed(map(repr, bad.examples), _MOST_EXAMPLES)
            place = self.source.place_of_row(bad.first_row)
            more = "declare the column as text" if bad.kind == "text" else self._form_that_fits(name, bad)
            made.append(
                finding(
                    "type",
                    f"{count(bad.number, 'field')} of column {name!r} cannot be read as {expected(bad.kind, self.dataset.fields.form_of(name))}: {examples}; the first is in row {bad.first_row:,}",
                    dataset=self.dataset.name,
                    places=(place,),
                    count=bad.number,
                    remedy=more,
                )
            )
        return made

    def _form_that_fits(self, name: str, bad: BadFields) -> str:
        """Return what to do about fields that did not convert: the option by which they would, where there is one."""
        examples = list(bad.examples)
        forms = forms_of_fields([*examples, *bad.others], bad.kind)
        if forms:
            said = "  or  ".join(
                f"types = {{ {toml_key(name)} = {type_text(bad.kind, form, self.dataset.options)} }}"
                for form in forms[:3]
            )
            return f"if they are written so, say it: {said}"
        if any(sign.isdigit() for example in examples for sign in example):
            return "correct the fields, or declare the column as text"
        words = ", ".join(toml_text(example) for example in examples)
        return f"correct the fields, or say which words mean missing: missing_words = {{ {toml_key(name)} = [{words}] }}"

    def _form_of(self, name: str, kind: ValueType) -> FieldForm:
        """Return how the fields of a column are written; whether times say how far they are from UTC, its first time
        tells for all of them.
        """
        form = self.dataset.fields.form_of(name)
        if kind != "datetime" or form.pattern or not self.source.is_text:
            return form
        if name not in self.is_zoned:
            words = ["", *self.dataset.fields.words_of(name)]
            fields = (
                field.strip()
                for batch in self.source.batches([name])
                for field in batch.column(0).to_pylist()
            )
            first = next((field for field in fields if field not in words), None)
            self.is_zoned[name] = first is not None and are_zoned([first])
        return replace(form, is_zoned=self.is_zoned[name])

    def _is_decoded(self, name: str) -> bool:
        """Whether the texts of a column that are held as codes are read as something else than these."""
        return self.types.get(name, "text") != "text" or bool(self.dataset.fields.words_of(name))

    def _as_typed(self, name: str, array: pa.Array) -> Converted:
        """Return a column as its type says, null where fields do not convert."""
        kind = self.types.get(name, "text")
        if not holds_texts(array.type):
            return Converted(array)
        if pa.types.is_dictionary(array.type) and not self._is_decoded(name):
            return Converted(coded_blank_to_null(array))
        if array.type != pa.string():
            array = array.cast(pa.string())
        return convert_text(array, kind, self.dataset.fields.words_of(name), self._form_of(name, kind))

    def convert(
        self, name: str, array: pa.Array, rows_before: int, known: Converted | None = None
    ) -> pa.Array:
        """Return a column as its type says; fields that do not convert become null and are remembered.

        Parameters
        ----------
        known : Converted, optional
            What came of it, where that was found out ahead.
        """
        converted = self._as_typed(name, array) if known is None else known
        kind = self.types.get(name, "text")
        if pa.types.is_dictionary(array.type) and holds_texts(array.type) and self._is_decoded(name):
            array = array.cast(pa.string())
        if not is_text_type(array.type):
            return converted.array
        if name not in self.converted and kind != "text":
            self.converted[name] = _some_fields(array, converted)
        if converted.bad is not None:
            self.bad_rows[name, rows_before] = converted.bad
            rows = np.flatnonzero(converted.bad)
            bad = self.bad.setdefault(name, BadFields(kind, 0, rows_before + int(rows[0]) + 1))
            bad.others = (*self.converted.get(name, ()), *_some_fields(array, converted))
            bad.number += len(rows)
            for row in rows[:100]:
                if len(bad.examples) > _MOST_EXAMPLES:
                    break
                bad.examples[array[int(row)].as_py()] = None
        return converted.array


class TypedBatch:
    """One batch: columns as they stand in the source, and typed where asked."""

    def __init__(
        self,
        reader: TypedReader,
        batch: pa.RecordBatch,
        rows_before: int,
        converted: Mapping[str, Converted] | None = None,
    ) -> None:
        self.reader = reader
        self.batch = batch
        self.rows_before = rows_before
        self._converted = converted or {}
        self._typed: dict[str, pa.Array] = {}

    @property
    def num_rows(self) -> int:
        return int(self.batch.num_rows)

    def first(self, n_rows: int) -> TypedBatch:
        """Return the first rows of the batch."""
        return TypedBatch(self.reader, self.batch.slice(0, n_rows), self.rows_before)

    def as_it_stands(self, name: str) -> pa.Array:
        """Return a column as the source holds it; of a source of texts these have to be kept."""
        array = self.batch.column(name)
        assert not self.reader.source.is_text or is_text_type(array.type), (
            "texts are kept only where asked for"
        )
        return array

    def typed(self, name: str) -> pa.Array:
        """Return a column as an Arrow array of its type."""
        if name not in self._typed:
            self._typed[name] = self.reader.convert(
                name, self.batch.column(name), self.rows_before, self._converted.get(name)
            )
        return self._typed[name]

    def unread_rows(self, names: Iterable[str]) -> npt.NDArray[np.bool_] | None:
        """Return the rows with a field of some columns that could not be read; None where there are none."""
        known = (self.reader.bad_rows.get((name, self.rows_before)) for name in names)
        found = [one for one in known if one is not None]
        return np.logical_or.reduce(found) if found else None

    def column(self, name: str) -> Column:
        """Return a column for classifying."""
        return column_from_arrow(self.typed(name), name)


def _some_fields(fields: pa.Array, converted: Converted) -> tuple[str, ...]:
    """Return a few of the fields that could be read and are not missing."""
    rows = np.flatnonzero(converted.array[:_ROWS_LOOKED_AT].is_valid().to_numpy(zero_copy_only=False))
    return tuple(fields[int(row)].as_py().strip() for row in rows[:_MOST_FIELDS])
