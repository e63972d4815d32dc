"""A source as it was when it had fewer rows: its first ones."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

import pyarrow as pa

from kivvet.io.files import FileMarks, FileState
from kivvet.io.source_and_target import Source


class FirstRows(Source):
    """The first rows of another source.

    Parameters
    ----------
    source : Source
    most : int
        How many.
    """

    def __init__(self, source: Source, most: int) -> None:
        self.source, self.most = source, most
        self.path, self.schema, self.stored_schema = source.path, source.schema, source.stored_schema
        self.notes, self.untyped = source.notes, source.untyped

    @property
    def headings(self) -> Sequence[str]:
        return self.source.headings

    @property
    def is_text(self) -> bool:
        return self.source.is_text

    @property
    def shown_name(self) -> str:
        return self.source.shown_name

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        left = self.most
        for batch in self.source.batches(names, block_bytes):
            if left <= 0:
                return
            yield batch.slice(0, left)
            left -= batch.num_rows

    def line_of_row(self, row: int) -> int | None:
        return self.source.line_of_row(row)

    def identity(self) -> FileState:
        return self.source.identity()

    def marks(self) -> FileMarks | None:
        return self.source.marks()

    def with_codes(self, names: Collection[str]) -> Source:
        return FirstRows(self.source.with_codes(names), self.most)

    def with_numbers(self, kinds: Mapping[str, pa.DataType]) -> Source:
        return FirstRows(self.source.with_numbers(kinds), self.most)
