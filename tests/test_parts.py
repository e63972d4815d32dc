"""Data in parts: folders of parts as targets and sources, and every way of applying a book, held against memory."""

from __future__ import annotations

import dataclasses
import datetime as dt
import json
import os
import shutil
import sqlite3
from contextlib import closing

import duckdb
import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.books.asks.summary import summary_of, wanted_of
from kivvet.books.asks.unmatched import unmatched_in
from kivvet.books.files.open_book import read_book
from kivvet.books.runs.apply import apply_dataset
from kivvet.books.runs.in_parts import here
from kivvet.io.folders import folder_at
from kivvet.io.lakes.lake_source import LakeSource
from kivvet.io.locations import open_location
from kivvet.io.parts.manifest import MANIFEST, Manifest, read_manifest, write_manifest
from kivvet.io.parts.parts_source import PartsSource
from kivvet.io.parts.parts_target import PartsTarget
from tests.conftest import SMALL_BOOK, budget, write_book

BOOK = SMALL_BOOK["book.toml"].replace("out/samples.csv", "out/samples.parts")


ALL_OF_IT = wanted_of(["river"], "quality", ["SUM(load)", "MEDIAN(ph)"], None, 12)


def in_parts(tmp_path, changes=None, *, target="out/samples.parts", source="data/samples.csv"):
    text = SMALL_BOOK["book.toml"].replace("out/samples.csv", target).replace("data/samples.csv", source)
    return write_book(tmp_path / "book", {"book.toml": text, **(changes or {})})


def held(path):
    source = LakeSource(path) if path.suffix == ".delta" else PartsSource(path)
    return pa.Table.from_batches(list(source.batches()), source.stored_schema)


def plain(table):
    """Values by column, however they are held; of floats their bits."""
    made = {}
    for name in table.column_names:
        column = table[name].combine_chunks()
        column = column.dictionary_decode() if pa.types.is_dictionary(column.type) else column
        made[name] = [one.hex() if isinstance(one, float) else one for one in column.to_pylist()]
    return made


def summed_up(book, name, wanted, engine=None):
    found = summary_of(book, name, wanted, engine=engine)
    return dataclasses.replace(found, cells=frozenset(found.cells))


def test_a_folder_of_parts_is_a_target_that_status_and_refresh_know(tmp_path, run):
    folder = in_parts(tmp_path)
    assert run("apply", cwd=folder).code == 0
    there = folder / "out/samples.parts"
    assert sorted(one.name for one in there.iterdir())[1:] == [MANIFEST]
    assert "current" in run("status", cwd=folder).out
    (folder / "tables/station.csv").write_text(
        (folder / "tables/station.csv").read_text().replace("Elm", "Oak")
    )
    assert "stale" in run("status", cwd=folder).out
    assert run("refresh", cwd=folder).code == 0 and "current" in run("status", cwd=folder).out
    assert len(list(there.glob("*.parquet"))) == 1
    part = next(there.glob("*.parquet"))
    pq.write_table(pq.read_table(part).slice(1), part)
    assert "edited" in run("status", cwd=folder).out or "changed" in run("status", cwd=folder).out
    told = run("apply", cwd=folder)
    assert told.code == 2 and "was changed by something else" in told.err
    assert run("apply", "--replace-edited", cwd=folder).code == 0


def test_what_was_written_reads_as_a_source_and_grows_with_its_own(tmp_path, run):
    folder = in_parts(tmp_path)
    more = '\n[datasets.again]\nsource = "out/samples.parts"\ntarget = "out/again.parts"\ncolumns = []\n'
    (folder / "book.toml").write_text((folder / "book.toml").read_text() + more)
    assert run("apply", cwd=folder).code == 0
    assert plain(held(folder / "out/again.parts")) == plain(held(folder / "out/samples.parts"))
    n_before = held(folder / "out/samples.parts").num_rows
    first = read_manifest(folder_at(folder / "out/samples.parts")).parts
    text = (folder / "data/samples.csv").read_text()
    (folder / "data/samples.csv").write_text(text + text.splitlines()[-1] + "\n")
    told = run("refresh", cwd=folder)
    assert told.code == 0, told.all
    parts = read_manifest(folder_at(folder / "out/samples.parts")).parts
    assert parts[: len(first)] == first and sum(one.rows for one in parts) == n_before + 1
    assert held(folder / "out/again.parts").num_rows == n_before + 1


