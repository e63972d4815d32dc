"""How the columns of a Parquet file are encoded: by a dictionary where values repeat, else plainly."""

from __future__ import annotations

from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

_LARGEST_DICTIONARY = 1 << 20  # bytes, beyond which the writer gives up a dictionary that it has begun
_MOST_ROWS = 1 << 20


def encoding_options(first: pa.Table) -> dict[str, Any]:
    """Return the options of the writer for a file of which the first row group is given.

    To begin a dictionary for values that hardly repeat, and to give it up, costs more than all the rest of encoding.
    """
    names: list[str] = first.column_names
    columns = [column.slice(0, _MOST_ROWS) for column in first.columns]
    by_dictionary = [name for name, column in zip(names, columns, strict=True) if _repeats(column)]
    return {"compression": "snappy", "use_dictionary": by_dictionary}


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
    return bool(pc.count_distinct(column).as_py() * width <= _LARGEST_DICTIONARY)
