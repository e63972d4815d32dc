"""Values of rows as texts, with how often each occurs: what reports list."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.column import CodedColumn, Column, TextColumn, arrow_from_column, rows_of
from kivvet.core.words.values import write_plain

_MOST_ROWS_COMBINED = 1_000  # whose values are put together where a few are wanted


def value_counts(column: Column, mask: npt.NDArray[np.bool_]) -> list[tuple[str, int]]:
    """Return the values of the rows in `mask`, written as text, with how often each occurs."""
    if isinstance(column, CodedColumn):
        rows = np.bincount(column.codes[mask].astype(np.intp), minlength=len(column.distinct))
        present = np.flatnonzero(rows)
        texts = arrow_from_column(column.distinct).take(pa.array(present)).to_pylist()
        return [(write_plain(value), int(n)) for value, n in zip(texts, rows[present], strict=True)]
    counted = pc.value_counts(arrow_from_column(column).filter(pa.array(mask)))
    return [(write_plain(value["values"]), value["counts"]) for value in counted.to_pylist()]


def combined_counts(columns: Mapping[str, Column], mask: npt.NDArray[np.bool_]) -> list[tuple[str, int]]:
    """Return the first few combinations of values of the rows in `mask`, with how often each occurs among
    them.
    """
    found = different_rows(columns, np.flatnonzero(mask)[:_MOST_ROWS_COMBINED])
    return [
        (named_texts(columns, texts), n)
        for texts, n in zip(found.texts(), found.counts.tolist(), strict=True)
    ]


def combinations(
    columns: Mapping[str, Column], mask: npt.NDArray[np.bool_]
) -> list[tuple[tuple[str, ...], int]]:
    """Return every combination of values of the rows in `mask` as texts, with how often each occurs."""
    if len(columns) == 1:
        (column,) = columns.values()
        return [((text,), n) for text, n in value_counts(column, mask)]
    found = different_rows(columns, np.flatnonzero(mask))
    return list(zip(found.texts(), found.counts.tolist(), strict=True))


@dataclass
class DifferentRows:
    """The different combinations of values of some rows, in the order of the first rows that have them.

    Attributes
    ----------
    names : list of str
        Of the columns.
    values : list of pyarrow.Array
        By column, the value of each combination.
    counts, firsts : ndarray of int64
        How many of the rows have it, and the first of them.
    """

    names: list[str]
    values: list[pa.Array]
    counts: npt.NDArray[np.int64]
    firsts: npt.NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.counts)

    @property
    def types(self) -> list[pa.DataType]:
        """The types of the columns."""
        return [value.type for value in self.values]

    def first(self, most: int) -> DifferentRows:
        """Return the first so many of them."""
        if len(self) <= most:
            return self
        values = [value.slice(0, most) for value in self.values]
        return DifferentRows(self.names, values, self.counts[:most], self.firsts[:most])

    def texts(self) -> list[tuple[str, ...]]:
        """Return the values of each as texts."""
        return list(
            zip(*([write_plain(value) for value in one.to_pylist()] for one in self.values), strict=True)
        )


def different_rows(columns: Mapping[str, Column], rows: npt.NDArray[np.int64]) -> DifferentRows:
    """Return the different combinations of values of some rows."""
    values = [_values_of(column, rows) for column in columns.values()]
    _, firsts, counts = np.unique(codes_of(values), return_index=True, return_counts=True)
    order = np.argsort(firsts)
    firsts, counts = firsts[order], counts[order]
    taken = pa.array(firsts)
    return DifferentRows(list(columns), [value.take(taken) for value in values], counts, rows[firsts])


def codes_of(values: Sequence[pa.Array]) -> npt.NDArray[np.int64]:
    """Return a number for each row of some columns, the same for rows with the same values; null is one."""
    codes = np.zeros(len(values[0]), np.int64)
    for column in values:
        each = pc.dictionary_encode(column, null_encoding="encode")
        together = codes * len(each.dictionary) + each.indices.to_numpy(zero_copy_only=False)
        codes = np.unique(together, return_inverse=True)[1].reshape(-1) if len(values) > 1 else together
    return codes


def text_at(column: Column, row: int) -> str:
    """Return the value of one row as text."""
    return write_plain(_values_of(column, np.array([row]))[0].as_py())


def named_texts(columns: Collection[str], texts: Sequence[str]) -> str:
    """Return the values of a row as text: of one column the value, of several ``ph = 6.4, flow = 12``."""
    if len(texts) == 1:
        return texts[0]
    return ", ".join(f"{name} = {text}" for name, text in zip(columns, texts, strict=True))


def _values_of(column: Column, rows: npt.NDArray[np.int64]) -> pa.Array:
    """Return some rows of a column as an Arrow array; what is missing is null."""
    if isinstance(column, TextColumn):
        texts = column.values.take(pa.array(rows))
        return pc.if_else(pc.equal(texts, ""), None, texts)
    some = arrow_from_column(rows_of(column, rows))
    return some.dictionary_decode() if isinstance(some, pa.DictionaryArray) else some
