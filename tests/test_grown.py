"""Where a source has grown, the target holds what applying it anew would give, whether rows were added to it or not."""

import csv
import io
import os
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import time
from contextlib import closing
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.books.runs.record import read_record
from tests.conftest import budget, write_book

BOOK = """\
[datasets.d]
source  = {source}
target  = "out/d.{ending}"
key     = {key}
columns = ["band", {{ table = "place", status = "how" }}, "twice"{more}]
{where}
"""
TABLES = {
    "tables/band.toml": 'inputs.x = "number"\noutputs.band = "text"\n'
    'rows = [["< 2", "low"], ["2 to <5", "middle"], [">= 5", "high"]]\n',
    "tables/place.toml": 'inputs.k = "text"\noutputs.place = "text"\notherwise = { place = "far" }\n'
    'rows = [["a", "near"], ["\\"b c\\"", "here"], ["missing", "none"]]\n',
    "formulas.toml": 'twice = "x * 2"\nshare = "x / SUM(x) OVER ()"\n',
}


def written(folder: Path, **words: str) -> Path:
    said = {"source": '"d.csv"', "ending": "csv", "key": "[]", "more": "", "where": "", **words}
    return write_book(folder, {"book.toml": BOOK.format(**said), **TABLES})


def lines(rows) -> str:
    made = io.StringIO()
    csv.writer(made, lineterminator="\n").writerows(rows)
    return made.getvalue()


def held(folder: Path, ending: str):
    path = folder / f"out/d.{ending}"
    return path.read_bytes() if ending != "parquet" else pq.read_table(path).replace_schema_metadata(None)


def record_of(folder: Path, ending: str):
    held = read_record(folder / f"out/d.{ending}")
    assert held.is_true
    record = held.record
    return {
        key: value
        for key, value in record.as_dict().items()
        # how long before the source was changed tells the clock
        if key not in ("made_at", "target_hash", "source_marks", "source_name", "is_settled")
    }


CELL = st.sampled_from(["a", "b c", "", "zz", 'q"t', "two\nlines", "ü", "a,b", " "])
NUMBER = st.sampled_from(["1", "2.5", "", "5", "7", "1e3", "-0"])
ODD = st.sampled_from(["1", "007", "2.5", "x", "", "2024-01-01", "true", "12345678901234567890"])
ROWS = st.lists(st.tuples(NUMBER, CELL, ODD), max_size=5)


@settings(max_examples=budget(16))
@given(
    st.lists(ROWS, min_size=2, max_size=4),
    st.sampled_from(["csv", "parquet", "jsonl", "tsv"]),
    st.sampled_from(["", "where = \"band = 'low' OR place = 'far'\""]),
    st.booleans(),
    st.booleans(),
)
@example([[("1", "a", "1")], [("2.5", "b c", "2")], [("", "", "")]], "parquet", "", False, True)
@example([[("1", "a", "1")], [("2.5", "b c", "x")]], "parquet", "", False, True)
@example([[("1", "a", "1")], [("2.5", "b c", "007")]], "csv", "", True, True)
def test_it_is_what_applying_anew_gives(parts, ending, where, in_files, ends_lines):
    with tempfile.TemporaryDirectory() as name:
        source = '"days/*.csv"' if in_files else '"d.csv"'
        folder, anew = (written(Path(name) / one, source=source, ending=ending, where=where) for one in "ab")
        for number, rows in enumerate(parts):
            text = lines(rows)
            for place in (folder, anew):
                (place / "days").mkdir(exist_ok=True)
                if in_files:
                    (place / f"days/{number}.csv").write_text("x,k,odd\n" + text)
                else:
                    with (place / "d.csv").open("a") as file:
                        file.write(
                            ("" if number else "x,k,odd\n") + (text if ends_lines else "\n" + text[:-1])
                        )
            (done,) = kivvet.open_book(folder).refresh()
            shutil.rmtree(anew / "out", ignore_errors=True)
            kivvet.open_book(anew).apply_dataset("d")
            assert held(folder, ending) == held(anew, ending)
            assert record_of(folder, ending) == record_of(anew, ending)
            assert kivvet.open_book(folder).status()[0].state == "current"
            if done.report is not None and done.report.standing is not None:
                assert done.report.rows == len(rows) and number


def grown(folder: Path, text: str = "9,a,2\n"):
    with (folder / "d.csv").open("a") as file:
        file.write(text)
    (done,) = kivvet.open_book(folder).refresh()
    return done


