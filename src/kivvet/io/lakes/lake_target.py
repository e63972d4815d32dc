"""A table of a lake as a target: files written beside those that count, and one commit against the version that was there.

Nothing is seen before the commit. It is tried once: where another writer was faster, its rows are not kept among ours, and it is told.
"""

from __future__ import annotations

import json
import uuid
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

import pyarrow as pa

from kivvet.core.words.errors import OutputError, UnopenableError
from kivvet.core.words.wording import listed, repeated
from kivvet.io.folders import FolderLocation, folder_at
from kivvet.io.kept_records import KeptRecords
from kivvet.io.lakes.lake import files_of, hash_of_files, holds_lake, in_package, open_lake, told
from kivvet.io.parted_target import PartedTarget, WrittenPart
from kivvet.io.source_and_target import AS_IT_IS_NAMED, Seal, Target, WriteOptions

_RECORD = "kivvet"
_ROWS_A_GROUP = 1 << 19
_ROWS_A_FILE = 1 << 22


class LakeTarget(PartedTarget):
    """The rows of a table that are written anew, or come to those it has.

    Parameters
    ----------
    target : Path or InStore
    schema : pyarrow.Schema
    is_extended : bool
    """

    def __init__(self, target: FolderLocation, schema: pa.Schema, *, is_extended: bool = False) -> None:
        self.target, self.folder, self.is_extended = target, folder_at(target), is_extended
        self.table = open_lake(target) if holds_lake(target) else None
        self.schema = _storable(target, schema)
        self._refuse_what_is_not_ours()
        self.parts: list[WrittenPart] = []
        self.writer: Any = None
        self.waiting: list[pa.RecordBatch] = []
        self.n_waiting = 0
        self.folder.begin()

    def _refuse_what_is_not_ours(self) -> None:
        if self.table is None:
            return
        about = self.table.metadata()
        fixed = [name for name in about.configuration if name.startswith("delta.constraints.")]
        if about.partition_columns or fixed:
            what = (
                f"is parted by {listed(about.partition_columns)}"
                if about.partition_columns
                else "has constraints"
            )
            raise OutputError(
                f"{what}, which is not written here",
                place=self.folder.place,
                fix="name another target",
            )

    def write(self, columns: Sequence[pa.Array]) -> None:
        arrays = [
            array.dictionary_decode() if pa.types.is_dictionary(array.type) else array for array in columns
        ]
        arrays = [
            array if array.type == field.type else array.cast(field.type)
            for array, field in zip(arrays, self.schema, strict=True)
        ]
        self.waiting.append(pa.RecordBatch.from_arrays(arrays, schema=self.schema))
        self.n_waiting += len(columns[0]) if columns else 0
        if self.n_waiting >= _ROWS_A_GROUP:
            self._flush()

    def _flush(self) -> None:
        from pyarrow import parquet

        if self.writer is None:
            name = f"part-{len(self.parts):05}-{uuid.uuid4()}.zstd.parquet"
            self.parts.append(WrittenPart(name, 0))
            self.writer = parquet.ParquetWriter(self.folder.path_to(name), self.schema, compression="zstd")
        if self.waiting:
            self.writer.write_table(
                pa.Table.from_batches(self.waiting, self.schema), row_group_size=self.n_waiting or None
            )
            self.parts[-1] = WrittenPart(self.parts[-1].name, self.parts[-1].rows + self.n_waiting)
            self.waiting, self.n_waiting = [], 0
        if self.parts[-1].rows >= _ROWS_A_FILE:
            self._close()

    def _close(self) -> None:
        if self.writer is not None:
            self.writer.close()
            self.writer = None
            self.folder.settle(self.parts[-1].name)

    def written_parts(self) -> list[WrittenPart]:
        if self.waiting or not self.parts:
            self._flush()
        self._close()
        return self.parts

    def commit(self, seal: Seal) -> None:
        found = [self._verified(part) for part in self.written_parts()]
        # Rows are read in the order of these times: whoever wrote which file first, they stay in order.
        last = max((one["modified"] for one in found), default=0)
        found = [{**one, "modified": last + number} for number, one in enumerate(found)]
        kept = [] if self.table is None or not self.is_extended else files_of(self.table)
        written = [{"path": one["path"], "size_bytes": one["size"]} for one in found]
        record = json.dumps(dict(seal(hash_of_files([*kept, *written]))), ensure_ascii=True)
        try:
            with told(self.target, OutputError, "was not written, since another writer may have been faster"):
                self._commit(found, record)
        except OutputError:
            self.abandon()
            raise

    def _verified(self, one: WrittenPart) -> dict[str, Any]:
        """Return what the log says of a file; raise where that is not what was written: the commit looks at none of it."""
        about, marks = self.folder.about(one.name)
        if about.num_rows != one.rows or not about.schema.to_arrow_schema().equals(self.schema):
            raise OutputError(f"{one.name} is not what was written", place=self.folder.place)
        return {
            "path": one.name,
            "rows": one.rows,
            "size": marks.size,
            "modified": marks.modified_ns // 1_000_000,
        }

    def _commit(self, found: list[dict[str, Any]], record: str) -> None:
        from deltalake import CommitProperties, Schema
        from deltalake.transaction import AddAction, create_table_with_add_actions

        adds = [
            AddAction(
                path=one["path"],
                size=one["size"],
                partition_values={},
                modification_time=one["modified"],
                data_change=True,
                stats=json.dumps({"numRecords": one["rows"]}),
            )
            for one in found
        ]
        schema = Schema.from_arrow(self.schema)
        about = CommitProperties(custom_metadata={_RECORD: record}, max_commit_retries=0)
        if self.table is None:
            where, options = in_package(self.target)
            create_table_with_add_actions(
                where, schema, adds, mode="error", commit_properties=about, storage_options=options
            )
            return
        self.table.create_write_transaction(
            [*adds],
            mode="append" if self.is_extended else "overwrite",
            schema=schema,
            commit_properties=about,
        )

    def abandon(self) -> None:
        self.waiting = []
        writer, self.writer = self.writer, None
        with suppress(Exception):
            if writer is not None:
                writer.close()
        self.remove(self.parts)

    def remove(self, parts: Sequence[WrittenPart]) -> None:
        for part in parts:
            self.folder.remove(part.name)
        if self.table is None:
            self.folder.end()


