"""Parquet and Arrow files: read and written in batches, the source's types kept."""

from __future__ import annotations

import copy
import json
from collections.abc import Collection, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import repeated, shown_path
from kivvet.io.files import hash_bytes_of, unreadable
from kivvet.io.parquet_appending import appended
from kivvet.io.parquet_assembly import RECORD_KEY, EncodedColumns
from kivvet.io.parquet_encoding import encoding_options
from kivvet.io.source_and_target import (
    AS_IT_IS_NAMED,
    AS_IT_SAYS,
    ReadOptions,
    Seal,
    Source,
    Target,
    WriteOptions,
)

if TYPE_CHECKING:
    from pyarrow import parquet

_ROWS_A_BATCH = 1 << 17
_BYTES_OF_LENGTH = 4  # with which each text begins that is held plainly


class ParquetSource(Source):
    """A Parquet file; columns have the types they are stored in."""

    def __init__(self, path: Path, _: ReadOptions = AS_IT_SAYS) -> None:
        from pyarrow import parquet

        self.path = path
        try:
            self.file = parquet.ParquetFile(path, pre_buffer=False)  # batches would keep what was buffered
        except OSError as error:
            raise unreadable(path, error) from error
        except pa.ArrowInvalid as error:
            raise DataError(
                "is no Parquet file", place=Place(shown_path(path)), found=str(error)[:100]
            ) from error
        self.stored_schema: pa.Schema = self.file.schema_arrow
        self.schema = dict(zip(self.stored_schema.names, self.stored_schema.types, strict=True))
        if twice := repeated(self.stored_schema.names):
            raise DataError(
                f"two columns are named {twice[0]!r}", place=Place(shown_path(path)), fix="rename one of them"
            )

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        try:
            rows = _ROWS_A_BATCH if block_bytes is None else max(_ROWS_A_BATCH, block_bytes // 64)
            yield from self.file.iter_batches(rows, columns=None if names is None else list(names))
        except (OSError, pa.ArrowInvalid) as error:
            raise DataError(
                "is damaged", place=Place(shown_path(self.path)), found=str(error)[:200]
            ) from error

    def encoded(self) -> EncodedColumns | None:
        return EncodedColumns.of(self.path)

    def holds_no_empty_text(self, name: str) -> bool:
        metadata = self.file.metadata
        for group in range(metadata.num_row_groups):
            chunk = metadata.row_group(group).column(self._leaf_of(name))
            known = chunk.statistics
            if known is None:
                return False
            if not known.has_min_max:
                if not known.has_null_count or known.null_count < chunk.num_values:
                    return False
            elif not known.min:
                return False
        return True

    def with_codes(self, names: Collection[str]) -> ParquetSource:
        coded = [name for name in names if self._holds_codes(name)]
        if not coded:
            return self
        from pyarrow import parquet

        made = copy.copy(self)
        made.file = parquet.ParquetFile(self.path, pre_buffer=False, read_dictionary=coded)
        return made

    def _holds_codes(self, name: str) -> bool:
        """Whether a column of text is held as codes throughout: no text takes less room than its length alone does."""
        kind = self.schema.get(name)
        if kind is None or not (pa.types.is_string(kind) or pa.types.is_large_string(kind)):
            return False
        metadata, leaf = self.file.metadata, self._leaf_of(name)
        chunks = (metadata.row_group(group).column(leaf) for group in range(metadata.num_row_groups))
        return all(
            one.dictionary_page_offset and one.total_uncompressed_size <= _BYTES_OF_LENGTH * one.num_values
            for one in chunks
        )

    def _leaf_of(self, name: str) -> int:
        """Return which of the columns that the file stores a column of text is: nested ones are stored as several."""
        return int(self.file.schema_arrow.names.index(name)) + sum(
            _n_leaves(kind) - 1 for kind in self.stored_schema.types[: self.names.index(name)]
        )


def _n_leaves(kind: pa.DataType) -> int:
    if pa.types.is_dictionary(kind) or not kind.num_fields:
        return 1
    return sum(_n_leaves(kind.field(number).type) for number in range(kind.num_fields))


class ParquetTarget(Target):
    """Writes a Parquet file row group by row group, and its record into the footer."""

    def __init__(self, path: Path, _: Path, schema: pa.Schema, __: WriteOptions = AS_IT_IS_NAMED) -> None:
        self.path = path
        self.schema = schema
        self.writer: parquet.ParquetWriter | None = None
        self.waiting: list[pa.RecordBatch] = []
        self.n_waiting = 0

    def write(self, columns: Sequence[pa.Array]) -> None:
        self.waiting.append(pa.RecordBatch.from_arrays(list(columns), schema=self.schema))
        self.n_waiting += len(columns[0]) if columns else 0
        if self.n_waiting >= 4 * _ROWS_A_BATCH:
            self.flush()

    def flush(self) -> None:
        """Write what has been collected as one row group."""
        rows = pa.Table.from_batches(self.waiting, self.schema)
        if self.writer is None:
            from pyarrow import parquet

            self.writer = parquet.ParquetWriter(self.path, self.schema, **encoding_options(rows))
        if self.waiting:
            self.writer.write_table(rows, row_group_size=self.n_waiting or None)
            self.waiting, self.n_waiting = [], 0

    def commit(self, seal: Seal) -> None:
        """Write the rest, then the footer with the record: its hash covers what precedes the footer."""
        self.flush()
        assert self.writer is not None
        record = seal(hash_bytes_of(self.path))
        self.writer.add_key_value_metadata({RECORD_KEY: json.dumps(record, ensure_ascii=False)})
        self.writer.close()

    def abandon(self) -> None:
        self.waiting = []
        if self.writer is not None:
            self.writer.close()


def footer_start(path: Path) -> int | None:
    """Return the number of bytes that precede the footer of a Parquet file; None if it is none."""
    size = path.stat().st_size
    with path.open("rb") as file:
        if size < 12:
            return None
        file.seek(size - 8)
        tail = file.read(8)
    if tail[4:] != b"PAR1":
        return None
    start = size - 8 - int.from_bytes(tail[:4], "little")
    return start if start > 0 else None


def metadata_value(path: Path) -> str | None:
    """Return the record in a Parquet file's footer, if it carries one."""
    from pyarrow import parquet

    try:
        metadata: dict[bytes, Any] = parquet.read_metadata(path).metadata or {}
    except (OSError, pa.ArrowInvalid):
        return None
    value = metadata.get(RECORD_KEY.encode())
    return value.decode() if value is not None else None


def kept_records(target: Path) -> tuple[list[Any], str | None]:
    """Return the record in a target's footer, and the hash of what precedes that; None if it is no Parquet
    file.
    """
    text, start = metadata_value(target), footer_start(target)
    try:
        records = [json.loads(text)] if text else []
    except (ValueError, RecursionError):
        records = []
    return records, None if start is None else hash_bytes_of(target, start)


def extend(path: Path, target: Path, schema: pa.Schema, _: WriteOptions) -> Target | None:
    """Begin a target with all rows that it holds already; None where these cannot stand as they are."""
    return appended(path, target, footer_start(target), schema)


def read_all(path: Path, _: ReadOptions = AS_IT_SAYS) -> pa.Table:
    """Return all rows of a file."""
    import pyarrow.parquet as pq

    return pq.read_table(path)