@pytest.fixture(params=["csv", "parquet"])
def begun(request, tmp_path):
    def begin(**words):
        folder = written(tmp_path, ending=request.param, **words)
        (folder / "d.csv").write_text("x,k,odd\n1,a,1\n3,b c,2\n")
        kivvet.open_book(folder).apply_dataset("d")
        return folder

    return begin


def test_only_what_came_is_worked_out_and_told(begun):
    folder = begun()
    done = grown(folder)
    assert done.reasons[0].message.endswith("grew by 1 row")
    assert (done.report.standing, done.report.rows, done.report.written) == (2, 1, 1)
    assert done.report.since.classes == (("band", "high", 0, 1), ("place", "near", 1, 2))
    assert "1 row added to 2 that stand" in str(done.report)
    assert grown(folder, "0,zz,3\n").report.standing == 3
    assert "far" in str(kivvet.open_book(folder).explain("d", 4))


@pytest.mark.parametrize(
    ("words", "text", "change"),
    [
        ({"more": ', "share"'}, "9,a,2\n", None),  # it looks at all rows
        ({}, "9,a,x\n", None),  # a column is of another type now
        ({}, "9,a,2\n", ("d.csv", "1,a,1", "2,a,1")),  # a row before it changed
        ({}, "9,a,2\n", ("tables/band.toml", "< 2", "< 1.5")),
        ({}, "9,a,2\n", ("book.toml", "[datasets.d]", '[datasets.d]\nmissing_words = ["zz"]')),
    ],
)
def test_all_rows_are_worked_out_where_those_before_may_not_stand(begun, words, text, change):
    folder = begun(**words)
    if change is not None:
        path = folder / change[0]
        path.write_text(path.read_text().replace("2 to <5", "1.5 to <5" if "< 1.5" in change else "2 to <5"))
        path.write_text(path.read_text().replace(*change[1:]))
    done = grown(folder, text)
    is_typed = (folder / "out/d.parquet").exists()
    stands = text.endswith("x\n") and not is_typed  # text has no types that could change
    assert (done.report.standing, done.report.rows) == ((2, 1) if stands else (None, 3))


def test_a_key_names_each_row_once(begun):
    folder = begun(key='["k"]')
    with pytest.raises(
        kivvet.TableError, match=r"k is the key, and 1 value stands in more than one row: a \(rows 1, 3\)"
    ):
        grown(folder)
    book = kivvet.open_book(folder)
    (found,) = [one for one in book.check() if one.kind == "repeated-key"]
    assert (found.severity, found.count, found.dataset) == ("error", 2, "d")
    (folder / "d.csv").write_text("x,k,odd\n1,a,1\n3,b c,2\n4,,3\n5,,4\n")
    with pytest.raises(kivvet.TableError, match="2 rows have no k, which is the key; the first is row 3"):
        kivvet.open_book(folder).apply_dataset("d")
    (folder / "d.csv").write_text("x,k,odd\n1,a,1\n3,b c,2\n4,c,3\n")
    assert kivvet.open_book(folder).refresh()[0].report.standing == 2


@pytest.mark.parametrize(
    ("key", "said"),
    [
        ('["kk"]', "key names 'kk', which is no column"),
        ('["k", "k"]', "key lists the columns that name a row, each once"),
        ("5", "key lists the columns"),
    ],
)
def test_a_key_that_cannot_be(tmp_path, key, said):
    folder = written(tmp_path, key=key)
    (folder / "d.csv").write_text("x,k,odd\n1,a,1\n")
    with pytest.raises(kivvet.KivvetError, match=said):
        kivvet.open_book(folder).apply_dataset("d")


def test_a_key_of_two_columns_is_held_against_typed_data(tmp_path):
    import pandas as pd

    folder = written(tmp_path, source='"d.parquet"', key='["k", "x"]', ending="parquet")
    frame = pd.DataFrame({"k": ["a", "a", "b", "a"], "x": [1.0, 2.0, 1.0, None]})
    frame.to_parquet(folder / "d.parquet")
    with pytest.raises(kivvet.TableError, match="1 row has no k, x, which is the key; the first is row 4"):
        kivvet.open_book(folder).apply_dataset("d")
    frame[:3].to_parquet(folder / "d.parquet")
    kivvet.open_book(folder).apply_dataset("d")
    pd.concat([frame[:3], frame[:1]]).to_parquet(folder / "d.parquet")
    with pytest.raises(kivvet.TableError, match=r"a, 1 \(rows 1, 4\)"):
        kivvet.open_book(folder).refresh()