def begin(_: Path, target: FolderLocation, schema: pa.Schema, __: WriteOptions = AS_IT_IS_NAMED) -> Target:
    """Begin a target."""
    return LakeTarget(target, schema)


def extend(
    _: Path, target: FolderLocation, schema: pa.Schema, __: WriteOptions = AS_IT_IS_NAMED
) -> Target | None:
    """Begin a target with all rows that it holds already; None where its columns are others."""
    wanted = _storable(target, schema)
    there = pa.schema(open_lake(target).schema())
    if [(field.name, str(field.type)) for field in wanted] != [
        (field.name, str(field.type)) for field in there
    ]:
        return None
    return LakeTarget(target, schema, is_extended=True)


def kept_records(target: FolderLocation) -> KeptRecords:
    """Return the records in the log of a target, the newest first, and the hash of what it holds."""
    table = open_lake(target)
    with told(target, UnopenableError, "cannot be read"):
        texts = [one[_RECORD] for one in table.history() if _RECORD in one]
    records = []
    for text in texts[:1]:
        with suppress(ValueError):
            records.append(json.loads(text))
    return KeptRecords(records, lambda: hash_of_files(files_of(table)) if records else None)


def _storable(target: FolderLocation, schema: pa.Schema) -> pa.Schema:
    """Return a schema as the format has it; `OutputError` names what it has not."""
    place = folder_at(target).place
    if twice := repeated([name.casefold() for name in schema.names]):
        raise OutputError(
            f"two columns are {twice[0]!r} but for their case, which a lake does not tell apart",
            place=place,
            fix="name one of them otherwise: keep = { ... }",
        )
    fields, refused = [], []
    for field in schema:
        kind = field.type.value_type if pa.types.is_dictionary(field.type) else field.type
        if pa.types.is_large_string(kind) or pa.types.is_string_view(kind):
            kind = pa.string()
        if pa.types.is_null(kind):
            kind = pa.string()
        if pa.types.is_timestamp(kind) and kind.unit in ("s", "ms"):
            kind = pa.timestamp("us", kind.tz)
        if _is_foreign(kind):
            refused.append(f"{field.name} ({kind})")
        fields.append(pa.field(field.name, kind))
    if refused:
        raise OutputError(
            f"a lake holds no such values: {listed(refused)}",
            place=place,
            expected="whole numbers with a sign, floats of 32 or 64 bits, decimals, texts, dates, times in microseconds, lists of them",
            fix="write a Parquet file instead",
        )
    return pa.schema(fields)


def _is_foreign(kind: pa.DataType) -> bool:
    if pa.types.is_list(kind) or pa.types.is_large_list(kind):
        return _is_foreign(kind.value_type)
    return (
        pa.types.is_unsigned_integer(kind)
        or pa.types.is_float16(kind)
        or pa.types.is_time(kind)
        or pa.types.is_duration(kind)
        or (pa.types.is_timestamp(kind) and (kind.unit == "ns" or kind.tz not in (None, "UTC")))
    )
