"""PostgreSQL over the Arrow project's driver, with a table of types of our own in both directions.

The driver gives some values as others (`money` in cents, `oid` with a sign, dates of infinity, `char(n)` with blanks): such types are
refused or set right. Tables are made here and not by the driver, which would lose scales and signs.
"""

from __future__ import annotations

import contextlib
import zlib
from collections.abc import Iterator, Sequence
from typing import Any

import adbc_driver_manager
import pyarrow as pa
import pyarrow.compute as pc
import xxhash
from adbc_driver_postgresql import dbapi

from kivvet.core.columns.column import type_of_arrow
from kivvet.core.words.errors import DataError, OutputError
from kivvet.io.databases.engine import Engine, in_turn
from kivvet.io.databases.places import Address, Database, InDatabase

_READING = (
    "-c default_transaction_read_only=on -c default_transaction_isolation=repeatable\\ read -c TimeZone=UTC "
    "-c lock_timeout=10s -c synchronize_seqscans=off -c max_parallel_workers_per_gather=0 -c application_name=kivvet"
)
_WRITING = "-c TimeZone=UTC -c lock_timeout=10s -c application_name=kivvet"
_BATCH_BYTES = 8_000_000
_REFUSED = {"money": "numeric", "oid": "bigint"}
_DAYS = (-719_162, 2_932_896)  # of the years 1 to 9999, from 1970 on
_MICROSECONDS = (-62_135_596_800_000_000, 253_402_300_799_999_999)
_Error = adbc_driver_manager.Error