FULL = """
import resource, sys
sys.dont_write_bytecode = True  # modules that are loaded for the first time would be kept cut short
resource.setrlimit(resource.RLIMIT_FSIZE, (int(sys.argv[1]), int(sys.argv[1])))
import signal
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
from kivvet.cli.main import main
main(["refresh"])
"""


def test_a_full_disk_leaves_the_rows_that_stood(begun):
    """Files may not grow beyond what the target has already: the rows that came find no room."""
    folder = begun()
    (target,) = [one for one in (folder / "out").iterdir() if one.suffix in (".csv", ".parquet")]
    before = target.read_bytes()
    with (folder / "d.csv").open("a") as file:
        file.write("9,a,2\n" * 3_000)
    ran = subprocess.run(
        [sys.executable, "-c", FULL, str(len(before) + 100)],
        cwd=folder,
        capture_output=True,
        text=True,
        check=False,
    )
    assert ran.returncode == 2 and "cannot be written" in ran.stderr and "Traceback" not in ran.stderr
    assert target.read_bytes() == before and not list((folder / "out").glob(".*"))
    assert kivvet.open_book(folder).status()[0].state == "stale"
    assert kivvet.open_book(folder).refresh()[0].report.standing == 2


def test_neither_a_lost_or_later_state_folder_nor_a_clock_set_back_matters(begun):
    folder = begun()
    shutil.rmtree(folder / ".kivvet")
    assert grown(folder).report.standing == 2
    with closing(sqlite3.connect(folder / ".kivvet/journal.sqlite")) as journal:
        journal.execute("DROP TABLE runs")  # as a later version may have it
        journal.execute("CREATE TABLE runs (id INTEGER, more TEXT NOT NULL)")
        journal.commit()
    assert grown(folder).report.standing == 3
    assert kivvet.open_book(folder).status()[0].state == "current"
    source = folder / "d.csv"
    later = time.time() + 86_400
    os.utime(source, (later, later))  # written tomorrow, as it seems
    kivvet.open_book(folder).refresh()
    source.write_text(source.read_text().replace("3,b c,2", "4,b c,2"))
    os.utime(source, (later, later))
    assert kivvet.open_book(folder).status()[0].state == "stale"


@settings(max_examples=budget(22))
@given(
    st.lists(st.sampled_from(["a", "b c", "", None, "zz", "ü" * 30]), min_size=1, max_size=300),
    st.integers(1, 50),
)
def test_texts_that_a_file_holds_as_codes_are_read_as_such(texts, group):
    with tempfile.TemporaryDirectory() as name:
        folder = written(Path(name), source='"d.parquet"', ending="parquet", more=', "long"')
        (folder / "formulas.toml").write_text(
            "twice = \"x * 2\"\nlong = \"CASE WHEN k = 'a' THEN 1 WHEN k <> 'zz' THEN 2 END\"\n"
        )
        frame = pa.table({"k": pa.array(texts, pa.string()), "x": [float(n) for n in range(len(texts))]})
        pq.write_table(frame, folder / "d.parquet", row_group_size=group)
        book = kivvet.open_book(folder)
        book.apply_dataset("d")
        columns = ["band", {"table": "place", "status": "how"}, "twice", "long"]

        def held_and_wanted():
            made = kivvet.open_book(folder).apply(frame, columns), pq.read_table(folder / "out/d.parquet")
            return [
                one.drop_columns("k").to_pydict() for one in made
            ]  # texts without characters are written as missing

        held, wanted = held_and_wanted()
        assert held == wanted
        place = folder / "tables/place.toml"
        place.write_text(place.read_text().replace("near", "by"))
        changed = kivvet.open_book(folder).impact().datasets[0].columns
        assert sum(one.changed for one in changed) == texts.count("a")
        (done,) = kivvet.open_book(folder).refresh()
        assert "band" in done.report.kept
        held, wanted = held_and_wanted()
        assert held == wanted


def test_a_target_that_takes_no_more_rows_is_there_until_the_new_one_is(tmp_path, monkeypatch):
    from kivvet.books.runs import apply

    folder = written(tmp_path, ending="jsonl")
    (folder / "d.csv").write_text("x,k,odd\n1,a,1\n3,b c,2\n")
    kivvet.open_book(folder).apply_dataset("d")
    before = (folder / "out/d.jsonl").read_bytes()

    def stopped(*_):
        raise kivvet.DataError("stopped before all rows were written anew")

    monkeypatch.setattr(apply, "_all_columns", stopped)
    with pytest.raises(kivvet.DataError, match="stopped before"):
        grown(folder)
    assert (folder / "out/d.jsonl").read_bytes() == before and not list((folder / "out").glob(".*"))
