"""Wherever rows come from and wherever they go, the whole order of work tells the same: files of every format, folders of parts, lakes,
databases, workbooks, held against a file of text.
"""

from __future__ import annotations

import gzip
import json
import sqlite3
from contextlib import closing
from datetime import date

import pyarrow as pa
import pyarrow.feather as feather
import pyarrow.parquet as pq
import pytest

import kivvet
from kivvet.io.csv_source import CsvSource
from tests.conftest import kivvet as kivvet_here
from tests.conftest import write_book

ROWS = {
    "id": [1, 2, 3, 4, 5, 6, 7, 8],
    "station": ["007", "042", "007", "X9", "042", "007", "008", "008"],
    "day": [date(2026, 1, n) for n in (5, 5, 6, 7, 7, 9, 9, 10)],
    "ph": [6.25, 7.5, None, 8.5, 9.125, 6.5, 7.0, None],
    "flow": [2.0, 1.0, 4.0, 8.0, 0.5, 2.0, 4.0, 1.5],
    "note": ["clear", None, "NA", "foam, brown", "clear", None, "clear", "odd"],
}
TYPES = 'types = { station = "text", day = "date", note = "text" }\n'
BOOK = """
[databases.there]
path = "data/there.EXT"

[datasets.samples]
source = SOURCE
target = TARGET
TYPEScolumns = ["ph_class", { table = "station", keep = ["river"], status = "how" }, "load", "share", "place", "busy"]

[datasets.more]
source = SOURCE
target = "out/more.csv"
TYPEScolumns = ["ph_class", { indicators = "ph_class", name = "is_{class}" }, "tags", "middle", "so_far", "day_place"]
where = "flow >= 1.5 OR ph IS NULL"

[summaries.by_class]
from = "samples"
by = ["ph_class"]
values = { n = "COUNT(*)", load = "SUM(load)" }
target = "out/by_class.csv"
"""
FILES = {
    "formulas.toml": 'load = "flow * 2"\nshare = "load / SUM(load) OVER (PARTITION BY station)"\n'
    'place = "ROW_NUMBER() OVER (PARTITION BY station ORDER BY id)"\n'
    'middle = "MEDIAN(ph) OVER (PARTITION BY station)"\nso_far = "SUM(flow) OVER (ORDER BY id)"\n'
    'day_place = "RANK() OVER (PARTITION BY EXTRACT(DAY FROM day) ORDER BY flow DESC)"\n',
    "tables/tags.toml": """
inputs.flow = { type = "number", domain = ">= 0" }
outputs.tags = "text"
match = "every"
rows = [["< 2", "low"], ["1 to <5", "usual"], [">= 4", "high"], ["2", "two"]]
""",
    "tables/ph_class.toml": """
inputs.ph = { type = "number", step = 0.125 }
outputs.ph_class = { type = "text", order = ["acidic", "neutral", "alkaline", "not measured"] }
missing = { ph_class = "not measured" }
rows = [["< 6.5", "acidic"], ["6.5 to <8.5", "neutral"], [">= 8.5", "alkaline"]]
""",
    "tables/station.toml": """
inputs.station = "text"
outputs.river = "text"
lookup = "station.csv"
otherwise = { river = "unknown" }
""",
    "tables/station.csv": "station,river\n007,Elm\n008,Ash\n042,Elm\n",
    "tables/busy.toml": """
inputs.river = "text"
inputs.load = "number"
outputs.busy = "text"
match = "first"
rows = [["river", "load", "busy"], ["Elm", "> 2", "busy"], ["", ">= 2", "some"], ["", "", "quiet"]]
""",
}
NO_SMALL_BOOK = {"data/samples.csv": None}


def csv_text(delimiter=","):
    table = pa.table(ROWS)
    lines = [delimiter.join(table.column_names)]
    for row in table.to_pylist():
        cells = ["" if value is None else str(value) for value in row.values()]
        lines.append(delimiter.join(f'"{cell}"' if delimiter in cell else cell for cell in cells))
    return "\n".join(lines) + "\n"


def as_text(folder):
    (folder / "data/rows.csv").write_text(csv_text())
    return '"data/rows.csv"'


def as_tabs(folder):
    (folder / "data/rows.tsv").write_text(csv_text("\t"))
    return '"data/rows.tsv"'


def as_compressed(folder):
    (folder / "data/rows.csv.gz").write_bytes(gzip.compress(csv_text().encode()))
    return '"data/rows.csv.gz"'


def as_parquet(folder):
    pq.write_table(pa.table(ROWS), folder / "data/rows.parquet")
    return '"data/rows.parquet"'


def as_codes(folder):
    table = pa.table(ROWS)
    for name in ("station", "note"):
        place = table.column_names.index(name)
        table = table.set_column(place, name, table[name].combine_chunks().dictionary_encode())
    pq.write_table(table, folder / "data/rows.parquet")
    return '"data/rows.parquet"'


def as_arrow(folder):
    feather.write_feather(pa.table(ROWS), str(folder / "data/rows.arrow"), compression="uncompressed")
    return '"data/rows.arrow"'


