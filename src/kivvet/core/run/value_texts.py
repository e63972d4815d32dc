"""Values of rows as texts, with how often each occurs: what reports list."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.column import CodedColumn, Column, TextColumn, arrow_from_column
from kivvet.core.words.values import write_plain

MOST_ROWS_COMBINED = 1_000  # of a batch, whose values of several inputs are put together


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
    rows = np.flatnonzero(mask)[:MOST_ROWS_COMBINED]
    return [(named_texts(columns, texts), n) for texts, n, _ in different_rows(columns, rows)]


def combinations(
    columns: Mapping[str, Column], mask: npt.NDArray[np.bool_]
) -> list[tuple[tuple[str, ...], int]]:
    """Return every combination of values of the rows in `mask` as texts, with how often each occurs."""
    if len(columns) == 1:
        (column,) = columns.values()
        return [((text,), n) for text, n in value_counts(column, mask)]
    return [(texts, n) for texts, n, _ in different_rows(columns, np.flatnonzero(mask))]


def different_rows(
    columns: Mapping[str, Column], rows: npt.NDArray[np.int64]
) -> list[tuple[tuple[str, ...], int, int]]:
    """Return the different combinations of values of some rows as texts, how often each occurs, and the first of
    its rows, in the order of the first rows. Only what is different becomes text.
    """
    codes = np.zeros(len(rows), np.int64)
    encoded = []
    for column in columns.values():
        each = pc.dictionary_encode(_values_of(column, rows), null_encoding="encode")
        encoded.append(each)
        size = len(each.dictionary)
        together = codes * size + each.indices.to_numpy(zero_copy_only=False)
        codes = np.unique(together, return_inverse=True)[1].reshape(-1) if len(columns) > 1 else together
    _, firsts, counts = np.unique(codes, return_index=True, return_counts=True)
    order = np.argsort(firsts)
    firsts, counts = firsts[order], counts[order]
    texts = [[write_plain(value) for value in each.take(pa.array(firsts)).to_pylist()] for each in encoded]
    return list(zip(zip(*texts, strict=True), counts.tolist(), rows[firsts].tolist(), strict=True))


def text_at(column: Column, row: int) -> str:
    """Return the value of one row as text."""
    return write_plain(_values_of(column, np.array([row]))[0].as_py())


def named_texts(columns: Mapping[str, Column], texts: Sequence[str]) -> str:
    """Return the values of a row as text: of one column the value, of several ``ph = 6.4, flow = 12``."""
    if len(texts) == 1:
        return texts[0]
    return ", ".join(f"{name} = {text}" for name, text in zip(columns, texts, strict=True))


def _values_of(column: Column, rows: npt.NDArray[np.int64]) -> pa.Array:
    """Return some rows of a column as an Arrow array; what is missing is null."""
    if isinstance(column, TextColumn):
        texts = column.values.take(pa.array(rows))
        return pc.if_else(pc.equal(texts, ""), None, texts)
    valid = None if column.valid is None else column.valid[rows]
    if isinstance(column, CodedColumn):
        return arrow_from_column(replace(column, codes=column.codes[rows], valid=valid))
    return arrow_from_column(replace(column, values=column.values[rows], valid=valid))
