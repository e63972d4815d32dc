"""Arrow and JSON lines: read whole as the rows of a lookup, or in batches as sources; written as targets."""

from __future__ import annotations

import copy
import json
import math
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.words.errors import DataError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import repeated, shown_path
from kivvet.io.csv_target import write_record_beside
from kivvet.io.files import hash_bytes_of, unreadable
from kivvet.io.source_and_target import (
    AS_IT_IS_NAMED,
    AS_IT_SAYS,
    ReadOptions,
    Seal,
    Source,
    Target,
    WriteOptions,
)

_ROWS_A_BATCH = 1 << 17
_BLOCK_BYTES = 8 << 20


def read_arrow(path: Path, _: ReadOptions = AS_IT_SAYS) -> pa.Table:
    """Return all rows of a file of Arrow, with or without its index."""
    with pa.memory_map(str(path)) as file:
        try:
            return pa.ipc.open_file(file).read_all()
        except pa.ArrowInvalid:
            file.seek(0)
            return pa.ipc.open_stream(file).read_all()


def read_json_lines(path: Path, _: ReadOptions = AS_IT_SAYS) -> pa.Table:
    """Return JSON lines, texts left as texts: what looks like a date is one only where the table declares it."""
    import pyarrow.json as arrow_json

    read = arrow_json.read_json(path)
    times = [field.name for field in read.schema if pa.types.is_timestamp(field.type)]
    if not times:
        return read
    schema = pa.schema([(name, pa.string()) for name in times])
    return arrow_json.read_json(path, parse_options=arrow_json.ParseOptions(explicit_schema=schema))


def without_views(schema: pa.Schema) -> pa.Schema:
    """Return a schema whose texts are held one after the other: of views Arrow itself can neither take rows nor filter."""

    def plain(kind: pa.DataType) -> pa.DataType:
        if pa.types.is_dictionary(kind):
            return pa.dictionary(kind.index_type, plain(kind.value_type), kind.ordered)
        return pa.large_string() if pa.types.is_string_view(kind) else kind

    return pa.schema([field.with_type(plain(field.type)) for field in schema], schema.metadata)


class ArrowSource(Source):
    """A file of Arrow, with or without its index; columns have the types they are stored in."""

    def __init__(self, path: Path, _: ReadOptions = AS_IT_SAYS) -> None:
        self.path = path
        try:
            with pa.memory_map(str(path)) as file:
                self.stored_schema: pa.Schema = without_views(self._opened(file).schema)
        except OSError as error:
            raise unreadable(path, error) from error
        except pa.ArrowInvalid as error:
            raise DataError(
                "is no Arrow file", place=Place(shown_path(path)), found=str(error)[:100]
            ) from error
        self.schema = dict(zip(self.stored_schema.names, self.stored_schema.types, strict=True))
        _refuse_repeated(path, self.stored_schema.names)

    def _opened(self, file: pa.MemoryMappedFile) -> Any:
        try:
            return pa.ipc.open_file(file)
        except pa.ArrowInvalid:
            file.seek(0)
            return pa.ipc.open_stream(file)

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        wanted = self.names if names is None else list(names)
        try:
            with pa.memory_map(str(self.path)) as file:
                opened = self._opened(file)
                parts = (
                    (opened.get_batch(number) for number in range(opened.num_record_batches))
                    if hasattr(opened, "num_record_batches")
                    else opened
                )
                for part in parts:
                    chosen = part.select(wanted)
                    chosen = chosen.cast(without_views(chosen.schema))
                    for begin in range(0, part.num_rows, _ROWS_A_BATCH):
                        yield chosen.slice(begin, _ROWS_A_BATCH)
        except (OSError, pa.ArrowInvalid) as error:
            raise DataError(
                "is damaged", place=Place(shown_path(self.path)), found=str(error)[:200]
            ) from error


