"""How the columns of a Parquet file are encoded: by a dictionary where values repeat, else plainly."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

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
