"""This machine's memory of a book: runs, and the past meanings of tables, in ``.kivvet/journal.sqlite``.

It serves to say what changed. Whether a target is current never depends on it, so a journal that is
lost or cannot be written costs history only.
"""

from __future__ import annotations

import json
import sqlite3
import zlib
from contextlib import closing
from pathlib import Path
from typing import Any

_TABLES = """
CREATE TABLE IF NOT EXISTS meanings (fingerprint TEXT PRIMARY KEY, name TEXT NOT NULL, definition BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS runs (at TEXT NOT NULL, dataset TEXT NOT NULL, action TEXT NOT NULL, record TEXT NOT NULL);
"""


class Journal:
    """The journal of the book in `folder`."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder / ".kivvet"

    def remember(
        self, dataset: str, action: str, at: str, record: str, meanings: dict[str, tuple[str, dict[str, Any]]]
    ) -> None:
        """Note a run, and the definitions of the tables it used by their fingerprints."""
        packed = [
            (key, name, zlib.compress(json.dumps(definition, ensure_ascii=False).encode()))
            for key, (name, definition) in meanings.items()
        ]
        try:
            self.folder.mkdir(exist_ok=True)
            with closing(sqlite3.connect(self.folder / "journal.sqlite", timeout=5)) as connection:
                connection.executescript(_TABLES)
                connection.executemany("INSERT OR IGNORE INTO meanings VALUES (?, ?, ?)", packed)
                connection.execute("INSERT INTO runs VALUES (?, ?, ?, ?)", (at, dataset, action, record))
                connection.commit()
        except (OSError, sqlite3.Error):
            return

    def remembered(self) -> frozenset[str]:
        """Return the fingerprints of the definitions that are remembered."""
        if not (self.folder / "journal.sqlite").exists():
            return frozenset()
        try:
            with closing(sqlite3.connect(self.folder / "journal.sqlite", timeout=5)) as connection:
                return frozenset(key for (key,) in connection.execute("SELECT fingerprint FROM meanings"))
        except sqlite3.Error:
            return frozenset()

    def definition(self, fingerprint: str) -> dict[str, Any] | None:
        """Return a past definition of a table; None where it is not remembered."""
        if not (self.folder / "journal.sqlite").exists():
            return None
        try:
            with closing(sqlite3.connect(self.folder / "journal.sqlite", timeout=5)) as connection:
                row = connection.execute(
                    "SELECT definition FROM meanings WHERE fingerprint = ?", (fingerprint,)
                ).fetchone()
            return None if row is None else json.loads(zlib.decompress(row[0]))
        except (sqlite3.Error, zlib.error, ValueError):
            return None
