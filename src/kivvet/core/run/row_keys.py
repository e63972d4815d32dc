"""Whether the columns that are said to name each row do so: no value is missing, and none stands twice."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.values import write_plain
from kivvet.core.words.wording import count, listed

_MOST_EXAMPLES = 3
_MOST_ROWS_TOLD = 4


class RowKeys:
    """Gathers the key of each row, batch by batch; what is wrong with them is known at the end.

    Parameters
    ----------
    names : sequence of str
        The columns that together name a row.
    """

    def __init__(self, names: Sequence[str]) -> None:
        self.names = tuple(names)
        self.parts: list[pa.RecordBatch] = []

    def see(self, columns: Sequence[pa.Array]) -> None:
        """Take in one batch: an array for each column."""
        plain = [
            column.dictionary_decode() if pa.types.is_dictionary(column.type) else column
            for column in columns
        ]
        self.parts.append(pa.RecordBatch.from_arrays(plain, names=[str(n) for n in range(len(plain))]))

    def findings(self) -> list[Finding]:
        """Return what is wrong; the rows concerned are among those of the data, and are told in the message."""
        if not self.parts or not any(len(part) for part in self.parts):
            return []
        table = pa.Table.from_batches(self.parts)
        called = listed(self.names)
        gone = np.logical_or.reduce([_is_missing(column) for column in table.columns])
        found = []
        if gone.any():
            n_gone, first = int(gone.sum()), int(np.argmax(gone)) + 1
            what = f"{count(n_gone, 'row')} {'has' if n_gone == 1 else 'have'} no {called}, which is the key"
            found.append(
                finding(
                    "blank-key",
                    f"{what}; the first is row {first:,}",
                    count=n_gone,
                    remedy="fill it in, leave these rows out, or name columns that every row fills as the key",
                )
            )
            table = table.filter(pa.array(~gone))
        names = table.column_names
        counted = table.group_by(names).aggregate([([], "count_all")])
        twice = counted.filter(pc.greater(counted["count_all"], 1))
        if len(twice):
            found.append(self._repeated(table, twice, np.flatnonzero(~gone)))
        return found

    def _repeated(
        self, table: pa.Table, twice: pa.Table, rows: np.ndarray[tuple[int], np.dtype[np.int64]]
    ) -> Finding:
        examples = []
        for value in twice.slice(0, _MOST_EXAMPLES).to_pylist():
            same = np.ones(len(table), bool)
            for name in table.column_names:
                equal = pc.equal(table[name], pa.scalar(value[name], table.schema.field(name).type))
                same &= equal.to_numpy()
            text = ", ".join(write_plain(value[name]) for name in table.column_names)
            numbers = [f"{row + 1:,}" for row in rows[np.flatnonzero(same)].tolist()]
            examples.append(f"{text} (rows {listed(numbers, _MOST_ROWS_TOLD)})")
        n_rows = int(pc.sum(twice["count_all"]).as_py())
        stand = "value stands" if len(twice) == 1 else "values stand"
        return finding(
            "repeated-key",
            f"{listed(self.names)} is the key, and {len(twice):,} {stand} in more than one row: {'; '.join(examples)}",
            count=n_rows,
            remedy="correct the rows, or name as the key columns that together tell the rows apart",
        )


def _is_missing(column: pa.ChunkedArray) -> np.ndarray[tuple[int], np.dtype[np.bool_]]:
    gone = pc.is_null(column, nan_is_null=pa.types.is_floating(column.type))
    if pa.types.is_string(column.type) or pa.types.is_large_string(column.type):
        gone = pc.or_(gone, pc.fill_null(pc.equal(column, ""), True))
    return np.asarray(gone.to_numpy(zero_copy_only=False) if isinstance(gone, pa.Array) else gone.to_numpy())
