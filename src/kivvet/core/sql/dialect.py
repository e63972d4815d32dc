"""How a database writes values, and what it does otherwise than Kivvet; what it cannot do the same is an obstacle."""

from __future__ import annotations

import datetime as dt
import math
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import ClassVar

from kivvet.core.words.values import Value, ValueType


class ObstacleError(Exception):
    """Something cannot be the same in a database.

    Attributes
    ----------
    what : str
    fix : str
    """

    def __init__(self, what: str, fix: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.fix = fix


class Dialect(ABC):
    """The SQL of one database.

    Attributes
    ----------
    name : str
    types : mapping of str to str
        By type of a value the type of a column.
    fence : str
        What stands at the end of a step, so that it is worked out once.
    has_moments : bool
        Whether times are a type of their own.
    """

    name = ""
    types: ClassVar[Mapping[ValueType, str]]
    fence = ""
    has_moments = True

    def quoted(self, name: str) -> str:
        return '"' + name.replace('"', '""') + '"'

    def text(self, value: str) -> str:
        if "\0" in value:
            raise ObstacleError("a text with a NUL character")
        return "'" + value.replace("'", "''") + "'"

    def truth(self, value: bool) -> str:
        return "TRUE" if value else "FALSE"

    @abstractmethod
    def floating(self, value: float) -> str:
        """Return a float, bit by bit the same."""

    @abstractmethod
    def exact(self, value: Decimal) -> str:
        """Return a decimal."""

    def day(self, value: dt.date) -> str:
        return f"DATE '{value.isoformat()}'"

    def moment(self, value: dt.datetime) -> str:
        return f"TIMESTAMP '{value.isoformat(' ')}'"

    def null(self, kind: ValueType) -> str:
        return f"CAST(NULL AS {self.types[kind]})"

    def value(self, value: Value | None, kind: ValueType) -> str:
        """Return a value of a type."""
        if value is None:
            return self.null(kind)
        if isinstance(value, bool):
            return self.truth(value)
        if isinstance(value, str):
            return self.text(value)
        if isinstance(value, dt.datetime):
            return self.moment(value)
        if isinstance(value, dt.date):
            return self.day(value)
        if kind == "decimal":
            return self.exact(Decimal(value))
        if kind == "number":
            return self.floating(float(value))
        return self.whole(int(value))

    def whole(self, value: int) -> str:
        return f"CAST({value} AS {self.types['integer']})"

    @abstractmethod
    def clean(self, name: str, kind: ValueType, *, is_floating: bool) -> str:
        """Return a column as it is read: what is no number, and a text of no characters, is missing."""

    def real(self, sql: str) -> str:
        """Return a value as a float."""
        return f"CAST({sql} AS {self.types['number']})"

    def number(self, sql: str) -> str:
        """Return the result of arithmetic with floats, missing where it is no number."""
        return sql

    @abstractmethod
    def whole_result(self, sql: str) -> str:
        """Return the result of arithmetic with whole numbers, missing beyond 64 bits; `sql` holds ``{}`` for nothing else."""

    @abstractmethod
    def whole_arithmetic(self, sign: str, left: str, right: str) -> str:
        """Return a sum, difference or product of whole numbers, missing beyond 64 bits."""

    @abstractmethod
    def days_between(self, first: str, second: str) -> str:
        """Return the days from the first to the second."""

    @abstractmethod
    def part_of(self, part: str, sql: str) -> str:
        """Return a part of a date."""

    def length(self, sql: str) -> str:
        return f"CAST(CHAR_LENGTH({sql}) AS {self.types['integer']})"

    def substring(self, sql: str, start: str, length: str | None) -> str:
        """Return part of a text; start and length are whole numbers."""
        return f"SUBSTRING({sql} FROM CAST({start} AS INTEGER)" + (
            ")" if length is None else f" FOR CAST({length} AS INTEGER))"
        )

    def position(self, needle: str, hay: str) -> str:
        return f"CAST(POSITION({needle} IN {hay}) AS {self.types['integer']})"

    def starts_with(self, sql: str, prefix: str) -> str:
        return f"SUBSTRING({sql} FROM 1 FOR {len(prefix)}) = {self.text(prefix)}"

    def floor(self, sql: str) -> str:
        return f"FLOOR({sql})"

    def ceiling(self, sql: str) -> str:
        return f"CEILING({sql})"

    def square_root(self, sql: str) -> str:
        return f"CASE WHEN {sql} >= 0 THEN SQRT({sql}) END"

    def extreme(self, word: str, parts: Sequence[str]) -> str:
        """Return the greatest or least of several; missing if one is missing."""
        gone = " OR ".join(f"{part} IS NULL" for part in parts)
        return f"CASE WHEN {gone} THEN NULL ELSE {word}({', '.join(parts)}) END"

    def distinct(self, left: str, right: str) -> str:
        return f"({left} IS DISTINCT FROM {right})"


class DuckDialect(Dialect):
    """duckdb: ``0.1`` is a decimal there, whole numbers that overflow raise, division by zero is NULL or infinite."""

    name = "duckdb"
    types: ClassVar[Mapping[ValueType, str]] = {
        "integer": "BIGINT",
        "number": "DOUBLE",
        "decimal": "DECIMAL(38,10)",
        "text": "VARCHAR",
        "boolean": "BOOLEAN",
        "date": "DATE",
        "datetime": "TIMESTAMP",
    }

    def floating(self, value: float) -> str:
        return f"CAST('{value!r}' AS DOUBLE)"

    def exact(self, value: Decimal) -> str:
        digits = f"{value:f}"
        scale = len(digits.partition(".")[2])
        return f"CAST('{digits}' AS DECIMAL(38,{scale}))"

    def clean(self, name: str, kind: ValueType, *, is_floating: bool) -> str:
        if is_floating:
            return f"NULLIF({name}, CAST('NaN' AS DOUBLE))"
        return f"NULLIF({name}, '')" if kind == "text" else name

    def number(self, sql: str) -> str:
        return f"NULLIF({sql}, CAST('NaN' AS DOUBLE))"

    def whole_result(self, sql: str) -> str:
        return f"TRY_CAST({sql} AS BIGINT)"

    def whole_arithmetic(self, sign: str, left: str, right: str) -> str:
        return f"TRY({left} {sign} {right})"

    def days_between(self, first: str, second: str) -> str:
        return f"CAST(date_diff('day', {first}, {second}) AS BIGINT)"

    def part_of(self, part: str, sql: str) -> str:
        word = {"DAY_OF_WEEK": "ISODOW", "DAY_OF_YEAR": "DOY"}.get(part, part)
        return f"CAST(EXTRACT({word} FROM {sql}) AS BIGINT)"

    def substring(self, sql: str, start: str, length: str | None) -> str:
        return f"SUBSTRING({sql}, {start}" + (")" if length is None else f", {length})")


class PostgresDialect(Dialect):
    """PostgreSQL: texts are ordered by the database's language unless told otherwise, and steps are worked out again unless fenced."""

    name = "PostgreSQL"
    types: ClassVar[Mapping[ValueType, str]] = {
        "integer": "bigint",
        "number": "double precision",
        "decimal": "numeric",
        "text": "text",
        "boolean": "boolean",
        "date": "date",
        "datetime": "timestamp",
    }
    fence = " OFFSET 0"

    def floating(self, value: float) -> str:
        return f"CAST('{value!r}' AS double precision)"

    def exact(self, value: Decimal) -> str:
        return f"CAST('{value:f}' AS numeric)"

    def clean(self, name: str, kind: ValueType, *, is_floating: bool) -> str:
        if is_floating:
            return f"NULLIF({name}, 'NaN')"
        return f"NULLIF({name}, '') COLLATE \"C\"" if kind == "text" else name

    def number(self, sql: str) -> str:
        return f"NULLIF({sql}, 'NaN')"

    def whole_result(self, sql: str) -> str:
        return f"CASE WHEN {sql} BETWEEN -9223372036854775808 AND 9223372036854775807 THEN CAST({sql} AS bigint) END"

    def whole_arithmetic(self, sign: str, left: str, right: str) -> str:
        return self.whole_result(f"(CAST({left} AS numeric) {sign} CAST({right} AS numeric))")

    def days_between(self, first: str, second: str) -> str:
        return f"CAST(CAST({second} AS date) - CAST({first} AS date) AS bigint)"

    def part_of(self, part: str, sql: str) -> str:
        word = {"DAY_OF_WEEK": "ISODOW", "DAY_OF_YEAR": "DOY"}.get(part, part)
        return f"CAST(EXTRACT({word} FROM {sql}) AS bigint)"


class SqliteDialect(Dialect):
    """SQLite: floats are read from decimals with rounding, texts hold dates, whole numbers that overflow become floats."""

    name = "SQLite"
    types: ClassVar[Mapping[ValueType, str]] = {
        "integer": "INTEGER",
        "number": "REAL",
        "decimal": "REAL",
        "text": "TEXT",
        "boolean": "INTEGER",
        "date": "TEXT",
        "datetime": "TEXT",
    }
    has_moments = False

    def truth(self, value: bool) -> str:
        return "1" if value else "0"

    def floating(self, value: float) -> str:
        """Return a float by its whole mantissa and powers of two, since not every decimal comes back as it was."""
        if math.isnan(value):
            return "NULL"
        if value in (float("inf"), float("-inf")):
            return "9e999" if value > 0 else "-9e999"
        top, bottom = value.as_integer_ratio()
        if bottom == 1:
            return _power_of_two(top)
        made = f"{top}.0" if abs(top) < 1 << 53 else _power_of_two(top)
        while bottom > 1:  # one divisor would be beyond all floats
            part = min(bottom, 1 << 62)
            made = f"{made} / {part}.0"
            bottom //= part
        return f"({made})"

    def exact(self, value: Decimal) -> str:
        raise ObstacleError("decimals, which SQLite does not hold")

    def day(self, value: dt.date) -> str:
        return self.text(value.isoformat())

    def moment(self, value: dt.datetime) -> str:
        raise ObstacleError("times, which SQLite keeps as texts of several forms")

    def clean(self, name: str, kind: ValueType, *, is_floating: bool) -> str:
        return f"NULLIF({name}, '')" if kind == "text" else name

    def whole_result(self, sql: str) -> str:
        return f"CASE typeof({sql}) WHEN 'integer' THEN {sql} END"

    def whole_arithmetic(self, sign: str, left: str, right: str) -> str:
        return self.whole_result(f"({left} {sign} {right})")

    def days_between(self, first: str, second: str) -> str:
        return f"CAST(ROUND(julianday({second}) - julianday({first})) AS INTEGER)"

    def part_of(self, part: str, sql: str) -> str:
        words = {"YEAR": "%Y", "MONTH": "%m", "DAY": "%d", "DAY_OF_YEAR": "%j"}
        if part == "QUARTER":
            return f"((CAST(strftime('%m', {sql}) AS INTEGER) + 2) / 3)"
        if part == "DAY_OF_WEEK":
            return f"((CAST(strftime('%w', {sql}) AS INTEGER) + 6) % 7 + 1)"
        if part not in words:
            raise ObstacleError(f"EXTRACT({part} ...), which SQLite does not have")
        return f"CAST(strftime('{words[part]}', {sql}) AS INTEGER)"

    def length(self, sql: str) -> str:
        return f"LENGTH({sql})"

    def substring(self, sql: str, start: str, length: str | None) -> str:
        return f"SUBSTR({sql}, {start}" + (")" if length is None else f", {length})")

    def position(self, needle: str, hay: str) -> str:
        return f"INSTR({hay}, {needle})"

    def starts_with(self, sql: str, prefix: str) -> str:
        return f"SUBSTR({sql}, 1, {len(prefix)}) = {self.text(prefix)}"

    def floor(self, sql: str) -> str:
        raise ObstacleError("FLOOR, which not every SQLite has")

    def ceiling(self, sql: str) -> str:
        raise ObstacleError("CEILING, which not every SQLite has")

    def square_root(self, sql: str) -> str:
        raise ObstacleError("SQRT, which not every SQLite has")

    def extreme(self, word: str, parts: Sequence[str]) -> str:
        return super().extreme({"GREATEST": "MAX", "LEAST": "MIN"}[word], parts)

    def distinct(self, left: str, right: str) -> str:
        return f"({left} IS NOT {right})"


def _power_of_two(whole: int) -> str:
    """Return a whole float as a product of factors that are each read exactly."""
    if abs(whole) < 1 << 53:
        return f"{whole}.0"
    shift = abs(whole).bit_length() - 53
    made = f"{whole >> shift}.0"
    while shift > 0:
        part = min(shift, 62)
        made = f"{made} * {1 << part}.0"
        shift -= part
    return f"({made})"


DIALECTS: dict[str, Dialect] = {
    "duckdb": DuckDialect(),
    "postgresql": PostgresDialect(),
    "sqlite": SqliteDialect(),
}