def test_only_what_the_manifest_names_counts_and_what_is_left_over_goes(tmp_path, run):
    folder = in_parts(tmp_path)
    assert run("apply", cwd=folder).code == 0
    there = folder / "out/samples.parts"
    part = next(there.glob("*.parquet"))
    stray, under_way = there / "part-00000-0123456789ab.parquet", there / "part-00000-ba9876543210.parquet"
    shutil.copy(part, stray)
    shutil.copy(part, under_way)
    os.utime(stray, (0, 0))
    before = plain(held(there))
    assert run("apply", cwd=folder).code == 0
    assert plain(held(there)) == before and not stray.exists() and under_way.exists()
    (there / MANIFEST).write_text("{")
    assert run("apply", cwd=folder).code != 0
    other = folder / "out/other.parts"
    other.mkdir()
    (other / "letter.txt").write_text("mine")
    (folder / "book.toml").write_text(
        (folder / "book.toml").read_text().replace("samples.parts", "other.parts")
    )
    told = run("apply", "--replace", cwd=folder)
    assert (
        told.code == 2 and "holds something else" in told.err and (other / "letter.txt").read_text() == "mine"
    )


def test_a_run_that_ends_before_the_manifest_changes_nothing(tmp_path, monkeypatch):
    folder = in_parts(tmp_path)
    kivvet.open_book(folder).apply_dataset("samples")
    before = plain(held(folder / "out/samples.parts"))

    def killed(*_):
        raise KeyboardInterrupt

    monkeypatch.setattr("kivvet.io.parts.parts_target.write_manifest", killed)
    with pytest.raises(KeyboardInterrupt):
        kivvet.open_book(folder).apply_dataset("samples")
    monkeypatch.undo()
    assert plain(held(folder / "out/samples.parts")) == before
    assert kivvet.open_book(folder).status()[0].state == "current"


@pytest.mark.parametrize("fault", ["gone", "damaged", "no manifest"])
def test_a_part_that_cannot_be_read_is_named(tmp_path, run, fault):
    folder = in_parts(tmp_path)
    more = '\n[datasets.again]\nsource = "out/samples.parts"\ntarget = "out/again.csv"\ncolumns = []\n'
    (folder / "book.toml").write_text((folder / "book.toml").read_text() + more)
    assert run("apply", "samples", cwd=folder).code == 0
    there = folder / "out/samples.parts"
    part = next(there.glob("*.parquet"))
    if fault == "gone":
        part.unlink()
    elif fault == "damaged":
        part.write_bytes(b"PAR1 and nothing more")
    else:
        (there / MANIFEST).unlink()
    told = run("apply", "again", cwd=folder)
    assert told.code and "Traceback" not in told.all and "samples.parts" in told.err
    assert not (folder / "out/again.csv").exists()


# Every way of applying, held against memory.


@pytest.fixture(scope="module")
def whole(river, tmp_path_factory):
    """The demo's book as it is, its data in files, and what applying it in one place gives."""
    folder = tmp_path_factory.mktemp("whole") / "river"
    shutil.copytree(river, folder)
    report = apply_dataset(read_book(folder), read_book(folder).datasets["samples"], replace_other=True)
    return folder, pq.read_table(folder / "out/samples.parquet"), report


def divided(folder, n_parts, target, *, ending="csv"):
    """Divide the data of the demo into files, and let the book write a target of parts."""
    lines = (folder / "data/samples.csv").read_text(encoding="utf-8").splitlines(keepends=True)
    there = folder / "data/parts"
    shutil.rmtree(there, ignore_errors=True)
    there.mkdir()
    rows = lines[1:]
    cuts = [round(n * len(rows) / n_parts) for n in range(n_parts + 1)]
    for number in range(n_parts):
        text = "".join([lines[0], *rows[cuts[number] : cuts[number + 1]]])
        (there / f"p{number:02}.{ending}").write_text(text, encoding="utf-8")
    path = folder / "book.toml"
    text = path.read_text(encoding="utf-8")
    source = 'source  = "data/samples.csv"\ntarget  = "out/samples.parquet"'
    assert text.count(source) == 1
    path.write_text(
        text.replace(source, f'source  = "data/parts/p*.{ending}"\ntarget  = "{target}"'), encoding="utf-8"
    )


def engine_spark():
    pytest.importorskip("pyspark")
    if shutil.which("java") is None:
        pytest.skip("there is no Java")
    from kivvet.books.runs.on_spark import on_spark

    return on_spark


