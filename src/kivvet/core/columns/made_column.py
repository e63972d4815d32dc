"""A column that a table or a formula made, and the forms in which it leaves the core."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.columns.arrays import Array
from kivvet.core.columns.column import CodedColumn, Column, TextColumn, column_from_arrow

#: The key of a field's metadata under which the classes stand in order, as a JSON list.
CLASS_ORDER = "class_order"


@dataclass(frozen=True)
class MadeColumn:
    """A new column: codes into classes, or typed values.

    Attributes
    ----------
    name : str
    classes : pyarrow.Array or None
        The classes in order, for text.
    codes : ndarray of int8, int16 or int32, or None
        -1 is missing.
    is_ordered : bool
    values : pyarrow.Array or None
        For all other types.
    validity : (pyarrow.Buffer or None, int) or None
        Arrow's bitmap of the codes that are there and how many are not, where it is known already.
    """

    name: str
    classes: pa.Array | None = None
    codes: Array | None = None
    is_ordered: bool = False
    values: pa.Array | None = None
    validity: tuple[pa.Buffer | None, int] | None = None

    def as_column(self) -> Column:
        """Return it as an input for other tables."""
        if self.codes is not None:
            return CodedColumn(self.codes, TextColumn(self.classes))
        return column_from_arrow(self.values, self.name)

    @property
    def field_metadata(self) -> dict[str, str] | None:
        """Return what goes with the field in a file: the classes in order, which survive readers that drop the flag."""
        if not self.is_ordered or self.classes is None:
            return None
        return {CLASS_ORDER: json.dumps(self.classes.to_pylist(), ensure_ascii=False)}

    def as_arrow(self) -> pa.Array:
        """Return a dictionary array for classes, a typed array otherwise."""
        if self.codes is None:
            return self.values
        if self.validity is not None:
            bitmap, n_missing = self.validity
        else:
            present = self.codes >= 0
            n_missing = len(self.codes) - int(np.count_nonzero(present))
            bitmap = pa.py_buffer(np.packbits(present, bitorder="little")) if n_missing else None
        indices = pa.Array.from_buffers(
            pa.from_numpy_dtype(self.codes.dtype),
            len(self.codes),
            [bitmap, pa.py_buffer(self.codes)],
            n_missing,
        )
        return pa.DictionaryArray.from_arrays(indices, self.classes, ordered=self.is_ordered, safe=False)

    def as_pandas(self) -> Any:
        """Return what becomes a column of a pandas frame."""
        import pandas as pd

        if self.codes is None:
            return _typed_pandas(self.values)
        assert self.classes is not None
        dtype = pd.CategoricalDtype(pd.Index(self.classes.to_pylist(), dtype="str"), ordered=self.is_ordered)
        return pd.Categorical.from_codes(self.codes, dtype=dtype, validate=False)


def _typed_pandas(values: pa.Array) -> Any:
    import pandas as pd

    type_ = values.type
    gone = pc.is_null(values).to_numpy(zero_copy_only=False)
    if pa.types.is_integer(type_):
        return pd.arrays.IntegerArray(pc.fill_null(values, 0).to_numpy(zero_copy_only=False), gone)
    if pa.types.is_boolean(type_):
        return pd.arrays.BooleanArray(pc.fill_null(values, False).to_numpy(zero_copy_only=False), gone)
    if pa.types.is_floating(type_):
        return values.to_numpy(zero_copy_only=False)
    if pa.types.is_date(type_):
        return values.cast(pa.timestamp("s")).to_numpy(zero_copy_only=False)
    if pa.types.is_timestamp(type_):
        return values.to_numpy(zero_copy_only=False)
    return pd.array(values.to_pylist(), dtype=pd.ArrowDtype(type_))
