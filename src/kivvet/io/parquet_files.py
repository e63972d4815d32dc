"""Parquet files read in batches, with the types they are stored in."""

from __future__ import annotations

import copy
from collections.abc import Collection, Iterator, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pyarrow as pa

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import repeated, shown_path
from kivvet.io.files import digest_of, unreadable
from kivvet.io.kept_records import KeptRecords
from kivvet.io.parquet_assembly import EncodedColumns
from kivvet.io.parquet_footer import footer_start, read_footer
from kivvet.io.parquet_seal import hash_of, is_of_its_rows, record_in
from kivvet.io.source_and_target import AS_IT_SAYS, ReadOptions, Source

if TYPE_CHECKING:
    from pyarrow import parquet

_ROWS_A_BATCH = 1 << 17
#: What Arrow raises of bytes that are not what they should be, whatever it makes of them.
_SIGNS_OF_DAMAGE = (pa.ArrowException, ValueError, OverflowError, MemoryError, KeyError, IndexError)


class ParquetSource(Source):
    """A Parquet file; columns have the types they are stored in."""

    def __init__(self, path: Path, _: ReadOptions = AS_IT_SAYS) -> None:
        self.path = path
        self.file = self._file()
        self.stored_schema: pa.Schema = self.file.schema_arrow
        self.schema = dict(zip(self.stored_schema.names, self.stored_schema.types, strict=True))
        if twice := repeated(self.stored_schema.names):
            raise DataError(
                f"two columns are named {twice[0]!r}", place=Place(shown_path(path)), fix="rename one of them"
            )

    def opened(self) -> parquet.ParquetFile:
        """Return the file, opened by Arrow."""
        from pyarrow import parquet

        return parquet.ParquetFile(self.path, pre_buffer=False)  # batches would keep what was buffered

    def _file(self) -> parquet.ParquetFile:
        try:
            file = self.opened()
            _ = file.schema_arrow
        except OSError as error:
            raise unreadable(self.path, error) from error
        except _SIGNS_OF_DAMAGE as error:
            raise DataError(
                "is no Parquet file", place=Place(shown_path(self.path)), found=str(error)[:100]
            ) from error
        return file

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        try:
            rows = _ROWS_A_BATCH if block_bytes is None else max(_ROWS_A_BATCH, block_bytes // 64)
            for batch in self.file.iter_batches(rows, columns=None if names is None else list(names)):
                batch.validate()  # columns that hold fewer values than others
                yield batch
        except (OSError, *_SIGNS_OF_DAMAGE) as error:
            raise DataError(
                "is damaged", place=Place(shown_path(self.path)), found=str(error)[:200]
            ) from error

    def in_parts(self) -> list[Source] | None:
        return [self]

    def __getstate__(self) -> dict[str, Any]:
        """Return it without the file that is open, which no other process has."""
        return {name: value for name, value in self.__dict__.items() if name != "file"}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        self.file = self._file()

    def n_rows(self) -> int:
        return int(self.file.metadata.num_rows)

    def encoded(self) -> EncodedColumns | None:
        return EncodedColumns.of(self.path)

    @cached_property
    def _said(self) -> EncodedColumns | None:
        """What the footer says of each column, asked once; it is not asked of Arrow, which ends the process where it is
        damaged.
        """
        return EncodedColumns.read(self.path)

    def holds_no_empty_text(self, name: str) -> bool:
        return self._said is not None and self._said.says_no_empty_text(name)

    def with_codes(self, names: Collection[str]) -> ParquetSource:
        coded = [name for name in names if self._holds_codes(name)]
        if not coded:
            return self
        from pyarrow import parquet

        made = copy.copy(self)
        made.file = parquet.ParquetFile(self.path, pre_buffer=False, read_dictionary=coded)
        return made

    def _holds_codes(self, name: str) -> bool:
        """Whether a column of text is held as codes throughout."""
        kind = self.schema.get(name)
        if kind is None or not (pa.types.is_string(kind) or pa.types.is_large_string(kind)):
            return False
        return self._said is not None and self._said.holds_codes(name)


def kept_records(target: Path) -> KeptRecords:
    """Return the record in a target's footer, and the hash of all else that it holds: none if it is no Parquet file, or its
    record speaks of other rows.
    """
    footer, start = read_footer(target), footer_start(target)
    record = None if footer is None else record_in(footer)
    if footer is None or start is None or record is None:
        return KeptRecords([], lambda: None)

    def hashed() -> str | None:
        return hash_of(digest_of(target, start), footer) if is_of_its_rows(record, footer) else None

    return KeptRecords([record], hashed)


def read_all(path: Path, _: ReadOptions = AS_IT_SAYS) -> pa.Table:
    """Return all rows of a file."""
    import pyarrow.parquet as pq

    return pq.read_table(path)