@pytest.mark.parametrize(
    ("engine", "n_parts", "target"),
    [
        ("none", 5, "out/samples.parts"),
        ("none", 5, "out/samples.delta"),
        ("here", 1, "out/samples.parts"),
        ("here", 7, "out/samples.parts"),
        ("here", 4, "out/samples.delta"),
        ("spark", 5, "out/samples.parts"),
        ("spark", 3, "out/samples.delta"),
    ],
)
def test_the_book_gives_the_same_bits_in_parts_and_the_same_report(whole, tmp_path, engine, n_parts, target):
    folder, expected, report = whole
    work = {"none": None, "here": here}.get(engine) if engine != "spark" else engine_spark()
    copied = tmp_path / "river"
    shutil.copytree(folder, copied)
    divided(copied, n_parts, target)
    made = apply_dataset(read_book(copied), read_book(copied).datasets["samples"], engine=work)
    assert plain(held(copied / target)) == plain(expected)
    if engine == "spark":
        assert summed_up(read_book(copied), "samples", ALL_OF_IT, work) == summed_up(
            read_book(copied), "samples", ALL_OF_IT
        )
    assert (made.rows, made.tables, made.formulas, made.by_class) == (report.rows, report.tables, report.formulas, report.by_class)  # fmt: skip
    assert kivvet.open_book(copied).status(["samples"])[0].state == "current"


@pytest.mark.parametrize("engine", ["duckdb", "sqlite"])
def test_tables_of_databases_give_the_same_bits_too(whole, tmp_path, engine):
    folder, expected, report = whole
    copied = tmp_path / "river"
    shutil.copytree(folder, copied)
    typed = pa.table(plain_texts(expected.select(list(SOURCE))))
    place = copied / f"data/there.{engine.replace('sqlite', 'db')}"
    if engine == "duckdb":
        with duckdb.connect(str(place)) as there:
            there.register("typed", typed)
            there.execute("CREATE TABLE samples AS SELECT * FROM typed")
    else:
        with closing(sqlite3.connect(place)) as there:
            there.execute(f"CREATE TABLE samples ({', '.join(f'{one.name} {SQLITE_TYPES[str(one.type)]}' for one in typed.schema)})")  # fmt: skip
            rows = zip(*(map(as_sqlite, column.to_pylist()) for column in typed.columns), strict=True)
            there.executemany(f"INSERT INTO samples VALUES ({', '.join('?' * typed.num_columns)})", rows)
            there.commit()
    path = copied / "book.toml"
    text = path.read_text(encoding="utf-8")
    text = text.replace(
        'source  = "data/samples.csv"\ntarget  = "out/samples.parquet"',
        'source = { database = "there", query = "SELECT * FROM samples ORDER BY sample_id" }\n'
        'target = { database = "there", table = "classed" }',
    )
    path.write_text(f'{text}\n[databases.there]\npath = "data/{place.name}"\n', encoding="utf-8")
    book = read_book(copied)
    made = apply_dataset(book, book.datasets["samples"])
    source = open_location(book.datasets["samples"].target)
    rows = pa.Table.from_batches(list(source.batches()), source.stored_schema).sort_by("sample_id")
    assert plain(rows) == plain(expected.sort_by("sample_id"))
    assert (made.rows, made.formulas, made.by_class) == (report.rows, report.formulas, report.by_class)


SQLITE_TYPES = {"string": "TEXT", "double": "REAL", "int64": "INTEGER", "date32[day]": "DATE"}


def as_sqlite(value):
    return value.isoformat() if isinstance(value, dt.date) else value


def test_batches_of_odd_sizes_give_the_same_bits_too(whole):
    folder, expected, _ = whole
    book = kivvet.open_book(folder)
    columns = list(book.datasets["samples"].said["columns"])
    source = expected.select([one for one in expected.column_names if one in SOURCE])
    made = book.apply_batches(pa.table(source).to_reader(max_chunksize=317).read_all(), columns).read_all()
    names = [one for one in expected.column_names if one in made.column_names]
    assert len(names) > len(SOURCE)
    assert plain(made.select(names)) == plain(expected.select(names))


SOURCE = ("sample_id", "station", "sampled_on", "ph", "oxygen", "nitrate", "flow", "temperature", "method", "habitat", "remark", "upstream")  # fmt: skip