class Postgres(Engine):
    """A database of a PostgreSQL server."""

    title = "PostgreSQL"
    longest_name = 63

    def __init__(self, database: Database, address: Address) -> None:
        super().__init__(database, address)
        self._asking: Any = None
        self._writer: Any = None

    def _connected(self, options: str) -> Any:
        """Return a connection; its parts are handed over one by one, since a URL that is malformed would be shown."""

        def quoted(value: str) -> str:
            return "'" + value.replace("\\", "\\\\").replace("'", "\\'") + "'"

        parts = {**self.address.parts, "options": options, "connect_timeout": "10"}
        try:
            return dbapi.connect(" ".join(f"{name}={quoted(value)}" for name, value in parts.items()))
        except _Error as error:
            raise self.unreachable(error) from None  # the cause may show what it was given

    @in_turn
    def _rows(self, sql: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Return the rows of a small query, as the database is now."""
        if self._writer is not None:
            return self._rows_of(self._writer, sql, values)
        if self._asking is None:
            self._asking = self._connected(_READING)
        try:
            return self._rows_of(self._asking, sql, values)
        finally:
            with contextlib.suppress(_Error):
                self._asking.rollback()

    @staticmethod
    def _rows_of(connection: Any, sql: str, values: Sequence[Any]) -> list[tuple[Any, ...]]:
        with connection.cursor() as cursor:
            cursor.execute(sql, tuple(values) or None)
            return [tuple(row) for row in cursor.fetchall()]

    def is_passing(self, error: Exception) -> bool:
        state = str(getattr(error, "sqlstate", "") or "")
        return not state or state[:2] in ("08", "53", "55", "57")  # connection, resources, locks, an operator

    def tables(self) -> list[str]:
        sql = "SELECT table_name::text FROM information_schema.tables WHERE table_schema NOT IN ('pg_catalog', 'information_schema') ORDER BY 1"
        return [name for (name,) in self._rows(sql)]

    def has_table(self, place: InDatabase) -> bool:
        return self._rows(f"SELECT to_regclass({self.text(self.named(place))}) IS NOT NULL")[0][0] is True

    def schema_of(self, place: InDatabase) -> pa.Schema:
        if place.table and not self.has_table(place):
            raise self.no_table(place)
        connection = self._connected(_READING)
        try:
            with connection.cursor() as cursor:
                cursor.execute(f"SELECT * FROM {self.from_(place)} LIMIT 0\n")
                given = cursor.fetch_record_batch().schema
        except _Error as error:
            raise self.failed(error, place) from None
        finally:
            connection.close()
        self.refuse_twice(place, given.names)
        return pa.schema([pa.field(field.name, self._kind(place, field)) for field in given])

    def _kind(self, place: InDatabase, field: pa.Field) -> pa.DataType:
        """Return the type that a column is read as."""
        told = {name.decode(): value.decode() for name, value in (field.metadata or {}).items()}
        said = told.get("POSTGRESQL:type", "") or _named_type(field)
        if said in _REFUSED:
            raise self.unread_type(place, field.name, said, f"{field.name}::{_REFUSED[said]}")
        if said == "numeric":
            spec = int(told.get("POSTGRESQL:typmod", "-1")) - 4
            precision, scale = spec >> 16, spec & 0x7FF
            return pa.decimal128(precision, scale) if spec >= 0 and scale <= precision <= 38 else pa.string()
        if said in ("uuid", "json", "jsonb"):
            return pa.string()
        kind = field.type
        if isinstance(kind, pa.BaseExtensionType) or pa.types.is_nested(kind) or type_of_arrow(kind) is None:
            raise self.unread_type(place, field.name, said or str(kind), f"{field.name}::text")
        return kind

    def batches(self, place: InDatabase, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        connection = self._connected(_READING)  # one a stream: another statement would end it
        try:
            with connection.cursor(
                adbc_stmt_kwargs={"adbc.postgresql.batch_size_hint_bytes": str(_BATCH_BYTES)}
            ) as cursor:
                cursor.execute(self.select(place, schema.names) + "\n")
                reader = cursor.fetch_record_batch()
                for batch in reader:
                    if not schema.names:
                        yield pa.RecordBatch.from_struct_array(pa.array([{}] * batch.num_rows, pa.struct([])))
                        continue
                    arrays = [
                        self._as_read(place, array, one, field)
                        for array, one, field in zip(batch.columns, reader.schema, schema, strict=True)
                    ]
                    yield pa.RecordBatch.from_arrays(arrays, schema=schema)
        except (_Error, pa.ArrowException, OSError) as error:
            raise self.failed(error, place) from None
        finally:
            connection.close()

    def _as_read(self, place: InDatabase, array: pa.Array, given: pa.Field, field: pa.Field) -> pa.Array:
        said = (given.metadata or {}).get(b"POSTGRESQL:type", b"").decode() or _named_type(given)
        if said == "uuid":
            return pa.array(
                [None if value is None else str(value) for value in array.to_pylist()], pa.string()
            )
        if isinstance(array, pa.ExtensionArray):
            array = array.storage
        if pa.types.is_date(field.type) or pa.types.is_timestamp(field.type):
            days = pa.types.is_date(field.type)
            whole = array.cast(pa.int32() if days else pa.int64())
            first, last = _DAYS if days else _MICROSECONDS
            ends = pc.min_max(whole).as_py()
            if ends["min"] is not None and (ends["min"] < first or ends["max"] > last):
                raise DataError(
                    f"column {field.name!r} holds infinity, or a date outside the years 1 to 9999",
                    place=place.place,
                    fix=f"leave such rows out, or read it as text: {field.name}::text",
                )
        if said == "bpchar":
            array = pc.utf8_rtrim(array, " ")  # char(n) pads with blanks that do not count
        if (
            said == "numeric"
            and pa.types.is_decimal(field.type)
            and pc.any(pc.equal(pc.utf8_lower(array), "nan")).as_py()
        ):
            raise DataError(
                f"column {field.name!r} holds NaN, which no decimal is",
                place=place.place,
                fix=f"read it as a floating number: {field.name}::double precision",
            )
        return array if array.type == field.type else array.cast(field.type)

    def asked(self, query: str) -> list[tuple[Any, ...]]:
        try:
            return self._rows(query)
        except _Error as error:
            raise self.failed(error) from None

    def view_text(self, place: InDatabase) -> str | None:
        name = self.text(self.named(place))
        kinds = self.asked(f"SELECT relkind::text FROM pg_class WHERE oid = to_regclass({name})")
        if not kinds or kinds[0][0] != "v":
            return None
        return str(self.asked(f"SELECT pg_get_viewdef({name}::regclass)")[0][0])

    def columns_of(self, place: InDatabase) -> list[tuple[Any, ...]]:
        return self.asked(
            "SELECT attname::text, format_type(atttypid, atttypmod) FROM pg_attribute "
            f"WHERE attrelid = {self.text(self.named(place))}::regclass AND attnum > 0 AND NOT attisdropped ORDER BY attnum"
        )

    def value(self, query: str) -> Any:
        try:
            return self._rows(query)[0][0]
        except (_Error, IndexError) as error:
            raise self.failed(error) from None

    # Writing.

    @contextlib.contextmanager
    def writing(self) -> Iterator[None]:
        writer = self._connected(_WRITING)
        self._writer = writer
        try:
            yield
            writer.commit()
        except _Error as error:
            raise self.failed(error, doing="written") from None
        finally:
            self._writer = None
            with contextlib.suppress(_Error):
                writer.rollback()
            with contextlib.suppress(_Error):
                writer.close()

    @in_turn
    def run(self, statement: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        assert self._writer is not None
        try:
            with self._writer.cursor() as cursor:
                cursor.execute(statement, tuple(values) or None)
                return [] if cursor.description is None else [tuple(row) for row in cursor.fetchall()]
        except _Error as error:
            raise self.failed(error, doing="written") from None

    def hold(self, place: InDatabase) -> None:
        """Let no other Kivvet write the same meanwhile."""
        try:
            self.run(f"SELECT pg_advisory_xact_lock({zlib.crc32(self.named(place).encode())})")
        except OutputError as error:
            raise OutputError(
                "is being written by another Kivvet",
                place=place.place,
                fix="try again when it has ended; nothing was changed by this one",
            ) from error

    def is_bare(self, place: InDatabase) -> bool:
        table = f"{self.text(self.named(place))}::regclass"
        hung = " UNION ALL ".join(
            f"SELECT 1 FROM {sql}"
            for sql in (
                f"pg_index WHERE indrelid = {table}",
                f"pg_constraint WHERE {table} IN (conrelid, confrelid)",
                f"pg_trigger WHERE tgrelid = {table}",
                f"pg_rewrite WHERE ev_class = {table}",
                f"pg_policy WHERE polrelid = {table}",
                f"pg_inherits WHERE {table} IN (inhrelid, inhparent)",
                f"pg_publication_rel WHERE prrelid = {table}",
                f"pg_description WHERE objoid = {table}",
                f"pg_depend WHERE refobjid = {table} AND deptype IN ('n', 'a')",
                f"pg_attribute WHERE attrelid = {table} AND attnum > 0 AND (attnotnull OR atthasdef)",
                f"pg_class WHERE oid = {table} AND (reloptions IS NOT NULL OR relowner <> current_user::regrole)",
            )
        )
        return not self.run(f"SELECT 1 WHERE EXISTS ({hung})")

    def rights_on(self, place: InDatabase) -> list[str]:
        name = self.named(place)
        found = self.run(
            "SELECT privilege_type::text, CASE grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(grantee)) END, is_grantable "
            f"FROM pg_class, aclexplode(relacl) WHERE oid = to_regclass({self.text(name)}) AND grantee <> relowner"
        )
        return [
            f"GRANT {right} ON {name} TO {who}{' WITH GRANT OPTION' if may_give else ''}"
            for right, who, may_give in found
        ]

    def put_view(self, place: InDatabase, query: str) -> None:
        """Make a view; one that is there keeps its rights, and, where its columns stay, the views on it."""
        if self.view_text(place) is None:
            super().put_view(place, query)
            return
        made = InDatabase(place.database, "kivvet_new_view", place.schema)
        super().put_view(made, query)
        there, wanted = self.columns_of(place), self.columns_of(made)
        self.drop(made)
        if there == wanted[: len(there)]:
            self.run(f"CREATE OR REPLACE VIEW {self.named(place)} AS\n{query}")
            return
        rights = self.rights_on(place)
        super().put_view(place, query)
        for right in rights:
            self.run(right)

    def set_aside(self, view: InDatabase, tables: Sequence[InDatabase]) -> list[InDatabase]:
        found: list[InDatabase] = []
        for table in filter(self.is_in, tables):
            aside = InDatabase(table.database, f"kivvet_old_{len(found)}", table.schema)
            self.run(f"ALTER TABLE {self.named(table)} RENAME TO {self.quoted(aside.table)}")
            found.append(aside)
        return found

    def kinds_of(self, kind: pa.DataType) -> tuple[str, pa.DataType]:
        types = pa.types
        if types.is_dictionary(kind):
            return self.kinds_of(kind.value_type)
        for is_such, word, sent in _WORDS:
            if is_such(kind):
                return word, sent
        if types.is_decimal(kind):
            if kind.scale < 0:
                digits = kind.precision - kind.scale
                return f"numeric({digits},0)", pa.decimal256(digits, 0)
            made = pa.decimal128 if kind.precision <= 38 else pa.decimal256
            return f"numeric({kind.precision},{kind.scale})", made(kind.precision, kind.scale)
        if types.is_timestamp(kind):
            if kind.tz is not None:
                return "timestamptz", pa.timestamp("us", "UTC")
            return "timestamp", pa.timestamp("us")
        raise OutputError(
            f"PostgreSQL has no type for {kind}", fix="leave the column out, or write another file"
        )

    @in_turn
    def load(self, place: InDatabase, batches: Iterator[pa.RecordBatch], schema: pa.Schema) -> int:
        assert self._writer is not None
        failed: list[Exception] = []

        def handed() -> Iterator[pa.RecordBatch]:
            try:
                for batch in batches:
                    _refuse_nul(place, batch)
                    yield batch
            except Exception as error:
                failed.append(error)
                raise

        reader = pa.RecordBatchReader.from_batches(schema, handed())
        try:
            with self._writer.cursor() as cursor:
                named = {"db_schema_name": place.schema} if place.schema else {}
                return int(cursor.adbc_ingest(place.table, reader, mode="append", **named))
        except (_Error, pa.ArrowException, OSError) as error:
            if failed:
                raise failed[0] from None
            raise self.failed(error, place, "written") from None

    def hash_of(self, place: InDatabase) -> str:
        sql = f"SELECT COUNT(*), COALESCE(SUM(hash_record_extended(kivvet_row, 0)), 0)::text FROM {self.named(place)} AS kivvet_row"
        n, total = self.asked(sql)[0]
        return xxhash.xxh3_128_hexdigest(f"{self.columns_of(place)} {n} {total}".encode())

    def close(self) -> None:
        if self._asking is not None:
            with contextlib.suppress(_Error):
                self._asking.close()
            self._asking = None


def _refuse_nul(place: InDatabase, batch: pa.RecordBatch) -> None:
    for name, array in zip(batch.schema.names, batch.columns, strict=True):
        if pa.types.is_string(array.type) and pc.any(pc.match_substring(array, "\0")).as_py():
            raise OutputError(
                f"column {name!r} holds a text with a NUL character, which PostgreSQL does not hold",
                place=place.place,
                fix="take it out by a formula",
            )


def _named_type(field: pa.Field) -> str:
    """Return what an extension of Arrow says that a column is."""
    name = getattr(field.type, "extension_name", "")
    return {"arrow.uuid": "uuid", "arrow.json": "json"}.get(name, getattr(field.type, "type_name", "") or "")


_WORDS: tuple[tuple[Any, str, pa.DataType], ...] = (
    (pa.types.is_boolean, "boolean", pa.bool_()),
    (pa.types.is_int8, "smallint", pa.int16()),
    (pa.types.is_int16, "smallint", pa.int16()),
    (pa.types.is_uint8, "smallint", pa.int16()),
    (pa.types.is_int32, "integer", pa.int32()),
    (pa.types.is_uint16, "integer", pa.int32()),
    (pa.types.is_int64, "bigint", pa.int64()),
    (pa.types.is_uint32, "bigint", pa.int64()),
    (pa.types.is_uint64, "numeric(20,0)", pa.decimal128(20, 0)),
    (pa.types.is_float32, "real", pa.float32()),
    (pa.types.is_float64, "double precision", pa.float64()),
    (pa.types.is_string, "text", pa.string()),
    (pa.types.is_large_string, "text", pa.string()),
    (pa.types.is_date, "date", pa.date32()),
)
