"""Databases that a book names, and what lies in them: a table, a view, or what a query gives."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from urllib.parse import unquote, urlsplit

from kivvet.core.words.errors import UnopenableError
from kivvet.core.words.places import Place

_FILE_ENDINGS = {
    ".duckdb": "duckdb",
    ".ddb": "duckdb",
    ".db": "sqlite",
    ".sqlite": "sqlite",
    ".sqlite3": "sqlite",
}
#: Endings of files that are databases.
DATABASE_ENDINGS = tuple(_FILE_ENDINGS)
_SHOWN_OF_QUERY = 40
#: The table beside the targets of a database in which their records stand.
RECORDS = "kivvet_records"


@dataclass(frozen=True)
class Database:
    """A database as a book names it.

    Attributes
    ----------
    name : str
    path : Path or None
        Of a database that is a file.
    variable : str
        The environment variable that holds its URL, which may hold a password and is never shown.
    url : str
        The URL, where the book holds it.
    """

    name: str
    path: Path | None = None
    variable: str = ""
    url: str = field(default="", repr=False)

    def address(self) -> Address:
        """Return where it is; `UnopenableError` where the variable is not set, or holds no URL."""
        if self.path is not None:
            return Address(_FILE_ENDINGS.get(self.path.suffix.lower(), "sqlite"), path=self.path)
        url = self.url or os.environ.get(self.variable, "")
        if not url:
            raise UnopenableError(
                f"where database {self.name} is, the environment variable {self.variable} says, and it is not set",
                fix=f"for example export {self.variable}=postgresql://reader@localhost/survey",
            )
        try:
            return Address.of_url(url)
        except ValueError as error:
            raise UnopenableError(
                f"the URL of database {self.name} cannot be read: {error}",
                expected="such as postgresql://user@host/name, sqlite:///path or duckdb:///path",
                fix=f"correct the environment variable {self.variable}"
                if self.variable
                else "correct its url",
            ) from None  # the cause may show what it was given

    @property
    def where(self) -> tuple[tuple[str, ...], str, bool]:
        """Where it is, the same by whatever name; the schema that it goes by; and whether names there differ by more than case. What
        a variable that is not set says is not known: it is one of its own.
        """
        try:
            address = self.address()
        except UnopenableError:
            return ("variable", self.variable), "", True
        if address.path is not None:
            return (address.engine, os.path.realpath(address.path)), "main", True
        parts = tuple(address.parts.get(name, "") for name in ("host", "port", "dbname"))
        return (address.engine, *parts), "public" if address.engine == "postgresql" else "", False

    @property
    def is_file(self) -> bool:
        """Whether it is known to be a file without looking at a URL."""
        return self.path is not None


@dataclass(frozen=True)
class Address:
    """Where a database is.

    Attributes
    ----------
    engine : str
        "sqlite", "duckdb", "postgresql", or the scheme of another.
    path : Path or None
    parts : mapping of str to str
        Host, port, user, password and the name of the database, of a server.
    url : str
        Whole.
    """

    engine: str
    path: Path | None = None
    parts: Mapping[str, str] = field(default_factory=dict, repr=False)
    url: str = field(default="", repr=False)

    @classmethod
    def of_url(cls, url: str) -> Address:
        """Return the address that a URL is; `ValueError`, which does not show the URL, where it is none."""
        match = re.match(r"([a-z][a-z0-9]*)(\+[a-z0-9_]+)?://", url)
        if match is None:
            raise ValueError("it does not begin with a scheme")
        engine = {"postgres": "postgresql", "sqlite3": "sqlite"}.get(match[1], match[1])
        if engine in ("sqlite", "duckdb"):
            path = unquote(url[match.end() :].split("?", maxsplit=1)[0])
            if not path.startswith("/"):
                raise ValueError("a file stands behind three strokes")
            return cls(engine, Path(path[1:]), url=url)
        try:
            split = urlsplit(url)
            port = split.port
        except ValueError:
            raise ValueError("host or port cannot be read") from None
        parts = {
            "host": unquote(split.hostname or ""),
            "port": str(port or ""),
            "user": unquote(split.username or ""),
            "password": unquote(split.password or ""),
            "dbname": unquote(split.path.lstrip("/")),
        }
        return cls(engine, None, {name: value for name, value in parts.items() if value}, url)

    @property
    def secrets(self) -> tuple[str, ...]:
        """What must not be shown, the longest first."""
        password = self.parts.get("password", "")
        if not password:
            return ()
        split = urlsplit(self.url)
        return tuple(sorted({self.url, password, split.password or password}, key=len, reverse=True))

    def without_secrets(self, text: str) -> str:
        """Return a text without what must not be shown."""
        for secret in self.secrets:
            text = text.replace(secret, "***")
        return text


@dataclass(frozen=True)
class InDatabase:
    """What lies in a database: a table or a view, or what a query gives.

    Attributes
    ----------
    database : Database
    table : str
    schema : str
        That the table is in; empty: the one that the database goes by.
    query : str
    version : str
        What tells one state of the rows from another: a column that grows, or a query for a value.
    is_view : bool
        Whether it is a view that follows the rules.
    has_table_beside : bool
        Whether it takes what it cannot make from a table beside it.
    """

    database: Database
    table: str = ""
    schema: str = ""
    query: str = ""
    version: str = ""
    is_view: bool = False
    has_table_beside: bool = False

    @property
    def name(self) -> str:
        """The last part of what it is called."""
        if self.table:
            return self.table
        plain = " ".join(self.query.split())
        return plain if len(plain) <= _SHOWN_OF_QUERY else f"{plain[:_SHOWN_OF_QUERY]}..."

    @property
    def shown(self) -> str:
        """It as messages name it."""
        within = f"{self.schema}.{self.name}" if self.schema else self.name
        return f"{self.database.name}:{within}"

    @property
    def place(self) -> Place:
        return Place(self.shown)

    @property
    def said(self) -> tuple[str, str, str, str]:
        """It as the book says it."""
        return (self.database.name, self.schema, self.table, self.query)

    @property
    def identity(self) -> tuple[object, ...]:
        """The same for the same thing, by whatever names the book reaches it."""
        where, schema, folds = self.database.where
        table = self.table.casefold() if folds else self.table
        within = self.schema.casefold() if folds else self.schema
        return (where, within or schema, table, self.query)

    def __str__(self) -> str:
        return self.shown