CROSSED = (
    wanted_of(["band"], "name", (), None, 12),
    wanted_of(["k", "place"], None, ["SUM(x)", "AVG(x)", "MAX(share)", "COUNT(DISTINCT x)"], "x > 1", 12),
    wanted_of(
        ["name"],
        "x > 2 AS large",
        [
            *(
                "MIN(k)",
                "MAX(x)",
                "MEDIAN(x)",
                "PERCENTILE_DISC(0.3) WITHIN GROUP (ORDER BY k)",
                "SUM(place)",
            ),
            *(
                "VAR_POP(x)",
                "STDDEV_SAMP(x)",
                "SUM(share) FILTER (WHERE x < 9)",
                "COUNT(x) / COUNT(*) AS part",
            ),
        ],
        None,
        12,
    ),
    wanted_of([], "place", ["SUM(share)"], None, 2),
)


@settings(max_examples=budget(25))
@given(
    st.lists(
        st.lists(
            st.tuples(st.sampled_from(["", "1", "2.5", "9"]), st.sampled_from(["a", "b", ""])), max_size=5
        ),
        min_size=1,
        max_size=4,
    ),
    st.sampled_from(CROSSED),
)
def test_however_rows_are_divided_the_report_on_all_is_that_of_one_pass(tmp_path_factory, parts, wanted):
    """Summaries, unmatched values, their first rows, windows and classes of a lookup are put together of the parts."""
    folder = write_book(
        tmp_path_factory.mktemp("divided"),
        {
            "book.toml": '[datasets.d]\nsource = "data/p*.csv"\ntarget = "o.parts"\ntypes = { k = "text", x = "number" }\n'
            'columns = ["band", "name", "share", "place"]\n[datasets.e]\nsource = "data/p*.csv"\ntarget = "e.parquet"\n'
            'types = { k = "text", x = "number" }\ncolumns = ["band", "name", "share", "place"]\n',
            "formulas.toml": 'share = "x / SUM(x) OVER (PARTITION BY k)"\nplace = "ROW_NUMBER() OVER (ORDER BY x)"\n',
            "tables/band.toml": 'inputs.x = "number"\noutputs.band = "text"\nrows = [["< 2", "low"], ["2 to 5", "mid"]]\n'
            '[severity]\ngap = "note"\n',
            "tables/name.toml": 'inputs.k = "text"\noutputs.name = "text"\nlookup = "name.csv"\n',
            "tables/name.csv": "k,name\na,first\nc,third\n",
            "tables/ph_class.toml": None,
            "tables/station.toml": None,
            "tables/station.csv": None,
            "data/samples.csv": None,
        },
    )
    for number, rows in enumerate(parts):
        text = "x,k\n" + "".join(f"{x},{k}\n" if x or k else ",\n" for x, k in rows)
        (folder / "data").mkdir(exist_ok=True)
        (folder / f"data/p{number}.csv").write_text(text)
    book = read_book(folder)
    one = apply_dataset(book, book.datasets["e"])
    made = apply_dataset(book, book.datasets["d"], engine=here)
    assert plain(held(folder / "o.parts")) == plain(pq.read_table(folder / "e.parquet"))
    assert (made.rows, made.tables, made.formulas) == (one.rows, one.tables, one.formulas)
    assert summed_up(book, "d", wanted, here) == summed_up(book, "e", wanted)


def test_what_is_unmatched_in_parts_is_what_one_pass_finds(whole, tmp_path):
    copied = tmp_path / "river"
    shutil.copytree(whole[0], copied)
    book = read_book(copied)
    one = unmatched_in(book, [book.datasets["samples"]])
    divided(copied, 5, "out/samples.parts")
    book = read_book(copied)
    assert unmatched_in(book, [book.datasets["samples"]], engine=here) == one and one
    with pytest.raises(kivvet.BookError, match="not in parts"):
        unmatched_in(book, [book.datasets["by_river"]], engine=here)
    assert summed_up(book, "samples", ALL_OF_IT, here) == summed_up(book, "samples", ALL_OF_IT)
    with pytest.raises(kivvet.BookError, match="not in parts"):
        summary_of(book, "by_river", wanted_of(["river"], None, (), None, 12), engine=here)


def test_another_writer_that_was_faster_stands(tmp_path, monkeypatch):
    folder = in_parts(tmp_path)
    kivvet.open_book(folder).apply_dataset("samples")
    there = folder / "out/samples.parts"
    verified = PartsTarget._verified

    def late(self, one):
        write_manifest(folder_at(there), Manifest((), {"theirs": True}))
        return verified(self, one)

    monkeypatch.setattr(PartsTarget, "_verified", late)
    with pytest.raises(kivvet.OutputError, match="written by something else meanwhile"):
        kivvet.open_book(folder).apply_dataset("samples")
    assert read_manifest(folder_at(there)).record == {"theirs": True} and not list(there.glob("*.parquet"))


