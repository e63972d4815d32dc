"""The databases that can be read and written: which engine each scheme of a URL has. This is the one list of them; every other one that
SQLAlchemy knows is read and written by it.
"""

from __future__ import annotations

import atexit
from collections.abc import Callable
from importlib import import_module

from kivvet.core.words.errors import UnopenableError
from kivvet.io.databases.engine import Engine
from kivvet.io.databases.places import Address, Database

#: By scheme the module beside this one and the class in it.
_ENGINES: dict[str, tuple[str, str]] = {
    "sqlite": ("sqlite", "Sqlite"),
    "duckdb": ("duck", "Duck"),
    "postgresql": ("postgres", "Postgres"),
}
_OTHERS = "toolkit", "Toolkit"
_open: dict[object, Engine] = {}


def engine_of(database: Database) -> Engine:
    """Return a database opened, once in a process.

    Raises
    ------
    UnopenableError
        If it cannot be opened, or the package for it is not installed.
    """
    address = database.address()
    # A file is open once, by whatever name: what is open to be read could not be opened to be written.
    key = (database, address.url) if address.path is None else address.path.resolve()
    if key not in _open:
        module, name = _ENGINES.get(address.engine, _OTHERS)
        try:
            made: Callable[[Database, Address], Engine] = getattr(
                import_module(f"kivvet.io.databases.{module}"), name
            )
            _open[key] = made(database, address)
        except ImportError as error:
            raise UnopenableError(
                f"database {database.name} needs the extra 'database', which is not installed: {error.name}",
                fix='pip install "kivvet[database]"',
            ) from error
    return _open[key]


def close_all() -> None:
    """Let go of all that are open; whoever still has one opens it again by asking it."""
    for engine in tuple(_open.values()):
        engine.close()


atexit.register(close_all)  # while what closes them is still there
