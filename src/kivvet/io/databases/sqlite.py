"""SQLite, by the standard library: a second SQLite library in the process would not see the locks of the first.

Types are those that are declared, by SQLite's own rules; a value of another kind than its column is an error with its row, since
any column may hold any. Of what a query works out, the values themselves tell the type.
"""

from __future__ import annotations

import contextlib
import datetime as dt
import re
import sqlite3
import threading
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

import pyarrow as pa
import pyarrow.compute as pc
import xxhash

from kivvet.core.words.errors import DataError, OutputError
from kivvet.io.databases.engine import ROWS_A_BATCH, Engine, in_turn, plain_query
from kivvet.io.databases.places import Address, Database, InDatabase

_ALLOWED = {
    sqlite3.SQLITE_SELECT,
    sqlite3.SQLITE_READ,
    sqlite3.SQLITE_FUNCTION,
    sqlite3.SQLITE_RECURSIVE,
}
_HARMFUL = ("load_extension", "writefile", "edit", "readfile", "fts3_tokenizer")
_MICROSECONDS = pa.timestamp("us")
#: Declared types, in the order in which SQLite itself looks at them.
_KINDS: tuple[tuple[re.Pattern[str], pa.DataType], ...] = (
    (re.compile("BOOL", re.I), pa.bool_()),
    (re.compile("^(DATETIME|TIMESTAMP)", re.I), _MICROSECONDS),
    (re.compile("^DATE$", re.I), pa.date32()),
    (re.compile("INT", re.I), pa.int64()),
    (re.compile("CHAR|CLOB|TEXT|^UUID$|^JSON$", re.I), pa.string()),
    (re.compile("REAL|FLOA|DOUB|NUMERIC|DECIMAL", re.I), pa.float64()),
)
#: As what a value arrives whose column is of another type.
_ARRIVES: dict[pa.DataType, pa.DataType] = {
    pa.bool_(): pa.int64(),
    pa.date32(): pa.string(),
    _MICROSECONDS: pa.string(),
}
_OF_VALUES = {
    frozenset({"integer"}): pa.int64(),
    frozenset({"real"}): pa.float64(),
    frozenset({"integer", "real"}): pa.float64(),
    frozenset({"text"}): pa.string(),
    frozenset(): pa.string(),
}
_LARGEST = 2**63 - 1