def test_what_a_run_wrote_of_a_lake_is_made_again_of_the_version_of_then(tmp_path, run):
    deltalake = pytest.importorskip("deltalake")
    folder = in_parts(tmp_path, source="data/samples.delta")
    (folder / "data/samples.csv").unlink(missing_ok=True)
    rows = pa.table({"sample_id": ["a", "b"], "station": ["0007", "0042"], "ph": [6.1, 7.2]})
    deltalake.write_deltalake(folder / "data/samples.delta", rows)
    assert run("apply", cwd=folder).code == 0
    then = plain(held(folder / "out/samples.parts"))
    deltalake.write_deltalake(folder / "data/samples.delta", rows.slice(0, 1), mode="overwrite")
    assert run("apply", cwd=folder).code == 0
    runs = json.loads(run("history", "--json", cwd=folder).out)["runs"]
    first = min(runs, key=lambda one: one["at"])["run"]
    told = run("apply", "samples", "--as-of", first, "--to", "out/then.parquet", cwd=folder)
    assert told.code == 0, told.all
    assert plain(pq.read_table(folder / "out/then.parquet")) == then


def test_a_part_that_fails_is_told_and_nothing_is_left_of_the_others(whole, tmp_path):
    copied = tmp_path / "river"
    shutil.copytree(whole[0], copied)
    divided(copied, 4, "out/samples.parts")
    bad = copied / "data/parts/p02.csv"
    bad.write_text(bad.read_text().replace("\nS", '\n"S', 1))
    book = read_book(copied)
    with pytest.raises(kivvet.KivvetError, match=r"p02\.csv|p\*\.csv"):
        apply_dataset(book, book.datasets["samples"], engine=here)
    assert not (copied / "out/samples.parts").exists()


def test_what_is_not_in_parts_is_refused_by_name_before_anything_is_read(tmp_path, run):
    folder = write_book(tmp_path / "book")
    told = run("check", "--engine", "spark", "--no-data", cwd=folder)
    assert "the target of samples is written by one process" in told.out
    book = read_book(folder)
    with pytest.raises(kivvet.BookError, match="written by one process") as refused:
        apply_dataset(book, book.datasets["samples"], engine=here)
    assert 'target = "out/samples.parts"' in str(refused.value)
    with pytest.raises(kivvet.BookError, match="no engine that is known"):
        kivvet.open_book(folder).apply_dataset("samples", engine="abacus")
    assert run("apply", "--engine", "abacus", cwd=folder).code == 2
    assert run("apply", "--engine", "spark", "--show-sql", cwd=folder).code == 2


def test_without_the_package_what_to_install_is_said(tmp_path, run, monkeypatch):
    monkeypatch.setitem(__import__("sys").modules, "pyspark.sql", None)
    told = run("apply", "--engine", "spark", cwd=in_parts(tmp_path))
    assert told.code == 2 and 'pip install "kivvet[spark]"' in told.err


# Frames of Spark.


@pytest.fixture(scope="module")
def spark():
    engine_spark()
    from kivvet.books.runs.on_spark import spark_session

    return spark_session()


COLUMNS = ["ph_class", "nitrate_band", "oxygen_status", "flow_class", {"table": "station", "keep": ["river"]}, "nitrate_limit", "load", "load_share", "load_decile", "exceedance_number", "basin", "visit"]  # fmt: skip


