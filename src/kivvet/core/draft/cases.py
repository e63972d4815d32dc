"""The different combinations of values of some columns, with their rows and, where there are any, their classes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.convert import convert_text
from kivvet.core.columns.counting import as_numbers, finest_step
from kivvet.core.draft.look import LookBuilder
from kivvet.core.words.errors import DataError
from kivvet.core.words.values import ValueType
from kivvet.core.words.wording import listed

#: Combinations that are counted; beyond, there is nothing to draft a table of.
MOST_CASES = 1_000_000
_PARTS_AT_ONCE = 16


class CaseCounter:
    """Counts combinations of values, and of their class, as batches come; values are compared as they are written."""

    def __init__(self, columns: Sequence[str]) -> None:
        self.columns = list(columns)
        self.parts: list[pa.Table] = []
        self.n_rows = 0

    def add(self, values: Sequence[pa.Array], classes: pa.Array | None = None) -> None:
        """Count one batch."""
        n_rows = len(values[0])
        numbers = pa.array(np.arange(self.n_rows + 1, self.n_rows + n_rows + 1))
        self.n_rows += n_rows
        texts = (
            pa.nulls(n_rows, pa.string()) if classes is None else _blank_as_null(classes).cast(pa.string())
        )
        named = {f"{place}": _blank_as_null(value) for place, value in enumerate(values)}
        part = pa.table({**named, "class": texts, "rows": pa.repeat(1, n_rows), "first": numbers})
        self.parts.append(self._summed(part))
        if len(self.parts) > _PARTS_AT_ONCE:
            self.parts = [self.merged()]

    def _summed(self, part: pa.Table) -> pa.Table:
        keys = [*(f"{place}" for place in range(len(self.columns))), "class"]
        made = part.group_by(keys, use_threads=False).aggregate([("rows", "sum"), ("first", "min")])
        if made.num_rows > MOST_CASES:
            raise DataError(
                f"columns {listed(self.columns)} have more than {MOST_CASES:,} different combinations",
                expected="columns of few values",
                fix="draft a table of ranges for each column of numbers first, and read the classes that they give",
            )
        return made.select([*keys, "rows_sum", "first_min"]).rename_columns([*keys, "rows", "first"])

    def merged(self) -> pa.Table:
        """Return each combination with a class once: its values, the class, its rows and the first of them."""
        return self._summed(pa.concat_tables(self.parts))


def _blank_as_null(values: pa.Array) -> pa.Array:
    plain = values.dictionary_decode() if pa.types.is_dictionary(values.type) else values
    if pa.types.is_floating(plain.type):
        plain = pc.add(plain, pa.scalar(0.0, plain.type))  # so that there is one zero
        return pc.if_else(pc.is_nan(plain), pa.scalar(None, plain.type), plain)
    if pa.types.is_string(plain.type) or pa.types.is_large_string(plain.type):
        return pc.if_else(pc.equal(plain, ""), pa.scalar(None, plain.type), plain)
    return plain


@dataclass(frozen=True)
class CaseColumn:
    """One column of cases: its different values in order, and for each case the place of its value.

    Attributes
    ----------
    values : list
        Plain values, rising.
    codes : ndarray of int64
        -1 is missing.
    """

    name: str
    kind: ValueType
    values: list[Any]
    codes: npt.NDArray[np.int64]
    step: Decimal | None = None

    @property
    def is_ordered(self) -> bool:
        """Whether ranges of its values say something."""
        return self.kind not in ("text", "boolean")


@dataclass(frozen=True)
class Cases:
    """Different combinations of values, each once.

    Attributes
    ----------
    columns : list of CaseColumn
    array : mapping
        The values of each column, typed, as Arrow arrays.
    rows, first : ndarray of int64
        How many rows each has, and the number of the first of them.
    labels : list of (dict of str to (int, int))
        By case its classes with their rows and the first of them, the most frequent first; empty where none has one.
    """

    columns: list[CaseColumn]
    arrays: dict[str, pa.Array]
    rows: npt.NDArray[np.int64]
    first: npt.NDArray[np.int64]
    labels: list[dict[str, tuple[int, int]]]

    def __len__(self) -> int:
        return len(self.rows)


def cases_of(counter: CaseCounter, builder: LookBuilder) -> Cases:
    """Return the cases that were counted, their values typed as the columns look; `DataError` where there are none."""
    if not counter.n_rows:
        raise DataError(f"columns {listed(counter.columns)} have no rows", expected="data to draft from")
    merged = counter.merged()
    seen = {column.name: column for column in builder.look().columns}
    arrays, kinds = [], []
    for place, name in enumerate(counter.columns):
        about = seen[name]
        if about.type == "other":
            raise DataError(f"column {name!r} is {about.reason}", fix="choose another column")
        if not about.distinct:
            raise DataError(f"column {name!r} has no values", fix="choose another column")
        arrays.append(_typed(merged.column(f"{place}"), about.type))
        kinds.append(about.type)
    codes = np.zeros(merged.num_rows, np.int64)
    columns = []
    for name, kind, array in zip(counter.columns, kinds, arrays, strict=True):
        different = pc.unique(array).drop_null()
        different = different.take(pc.sort_indices(different))
        if kind == "boolean":  # both values are known to be there, whether data has them or not
            different = pa.array([False, True])
        own = pc.fill_null(pc.index_in(array, value_set=different, skip_nulls=True), -1)
        own_codes = own.to_numpy(zero_copy_only=False).astype(np.int64)
        columns.append((name, kind, different, own_codes))
        codes = np.unique(codes * (len(different) + 1) + own_codes + 1, return_inverse=True)[1].reshape(-1)
    _, firsts, of_case = np.unique(codes, return_index=True, return_inverse=True)
    of_case = of_case.reshape(-1)
    counted = merged.column("rows").to_numpy()
    first_rows = merged.column("first").to_numpy()
    rows = np.bincount(of_case, counted, len(firsts)).astype(np.int64)
    first = np.full(len(firsts), np.iinfo(np.int64).max)
    np.minimum.at(first, of_case, first_rows)
    labels: list[dict[str, tuple[int, int]]] = [{} for _ in firsts]
    for case, label, n, row in zip(
        of_case.tolist(),
        merged.column("class").to_pylist(),
        counted.tolist(),
        first_rows.tolist(),
        strict=True,
    ):
        if label is not None:
            before, earliest = labels[case].get(label, (0, row))
            labels[case][label] = before + n, min(row, earliest)
    labels = [dict(sorted(label.items(), key=lambda pair: (-pair[1][0], pair[1][1]))) for label in labels]
    take = pa.array(firsts)
    made = [
        CaseColumn(name, kind, different.to_pylist(), own_codes[firsts], _step(kind, different))
        for name, kind, different, own_codes in columns
    ]
    typed = {name: array.take(take) for name, array in zip(counter.columns, arrays, strict=True)}
    return Cases(made, typed, rows, first, labels)


def _typed(column: pa.ChunkedArray, kind: ValueType) -> pa.Array:
    array = column.combine_chunks()
    if isinstance(array, pa.ChunkedArray):
        array = array.chunk(0) if array.num_chunks else pa.array([], array.type)
    if pa.types.is_string(array.type):
        array = convert_text(array, kind).array
    if pa.types.is_decimal(array.type):
        array = array.cast(pa.float64())
    return _blank_as_null(array)


def _step(kind: ValueType, different: pa.Array) -> Decimal | None:
    if kind != "number":
        return None
    finest = finest_step(as_numbers(different))
    return None if finest is None else Decimal(f"{finest:.10g}")
