"""How the columns of a Parquet file are encoded: by a dictionary where values repeat, else plainly; row groups in memory, several
at once.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import THREADS
from kivvet.io.parquet_footer import ROW_GROUPS, Fields, footer_of, listed_in

_LARGEST_DICTIONARY = 1 << 20  # bytes, beyond which the writer gives up a dictionary that it has begun
_MOST_ROWS = 1 << 20
_ROWS_AT_ONCE = 1 << 14  # that the writer encodes, where its own choice is a thousand
_PIECES, _PIECE_ROWS = 16, 1 << 11  # of a column that are counted
_MANY = 8  # times that a value is met among them, from which on it counts as one, whatever the number of rows


def encoding_options(first: pa.Table) -> dict[str, Any]:
    """Return the options of the writer for a file of which the first row group is given.

    To begin a dictionary for values that hardly repeat, and to give it up, costs more than all the rest of encoding.
    """
    names: list[str] = first.column_names
    columns = [column.slice(0, _MOST_ROWS) for column in first.columns]
    by_dictionary = [name for name, column in zip(names, columns, strict=True) if _repeats(column)]
    return {"compression": "snappy", "use_dictionary": by_dictionary, "write_batch_size": _ROWS_AT_ONCE}


@dataclass(frozen=True, slots=True)
class EncodedGroup:
    """A row group as a whole file in memory: its bytes, its footer, and how many rows it has."""

    content: memoryview
    footer: Fields
    n_rows: int

    @property
    def group(self) -> Fields:
        """What the footer says of the row group."""
        groups: list[Fields] = listed_in(self.footer, ROW_GROUPS)
        return groups[0]


class GroupEncoder:
    """Encodes the row groups of a file in threads, and gives them back in order; few are held at a time."""

    def __init__(self) -> None:
        self._options: dict[str, Any] | None = None
        self._pool = ThreadPoolExecutor(THREADS, "encoding")
        self._begun: deque[Future[EncodedGroup]] = deque()

    def add(self, rows: pa.Table) -> Iterator[EncodedGroup]:
        """Begin to encode a row group; yield those before it that have to be taken first."""
        if self._options is None:
            self._options = encoding_options(rows)
        self._begun.append(self._pool.submit(self._encoded, rows))
        while len(self._begun) >= THREADS:
            yield self._begun.popleft().result()

    def rest(self) -> Iterator[EncodedGroup]:
        """Yield all that were begun and not yet given."""
        while self._begun:
            yield self._begun.popleft().result()
        self._pool.shutdown()

    def abandon(self) -> None:
        """Begin no more, and let go of what was begun."""
        self._begun.clear()
        self._pool.shutdown(wait=False, cancel_futures=True)

    def _encoded(self, rows: pa.Table) -> EncodedGroup:
        return encoded_group(rows, self._options or {})


def encoded_group(rows: pa.Table, options: dict[str, Any]) -> EncodedGroup:
    """Return rows as the one row group of a file in memory; a file without any where there are no rows."""
    from pyarrow import parquet

    sink = pa.BufferOutputStream()
    parquet.write_table(rows, sink, row_group_size=len(rows) or None, **options)
    content = memoryview(sink.getvalue())
    return EncodedGroup(content, footer_of(content), len(rows))


def _repeats(column: pa.ChunkedArray) -> bool:
    """Whether the dictionary of the values of a column stays so small that the writer keeps it."""
    kind = column.type
    if pa.types.is_boolean(kind):
        return False  # takes none
    if pa.types.is_primitive(kind):
        width = max(1, int(kind.bit_width) // 8)
    elif pa.types.is_string(kind) and len(column):
        width = 4 + sum(pc.sum(pc.binary_length(chunk)).as_py() or 0 for chunk in column.chunks) // len(
            column
        )
    else:
        return True
    if len(column) * width <= _LARGEST_DICTIONARY:
        return True
    return _different_values(column) * width <= _LARGEST_DICTIONARY


def _different_values(column: pa.ChunkedArray) -> float:
    """Return about how many different values a column holds, by pieces of it: a wrong guess costs time or room.

    Values that are met often are as many in all rows; the others are taken to be equally frequent, so that of D of them
    n rows hold D (1 - exp(-n / D)). Where no value is met in two pieces, as in a column that is sorted, each holds others.
    """
    step = max(1, len(column) // _PIECES)
    pieces = [column.slice(start, _PIECE_ROWS) for start in range(0, len(column), step)]
    n_apart = sum(pc.count_distinct(piece).as_py() for piece in pieces)
    counts = pc.value_counts(pa.chunked_array([chunk for piece in pieces for chunk in piece.chunks]))
    times = counts.field("counts").to_numpy()
    if len(times) > 0.95 * n_apart:
        return len(times) * len(column) / int(times.sum())
    is_rare = times < _MANY
    n_rare, met = int(times[is_rare].sum()), int(np.count_nonzero(is_rare))
    often = len(times) - met
    if not met:
        return often
    low, high = float(met), 1e12
    for _ in range(60):
        middle = math.sqrt(low * high)
        low, high = (low, middle) if middle * -math.expm1(-n_rare / middle) > met else (middle, high)
    return often - low * math.expm1(-len(column) * n_rare / int(times.sum()) / low)