def test_a_frame_of_spark_gets_what_a_frame_in_memory_gets(whole, spark):
    folder, expected, _ = whole
    book = kivvet.open_book(folder)
    frame = expected.select(list(SOURCE))
    wanted = book.apply(frame, COLUMNS, where="ph IS NOT NULL")
    rows = spark.createDataFrame(pa.table(plain_texts(frame))).repartition(3)
    with pytest.raises(kivvet.DataError, match="load_decile, exceedance_number depend on the order of rows"):
        book.apply(rows, COLUMNS)
    made = book.apply(rows, COLUMNS, where="ph IS NOT NULL", order_by=["sample_id"])
    assert made.columns == wanted.column_names and made.limit(5).count() == 5
    assert plain(made.toArrow().sort_by("sample_id")) == plain(wanted.sort_by("sample_id"))
    told = book.apply_with_report(rows, COLUMNS, where="ph IS NOT NULL", order_by=["sample_id"])
    assert told.frame.limit(5).count() == 5 and not told.report.is_complete
    with pytest.raises(kivvet.DataError, match="not complete"):
        _ = told.report.rows
    counted, wanted_report = (
        told.report.count(),
        book.apply_with_report(frame, COLUMNS, where="ph IS NOT NULL").report,
    )
    assert told.report.is_complete and told.report.rows == frame.num_rows
    assert without_rows(counted) == without_rows(wanted_report)
    with pytest.raises(kivvet.DataError, match="no such column"):
        book.apply(rows, COLUMNS, order_by=["sample"])
    with pytest.raises(kivvet.DataError, match="order_by is for frames of Spark"):
        book.apply(frame, COLUMNS, order_by=["sample_id"])


def without_rows(report):
    """A report but for the numbers of rows, which Spark gives in any order, and texts of one count, which come in that order."""
    told = [dataclasses.replace(one, first_rows={}, made_missing={}, unmatched_values=tuple(sorted(one.unmatched_values))) for one in report.tables]  # fmt: skip
    return (
        report.rows,
        report.left_out,
        report.undecided,
        told,
        [dataclasses.replace(one, made_missing={}, spellings=(), misspelt=0) for one in report.formulas],
        report.by_class,
    )


def plain_texts(table):
    return {
        name: table[name].combine_chunks().dictionary_decode()
        if pa.types.is_dictionary(table[name].type)
        else table[name]
        for name in table.column_names
    }


def test_keys_that_spark_groups_apart_are_one_group_and_an_order_that_leaves_ties_is_refused(tmp_path, spark):
    folder = write_book(
        tmp_path / "book",
        {
            "formulas.toml": 'part = "x / SUM(x) OVER (PARTITION BY k)"\nby_y = "COUNT(*) OVER (PARTITION BY y)"\nat = "ROW_NUMBER() OVER (PARTITION BY k)"\n'
        },
    )
    book = kivvet.open_book(folder)
    nan = float("nan")
    frame = pa.table({"n": [1, 2, 3, 4, 5], "k": ["", None, "a", "a", ""], "x": [1.0, 2.0, 3.0, 0.1, 0.2], "y": [nan, None, 0.0, -0.0, 1.0]})  # fmt: skip
    rows = spark.createDataFrame(frame)
    wanted = book.apply(frame, ["part", "by_y", "at"])
    made = book.apply(rows, ["part", "by_y", "at"], order_by=["n"]).toArrow().sort_by("n")
    for name in ("part", "by_y", "at"):
        assert plain(made.select([name])) == plain(wanted.select([name])), name
    alike = spark.createDataFrame(frame.set_column(0, "n", pa.array([1, 1, 1, 1, 1])))
    with pytest.raises(Exception, match="does not tell all rows apart"):
        book.apply(alike, ["at"], order_by=["n"]).collect()


def test_what_goes_wrong_in_a_task_is_told_in_a_line(spark, whole, tmp_path):
    from kivvet.books.runs.on_spark import on_spark

    assert sorted(on_spark(doubled, 1, [1, 2, 3])) == [2, 4, 6]
    with pytest.raises(kivvet.OutputError, match=r"a task failed: .*ZeroDivisionError"):
        list(on_spark(divided_by_none, 1, [1, 2]))
    copied = tmp_path / "river"
    shutil.copytree(whole[0], copied)
    divided(copied, 3, "out/samples.parts")
    bad = copied / "data/parts/p01.csv"
    bad.write_text(bad.read_text().replace("\nS", '\n"S', 1))
    book = read_book(copied)
    with pytest.raises(kivvet.KivvetError):
        apply_dataset(book, book.datasets["samples"], engine=on_spark)
    assert not (copied / "out/samples.parts").exists()


def doubled(shared, job):
    return 2 * job * shared


def divided_by_none(shared, job):
    return shared / (job - job)


def test_the_manifest_is_plain_json(tmp_path, run):
    folder = in_parts(tmp_path)
    assert run("apply", cwd=folder).code == 0
    values = json.loads((folder / "out/samples.parts" / MANIFEST).read_text())
    assert values["version"] == 1 and set(values["parts"][0]) == {"name", "rows", "size", "hash"}
    assert values["record"]["dataset"] == "samples"
