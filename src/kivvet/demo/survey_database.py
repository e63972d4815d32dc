"""The samples and the stations as the laboratory keeps them: two tables of a database that is a file (SQLite)."""

from __future__ import annotations

import csv
import sqlite3
from collections.abc import Mapping, Sequence
from contextlib import closing
from importlib import resources
from pathlib import Path

_SAMPLES = {
    "ph": "REAL",
    "oxygen": "REAL",
    "nitrate": "REAL",
    "flow": "REAL",
    "temperature": "REAL",
    "sampled_on": "DATE",
}
_STATIONS = {"altitude_m": "INTEGER", "opened": "DATE"}
_NO_READING = {"oxygen": "-9"}


def write_database(path: Path, samples: Path) -> Path:
    """Write the samples of a CSV file, and the stations, one row each, into a database; numbers are numbers there, days are days,
    and no reading is NULL.
    """
    stations = (resources.files("kivvet.demo") / "survey/tables/station.csv").read_text(encoding="utf-8")
    heads, *rows = csv.reader(stations.splitlines())
    known: dict[str, list[str]] = {}
    for row in rows:
        known.setdefault(row[0], row)  # one station stands twice
    with closing(sqlite3.connect(path)) as database:
        with samples.open(encoding="utf-8", newline="") as file:
            names, *given = csv.reader(file)
        _write(database, "samples", names, given, _SAMPLES)
        _write(database, "station", heads, list(known.values()), _STATIONS)
        database.commit()
    return path


def _write(
    database: sqlite3.Connection,
    table: str,
    names: Sequence[str],
    rows: Sequence[Sequence[str]],
    types: Mapping[str, str],
) -> None:
    columns = ", ".join(f'"{name}" {types.get(name, "TEXT")}' for name in names)
    database.execute(f"CREATE TABLE {table} ({columns})")
    filled = [
        [None if one in ("", _NO_READING.get(name)) else one for name, one in zip(names, row, strict=True)]
        for row in rows
    ]
    database.executemany(f"INSERT INTO {table} VALUES ({', '.join('?' * len(names))})", filled)
