"""What a database has to be able to do, whichever it is."""

from __future__ import annotations

import threading
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator, Sequence
from contextlib import AbstractContextManager
from functools import wraps
from typing import Any, TypeVar, cast

import pyarrow as pa

from kivvet.core.words.errors import DataError, KivvetError, OutputError, UnopenableError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import did_you_mean, listed, repeated
from kivvet.io.databases.places import Address, Database, InDatabase

ROWS_A_BATCH = 1 << 16


_Method = TypeVar("_Method", bound=Callable[..., Any])


def in_turn(method: _Method) -> _Method:
    """Let one thread at a time do what uses the transaction: rows are written while others are made."""

    @wraps(method)
    def held(self: Engine, *given: Any, **named: Any) -> Any:
        with self.turn:
            return method(self, *given, **named)

    return cast(_Method, held)


class Engine(ABC):
    """A database that is open: what is there, rows by batches, and writing in one transaction.

    Attributes
    ----------
    database : Database
    address : Address
    title : str
        The engine as messages name it.
    longest_name : int
        Bytes of a name; a longer one would be cut.
    word_for_text, word_for_key : str
        The type of texts, and of those that are a key, where that is another.
    has_views : bool
        Whether views that follow the rules are written for it.
    swaps_tables : bool
        Whether a table is filled beside the one that is there and takes its place in the end, since the making of tables is not
        taken back.
    """

    title = "the database"
    longest_name = 1_000
    word_for_text = "TEXT"
    word_for_key = ""
    has_views = True
    swaps_tables = False

    def __init__(self, database: Database, address: Address) -> None:
        self.database = database
        self.address = address
        self.turn = threading.RLock()

    # Reading.

    @abstractmethod
    def tables(self) -> list[str]:
        """Return the names of its tables and views."""

    @abstractmethod
    def has_table(self, place: InDatabase) -> bool:
        """Whether a table or view is there."""

    @abstractmethod
    def schema_of(self, place: InDatabase) -> pa.Schema:
        """Return the columns of a table or query, with the types that they are read as.

        Raises
        ------
        DataError
            If it is not there, writes, or has columns of types that are not read.
        """

    @abstractmethod
    def batches(self, place: InDatabase, schema: pa.Schema) -> Iterator[pa.RecordBatch]:
        """Yield the rows of a table or query, the columns of a schema, as one state of the database holds them."""

    @abstractmethod
    def value(self, query: str) -> Any:
        """Return the one value that a query gives."""

    # Writing.

    @abstractmethod
    def writing(self) -> AbstractContextManager[None]:
        """Begin a transaction, in which no one else writes what this one writes; all of it holds in the end, or nothing."""

    @abstractmethod
    def run(self, statement: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        """Run a statement within the transaction; return its rows."""

    @abstractmethod
    def kinds_of(self, kind: pa.DataType) -> tuple[str, pa.DataType]:
        """Return the type of a column that holds values of a type, and the type they are handed over as; `DataError` where
        there is none.
        """

    @abstractmethod
    def load(self, place: InDatabase, batches: Iterator[pa.RecordBatch], schema: pa.Schema) -> int:
        """Add rows to a table within the transaction; return how many arrived."""

    @abstractmethod
    def asked(self, query: str) -> list[tuple[Any, ...]]:
        """Return the rows of a small query of our own, within the transaction where there is one."""

    @abstractmethod
    def columns_of(self, place: InDatabase) -> list[tuple[Any, ...]]:
        """Return the names and types of the columns of a table, as the database says them."""

    @abstractmethod
    def view_text(self, place: InDatabase) -> str | None:
        """Return what a view is made of, as the database says it; None where there is none of that name, or a table."""

    @abstractmethod
    def hash_of(self, place: InDatabase) -> str:
        """Return what tells the rows of a table from others, in whatever order they lie."""

    def hold(self, place: InDatabase) -> None:  # noqa: B027 - most have nothing to do
        """Let no other Kivvet write the same until the transaction ends."""

    def close(self) -> None:  # noqa: B027
        """Let go of it."""

    def open_to_write(self) -> None:  # noqa: B027
        """Make ready for being written, before anything of it is read."""

    # What all have in common.

    def drop(self, place: InDatabase) -> None:
        """Take a table or view away, if there is one, within the transaction."""
        if self.is_in(place):
            kind = "TABLE" if self.view_text(place) is None else "VIEW"
            self.run(f"DROP {kind} {self.named(place)}")

    def rights_on(self, place: InDatabase) -> list[str]:
        """Return the statements that give others the rights again that they have on a table or view, within the transaction."""
        return []

    def put_view(self, place: InDatabase, query: str) -> None:
        """Make a view, in the place of a table or view that there may be, within the transaction."""
        self.drop(place)
        self.run(f"CREATE VIEW {self.named(place)} AS\n{query}")

    def swap(self, made: InDatabase, place: InDatabase) -> None:
        """Put a table that is filled in the place of another, if there is one, within the transaction; rights on it stay."""
        rights = self.rights_on(place)
        self.drop(place)
        self.run(f"ALTER TABLE {self.named(made)} RENAME TO {self.quoted(place.table)}")
        for right in rights:
            self.run(right)

    def is_bare(self, place: InDatabase) -> bool:
        """Whether nothing hangs on a table that would be lost if another took its place: indexes, constraints, views, triggers."""
        return False

    def set_aside(self, view: InDatabase, tables: Sequence[InDatabase]) -> list[InDatabase]:
        """Free the names of tables that a view joins, within the transaction; return those to be dropped when the view joins
        others.
        """
        self.drop(view)
        for table in tables:
            self.drop(table)
        return []

    def is_in(self, place: InDatabase) -> bool:
        """Whether a table is there, within the transaction."""
        return self.has_table(place)

    def cast(self, place: InDatabase, name: str, array: pa.Array, kind: pa.DataType) -> pa.Array:
        """Return a column as the type it is handed over as; `ArrowInvalid` where a value would be another."""
        return array.cast(kind)

    def quoted(self, name: str) -> str:
        """Return a name as SQL has it.

        Raises
        ------
        OutputError
            If it is none.
        """
        if not name or "\0" in name or len(name.encode()) > self.longest_name:
            raise OutputError(
                f"{name!r} is no name that {self.title} has",
                expected=f"at most {self.longest_name} bytes" if name else "one sign at least",
            )
        return '"' + name.replace('"', '""') + '"'

    def text(self, value: str) -> str:
        """Return a text as SQL has it."""
        return "'" + value.replace("'", "''") + "'"

    def named(self, place: InDatabase) -> str:
        """Return a table as SQL names it."""
        within = f"{self.quoted(place.schema)}." if place.schema else ""
        return f"{within}{self.quoted(place.table)}"

    def from_(self, place: InDatabase) -> str:
        """Return what stands behind FROM."""
        return f"({plain_query(place.query)}\n) AS kivvet_query" if place.query else self.named(place)

    def select(self, place: InDatabase, names: Sequence[str]) -> str:
        """Return the query of some columns."""
        columns = ", ".join(map(self.quoted, names)) or "1"
        return f"SELECT {columns} FROM {self.from_(place)}"

    def version_column(self, place: InDatabase) -> str:
        """Return the column that grows with each change of a row; empty where the book names none, or a query."""
        said = place.version.split(None, 1)[0].upper() if place.version else ""
        return "" if said in ("", "SELECT", "WITH") else place.version

    def version_of(self, place: InDatabase) -> str | None:
        """Return what tells this state of the rows from another, as the book says; None where it says nothing."""
        if not place.version:
            return None
        if not self.version_column(place):
            return str(self.value(plain_query(place.version)))
        column = self.quoted(place.version)
        from_ = self.from_(place)
        last, n = (self.value(f"SELECT {what} FROM {from_}") for what in (f"MAX({column})", "COUNT(*)"))
        return f"{last} {n}"

    def n_rows(self, place: InDatabase) -> int:
        return int(self.value(f"SELECT COUNT(*) FROM {self.from_(place)}"))

    def failed(self, error: Exception, place: InDatabase | None = None, doing: str = "read") -> KivvetError:
        """Return what the database says, as an error that shows no secret."""
        said = self.address.without_secrets(str(error)).strip().split("\n")[0]
        if doing != "written" and self.is_passing(error):
            return UnopenableError(
                f"cannot be {doing} now: {said}",
                place=place.place if place is not None else Place(self.database.name),
                fix="try again",
            )
        kind = OutputError if doing == "written" else DataError
        return kind(
            f"cannot be {doing}: {said}",
            place=place.place if place is not None else Place(self.database.name),
            fix="what was there is as it was"
            if doing == "written"
            else "correct the query, or what it asks for",
        )

    def is_passing(self, error: Exception) -> bool:
        """Whether an error says that the database cannot be asked now, and nothing of what was asked."""
        return False

    def unreachable(self, error: Exception) -> UnopenableError:
        """Return the error for a database that cannot be opened."""
        said = self.address.without_secrets(str(error)).strip().split("\n")[0]
        return UnopenableError(
            f"database {self.database.name} cannot be opened",
            found=said,
            fix="correct the path"
            if isinstance(error, FileNotFoundError)
            else "see that it runs and lets you in, and try again",
        )

    def no_table(self, place: InDatabase) -> DataError:
        """Return the error for a table that is not there."""
        names = self.tables()
        return UnopenableError(
            f"database {self.database.name} has no table {place.table!r}",
            place=place.place,
            expected=f"one of: {listed(names, 20)}" if names else "a table",
            fix=did_you_mean(place.table, names),
        )

    def refuse_twice(self, place: InDatabase, names: Sequence[str]) -> None:
        """Raise where two columns have one name."""
        if twice := repeated(list(names)):
            raise DataError(
                f"two columns are named {twice[0]!r}", place=place.place, fix="rename one of them"
            )

    def unread_type(self, place: InDatabase, column: str, kind: str, cast: str) -> DataError:
        """Return the error for a column whose type is not read."""
        return DataError(
            f"column {column!r} is of type {kind}, which this version does not read",
            place=place.place,
            fix=f'say what it is to be: query = "SELECT ..., {cast} AS {column} FROM ..."',
        )


def plain_query(query: str) -> str:
    """Return a query without the sign at its end."""
    return query.strip().rstrip(";").rstrip()
