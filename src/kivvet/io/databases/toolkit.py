"""Every other database, over SQLAlchemy: read by rows, so more slowly, and written by putting a filled table in the place of the old one,
since not all of them take the making of tables back.
"""

from __future__ import annotations

import contextlib
import datetime as dt
from collections.abc import Iterator, Sequence
from decimal import Decimal
from typing import Any

import pyarrow as pa
import sqlalchemy as sa
import xxhash
from sqlalchemy import types as kinds

from kivvet.core.words.errors import DataError, OutputError, UnopenableError
from kivvet.io.databases.engine import Engine, in_turn, plain_query
from kivvet.io.databases.places import Address, Database, InDatabase

_ROWS_A_BATCH = 10_000
_DRIVERS = {"mysql": "mysql+pymysql", "mariadb": "mariadb+pymysql"}
_MICROSECONDS = pa.timestamp("us")
#: By the class of a value the type of a column of such values, where a query says none.
_OF_VALUES: dict[type, pa.DataType] = {
    bool: pa.bool_(),
    int: pa.int64(),
    float: pa.float64(),
    str: pa.string(),
    Decimal: pa.string(),
    dt.date: pa.date32(),
    dt.datetime: _MICROSECONDS,
}


class Toolkit(Engine):
    """A database that SQLAlchemy knows."""

    has_views = False
    swaps_tables = True

    def __init__(self, database: Database, address: Address) -> None:
        super().__init__(database, address)
        scheme, _, rest = address.url.partition("://")
        try:
            self._engine = sa.create_engine(f"{_DRIVERS.get(scheme, scheme)}://{rest}")
        except sa.exc.NoSuchModuleError:
            raise UnopenableError(
                f"database {database.name} is of a kind that nothing installed opens: {address.engine}",
                expected="sqlite, duckdb, postgresql, or another that SQLAlchemy knows",
            ) from None  # the cause may show the URL
        except ModuleNotFoundError as error:
            raise UnopenableError(
                f"database {database.name} needs a package that is not installed: {error.name}",
                fix=f"pip install {error.name}",
            ) from None
        except sa.exc.ArgumentError as error:
            raise self.unreachable(error) from None
        self.title = address.engine
        self.longest_name = self._engine.dialect.max_identifier_length
        self._is_mysql = self._engine.dialect.name in ("mysql", "mariadb")
        signs = " CHARACTER SET utf8mb4 COLLATE utf8mb4_bin" if self._is_mysql else ""
        self.word_for_text = ("LONGTEXT" if self._is_mysql else self._word(kinds.Text())) + signs
        self.word_for_key = self._word(kinds.String(255)) + signs
        self._writer: sa.Connection | None = None

    def _word(self, kind: kinds.TypeEngine[Any]) -> str:
        return str(kind.compile(dialect=self._engine.dialect))

    @contextlib.contextmanager
    def _reading(self, place: InDatabase | None = None) -> Iterator[sa.Connection]:
        """Give a connection that changes nothing: what it does is taken back, and refused where the database can."""
        try:
            connection = self._engine.connect()
        except (sa.exc.SQLAlchemyError, OSError) as error:
            raise self.unreachable(_cause(error)) from None
        with connection:
            try:
                connection.exec_driver_sql("SET TRANSACTION READ ONLY")
            except sa.exc.SQLAlchemyError:  # one that does not have it
                connection.rollback()
            try:
                yield connection
            except sa.exc.SQLAlchemyError as error:
                raise self.failed(_cause(error), place) from None
            finally:
                with contextlib.suppress(sa.exc.SQLAlchemyError):
                    connection.rollback()

    def _run(self, connection: sa.Connection, sql: str) -> Any:
        return connection.exec_driver_sql(sql, execution_options={"no_parameters": True})

    @in_turn
    def asked(self, query: str) -> list[tuple[Any, ...]]:
        if self._writer is not None:
            return self.run(query)
        with self._reading() as connection:
            return [tuple(row) for row in self._run(connection, query)]

    def tables(self) -> list[str]:
        with self._reading() as connection:
            seen = sa.inspect(connection)
            return sorted([*seen.get_table_names(), *seen.get_view_names()])

    @in_turn
    def has_table(self, place: InDatabase) -> bool:
        with self._connected() as connection:
            seen = sa.inspect(connection)
            schema = place.schema or None
            return seen.has_table(place.table, schema=schema) or place.table in seen.get_view_names(schema)

    @contextlib.contextmanager
    def _connected(self) -> Iterator[sa.Connection]:
        if self._writer is not None:
            yield self._writer
            return
        with self._reading() as connection:
            yield connection

    @in_turn
    def view_text(self, place: InDatabase) -> str | None:
        with self._connected() as connection:
            seen = sa.inspect(connection)
            if place.table not in seen.get_view_names(place.schema or None):
                return None
            return str(seen.get_view_definition(place.table, place.schema or None))

    @in_turn
    def columns_of(self, place: InDatabase) -> list[tuple[Any, ...]]:
        with self._connected() as connection:
            found = sa.inspect(connection).get_columns(place.table, place.schema or None)
        return [(one["name"], str(one["type"])) for one in found]

    def schema_of(self, place: InDatabase) -> pa.Schema:
        if place.query:
            return self._of_query(place)
        if not self.has_table(place):
            raise self.no_table(place)
        with self._reading(place) as connection:
            columns = sa.inspect(connection).get_columns(place.table, place.schema or None)
        made = []
        for column in columns:
            kind = _arrow(column["type"])
            if kind is None:
                raise self.unread_type(
                    place, column["name"], str(column["type"]), f"CAST({column['name']} AS CHAR)"
                )
            made.append((column["name"], kind))
        self.refuse_twice(place, [name for name, _ in made])
        return pa.schema(made)

    def _of_query(self, place: InDatabase) -> pa.Schema:
        """Return the columns of a query, whose types its values say: it is read for them."""
        if plain_query(place.query).split(None, 1)[0].upper() not in ("SELECT", "WITH"):
            raise DataError(
                "is no query that reads", place=place.place, expected="one SELECT", fix="correct the query"
            )
        with self._reading(place) as connection:
            result = self._run(connection, f"SELECT * FROM {self.from_(place)}")
            names = list(result.keys())
            found: list[set[type]] = [set() for _ in names]
            for rows in result.partitions(_ROWS_A_BATCH):
                for seen, values in zip(found, zip(*rows, strict=True), strict=True):
                    seen |= set(map(type, values))
        self.refuse_twice(place, names)
        made = []
        for name, seen in zip(names, found, strict=True):
            types = {_OF_VALUES.get(one) for one in seen - {type(None)}}
            if len(types) > 1 or None in types:
                said = " and ".join(sorted(one.__name__ for one in seen - {type(None)}))
                raise self.unread_type(place, name, said, f"CAST({name} AS CHAR)")
            made.append((name, next(iter(types), pa.string())))
        return pa.schema(made)

    def batches(self, place: InDatabase, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        with self._reading(place) as connection:
            streamed = connection.execution_options(stream_results=True, max_row_buffer=_ROWS_A_BATCH)
            at = 0
            for rows in self._run(streamed, self.select(place, schema.names)).partitions(_ROWS_A_BATCH):
                if not schema.names:
                    yield pa.RecordBatch.from_struct_array(pa.array([{}] * len(rows), pa.struct([])))
                    continue
                arrays = [
                    self._array(place, field, values, at)
                    for field, values in zip(schema, zip(*rows, strict=True), strict=True)
                ]
                yield pa.RecordBatch.from_arrays(arrays, schema=schema)
                at += len(rows)

    def _array(self, place: InDatabase, field: pa.Field, values: Sequence[Any], before: int) -> pa.Array:
        if pa.types.is_string(field.type):
            values = [value if value is None or isinstance(value, str) else str(value) for value in values]
        elif pa.types.is_boolean(field.type):
            values = [None if value is None else bool(value) for value in values]
        try:
            return pa.array(values, field.type)
        except (pa.ArrowInvalid, pa.ArrowTypeError, OverflowError) as error:
            raise DataError(
                f"column {field.name!r} holds what is no {field.type}, within rows {before + 1:,} to {before + len(values):,}: {error}",
                place=place.place,
                fix="read it as text, by a query with CAST",
            ) from error

    def value(self, query: str) -> Any:
        with self._reading() as connection:
            row = self._run(connection, query).first()
        if row is None:
            raise DataError(
                "the query for a version gives no value", fix="let it give one, such as SELECT MAX(changed)"
            )
        return row[0]

    # Writing.

    @contextlib.contextmanager
    def writing(self) -> Iterator[None]:
        try:
            writer = self._engine.connect()
        except (sa.exc.SQLAlchemyError, OSError) as error:
            raise self.unreachable(_cause(error)) from None
        self._writer = writer
        try:
            yield
            writer.commit()
        except sa.exc.SQLAlchemyError as error:
            raise self.failed(_cause(error), doing="written") from None
        finally:
            self._writer = None
            with contextlib.suppress(sa.exc.SQLAlchemyError):
                writer.rollback()
            writer.close()

    @in_turn
    def run(self, statement: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        assert self._writer is not None
        try:
            result = self._run(self._writer, statement)
            return [tuple(row) for row in result] if result.returns_rows else []
        except sa.exc.SQLAlchemyError as error:
            raise self.failed(_cause(error), doing="written") from None

    def swap(self, made: InDatabase, place: InDatabase) -> None:
        """Put a table that is filled in the place of another, in one step where the database has one."""
        assert self._writer is not None
        self._writer.commit()
        new, there = self.named(made), self.named(place)
        if not self.is_in(place):
            self.run(f"ALTER TABLE {new} RENAME TO {self.quoted(place.table)}")
        elif self._is_mysql and self.view_text(place) is None:
            old = self.named(InDatabase(place.database, "kivvet_old", place.schema))
            self.run(f"RENAME TABLE {there} TO {old}, {new} TO {there}")
            self.run(f"DROP TABLE {old}")
        else:
            self.drop(place)
            self.run(f"ALTER TABLE {new} RENAME TO {self.quoted(place.table)}")

    def kinds_of(self, kind: pa.DataType) -> tuple[str, pa.DataType]:
        types = pa.types
        if types.is_dictionary(kind):
            return self.kinds_of(kind.value_type)
        if types.is_boolean(kind):
            return self._word(kinds.Boolean()), kind
        if types.is_integer(kind):
            return (
                "BIGINT UNSIGNED"
                if self._is_mysql and kind == pa.uint64()
                else self._word(kinds.BigInteger())
            ), kind
        if types.is_floating(kind):
            return self._word(kinds.Double()), kind
        if types.is_date(kind):
            return self._word(kinds.Date()), pa.date32()
        if types.is_timestamp(kind) and kind.tz is None:
            return ("DATETIME(6)" if self._is_mysql else self._word(kinds.DateTime())), _MICROSECONDS
        if types.is_decimal(kind):
            return self._word(kinds.Numeric(kind.precision, kind.scale)), kind
        if types.is_string(kind) or types.is_large_string(kind):
            return self.word_for_text, pa.string()
        raise OutputError(
            f"{self.title} has no type for {kind}", fix="leave the column out, or write another file"
        )

    @in_turn
    def load(self, place: InDatabase, batches: Iterator[pa.RecordBatch], schema: pa.Schema) -> int:
        assert self._writer is not None
        columns: list[sa.ColumnClause[Any]] = [sa.column(name) for name in schema.names]
        table = sa.table(place.table, *columns, schema=place.schema or None)
        names = [f"c{at}" for at in range(len(columns))]
        insert = table.insert().values(
            {column: sa.bindparam(name) for column, name in zip(columns, names, strict=True)}
        )
        n = 0
        for batch in batches:
            values = zip(*(array.to_pylist() for array in batch.columns), strict=True)
            try:
                self._writer.execute(insert, [dict(zip(names, row, strict=True)) for row in values])
            except sa.exc.SQLAlchemyError as error:
                raise self.failed(_cause(error), place, "written") from None
            n += batch.num_rows
        return n

    def hash_of(self, place: InDatabase) -> str:
        total = n = 0
        with self._connected() as connection:
            for rows in self._run(connection, f"SELECT * FROM {self.named(place)}").partitions(_ROWS_A_BATCH):
                total += sum(xxhash.xxh3_128_intdigest(repr(tuple(row)).encode()) for row in rows)
                n += len(rows)
        return xxhash.xxh3_128_hexdigest(f"{self.columns_of(place)} {n} {total}".encode())

    def quoted(self, name: str) -> str:
        super().quoted(name)
        marks = self._engine.dialect.identifier_preparer
        within = name.replace(marks.escape_quote, marks.escape_quote * 2)
        return f"{marks.initial_quote}{within}{marks.final_quote}"

    def text(self, value: str) -> str:
        return super().text(value.replace("\\", "\\\\") if self._is_mysql else value)

    def close(self) -> None:
        self._engine.dispose()


def _cause(error: BaseException) -> Exception:
    """Return what the driver says, without the statement and its values."""
    said = getattr(error, "orig", None) or error
    if len(said.args) > 1 and isinstance(said.args[1], str):  # a number stands before it
        return Exception(said.args[1])
    return said if isinstance(said, Exception) else Exception(str(said))


def _arrow(kind: Any) -> pa.DataType | None:
    """Return the type that a column is read as, by what the database says of it; never by its values."""
    word = type(kind).__name__
    if getattr(kind, "unsigned", False) and isinstance(kind, kinds.BigInteger):
        return pa.uint64()
    if word == "TINYINT" and getattr(kind, "display_width", None) == 1:
        return pa.bool_()
    for is_such, made in (
        (kinds.Boolean, pa.bool_()),
        (kinds.Integer, pa.int64()),
        (kinds.Float, pa.float64()),
        (kinds.Date, pa.date32()),
        (kinds.Enum, pa.string()),
        (kinds.String, pa.string()),
        (kinds.Uuid, pa.string()),
    ):
        if isinstance(kind, is_such):
            return made
    if isinstance(kind, kinds.DateTime):
        return None if getattr(kind, "timezone", False) else _MICROSECONDS
    if isinstance(kind, kinds.Numeric):
        precision, scale = kind.precision, kind.scale or 0
        return pa.decimal128(precision, scale) if precision and precision <= 38 else pa.string()
    return None