def as_json_lines(folder):
    lines = (json.dumps(row, default=str) for row in pa.table(ROWS).to_pylist())
    (folder / "data/rows.jsonl").write_text("\n".join(lines) + "\n")
    return '"data/rows.jsonl"'


def as_files(folder):
    header, *lines = csv_text().splitlines()
    for number, part in enumerate((lines[:3], lines[3:4], lines[4:])):
        (folder / f"data/rows-{number}.csv").write_text("\n".join([header, *part]) + "\n")
    return '"data/rows-*.csv"'


def as_folder(folder):
    (folder / "data/rows").mkdir()
    for number, part in enumerate((pa.table(ROWS).slice(0, 5), pa.table(ROWS).slice(5))):
        pq.write_table(part, folder / f"data/rows/{number}.parquet")
    return '"data/rows/"'


def written(folder, target):
    """Let a book of its own write the rows to a target that no library writes as we do."""
    book = '[datasets.d]\nsource = "rows.parquet"\ntarget = "{}"\ncolumns = []\n'
    there = write_book(folder / "writing", {"book.toml": book.format((folder / target).as_posix())})
    pq.write_table(pa.table(ROWS), there / "rows.parquet")
    kivvet.open_book(there).apply_dataset("d")
    return f'"{target}"'


def as_parts(folder):
    return written(folder, "data/rows.parts")


def as_sheet(folder):
    return written(folder, "data/rows.xlsx")


def as_lake(folder):
    deltalake = pytest.importorskip("deltalake")
    deltalake.write_deltalake(folder / "data/rows.delta", pa.table(ROWS).slice(0, 6))
    deltalake.write_deltalake(folder / "data/rows.delta", pa.table(ROWS).slice(6), mode="append")
    return '"data/rows.delta"'


def as_sqlite(folder):
    with closing(sqlite3.connect(folder / "data/there.db")) as there:
        there.execute("CREATE TABLE rows (id INTEGER, station TEXT, day DATE, ph REAL, flow REAL, note TEXT)")
        rows = (
            [str(v) if isinstance(v, date) else v for v in row.values()] for row in pa.table(ROWS).to_pylist()
        )
        there.executemany("INSERT INTO rows VALUES (?, ?, ?, ?, ?, ?)", rows)
        there.commit()
    return '{ database = "there", query = "SELECT * FROM rows ORDER BY id", version = "SELECT MAX(id) FROM rows" }'


def as_duckdb(folder):
    import duckdb

    with duckdb.connect(str(folder / "data/there.duckdb")) as there:
        there.register("given", pa.table(ROWS))
        there.execute("CREATE TABLE rows AS SELECT * FROM given")
    return '{ database = "there", query = "SELECT * FROM rows ORDER BY id", version = "SELECT MAX(id) FROM rows" }'


SOURCES = {
    "text": as_text,
    "tabs": as_tabs,
    "compressed": as_compressed,
    "parquet": as_parquet,
    "codes": as_codes,
    "arrow": as_arrow,
    "json lines": as_json_lines,
    "files": as_files,
    "folder": as_folder,
    "parts": as_parts,
    "sheet": as_sheet,
    "lake": as_lake,
    "sqlite": as_sqlite,
    "duckdb": as_duckdb,
}
TARGETS = {
    **{ending: f'"out/samples.{ending}"' for ending in ("csv", "tsv", "parquet", "arrow", "jsonl", "xlsx", "parts", "delta")},
    "sqlite": '{ database = "there", table = "classed" }',
    "duckdb": '{ database = "there", table = "classed" }',
}  # fmt: skip


def book_at(folder, source="text", target="csv"):
    (folder / "data").mkdir(parents=True)
    said = SOURCES[source](folder)
    ending = "duckdb" if "duckdb" in (source, target) else "db"
    typed = "" if source in ("sqlite", "duckdb") else TYPES
    text = BOOK.replace("SOURCE", said).replace("TARGET", TARGETS[target]).replace("EXT", ending)
    return write_book(folder, {"book.toml": text.replace("TYPES", typed), **FILES, **NO_SMALL_BOOK})


