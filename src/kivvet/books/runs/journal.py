"""This machine's memory of a book: runs, and the past meanings of tables, in ``.kivvet/journal.sqlite``.

It serves to say what changed, and to do again what was done. Whether a target is current never depends on it, so a
journal that is lost or cannot be written costs history only.
"""

from __future__ import annotations

import json
import os
import sqlite3
import zlib
from collections import Counter
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Any

from kivvet.books.runs.past_run import RUN_VERSION, PastRun, When
from kivvet.core.words.collecting import no_collecting

_TABLES = """
CREATE TABLE IF NOT EXISTS meanings (fingerprint TEXT PRIMARY KEY, name TEXT NOT NULL, definition BLOB NOT NULL);
CREATE TABLE IF NOT EXISTS runs (at TEXT NOT NULL, dataset TEXT NOT NULL, action TEXT NOT NULL, record TEXT NOT NULL);
"""
_RUNS = "SELECT *, rowid AS number FROM runs"
#: Found without reading what the runs hold.
_LAST_OF_EACH = (
    "rowid IN (SELECT number FROM (SELECT rowid AS number, ROW_NUMBER() OVER (PARTITION BY dataset ORDER BY at DESC, rowid DESC) "
    "AS place FROM runs) WHERE place <= ?)"
)
_LATER_COLUMNS = ("who", "note", "said")  # of runs, which files of the first version lack

Definitions = Mapping[str, tuple[str, Mapping[str, Any]]]


