"""Values of rows as texts, with how often each occurs: what reports list."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.column import CodedColumn, Column, NumericColumn, arrow_from_column
from kivvet.core.words.values import write_plain

if TYPE_CHECKING:
    pass

_MOST_ROWS_COMBINED = 1_000  # of a batch, whose values of several inputs are put together


def value_counts(column: Column, mask: npt.NDArray[np.bool_]) -> list[tuple[str, int]]:
    """Return the values of the rows in `mask`, written as text, with how often each occurs."""
    if isinstance(column, CodedColumn):
        rows = np.bincount(column.codes[mask].astype(np.intp), minlength=len(column.distinct))
        present = np.flatnonzero(rows)
        texts = arrow_from_column(column.distinct).take(pa.array(present)).to_pylist()
        return [(write_plain(value), int(n)) for value, n in zip(texts, rows[present], strict=True)]
    counted = pc.value_counts(arrow_from_column(column).filter(pa.array(mask)))
    return [(write_plain(one["values"]), one["counts"]) for one in counted.to_pylist()]


def combined_counts(columns: Mapping[str, Column], mask: npt.NDArray[np.bool_]) -> list[tuple[str, int]]:
    """Return the first few combinations of values of the rows in `mask`, with how often each occurs among
    them.
    """
    rows = pa.array(np.flatnonzero(mask)[:_MOST_ROWS_COMBINED])
    return list(Counter(combined_texts(columns, rows)).items())


def combined_texts(columns: Mapping[str, Column], rows: pa.Array) -> list[str]:
    """Return the values of some rows as text: of one column the value, of several ``ph = 6.4, flow = 12``."""
    values = [_rows_of(column, rows) for column in columns.values()]
    if len(values) == 1:
        return [write_plain(one) for one in values[0]]
    return [
        ", ".join(f"{name} = {write_plain(one)}" for name, one in zip(columns, row, strict=True))
        for row in zip(*values, strict=True)
    ]


def combinations(
    columns: Mapping[str, Column], mask: npt.NDArray[np.bool_]
) -> list[tuple[tuple[str, ...], int]]:
    """Return every combination of values of the rows in `mask` as texts, with how often each occurs."""
    if len(columns) == 1:
        (column,) = columns.values()
        return [((text,), n) for text, n in value_counts(column, mask)]
    rows = pa.array(np.flatnonzero(mask))
    encoded = [
        pc.dictionary_encode(pa.array(_rows_of(column, rows)), null_encoding="encode")
        for column in columns.values()
    ]
    codes = np.column_stack([one.indices.to_numpy(zero_copy_only=False) for one in encoded])
    different, counts = np.unique(codes, axis=0, return_counts=True)
    texts = [[write_plain(value) for value in one.dictionary.to_pylist()] for one in encoded]
    return [
        (tuple(one[code] for one, code in zip(texts, combination, strict=True)), n)
        for combination, n in zip(different.tolist(), counts.tolist(), strict=True)
    ]


def combination_counts(columns: Mapping[str, Column], mask: npt.NDArray[np.bool_]) -> list[tuple[str, int]]:
    """Return every combination of values of the rows in `mask`, ``site = 0007, year = 2026``, with how often
    it occurs.
    """
    return [
        (", ".join(f"{name} = {text}" for name, text in zip(columns, texts, strict=True)), n)
        for texts, n in combinations(columns, mask)
    ]


def _rows_of(column: Column, rows: pa.Array) -> list[Any]:
    texts: list[Any]
    if isinstance(column, NumericColumn):
        valid = column.valid if column.valid is None else column.valid[rows]
        texts = arrow_from_column(replace(column, values=column.values[rows], valid=valid)).to_pylist()
        return texts
    if isinstance(column, CodedColumn):
        valid = column.valid if column.valid is None else column.valid[rows]
        texts = arrow_from_column(CodedColumn(column.codes[rows], column.distinct, valid)).to_pylist()
        return texts
    return [text or None for text in column.values.take(rows).to_pylist()]
