"""A Parquet file to which rows are added: all that stood before the footer stays, byte for byte, and row groups follow it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Any

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
from kivvet.io.parquet_encoding import encoding_options
from kivvet.io.parquet_footer import (
    N_ROWS,
    ROW_GROUPS,
    Fields,
    footer_of,
    footer_start,
    integer,
    listed_in,
    structures,
)
from kivvet.io.parquet_seal import sealed_footer
from kivvet.io.source_and_target import Seal, Target

_BYTES_AT_ONCE = 1 << 20
_ROWS_A_GROUP = 1 << 19
_MOST_GROUPS = 1_000  # of them files that grow in small steps have ever more, which readers pay for


class AppendedParquet(Target):
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
        self.grown, self.schema = grown, schema
        self.waiting: list[pa.RecordBatch] = []
        self.n_waiting = self.n_rows = 0
        self.options: dict[str, Any] | None = None
        self.groups: list[Fields] = []
        self.digest = xxhash.xxh3_128()
        self.at = 0
        self.file = path.open("wb")
        with grown.path.open("rb") as held:
            while self.at < start_of_footer:
                content = held.read(min(_BYTES_AT_ONCE, start_of_footer - self.at))
                if not content:
                    raise DataError("is cut short", place=Place(shown_path(grown.path)))
                self._put(content)

    def _put(self, content: bytes | memoryview) -> None:
        self.file.write(content)
        self.digest.update(content)
        self.at += len(content)

    def write(self, columns: Sequence[pa.Array]) -> None:
        self.waiting.append(pa.RecordBatch.from_arrays(list(columns), schema=self.schema))
        self.n_waiting += len(columns[0])
        if self.n_waiting >= _ROWS_A_GROUP:
            self._write_group()

    def _write_group(self) -> None:
        from pyarrow import parquet

        rows = pa.Table.from_batches(self.waiting, self.schema)
        self.waiting, self.n_waiting = [], 0
        if self.options is None:
            self.options = encoding_options(rows)
        sink = pa.BufferOutputStream()
        parquet.write_table(rows, sink, row_group_size=len(rows), **self.options)
        content = memoryview(sink.getvalue())
        (group,) = listed_in(footer_of(content), ROW_GROUPS)
        begin, chunks = self.at, []
        for chunk in listed_in(group, GROUP_COLUMNS):
            first, end = span_of(chunk)
            place = self.at
            self._put(content[first:end])
            chunks.append(placed(chunk, place - first))
        self.groups.append(group_of(chunks, len(rows), begin, self.at))
        self.n_rows += len(rows)

    def commit(self, seal: Seal) -> None:
        if self.n_waiting:
            self._write_group()
        footer = dict(self.grown.footer)
        footer[N_ROWS] = integer(footer[N_ROWS][1] + self.n_rows)
        footer[ROW_GROUPS] = structures([*self.grown.groups, *self.groups])
        self.file.write(sealed_footer(self.digest, footer, seal))
        self.file.close()

    def abandon(self) -> None:
        self.waiting = []
        self.file.close()


def appended(path: Path, held: Path, schema: pa.Schema) -> AppendedParquet | None:
    """Return what writes the file that a held one becomes with more rows; None where its bytes cannot stand as they are."""
    from pyarrow import parquet

    grown, start_of_footer = EncodedColumns.of(held), footer_start(held)
    if grown is None or start_of_footer is None or len(grown.groups) >= _MOST_GROUPS:
        return None
    if not parquet.read_schema(held).equals(schema, check_metadata=False):
        return None
    return AppendedParquet(path, grown, start_of_footer, schema)