class Journal:
    """The journal of the book in `folder`."""

    def __init__(self, folder: Path) -> None:
        self.path = folder / ".kivvet" / "journal.sqlite"

    @property
    def is_there(self) -> bool:
        """Whether there is a journal that may be looked at."""
        return os.path.exists(self.path)  # noqa: PTH110 - which is false too where the folder is somebody else's

    @contextmanager
    def _open(self) -> Iterator[sqlite3.Connection]:
        with closing(sqlite3.connect(self.path, timeout=5)) as connection:
            yield connection

    def remember(self, run: PastRun, meanings: Definitions) -> str:
        """Note a run, and the definitions of the tables it used by their fingerprints; return why that was not possible,
        empty where it was.
        """
        values = run.as_dict()
        row = [
            run.at,
            run.dataset,
            run.action,
            run.record.to_json(),
            run.who,
            run.note,
            json.dumps(values["said"], ensure_ascii=False, default=str),
        ]
        try:
            self.path.parent.mkdir(exist_ok=True)
            with self._open() as connection:
                if connection.execute("PRAGMA user_version").fetchone()[0] > RUN_VERSION:
                    return "it was begun by a newer Kivvet"
                connection.executescript(_TABLES)
                known = {row[1] for row in connection.execute("PRAGMA table_info(runs)")}
                for name in _LATER_COLUMNS:
                    if name not in known:
                        connection.execute(f"ALTER TABLE runs ADD COLUMN {name} TEXT NOT NULL DEFAULT ''")
                connection.execute(f"PRAGMA user_version = {RUN_VERSION}")
                connection.executemany("INSERT OR IGNORE INTO meanings VALUES (?, ?, ?)", _packed(meanings))
                names = f"at, dataset, action, record, {', '.join(_LATER_COLUMNS)}"
                connection.execute(f"INSERT INTO runs ({names}) VALUES (?, ?, ?, ?, ?, ?, ?)", row)
                connection.commit()
        except (OSError, sqlite3.Error) as error:
            return str(error)
        return ""

    def remember_meanings(self, meanings: Definitions) -> None:
        """Keep definitions of tables by their fingerprints, where that is possible."""
        with suppress(OSError, sqlite3.Error):
            self.path.parent.mkdir(exist_ok=True)
            with self._open() as connection:
                if connection.execute("PRAGMA user_version").fetchone()[0] <= RUN_VERSION:
                    connection.executescript(_TABLES)
                    connection.executemany(
                        "INSERT OR IGNORE INTO meanings VALUES (?, ?, ?)", _packed(meanings)
                    )
                    connection.commit()

    def runs(self, last: int | None = None) -> tuple[list[PastRun], Counter[When], str]:
        """Return the runs that are remembered, the first ones first, how many there are of each dataset and second, and what could
        not be read, in words.

        Parameters
        ----------
        last : int, optional
            Of each dataset only the last so many.
        """
        if not self.is_there:
            return [], Counter(), ""
        found: list[PastRun] = []
        counted: Counter[When] = Counter()
        n_unread = 0
        try:
            with self._open() as connection, no_collecting():
                connection.row_factory = sqlite3.Row
                counted.update(
                    (name, at[:19]) for name, at in connection.execute("SELECT dataset, at FROM runs")
                )
                chosen = (_RUNS, ()) if last is None else (f"{_RUNS} WHERE {_LAST_OF_EACH}", (last,))
                for row in connection.execute(f"{chosen[0]} ORDER BY at, number", chosen[1]):
                    run = _run_of(dict(row))
                    if run is None:
                        n_unread += 1
                        counted[row["dataset"], row["at"][:19]] -= 1
                    found += [] if run is None else [run]
        except sqlite3.Error as error:
            return found, counted, f"cannot be read: {error}"
        if n_unread:
            return found, counted, f"{n_unread} of its runs cannot be read"
        return found, counted, ""

    def remembered(self) -> frozenset[str]:
        """Return the fingerprints of the definitions that are remembered."""
        if not self.is_there:
            return frozenset()
        try:
            with self._open() as connection:
                return frozenset(key for (key,) in connection.execute("SELECT fingerprint FROM meanings"))
        except sqlite3.Error:
            return frozenset()

    def definition(self, fingerprint: str) -> dict[str, Any] | None:
        """Return a past definition of a table; None where it is not remembered."""
        if not self.is_there:
            return None
        try:
            with self._open() as connection:
                row = connection.execute(
                    "SELECT definition FROM meanings WHERE fingerprint = ?", (fingerprint,)
                ).fetchone()
            return None if row is None else json.loads(zlib.decompress(row[0]))
        except (sqlite3.Error, zlib.error, ValueError):
            return None

    def shrink(self, n_bytes: int) -> int:
        """Forget the oldest runs, and the definitions that no other run used, until the file is no larger than that; return
        how many were forgotten. The last run of each dataset is kept.
        """
        n_forgotten = 0
        if not self.is_there:
            return 0
        with self._open() as connection:
            while self.path.stat().st_size > n_bytes:
                rows = connection.execute(
                    "SELECT rowid FROM runs WHERE rowid NOT IN (SELECT MAX(rowid) FROM runs GROUP BY dataset) "
                    "ORDER BY at, rowid"
                ).fetchall()
                if not rows:
                    break
                oldest = rows[: max(1, len(rows) // 8)]
                connection.executemany("DELETE FROM runs WHERE rowid = ?", oldest)
                n_forgotten += len(oldest)
                text = "\n".join(one for (one,) in connection.execute("SELECT record FROM runs"))
                keys = [one for (one,) in connection.execute("SELECT fingerprint FROM meanings")]
                gone = [(key,) for key in keys if key not in text]
                connection.executemany("DELETE FROM meanings WHERE fingerprint = ?", gone)
                connection.commit()
                connection.execute("VACUUM")
        return n_forgotten


def _packed(meanings: Definitions) -> list[tuple[str, str, bytes]]:
    return [
        (key, name, zlib.compress(json.dumps(definition, ensure_ascii=False).encode()))
        for key, (name, definition) in meanings.items()
    ]


def _run_of(row: Mapping[str, Any]) -> PastRun | None:
    try:
        values = {**row, "record": json.loads(row["record"]), "said": json.loads(row.get("said") or "{}")}
    except (KeyError, TypeError, ValueError, RecursionError):
        return None
    return PastRun.of_values(values)
