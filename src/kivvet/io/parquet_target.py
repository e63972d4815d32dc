"""A Parquet file written row group by row group, which are encoded in threads; columns may be written below others, when all of these are."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import pyarrow as pa

from kivvet.io.hashed_file import HashedFile
from kivvet.io.parquet_chunks import (
    GROUP_COLUMNS,
    Described,
    described_in,
    group_of,
    joined_footer,
    placed,
    span_of,
)
from kivvet.io.parquet_encoding import EncodedGroup, GroupEncoder, encoded_group
from kivvet.io.parquet_footer import MAGIC, Fields, footer_bytes, listed_in
from kivvet.io.parquet_seal import sealed_footer
from kivvet.io.source_and_target import AS_IT_IS_NAMED, Seal, Target, WriteOptions

_ROWS_A_GROUP = 3 << 16


class ParquetTarget(Target):
    """Writes a Parquet file row group by row group, and its record into the footer.

    Attributes
    ----------
    schema : pyarrow.Schema
        Of all columns, in order, as far as they are known.
    now : pyarrow.Schema
        Of those that are being written.
    sizes : sequence of int or None
        The rows of each row group, where these are given.
    group_rows : list of int
        The rows of each row group that was written.
    chunks : list of dict of str to list of Fields
        By row group and column what the footer is to say of its chunks.
    """

    def __init__(
        self,
        path: Path,
        _: Path,
        schema: pa.Schema,
        __: WriteOptions = AS_IT_IS_NAMED,
        *,
        now: pa.Schema | None = None,
        sizes: Sequence[int] | None = None,
    ) -> None:
        self.schema = schema
        self.now = schema if now is None else now
        self.sizes = sizes
        self.encoder = GroupEncoder()
        self.waiting: list[pa.RecordBatch] = []
        self.n_waiting = self.n_begun = self.n_put = (
            0  # rows; row groups of the columns that are being written
        )
        self.group_rows: list[int] = []
        self.chunks: list[dict[str, list[Fields]]] = []
        self.described: dict[str, Described] = {}
        self.base: Fields = {}  # what the footer says besides
        self.file = HashedFile(path)
        self._begin()

    def _begin(self) -> None:
        self.file.write(MAGIC)

    # Of a table without columns Arrow knows no rows: where none are written, the groups are put at the end.

    def write(self, columns: Sequence[pa.Array]) -> None:
        batch = pa.RecordBatch.from_arrays(list(columns), schema=self.now)
        while batch.num_rows:
            left = max(batch.num_rows, _ROWS_A_GROUP - self.n_waiting)
            if self.sizes is not None:
                left = self.sizes[self.n_begun] - self.n_waiting
            part = batch.slice(0, left)
            self.waiting.append(part)
            self.n_waiting += part.num_rows
            batch = batch.slice(part.num_rows)
            if part.num_rows == left:
                self._begin_group()

    def _begin_group(self) -> None:
        """Begin to encode what has been collected as one row group."""
        rows = pa.Table.from_batches(self.waiting, self.now)
        self.waiting, self.n_waiting = [], 0
        self.n_begun += 1
        self._put_groups(self.encoder.add(rows))

    def _put_groups(self, groups: Iterator[EncodedGroup]) -> None:
        for group in groups:
            if self.n_put == len(self.chunks):
                self._open_group(group.n_rows)
            described = self._describe(group.footer)
            chunks = listed_in(group.group, GROUP_COLUMNS)
            for name, column in described.items():
                placed_now = [self._placed(group.content, chunk) for chunk in chunks[column.leaves]]
                self.chunks[self.n_put][name] = placed_now
            self.n_put += 1

    def _open_group(self, n_rows: int) -> None:
        """Begin a row group that is to hold so many rows."""
        self.group_rows.append(n_rows)
        self.chunks.append({})

    def _describe(self, footer: Fields) -> dict[str, Described]:
        """Remember, and return, what the footer of encoded columns says of them."""
        described = described_in(footer)
        self.described.update(described)
        self.base = self.base or footer
        return described

    def _placed(self, content: memoryview, chunk: Fields) -> Fields:
        """Write the bytes of a chunk that was just encoded; return what the footer is to say of it."""
        begin, end = span_of(chunk)
        place = self.file.at
        self.file.write(content[begin:end])
        return placed(chunk, place - begin)

    def _end_columns(self) -> None:
        """Write what is left of the columns that are being written."""
        if self.n_waiting:
            self._begin_group()
        self._put_groups(self.encoder.rest())
        if not self.n_put and self.now.names:
            self._describe(encoded_group(self.now.empty_table(), {}).footer)

    def begin_later(self, schema: pa.Schema) -> None:
        self._end_columns()
        self.schema = schema
        self.now = pa.schema([field for field in schema if field.name not in self.described])
        self.sizes, self.n_begun, self.n_put = list(self.group_rows), 0, 0
        self.encoder = GroupEncoder()

    def _footer(self) -> Fields:
        """Write the rest, and return the footer."""
        self._end_columns()
        return joined_footer(self.schema, self.described, self.base, self._groups())

    def _groups(self) -> list[Fields]:
        """Return what the footer is to say of the row groups."""
        return [
            group_of([chunk for name in self.schema.names for chunk in chunks[name]], n_rows)
            for chunks, n_rows in zip(self.chunks, self.group_rows, strict=True)
        ]

    def finish(self) -> None:
        """Write the rest, without a record."""
        try:
            self.file.write(footer_bytes(self._footer()))
        finally:
            self.abandon()

    def commit(self, seal: Seal) -> None:
        """Write the rest, and the footer with the record."""
        try:
            footer = self._footer()
            self.file.write(sealed_footer(self.file.digest, footer, seal))
        finally:
            self.abandon()

    def abandon(self) -> None:
        self.waiting = []
        self.encoder.abandon()
        self.file.close()