ASKED = {
    "check": ["check"],
    "unmatched": ["unmatched"],
    "show": [
        "show",
        "samples",
        "--columns",
        "id,station,day,ph,note,ph_class,river,how,load,share,place,busy",
    ],
    "some rows": [
        "show",
        "samples",
        "--where",
        "ph_class = 'neutral' OR how = 'unmatched'",
        "--columns",
        "id",
        "--why",
    ],
    "each": ["show", "samples", "--each", "busy", "--first", "1", "--columns", "id,busy"],
    "sorted": ["show", "samples", "--sort", "share DESC", "--sort", "id", "--columns", "id,share"],
    "cross": [
        *(
            "summary",
            "samples",
            "--by",
            "river",
            "--across",
            "ph_class",
            "--value",
            "SUM(load)",
            "--share",
            "row",
        )
    ],
    "days": ["summary", "samples", "--by", "EXTRACT(DAY FROM day) AS d", "--value", "MEDIAN(ph) AS middle"],
    "missing": ["summary", "samples", "--by", "note", "--value", "COUNT(note)", "--value", "MIN(day)"],
    "explain": ["explain", "samples", "--row", "5"],
    "shares": ["shares", "ph_class", "--on", "samples", "--against", "samples"],
    "formula": ["formula", "load / SUM(load) OVER () * 100", "--on", "samples"],
    "by class": ["show", "by_class"],
    "more": ["show", "more"],
    "sums": [
        "summary",
        "more",
        "--by",
        "ph_class",
        "--value",
        "SUM(so_far)",
        "--value",
        "COUNT(DISTINCT station) AS n",
    ],
    "why": ["explain", "more", "--row", "3"],
}
#: What of an answer is not about the rows: where they lie, and what can be said of a place of that kind alone.
NOT_OF_ROWS = (
    "source",
    "target",
    "at",
    "made_at",
    "version",
    "place",
    "places",
    "report_of",
    "notes",
    "rows_read",
)
ABOUT_PLACES = ("database", "obstacle", "headings", "unused-options")


def about_rows(value):
    """What an answer says of the rows, wherever they lie."""
    if isinstance(value, dict):
        if value.get("kind") in ABOUT_PLACES:
            return None
        return {name: about_rows(one) for name, one in value.items() if name not in NOT_OF_ROWS}
    if isinstance(value, list):
        return [told for one in value if (told := about_rows(one)) is not None]
    return value


def asked(folder, run):
    told = {}
    for name, command in ASKED.items():
        ran = run(*command, "--json", cwd=folder)
        assert ran.code == 0, (name, ran.all)
        told[name] = about_rows(json.loads(ran.out))
    return told


def followed(folder, run):
    """What is told as a rule changes, before it is taken and after."""
    table = folder / "tables/ph_class.toml"
    table.write_text(table.read_text().replace("6.5", "7"))
    impact = json.loads(run("impact", "samples", "--json", cwd=folder).out)
    status = {one["dataset"]: one for one in json.loads(run("status", "--json", cwd=folder).out)["datasets"]}
    refreshed = run("refresh", "samples", "--json", cwd=folder)
    assert refreshed.code == 0, refreshed.all
    again = {one["dataset"]: one for one in json.loads(run("status", "--json", cwd=folder).out)["datasets"]}
    return {
        "impact": about_rows(impact["datasets"]),
        "state": [(status[name]["state"], status[name]["stale_columns"]) for name in ("samples", "by_class")],
        "why": [about_rows(one["changes"]) for one in status["samples"]["reasons"]],
        "after": [again[name]["state"] for name in ("samples", "by_class")],
        "held": about_rows(json.loads(run(*ASKED["show"], "--json", cwd=folder).out)),
        "history": [
            one["action"] for one in json.loads(run("history", "samples", "--json", cwd=folder).out)["runs"]
        ],
    }


def story(folder, run, source, target, *, asks=True):
    book = book_at(folder, source, target)
    applied = run("apply", "--json", cwd=book)
    assert applied.code == 0, applied.all
    (samples, more, by_class) = json.loads(applied.out)["reports"]
    states = [one["state"] for one in json.loads(run("status", "--json", cwd=book).out)["datasets"]]
    report = {name: samples[name] for name in ("rows", "written", "tables", "formulas")}
    told = {
        "report": about_rows(report),
        "report of more": about_rows(more),
        "summary": about_rows(by_class["tables"]),
        "states": states,
    }
    return told | (asked(book, run) if asks else {}) | followed(book, run)


@pytest.fixture(scope="module")
def as_of_text(tmp_path_factory):
    return story(tmp_path_factory.mktemp("text") / "book", kivvet_here, "text", "csv")


PLACES = [
    *((source, "csv") for source in SOURCES if source != "text"),
    *(("text", target) for target in TARGETS if target != "csv"),
    *(("lake", "parts"), ("sqlite", "sqlite"), ("parquet", "parquet")),
]


@pytest.mark.parametrize(("source", "target"), PLACES, ids=[" to ".join(pair) for pair in PLACES])
def test_all_that_is_told_is_the_same_wherever_rows_lie(tmp_path, as_of_text, source, target):
    told = story(tmp_path / "book", kivvet_here, source, target, asks=target == "csv")
    for name, answer in told.items():
        assert answer == as_of_text[name], name


@pytest.mark.parametrize("size", [1, 3])
def test_all_that_is_told_is_the_same_however_rows_come_in_batches(tmp_path, as_of_text, monkeypatch, size):
    batches = CsvSource.batches

    def small(self, *given):
        for batch in batches(self, *given):
            for start in range(0, batch.num_rows, size):
                yield batch.slice(start, size)

    monkeypatch.setattr(CsvSource, "batches", small)
    told = story(tmp_path / "book", kivvet_here, "text", "parquet")
    for name, answer in told.items():
        assert answer == as_of_text[name], name