class JsonLinesSource(Source):
    """A file of JSON, one object a line. The first part of it says the columns and their types; texts stay texts."""

    def __init__(self, path: Path, _: ReadOptions = AS_IT_SAYS) -> None:
        self.path = path
        try:
            with path.open("rb") as file:
                is_empty = not file.read(1 << 16).strip()
        except OSError as error:
            raise unreadable(path, error) from error
        if is_empty:
            raise DataError(
                "the file is empty", place=Place(shown_path(path)), expected="one JSON object a line"
            )
        first = next(self._read(None, None), None)
        if first is None or not first.schema.names:
            raise DataError(
                "holds no fields", place=Place(shown_path(path)), expected='such as {"site": "007"}'
            )
        self.untyped = frozenset(field.name for field in first.schema if pa.types.is_null(field.type))
        self._stored = self.stored_schema = pa.schema(
            [field.with_type(pa.string()) if _is_guessed(field.type) else field for field in first.schema]
        )
        self.schema = dict(zip(self.stored_schema.names, self.stored_schema.types, strict=True))
        _refuse_repeated(path, self.stored_schema.names)

    def with_types(self, kinds: Mapping[str, pa.DataType]) -> JsonLinesSource:
        made = copy.copy(self)
        made.stored_schema = pa.schema(
            [field.with_type(kinds.get(field.name, field.type)) for field in self._stored]
        )
        made.schema = dict(zip(made.stored_schema.names, made.stored_schema.types, strict=True))
        return made

    def batches(
        self, names: Sequence[str] | None = None, block_bytes: int | None = None
    ) -> Iterator[pa.RecordBatch]:
        wanted = self.names if names is None else list(names)
        for batch in self._read(self.stored_schema, block_bytes):
            if batch.num_rows:
                yield batch.select(wanted)

    def _read(self, schema: pa.Schema | None, block_bytes: int | None) -> Iterator[pa.RecordBatch]:
        import pyarrow.json as arrow_json

        options = arrow_json.ParseOptions(
            explicit_schema=schema, unexpected_field_behavior="infer" if schema is None else "error"
        )
        try:
            reader = arrow_json.open_json(
                self.path,
                read_options=arrow_json.ReadOptions(block_size=block_bytes or _BLOCK_BYTES),
                parse_options=options,
            )
            yield from reader
        except OSError as error:
            raise unreadable(self.path, error) from error
        except pa.ArrowInvalid as error:
            raise self._explained(str(error)) from error

    def _explained(self, said: str) -> DataError:
        """Return the error with the first line that is no object, or has other fields than the first part."""
        names = set(self.schema) if hasattr(self, "schema") else None
        with self.path.open("rb") as file:
            for number, line in enumerate(file, 1):
                if not line.strip():
                    continue
                place = Place(shown_path(self.path), number)
                try:
                    value = json.loads(line)
                except (ValueError, RecursionError) as error:
                    return DataError(f"is no JSON: {error}", place=place, fix="one JSON object a line")
                if not isinstance(value, dict):
                    return DataError("is no JSON object", place=place, expected='such as {"site": "007"}')
                if names is not None and (more := [name for name in value if name not in names]):
                    return DataError(
                        f"has a field {more[0]!r}, which the first rows do not have",
                        place=place,
                        fix="give it to the first row too, as null",
                    )
        return DataError(f"cannot be read as JSON lines: {said[:200]}", place=Place(shown_path(self.path)))

    def line_of_row(self, row: int) -> int | None:
        with self.path.open("rb") as file:
            seen = 0
            for number, line in enumerate(file, 1):
                seen += bool(line.strip())
                if seen == row:
                    return number
        return None


