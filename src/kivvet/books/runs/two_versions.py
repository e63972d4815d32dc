"""One pass over a source in which two versions of a plan are run side by side: what each makes of the same rows."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.books.runs.prepare import Prepared
from kivvet.books.runs.read_data import TypedBatch
from kivvet.books.runs.run import Run, RunBatch
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.run.plan import Plan

OnRows = Callable[[int], None]


@dataclass(frozen=True)
class BatchOfBoth:
    """One batch of the source, with what each version makes of it."""

    old: RunBatch
    new: RunBatch

    @property
    def n_rows(self) -> int:
        return self.new.n_rows

    @property
    def rows_before(self) -> int:
        return self.new.rows_before


class TwoVersions:
    """Two versions of a plan over one source, which is read once.

    Parameters
    ----------
    old, new : Prepared
        Of one source.
    old_plan, new_plan : Plan
        What is run of them.
    """

    def __init__(
        self,
        old: Prepared,
        new: Prepared,
        old_plan: Plan,
        new_plan: Plan,
        *,
        on_rows: OnRows = lambda _: None,
    ) -> None:
        self.new = Run(new, plan=new_plan, with_report=False, on_rows=on_rows)
        self.old = Run(old, plan=old_plan, with_report=False, on_rows=on_rows)
        self.reads_alike = old.types == new.types

    def batches(self) -> Iterator[BatchOfBoth]:
        """Yield the batches in order; none where nothing is read."""
        names = list(dict.fromkeys([*self.new.plan.source_columns, *self.old.plan.source_columns]))
        if not names:
            return
        self.old.look_ahead()
        for new in self.new.batches(names):
            read = (
                new.read if self.reads_alike else TypedBatch(self.old.reader, new.read.batch, new.rows_before)
            )
            made = self.old.execution.apply(read.column, new.n_rows)
            yield BatchOfBoth(RunBatch(read, made, self.old.execution.kept), new)

    def stop_at_faults(self) -> None:
        """Raise `TableError` where fields could not be read."""
        self.new.stop_at_faults()
        if not self.reads_alike:
            self.old.stop_at_faults()


def differing(old: MadeColumn, new: MadeColumn) -> npt.NDArray[np.bool_]:
    """Return the rows in which two columns made hold other values; a missing value is like another only."""
    if old.codes is not None and new.codes is not None:
        assert old.classes is not None and new.classes is not None
        joint = pc.index_in(old.classes, value_set=new.classes).fill_null(-2).to_numpy(zero_copy_only=False)
        place = np.append(joint.astype(np.int64), -1)  # -1, missing, is the last
        return np.asarray(place[old.codes] != new.codes)
    one, other = _plain(old), _plain(new)
    if one.type != other.type and not (_is_number(one.type) and _is_number(other.type)):
        one, other = one.cast(pa.string()), other.cast(pa.string())
    gone = pc.is_null(one).to_numpy(zero_copy_only=False) != pc.is_null(other).to_numpy(zero_copy_only=False)
    unlike = pc.fill_null(_not_equal(one, other), False)
    return np.asarray(gone | unlike.to_numpy(zero_copy_only=False))


def _plain(made: MadeColumn) -> pa.Array:
    array = made.as_arrow()
    if isinstance(array, pa.ChunkedArray):
        array = array.combine_chunks()
    return array.dictionary_decode() if isinstance(array, pa.DictionaryArray) else array


def _is_number(kind: pa.DataType) -> bool:
    return bool(pa.types.is_integer(kind) or pa.types.is_floating(kind) or pa.types.is_decimal(kind))


def _not_equal(one: pa.Array, other: pa.Array) -> pa.Array:
    if pa.types.is_nested(one.type):
        return _lists_differ(one, other)
    if pa.types.is_floating(one.type) and pa.types.is_floating(other.type):
        left, right = (each.to_numpy(zero_copy_only=False) for each in (one, other))
        return pa.array((left != right) & ~(np.isnan(left) & np.isnan(right)))
    return pc.not_equal(one, other)


def _lists_differ(one: pa.Array, other: pa.Array) -> pa.Array:
    lengths = [pc.fill_null(pc.list_value_length(each), 0).to_numpy() for each in (one, other)]
    differs = np.asarray(lengths[0] != lengths[1])
    alike = np.flatnonzero(~differs)
    left, right = (each.take(pa.array(alike)).flatten() for each in (one, other))
    unlike = pc.fill_null(_not_equal(left, right), False).to_numpy(zero_copy_only=False)
    differs[np.repeat(alike, lengths[0][alike])[unlike]] = True
    return pa.array(differs)
