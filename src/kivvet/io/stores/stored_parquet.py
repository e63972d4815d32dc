"""A Parquet file in an object store: its footer and the columns that are asked for are fetched, nothing else."""

from __future__ import annotations

from collections.abc import Collection
from typing import TYPE_CHECKING

from kivvet.io.files import FileMarks, FileState
from kivvet.io.parquet_assembly import EncodedColumns
from kivvet.io.parquet_files import ParquetSource
from kivvet.io.stores.copies import path_of_copy
from kivvet.io.stores.store import InStore

if TYPE_CHECKING:
    from pyarrow import parquet


class StoredParquet(ParquetSource):
    """The rows of such a file; what of it is copied or looked up as codes elsewhere is decoded here."""

    def __init__(self, location: InStore) -> None:
        self.location = location
        super().__init__(path_of_copy(location))

    def opened(self) -> parquet.ParquetFile:
        from pyarrow import parquet

        system, key = self.location.opened
        return parquet.ParquetFile(system.open_input_file(key), pre_buffer=False)

    def encoded(self) -> EncodedColumns | None:
        return None

    def holds_no_empty_text(self, name: str) -> bool:
        return False

    def with_codes(self, names: Collection[str]) -> StoredParquet:
        return self

    def identity(self) -> FileState:
        return self.location.identity()

    def marks(self) -> FileMarks | None:
        return self.location.marks()
