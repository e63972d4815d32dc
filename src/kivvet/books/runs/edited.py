"""What something else changed in a target since it was written: the target is worked out again as it was, and the two are
held against each other.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.books.files.dataset import Dataset
from kivvet.books.runs.again import as_then
from kivvet.books.runs.record import Record
from kivvet.books.runs.since_then import changed_options
from kivvet.core.compare.change import Change
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.values import write_plain
from kivvet.core.words.wording import count, listed
from kivvet.io.csv_target import as_text
from kivvet.io.databases.places import InDatabase
from kivvet.io.frame_source import FrameSource
from kivvet.io.locations import Location, is_of_parts, open_written
from kivvet.io.scratch import scratch_folder
from kivvet.io.source_and_target import Source

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

_MOST_EXAMPLES = 5
_MOST_COLUMNS = 8
_MOST_SORTED = 1_000_000  # rows of a database, which have no order of their own


@dataclass(frozen=True)
class Edits:
    """What is different in a target.

    Attributes
    ----------
    message : str
        Where, in words; empty where it cannot be told.
    examples : tuple of Change
        The first fields that differ: what was written, and what is there.
    """

    message: str = ""
    examples: tuple[Change, ...] = ()


def edits_of(book: OpenBook, dataset: Dataset, record: Record) -> Edits:
    """Return what was changed in a target, whose record this is; nothing is told where what was written cannot be worked
    out again, since the source or the options changed, or the rules are not remembered.
    """
    assert dataset.target is not None
    try:
        if changed_options(record.read_options, dataset.read_options()):
            return Edits()
        again = as_then(book, dataset, record)
        with scratch_folder() as folder:
            name = "as_it_was.parquet"  # of what lies in a database, or in a lake
            if isinstance(dataset.target, Path) and not is_of_parts(dataset.target):
                name = dataset.target.name
            written = folder / name
            beside = written.with_name(f"part.{written.name}")
            report, _ = again.write(written, beside)
            beside.replace(written)
            if report.rows != record.rows:
                return Edits()
            return _differences(_opened(written, dataset), dataset)
    except (KivvetError, OSError, pa.ArrowInvalid):
        return Edits()


def _opened(path: Location, dataset: Dataset) -> Source:
    return open_written(path, dataset.written_as)


def _differences(written: Source, dataset: Dataset) -> Edits:
    """Return how a target differs from what was written."""
    assert dataset.target is not None
    try:
        there = _opened(dataset.target, dataset)
        parts = _columns(written, there)
        shared = [name for name in written.names if name in there.names]
        n_rows = written.n_rows(), there.n_rows()
        if n_rows[0] != n_rows[1]:
            parts.append(f"it has {count(n_rows[1], 'row')} instead of {n_rows[0]:,}")
            parts += _keys(written, there, dataset.key) if set(dataset.key) <= set(shared) else []
            return Edits("; ".join(parts))
        if isinstance(dataset.target, InDatabase):
            if not dataset.key or n_rows[0] > _MOST_SORTED or not set(dataset.key) <= set(shared):
                return Edits("; ".join(parts))
            written, there = (_sorted(source, shared, dataset.key) for source in (written, there))
        found = _Differing(shared)
        for rows_before, one, other in _in_step(written, there, shared):
            found.see(rows_before, one, other)
    except KivvetError as error:
        return Edits(f"it cannot be read: {error.problem}")
    parts += found.said()
    return Edits("; ".join(parts) or "no value differs", tuple(found.examples))


def _sorted(source: Source, names: Sequence[str], key: Sequence[str]) -> Source:
    """Return the rows of a source in the order of their keys: those of a database have none."""
    rows = pa.Table.from_batches(list(source.batches(names)))
    return FrameSource(rows.sort_by([(name, "ascending") for name in key]))


def _columns(written: Source, there: Source) -> list[str]:
    gone = [name for name in written.names if name not in there.names]
    new = [name for name in there.names if name not in written.names]
    said = [f"it has no column {listed(gone)}"] if gone else []
    return [*said, f"it has a column more: {listed(new)}"] if new else said


def _keys(written: Source, there: Source, key: Sequence[str]) -> list[str]:
    """Return the rows that are gone and those that are new, by their keys."""
    if not key:
        return []
    held = [
        set(zip(*(column.to_pylist() for column in _texts(source, key)), strict=True))
        for source in (written, there)
    ]
    said = []
    for what, keys in (("gone", held[0] - held[1]), ("new", held[1] - held[0])):
        if keys:
            shown = [", ".join(map(write_plain, key)) for key in sorted(keys, key=str)]
            said.append(f"{what}: {listed(shown, _MOST_COLUMNS)}")
    return said


def _texts(source: Source, names: Sequence[str]) -> list[pa.ChunkedArray]:
    batches = list(source.batches(names))
    return [pa.chunked_array([as_text(batch.column(name)) for batch in batches]) for name in names]


def _in_step(
    one: Source, other: Source, names: Sequence[str]
) -> Iterator[tuple[int, pa.RecordBatch, pa.RecordBatch]]:
    """Yield the same rows of two files, which have as many."""
    if not names:
        return
    batches = one.batches(names), other.batches(names)
    waiting: list[pa.RecordBatch | None] = [None, None]
    rows_before = 0
    while True:
        for side in (0, 1):
            while (held := waiting[side]) is None or not held.num_rows:
                waiting[side] = next(batches[side], None)
                if waiting[side] is None:
                    return
        first, second = waiting
        assert first is not None and second is not None
        n_rows = min(first.num_rows, second.num_rows)
        yield rows_before, first.slice(0, n_rows), second.slice(0, n_rows)
        waiting = [first.slice(n_rows), second.slice(n_rows)]
        rows_before += n_rows


class _Differing:
    """The rows in which columns of two files differ."""

    def __init__(self, names: Sequence[str]) -> None:
        self.names = names
        self.counts = dict.fromkeys(names, 0)
        self.first: dict[str, int] = {}
        self.n_rows = 0
        self.examples: list[Change] = []

    def see(self, rows_before: int, one: pa.RecordBatch, other: pa.RecordBatch) -> None:
        any_differs = np.zeros(one.num_rows, bool)
        for name in self.names:
            pair = [as_text(batch.column(name)) for batch in (one, other)]
            texts = [pc.fill_null(column.cast(pa.large_string()), "") for column in pair]
            differs = pc.not_equal(*texts).to_numpy(zero_copy_only=False)
            any_differs |= differs
            rows = np.flatnonzero(differs)
            if not len(rows):
                continue
            self.counts[name] += len(rows)
            self.first.setdefault(name, rows_before + int(rows[0]) + 1)
            for row in rows[: _MOST_EXAMPLES - len(self.examples)].tolist():
                before, after = (column[row].as_py() or "missing" for column in texts)
                self.examples.append(Change(f"row {rows_before + row + 1:,}, {name}", before, after))
        self.n_rows += int(any_differs.sum())

    def said(self) -> list[str]:
        parts = [
            f"{name} ({count(n, 'row')}, the first is row {self.first[name]:,})"
            for name, n in self.counts.items()
            if n
        ]
        if not parts:
            return []
        return [
            f"{count(self.n_rows, 'row')} differ{'s' if self.n_rows == 1 else ''}: {listed(parts, _MOST_COLUMNS)}"
        ]