class Sqlite(Engine):
    """A file of SQLite."""

    title = "SQLite"

    def __init__(self, database: Database, address: Address) -> None:
        super().__init__(database, address)
        assert address.path is not None
        self.path: Path = address.path
        self._reader: sqlite3.Connection | None = None
        self._writer: sqlite3.Connection | None = None
        self._lock = threading.RLock()

    # Reading.

    def _read(self) -> sqlite3.Connection:
        if self._reader is None:
            if not self.path.is_file():
                raise self.unreachable(FileNotFoundError(f"there is no file {self.path}"))
            try:
                reader = sqlite3.connect(
                    f"{self.path.absolute().as_uri()}?mode=ro",
                    uri=True,
                    isolation_level=None,
                    check_same_thread=False,
                )
                reader.execute("PRAGMA query_only = 1")
                reader.execute("SELECT COUNT(*) FROM sqlite_master").fetchall()
            except sqlite3.Error as error:
                raise self.unreachable(error) from error
            self._reader = reader
        return self._reader

    @contextlib.contextmanager
    def _guarded(self) -> Iterator[sqlite3.Connection]:
        """Give the connection, which meanwhile lets nothing pass that changes anything."""
        connection = self._read()

        def judge(action: int, _: str | None, function: str | None, *__: str | None) -> int:
            is_fine = action in _ALLOWED and not (action == sqlite3.SQLITE_FUNCTION and function in _HARMFUL)
            return sqlite3.SQLITE_OK if is_fine else sqlite3.SQLITE_DENY

        with self._lock:
            connection.set_authorizer(judge)
            try:
                yield connection
            finally:
                connection.set_authorizer(None)

    def is_passing(self, error: Exception) -> bool:
        return isinstance(error, sqlite3.OperationalError) and "locked" in str(error)

    def tables(self) -> list[str]:
        with self._lock:
            found = self._read().execute(
                "SELECT name FROM sqlite_master WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite_%' ORDER BY name"
            )
            return [name for (name,) in found.fetchall()]

    def asked(self, query: str) -> list[tuple[Any, ...]]:
        if self._writer is not None:
            return self.run(query)
        with self._lock:
            try:
                return self._read().execute(query).fetchall()
            except sqlite3.Error as error:
                raise self.failed(error) from error

    def has_table(self, place: InDatabase) -> bool:
        if not self.path.is_file():
            return False
        name = self.text(place.table)
        return bool(
            self.asked(
                f"SELECT 1 FROM sqlite_master WHERE type IN ('table', 'view') AND LOWER(name) = LOWER({name})"
            )
        )

    def view_text(self, place: InDatabase) -> str | None:
        found = self.asked(
            f"SELECT sql FROM sqlite_master WHERE type = 'view' AND LOWER(name) = LOWER({self.text(place.table)})"
        )
        return str(found[0][0]) if found else None

    def columns_of(self, place: InDatabase) -> list[tuple[Any, ...]]:
        return self.asked(f"SELECT name, type FROM pragma_table_info({self.text(place.table)})")

    def schema_of(self, place: InDatabase) -> pa.Schema:
        if place.table and not self.has_table(place):
            raise self.no_table(place)
        try:
            with self._guarded() as connection:
                described = connection.execute(f"SELECT * FROM {self.from_(place)} LIMIT 0").description
        except sqlite3.Error as error:
            raise self.failed(error, place) from error
        names = [one[0] for one in described]
        self.refuse_twice(place, names)
        declared = self._declared(place)
        kinds = []
        for name in names:
            said = declared.get(name, "")
            kind = next((kind for pattern, kind in _KINDS if pattern.search(said)), None)
            if kind is None and said:
                raise self.unread_type(place, name, said, f"CAST({name} AS TEXT)")
            kinds.append(kind or self._by_values(place, name))
        return pa.schema(list(zip(names, kinds, strict=True)))

    def _declared(self, place: InDatabase) -> dict[str, str]:
        """Return the types that are declared, by column."""
        with self._lock:
            if place.table:
                found = self._read().execute("SELECT name, type FROM pragma_table_info(?)", (place.table,))
                return dict(found.fetchall())
            connection = sqlite3.connect(
                f"{self.path.absolute().as_uri()}?mode=ro", uri=True, isolation_level=None
            )
            try:  # a view of the query knows the types of columns that are columns of tables
                connection.execute(f"CREATE TEMP VIEW kivvet_query AS {plain_query(place.query)}\n")
                found = connection.execute("SELECT name, type FROM pragma_table_info('kivvet_query')")
                return dict(found.fetchall())
            except sqlite3.Error:
                return {}
            finally:
                connection.close()

    def _by_values(self, place: InDatabase, name: str) -> pa.DataType:
        column = self.quoted(name)
        sql = f"SELECT DISTINCT typeof({column}) FROM {self.from_(place)} WHERE {column} IS NOT NULL"
        with self._guarded() as connection:
            found = frozenset(kind for (kind,) in connection.execute(sql).fetchall())
        if found not in _OF_VALUES:
            raise self.unread_type(place, name, " and ".join(sorted(found)), f"CAST({name} AS TEXT)")
        return _OF_VALUES[found]

    def batches(self, place: InDatabase, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        at = 0
        try:
            with self._guarded() as connection:
                rows_of = connection.execute(self.select(place, schema.names))
            while True:
                with self._lock:
                    rows = rows_of.fetchmany(ROWS_A_BATCH)
                if not rows:
                    return
                if not schema.names:
                    yield pa.RecordBatch.from_struct_array(pa.array([{}] * len(rows), pa.struct([])))
                    continue
                arrays = [
                    self._array(place, field, values, at)
                    for field, values in zip(schema, zip(*rows, strict=True), strict=True)
                ]
                yield pa.RecordBatch.from_arrays(arrays, schema=schema)
                at += len(rows)
        except sqlite3.Error as error:
            raise self.failed(error, place) from error

    def _array(self, place: InDatabase, field: pa.Field, values: Sequence[Any], before: int) -> pa.Array:
        via = _ARRIVES.get(field.type, field.type)
        try:
            made = pa.array(values, via)
            if field.type != pa.bool_() or pc.all(pc.is_in(made, pa.array([0, 1, None]))).as_py():
                return made if via == field.type else made.cast(field.type)
            error: Exception = ValueError("neither 0 nor 1")
        except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError) as raised:
            error = raised
        at = next(at for at, value in enumerate(values) if not _fits(value, via, field.type))
        raise DataError(
            f"row {before + at + 1:,} holds {values[at]!r} in column {field.name!r}, which is declared as {_word(field.type)}",
            place=place.place,
            fix=f'correct it, or read it as text: query = "SELECT ..., CAST({field.name} AS TEXT) AS {field.name} FROM ..."',
        ) from error

    def value(self, query: str) -> Any:
        try:
            with self._guarded() as connection:
                return connection.execute(query).fetchall()[0][0]
        except (sqlite3.Error, IndexError) as error:
            raise self.failed(error) from error

    # Writing.

    @contextlib.contextmanager
    def writing(self) -> Iterator[None]:
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            writer = sqlite3.connect(self.path, isolation_level=None, check_same_thread=False, timeout=10)
            writer.execute(
                "PRAGMA legacy_alter_table = 1"
            )  # else a view that is broken elsewhere lets no table be renamed
            writer.execute("BEGIN IMMEDIATE")
        except (sqlite3.Error, OSError) as error:
            raise self.failed(error, doing="written") from error
        self._writer = writer
        try:
            yield
            writer.execute("COMMIT")
        except sqlite3.Error as error:
            raise self.failed(error, doing="written") from error
        finally:
            self._writer = None
            if writer.in_transaction:
                writer.execute("ROLLBACK")
            writer.close()

    @in_turn
    def run(self, statement: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        assert self._writer is not None
        try:
            return self._writer.execute(statement, tuple(values)).fetchall()
        except sqlite3.Error as error:
            raise self.failed(error, doing="written") from error

    def kinds_of(self, kind: pa.DataType) -> tuple[str, pa.DataType]:
        types = pa.types
        if types.is_dictionary(kind):
            return self.kinds_of(kind.value_type)
        if types.is_boolean(kind):
            return "BOOLEAN", pa.int64()
        if types.is_integer(kind):
            return "INTEGER", pa.int64()
        if types.is_floating(kind):
            return "REAL", pa.float64()
        if types.is_date(kind):
            return "DATE", pa.string()
        if types.is_timestamp(kind):
            return "TIMESTAMP", pa.string()
        if types.is_string(kind) or types.is_large_string(kind) or types.is_decimal(kind):
            return "TEXT", pa.string()
        raise OutputError(f"SQLite has no type for {kind}", fix="leave the column out, or write another file")

    @in_turn
    def load(self, place: InDatabase, batches: Iterator[pa.RecordBatch], schema: pa.Schema) -> int:
        assert self._writer is not None
        marks = ", ".join("?" * len(schema))
        statement = f"INSERT INTO {self.named(place)} VALUES ({marks})"
        n = 0
        for batch in batches:
            columns = [
                _without_nan(place, name, array).to_pylist()
                for name, array in zip(schema.names, batch.columns, strict=True)
            ]
            try:
                self._writer.executemany(statement, zip(*columns, strict=True))
            except (sqlite3.Error, OverflowError) as error:
                raise self.failed(error, place, "written") from error
            n += batch.num_rows
        return n

    def hash_of(self, place: InDatabase) -> str:
        connection = self._writer or self._read()
        total, n = 0, 0
        with self._lock:
            try:
                rows = connection.execute(f"SELECT * FROM {self.named(place)}")
                while found := rows.fetchmany(ROWS_A_BATCH):
                    total += sum(xxhash.xxh3_128_intdigest(repr(row).encode()) for row in found)
                    n += len(found)
            except sqlite3.Error as error:
                raise self.failed(error, place) from error
        return xxhash.xxh3_128_hexdigest(f"{self.columns_of(place)} {n} {total}".encode())

    def cast(self, place: InDatabase, name: str, array: pa.Array, kind: pa.DataType) -> pa.Array:
        if pa.types.is_boolean(array.type):
            return array.cast(kind)
        return pa.array(_handed_over(place, name, array), kind)

    def close(self) -> None:
        if self._reader is not None:
            self._reader.close()
            self._reader = None


def _handed_over(place: InDatabase, name: str, array: pa.Array) -> list[Any]:
    """Return values of a type that SQLite does not have as those that it is told."""
    kind = array.type
    if pa.types.is_timestamp(kind):
        if kind.tz is not None:
            array = array.cast(pa.timestamp("us", kind.tz)).cast(_MICROSECONDS)
        return [
            None if value is None else value.isoformat(" ") for value in array.cast(_MICROSECONDS).to_pylist()
        ]
    if pa.types.is_date(kind):
        return [None if value is None else _iso(value) for value in array.to_pylist()]
    if pa.types.is_decimal(kind):
        return [None if value is None else str(value) for value in array.to_pylist()]
    if pa.types.is_unsigned_integer(kind) and (pc.max(array).as_py() or 0) > _LARGEST:
        raise OutputError(f"column {name!r} holds whole numbers that SQLite does not hold", place=place.place)
    return list(array.to_pylist())


def _without_nan(place: InDatabase, name: str, array: pa.Array) -> pa.Array:
    """Return a column as it is; `OutputError` where SQLite would hold something else in its place."""
    if pa.types.is_floating(array.type) and pc.any(pc.is_nan(array)).as_py():
        raise OutputError(
            f"column {name!r} holds a value that is not a number (NaN), which SQLite does not hold",
            place=place.place,
            fix="make it missing by a formula, or write another file",
        )
    return array


def _iso(one: dt.date) -> str:
    return one.isoformat()[:10]


def _fits(value: Any, via: pa.DataType, kind: pa.DataType) -> bool:
    try:
        made = pa.array([value], via)
        if kind == pa.bool_() and value not in (0, 1, None):
            return False
        made.cast(kind)
    except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError):
        return False
    return True


def _word(kind: pa.DataType) -> str:
    words = {
        pa.bool_(): "BOOLEAN",
        pa.int64(): "INTEGER",
        pa.float64(): "REAL",
        pa.string(): "TEXT",
        pa.date32(): "DATE",
    }
    return words.get(kind, "TIMESTAMP")
