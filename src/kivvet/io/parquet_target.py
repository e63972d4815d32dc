"""A Parquet file written row group by row group, which are encoded in threads; one that grows keeps all that stood before its footer."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import pyarrow as pa
import xxhash

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.parquet_assembly import (
    GROUP_COLUMNS,
    EncodedColumns,
    group_of,
    placed,
    span_of,
)
from kivvet.io.parquet_encoding import EncodedGroup, GroupEncoder, encoded_group
from kivvet.io.parquet_footer import (
    MAGIC,
    N_ROWS,
    ROW_GROUPS,
    Fields,
    footer_bytes,
    footer_start,
    integer,
    listed_in,
    structures,
)
from kivvet.io.parquet_seal import sealed_footer
from kivvet.io.source_and_target import AS_IT_IS_NAMED, Seal, Target, WriteOptions

_BYTES_AT_ONCE = 1 << 20
_ROWS_A_GROUP = 3 << 16
_MOST_GROUPS = 1_000  # of them files that grow in small steps have ever more, which readers pay for


class ParquetTarget(Target):
    """Writes a Parquet file row group by row group, and its record into the footer."""

    def __init__(self, path: Path, _: Path, schema: pa.Schema, __: WriteOptions = AS_IT_IS_NAMED) -> None:
        self.schema = schema
        self.encoder = GroupEncoder()
        self.waiting: list[pa.RecordBatch] = []
        self.n_waiting = 0
        self.base: Fields = {}  # the footer but for the row groups
        self.groups: list[Fields] = []
        self.n_rows = 0
        self.digest = xxhash.xxh3_128()
        self.at = 0
        self.file = path.open("wb")
        self._begin()

    def _begin(self) -> None:
        self._put(MAGIC)

    def _put(self, content: bytes | memoryview) -> None:
        self.file.write(content)
        self.digest.update(content)
        self.at += len(content)

    def write(self, columns: Sequence[pa.Array]) -> None:
        self.waiting.append(pa.RecordBatch.from_arrays(list(columns), schema=self.schema))
        self.n_waiting += len(columns[0]) if columns else 0
        if self.n_waiting >= _ROWS_A_GROUP:
            self._begin_group()

    def _begin_group(self) -> None:
        """Begin to encode what has been collected as one row group."""
        rows = pa.Table.from_batches(self.waiting, self.schema)
        self.waiting, self.n_waiting = [], 0
        self._put_groups(self.encoder.add(rows))

    def _put_groups(self, groups: Iterator[EncodedGroup]) -> None:
        for one in groups:
            self.base = self.base or one.footer
            begin, chunks = self.at, []
            for chunk in listed_in(one.group, GROUP_COLUMNS):
                first, end = span_of(chunk)
                place = self.at
                self._put(one.content[first:end])
                chunks.append(placed(chunk, place - first))
            self.groups.append(group_of(chunks, one.n_rows, begin, self.at))
            self.n_rows += one.n_rows

    def _footer(self) -> Fields:
        """Write the rest, and return the footer."""
        if self.n_waiting:
            self._begin_group()
        self._put_groups(self.encoder.rest())
        base = self.base or encoded_group(self.schema.empty_table(), {}).footer
        return {**base, N_ROWS: integer(self.n_rows), ROW_GROUPS: structures(self.groups)}

    def finish(self) -> None:
        """Write the rest, without a record."""
        with self.file:
            self.file.write(footer_bytes(self._footer()))

    def commit(self, seal: Seal) -> None:
        """Write the rest, and the footer with the record."""
        with self.file:
            footer = self._footer()
            self.file.write(sealed_footer(self.digest, footer, seal))

    def abandon(self) -> None:
        self.waiting = []
        self.encoder.abandon()
        self.file.close()


class _GrownParquet(ParquetTarget):
    """Writes the file that another becomes with more rows at its end.

    Parameters
    ----------
    path : Path
    grown : EncodedColumns
        The file whose rows stand.
    start_of_footer : int
        The bytes that precede its footer.
    schema : pyarrow.Schema
        Of both.
    """

    def __init__(self, path: Path, grown: EncodedColumns, start_of_footer: int, schema: pa.Schema) -> None:
        self.grown, self.start_of_footer = grown, start_of_footer
        super().__init__(path, path, schema)
        self.base = grown.footer
        self.groups = list(grown.groups)
        self.n_rows = grown.footer[N_ROWS][1]

    def _begin(self) -> None:
        with self.grown.path.open("rb") as held:
            while self.at < self.start_of_footer:
                content = held.read(min(_BYTES_AT_ONCE, self.start_of_footer - self.at))
                if not content:
                    raise DataError("is cut short", place=Place(shown_path(self.grown.path)))
                self._put(content)


def extend(path: Path, target: Path, schema: pa.Schema, _: WriteOptions) -> Target | None:
    """Begin a target with all rows that it holds already; None where these cannot stand as they are."""
    from pyarrow import parquet

    grown, start_of_footer = EncodedColumns.of(target), footer_start(target)
    if grown is None or start_of_footer is None or len(grown.groups) >= _MOST_GROUPS:
        return None
    if not parquet.read_schema(target).equals(schema, check_metadata=False):
        return None
    return _GrownParquet(path, grown, start_of_footer, schema)
