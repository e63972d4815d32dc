"""Databases: a million rows of 8 columns out of PostgreSQL and back, beside the same driver by hand; five million rows in duckdb classed by a
view, beside reading them out, applying and writing back, and beside a CASE and a join by hand; a mapping of 100,000 values.

PostgreSQL is measured where a server is installed.
"""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import duckdb
import numpy as np
import pyarrow as pa
import pytest
from tests.databases import cluster

import kivvet
from benchmarks.runner import Comparison
from kivvet.io.databases.engines import close_all, engine_of
from kivvet.io.databases.places import Database, InDatabase
from kivvet.io.locations import begun, open_location, replacing_at
from kivvet.io.source_and_target import WriteOptions

_ROWS, _ROWS_OF_VIEW, _CODES = 1_000_000, 5_000_000, 100_000
_HOME = tempfile.TemporaryDirectory(prefix="kivvet-")
_BAND = (
    "inputs.x = {{ type = 'number' }}\noutputs.{name} = 'text'\nmissing.{name} = 'none'\nrows = [\n{rows}]\n"
)


def table(rows: int) -> pa.Table:
    """Return the rows: whole numbers, numbers, codes, texts, days, true and false."""
    rng = np.random.default_rng(5)
    codes = pa.array([f"C{number:06d}" for number in range(_CODES)])
    days = np.datetime64("2020-01-01") + rng.integers(0, 1500, rows)
    kinds = pa.array(["river", "lake", "brook"])
    return pa.table(
        {
            "id": np.arange(rows),
            "x": rng.random(rows) * 100,
            "y": rng.random(rows),
            "code": codes.take(pa.array(rng.integers(0, _CODES, rows))),
            "kind": kinds.take(pa.array(rng.integers(0, 3, rows))),
            "day": pa.array(days.astype("datetime64[D]")),
            "n": rng.integers(0, 1000, rows),
            "is_wet": pa.array(rng.random(rows) < 0.5),
        }
    )


def comparisons() -> Iterator[Comparison]:
    yield from _of_views()
    try:
        server = cluster()
        url = server.__enter__()
    except pytest.skip.Exception:
        return
    try:
        yield from _of_postgresql(url)
    finally:
        close_all()
        server.__exit__(None, None, None)


def _of_postgresql(url: str) -> Iterator[Comparison]:
    from adbc_driver_postgresql import dbapi

    given = table(_ROWS)
    place = InDatabase(Database("survey", url=url), "samples")

    def written() -> None:
        with replacing_at(place) as part:
            target = begun(part, place, given.schema, WriteOptions())
            for batch in given.to_batches(1 << 16):
                target.write(batch.columns)
            target.commit(lambda _: {})

    def by_hand_written() -> None:
        with dbapi.connect(url) as connection, connection.cursor() as cursor:
            cursor.execute("DROP TABLE IF EXISTS by_hand")
            cursor.execute(
                "CREATE TABLE by_hand (id bigint, x double precision, y double precision, code text, kind text, day date, n bigint, is_wet boolean)"
            )
            cursor.adbc_ingest("by_hand", given.to_reader(), mode="append")
            connection.commit()

    written()

    def read() -> int:
        return sum(batch.num_rows for batch in open_location(place).batches())

    def by_hand_read() -> int:
        with dbapi.connect(url) as connection, connection.cursor() as cursor:
            cursor.execute("SELECT * FROM samples")
            return sum(batch.num_rows for batch in cursor.fetch_record_batch())

    yield Comparison(
        "PostgreSQL read, 1 M rows x 8", read, {"the driver by hand": by_hand_read}, lambda n: n == _ROWS, 1.2
    )

    def arrived(_: Any) -> bool:
        return engine_of(place.database).n_rows(place) == _ROWS

    yield Comparison(
        "PostgreSQL written, 1 M rows x 8", written, {"the driver by hand": by_hand_written}, arrived, 1.2
    )


def _of_views() -> Iterator[Comparison]:
    folder = Path(_HOME.name) / "book"
    (folder / "tables").mkdir(parents=True)
    edges = range(5, 100, 5)
    rows = [f'  ["< {edges[0]}", "band 0"],\n']
    rows += [f'  ["{low} to <{low + 5}", "band {low}"],\n' for low in edges]
    rows[-1] = f'  [">= {edges[-1]}", "band {edges[-1]}"],\n'
    (folder / "tables" / "band.toml").write_text(_BAND.format(name="band", rows="".join(rows)))
    lines = "".join(f"C{number:06d},group {number % 40}\n" for number in range(_CODES))
    (folder / "tables" / "group.csv").write_text(f"code,group\n{lines}")
    (folder / "tables" / "group.toml").write_text(
        "inputs.code = 'text'\noutputs.group = 'text'\nlookup = 'group.csv'\n"
    )
    book = "[databases.survey]\npath = 'survey.duckdb'\n"
    for name, kind in (("seen", "view"), ("kept", "table")):
        for column in ("band", "group"):
            book += (
                f"[datasets.{name}_{column}]\nsource = {{ database = 'survey', table = 'samples' }}\n"
                f"target = {{ database = 'survey', {kind} = '{name}_{column}' }}\ncolumns = ['{column}']\n"
            )
    (folder / "book.toml").write_text(book)
    with duckdb.connect(str(folder / "survey.duckdb")) as connection:
        connection.register("given", table(_ROWS_OF_VIEW))
        connection.execute("CREATE TABLE samples AS SELECT * FROM given")
    for column in ("band", "group"):
        kivvet.open_book(folder).apply_dataset(f"seen_{column}")
    close_all()
    case = " ".join(f"WHEN x < {low} THEN 'band {low - 5}'" for low in edges)
    by_hand = {
        "band": f"SELECT *, CASE {case} WHEN x >= 95 THEN 'band 95' ELSE 'none' END AS band FROM samples",
        "group": 'SELECT samples.*, k.result_1 AS "group" FROM samples LEFT JOIN seen_group__group AS k ON k.key_1 = samples.code',
    }
    for column, what in (("band", "20 bins"), ("group", "a lookup of 100,000 codes")):

        def counted(sql: str) -> dict[Any, int]:
            with duckdb.connect(str(folder / "survey.duckdb"), read_only=True) as connection:
                connection.execute("SET threads = 2")
                return dict(connection.execute(sql).fetchall())

        def seen(column: str = column) -> dict[Any, int]:
            return counted(f'SELECT "{column}", COUNT(*) FROM seen_{column} GROUP BY 1')

        def hand(column: str = column) -> dict[Any, int]:
            return counted(f'SELECT "{column}", COUNT(*) FROM ({by_hand[column]}) GROUP BY 1')

        def out_and_back(column: str = column) -> dict[Any, int]:
            kivvet.open_book(folder).apply_dataset(f"kept_{column}", replace_edited=True)
            close_all()
            return counted(f'SELECT "{column}", COUNT(*) FROM kept_{column} GROUP BY 1')

        wanted = hand()
        for name, other, target in (("out, applied, back", out_and_back, 0.2), ("SQL by hand", hand, 1.2)):
            yield Comparison(
                f"a view of {what} over 5 M rows, counted",
                seen,
                {name: other},
                lambda found, wanted=wanted: found == wanted,
                target,
            )
