"""Frames of polars with new columns: the old ones stay as they are, and ordered classes are its type for these (`Enum`), made of
their codes. Polars is not loaded here: a frame of it brings it along.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from typing import Any

import pyarrow as pa

from kivvet.core.columns.column import BoolArray
from kivvet.core.columns.made_column import CLASS_ORDER

_NAME = "column"
NewColumn = tuple[pa.Field, pa.ChunkedArray]


def is_polars(frame: Any) -> bool:
    """Whether a frame is one of polars."""
    return type(frame).__module__.partition(".")[0] == "polars" and type(frame).__name__ == "DataFrame"


def arrow_of(series: Any) -> pa.ChunkedArray:
    """Return a column as Arrow's."""
    return pa.table(series.to_frame(_NAME)).column(0)


def with_new_columns(frame: Any, new: Sequence[NewColumn], kept: BoolArray | None) -> Any:
    """Return a frame of polars with new columns, and only the rows kept."""
    polars: Any = sys.modules["polars"]
    wide = frame.hstack([_series(polars, field, column) for field, column in new])
    return wide if kept is None else wide.filter(polars.Series(kept))


def _series(polars: Any, field: pa.Field, column: pa.ChunkedArray) -> Any:
    order = (field.metadata or {}).get(CLASS_ORDER.encode())
    if order is None:
        return polars.Series(field.name, column)
    classes: list[str] = json.loads(order)
    kind = polars.Enum(classes)
    whole = column.combine_chunks()
    array = whole.chunk(0) if isinstance(whole, pa.ChunkedArray) and whole.num_chunks else whole
    if isinstance(array, pa.DictionaryArray) and array.dictionary.to_pylist() == classes:
        held, wanted = array.indices, _unsigned(len(classes))
        # what is missing is told by the bitmap, whatever code stands there
        is_as_wide = held.type.bit_width == wanted.bit_width
        codes = polars.Series(field.name, held.view(wanted) if is_as_wide else held.cast(wanted))
        if hasattr(codes.cat, "to"):
            return codes.cat.to(kind)
    return polars.Series(field.name, column).cast(polars.String).cast(kind)


def _unsigned(n_classes: int) -> pa.DataType:
    """Return the type of the codes of so many classes, as polars keeps them."""
    return next(
        kind
        for most, kind in ((1 << 8, pa.uint8()), (1 << 16, pa.uint16()), (1 << 32, pa.uint32()))
        if n_classes < most
    )