class ArrowTarget(Target):
    """Writes a file of Arrow, and its record beside it.

    Such a file has one dictionary a column, and batches may come with others: they are kept aside until all are known.
    """

    def __init__(self, path: Path, target: Path, schema: pa.Schema, _: WriteOptions = AS_IT_IS_NAMED) -> None:
        self.path, self.target = path, target
        self.aside = tempfile.TemporaryFile(dir=path.parent)  # noqa: SIM115 - it goes when it is let go of
        self.schema = pa.schema(
            [
                field.with_type(pa.dictionary(pa.int32(), field.type.value_type, field.type.ordered))
                if pa.types.is_dictionary(field.type)
                else field
                for field in schema
            ],
            schema.metadata,
        )
        self.dictionaries: dict[int, pa.Array] = {}
        self.writer = pa.ipc.new_stream(self.aside, schema)
        self.given = schema

    def write(self, columns: Sequence[pa.Array]) -> None:
        for place, column in enumerate(columns):
            if pa.types.is_dictionary(column.type):
                known = self.dictionaries.get(place)
                if known is None:
                    self.dictionaries[place] = column.dictionary
                elif not known.equals(column.dictionary):
                    self.dictionaries[place] = pc.unique(pa.concat_arrays([known, column.dictionary]))
        self.writer.write_batch(pa.RecordBatch.from_arrays(list(columns), schema=self.given))

    def commit(self, seal: Seal) -> None:
        self.writer.close()
        self.aside.seek(0)
        with pa.ipc.open_stream(self.aside) as read, pa.ipc.new_file(str(self.path), self.schema) as written:
            for batch in read:
                columns = [
                    self._of_one_dictionary(place, column) for place, column in enumerate(batch.columns)
                ]
                written.write_batch(pa.RecordBatch.from_arrays(columns, schema=self.schema))
        self.aside.close()
        write_record_beside(self.target, seal(hash_bytes_of(self.path)))

    def _of_one_dictionary(self, place: int, column: pa.Array) -> pa.Array:
        if place not in self.dictionaries:
            return column
        whole = self.dictionaries[place]
        codes = pc.index_in(column.dictionary, value_set=whole).take(column.indices)
        return pa.DictionaryArray.from_arrays(codes, whole, ordered=column.type.ordered)

    def abandon(self) -> None:
        self.writer.close()
        self.aside.close()


class JsonLinesTarget(Target):
    """Writes one JSON object a line, missing as null, and the record beside it."""

    def __init__(self, path: Path, target: Path, schema: pa.Schema, _: WriteOptions = AS_IT_IS_NAMED) -> None:
        self.path, self.target, self.names = path, target, schema.names
        self.file = path.open("wb")

    def write(self, columns: Sequence[pa.Array]) -> None:
        texts = [
            [json.dumps(value, ensure_ascii=False, default=_plain) for value in _values(column)]
            for column in columns
        ]
        heads = [json.dumps(name, ensure_ascii=False) + ": " for name in self.names]
        lines = (
            "{" + ", ".join(map(str.__add__, heads, fields)) + "}\n" for fields in zip(*texts, strict=True)
        )
        self.file.write("".join(lines).encode())

    def commit(self, seal: Seal) -> None:
        self.file.close()
        write_record_beside(self.target, seal(hash_bytes_of(self.path)))

    def abandon(self) -> None:
        self.file.close()


def _values(column: pa.Array) -> list[Any]:
    """Return the values of a column, NaN as missing."""
    if not pa.types.is_floating(column.type):
        return column.to_pylist()  # type: ignore[no-any-return]
    values = [None if value is None or math.isnan(value) else value for value in column.to_pylist()]
    if any(value is not None and math.isinf(value) for value in values):
        raise DataError(
            "a column of numbers holds an infinity, which JSON does not have",
            fix="write to .parquet or .arrow",
        )
    return values


def _plain(value: Any) -> str:
    return value.isoformat() if hasattr(value, "isoformat") else str(value)


def _is_guessed(kind: pa.DataType) -> bool:
    return bool(pa.types.is_timestamp(kind) or pa.types.is_date(kind) or pa.types.is_null(kind))


def _refuse_repeated(path: Path, names: Sequence[str]) -> None:
    if twice := repeated(names):
        raise DataError(
            f"two columns are named {twice[0]!r}", place=Place(shown_path(path)), fix="rename one of them"
        )
