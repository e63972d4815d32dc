"""duckdb, locked down: what it is asked may read no file and write nothing."""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import duckdb
import pyarrow as pa
import xxhash

from kivvet.core.columns.column import type_of_arrow
from kivvet.core.words.errors import DataError, OutputError
from kivvet.io.databases.engine import ROWS_A_BATCH, Engine, in_turn
from kivvet.io.databases.places import Address, Database, InDatabase

_SETTINGS: dict[str, str | bool | int | float | list[str]] = {
    "autoinstall_known_extensions": "false",
    "autoload_known_extensions": "false",
    "python_enable_replacements": "false",
    "enable_external_access": "false",
    "preserve_insertion_order": "true",
}
_HANDED = "kivvet_handed"


class Duck(Engine):
    """A file of duckdb."""

    title = "duckdb"

    def __init__(self, database: Database, address: Address) -> None:
        super().__init__(database, address)
        assert address.path is not None
        self.path: Path = address.path
        self._connection: duckdb.DuckDBPyConnection | None = None
        self._may_write = False
        self._in_transaction: duckdb.DuckDBPyConnection | None = None
        self._lock = threading.RLock()

    def open_to_write(self) -> None:
        """Open the file so that it can be written too: no other process has it open then."""
        if not self._may_write:
            self.close()
            self._may_write = True

    def _read(self) -> duckdb.DuckDBPyConnection:
        """Return a connection of its own, so that what another reads stays as it is."""
        with self._lock:
            if self._connection is None:
                if not self._may_write and not self.path.is_file():
                    raise self.unreachable(FileNotFoundError(f"there is no file {self.path}"))
                try:
                    self.path.parent.mkdir(parents=True, exist_ok=True)
                    self._connection = duckdb.connect(
                        str(self.path), read_only=not self._may_write, config=_SETTINGS
                    )
                    self._connection.execute("SET TimeZone = 'UTC'")
                    self._connection.execute("SET lock_configuration = true")
                except (duckdb.Error, OSError) as error:
                    raise self.unreachable(error) from error
            return self._connection.cursor()

    def tables(self) -> list[str]:
        found = self._read().execute("SELECT table_name FROM information_schema.tables ORDER BY table_name")
        return [name for (name,) in found.fetchall()]

    def has_table(self, place: InDatabase) -> bool:
        if not self.path.is_file():
            return False
        return bool(
            self.asked(
                "SELECT 1 FROM information_schema.tables "
                f"WHERE LOWER(table_name) = LOWER({self.text(place.table)}) AND table_schema = {self.text(place.schema or 'main')}"
            )
        )

    @in_turn
    def asked(self, query: str) -> list[tuple[Any, ...]]:
        try:
            return (self._in_transaction or self._read()).execute(query).fetchall()
        except duckdb.Error as error:
            raise self.failed(error) from error

    def view_text(self, place: InDatabase) -> str | None:
        found = self.asked(
            f"SELECT sql FROM duckdb_views() WHERE LOWER(view_name) = LOWER({self.text(place.table)}) "
            f"AND schema_name = {self.text(place.schema or 'main')}"
        )
        return str(found[0][0]) if found else None

    def columns_of(self, place: InDatabase) -> list[tuple[Any, ...]]:
        return [one[:2] for one in self.asked(f"DESCRIBE {self.named(place)}")]

    def is_bare(self, place: InDatabase) -> bool:
        here = f"WHERE table_name = {self.text(place.table)} AND schema_name = {self.text(place.schema or 'main')}"
        hung = (f"SELECT COUNT(*) FROM {one}() {here}" for one in ("duckdb_indexes", "duckdb_constraints"))
        return not any(self.asked(sql)[0][0] for sql in hung)

    def _one_select(self, connection: duckdb.DuckDBPyConnection, sql: str, place: InDatabase | None) -> None:
        """Raise unless a text is one statement that reads."""
        kinds = [one.type for one in connection.extract_statements(sql)]
        if kinds != [duckdb.StatementType.SELECT]:
            raise DataError(
                "is no query that reads",
                place=place.place if place is not None else None,
                expected="one SELECT",
                fix="correct the query",
            )

    def schema_of(self, place: InDatabase) -> pa.Schema:
        if place.table and not self.has_table(place):
            raise self.no_table(place)
        connection = self._read()
        sql = f"SELECT * FROM {self.from_(place)} LIMIT 0"
        try:
            self._one_select(connection, sql, place)
            described = connection.execute(f"DESCRIBE {sql}").fetchall()
            schema = _reader(connection, sql, 1).schema
        except duckdb.Error as error:
            raise self.failed(error, place) from error
        self.refuse_twice(place, schema.names)
        made = []
        for field, (_, said, *_rest) in zip(schema, described, strict=True):
            kind = field.type
            if said in ("HUGEINT", "UHUGEINT") or (type_of_arrow(kind) is None) or pa.types.is_nested(kind):
                raise self.unread_type(place, field.name, said, f"{field.name}::VARCHAR")
            made.append(pa.field(field.name, kind))
        return pa.schema(made)

    def batches(self, place: InDatabase, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        connection = self._read()
        try:
            for batch in _reader(connection, self.select(place, schema.names), ROWS_A_BATCH):
                if not schema.names:
                    yield pa.RecordBatch.from_struct_array(pa.array([{}] * batch.num_rows, pa.struct([])))
                else:
                    yield pa.RecordBatch.from_arrays(batch.columns, schema=schema)
        except (duckdb.Error, pa.ArrowException, OSError) as error:
            raise self.failed(error, place) from error

    def value(self, query: str) -> Any:
        connection = self._read()
        try:
            self._one_select(connection, query, None)
            return connection.execute(query).fetchall()[0][0]
        except (duckdb.Error, IndexError) as error:
            raise self.failed(error) from error

    @contextlib.contextmanager
    def writing(self) -> Iterator[None]:
        self.open_to_write()
        connection = self._read()
        try:
            connection.execute("BEGIN TRANSACTION")
            self._in_transaction = connection
            yield
            self._in_transaction = None
            connection.execute("COMMIT")
        except duckdb.Error as error:
            raise self.failed(error, doing="written") from error
        finally:
            if self._in_transaction is not None:
                self._in_transaction = None
                with contextlib.suppress(duckdb.Error):
                    connection.execute("ROLLBACK")

    @in_turn
    def run(self, statement: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        assert self._in_transaction is not None
        try:
            return self._in_transaction.execute(statement, list(values)).fetchall()
        except duckdb.Error as error:
            raise self.failed(error, doing="written") from error

    def kinds_of(self, kind: pa.DataType) -> tuple[str, pa.DataType]:
        types = pa.types
        if types.is_dictionary(kind):
            return self.kinds_of(kind.value_type)
        for is_such, word in _WORDS:
            if is_such(kind):
                return word, kind
        if types.is_string(kind) or types.is_large_string(kind):
            return "VARCHAR", pa.string()
        if types.is_decimal(kind) and 0 <= kind.scale <= kind.precision <= 38:
            return f"DECIMAL({kind.precision},{kind.scale})", kind
        if types.is_date(kind):
            return "DATE", pa.date32()
        if types.is_timestamp(kind):
            if kind.tz is not None:
                return "TIMESTAMPTZ", pa.timestamp("us", kind.tz)
            return ("TIMESTAMP_NS" if kind.unit == "ns" else "TIMESTAMP"), pa.timestamp(
                "ns" if kind.unit == "ns" else "us"
            )
        raise OutputError(f"duckdb has no type for {kind}", fix="leave the column out, or write another file")

    @in_turn
    def load(self, place: InDatabase, batches: Iterator[pa.RecordBatch], schema: pa.Schema) -> int:
        assert self._in_transaction is not None
        connection, failed = self._in_transaction, []

        def handed() -> Iterator[pa.RecordBatch]:
            try:
                yield from batches
            except Exception as error:
                failed.append(error)
                raise

        reader = pa.RecordBatchReader.from_batches(schema, handed())
        connection.register(_HANDED, reader)
        try:
            found = connection.execute(f"INSERT INTO {self.named(place)} SELECT * FROM {_HANDED}").fetchall()
            connection.unregister(_HANDED)
        except (duckdb.Error, pa.ArrowException) as error:
            if failed:
                raise failed[0] from error
            raise self.failed(error, place, "written") from error
        return int(found[0][0])

    def hash_of(self, place: InDatabase) -> str:
        sql = f"SELECT COUNT(*), COALESCE(SUM(hash(kivvet_row)), 0)::VARCHAR FROM {self.named(place)} AS kivvet_row"
        n, total = self.asked(sql)[0]
        return xxhash.xxh3_128_hexdigest(f"{self.columns_of(place)} {n} {total}".encode())

    def close(self) -> None:
        with self._lock:
            if self._connection is not None:
                self._connection.close()
                self._connection = None
            self._may_write = False


def _reader(connection: duckdb.DuckDBPyConnection, sql: str, rows: int) -> pa.RecordBatchReader:
    reader: Any = connection.sql(sql).to_arrow_reader(rows)
    return reader


_WORDS = (
    (pa.types.is_boolean, "BOOLEAN"),
    (pa.types.is_int8, "TINYINT"),
    (pa.types.is_int16, "SMALLINT"),
    (pa.types.is_int32, "INTEGER"),
    (pa.types.is_int64, "BIGINT"),
    (pa.types.is_uint8, "UTINYINT"),
    (pa.types.is_uint16, "USMALLINT"),
    (pa.types.is_uint32, "UINTEGER"),
    (pa.types.is_uint64, "UBIGINT"),
    (pa.types.is_float32, "REAL"),
    (pa.types.is_float64, "DOUBLE"),
)
