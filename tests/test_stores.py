"""Object stores as places of sources and targets, held against the same files on a disk, with a stand-in server."""

from __future__ import annotations

import gzip
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pyarrow as pa
import pyarrow.parquet as pq
import pytest
from pyarrow import fs

import kivvet
from kivvet.books.files.open_book import read_book
from kivvet.books.runs.apply import apply_dataset
from kivvet.books.runs.in_parts import here
from kivvet.io.locations import open_location, open_written
from kivvet.io.patterns import files_of
from kivvet.io.source_and_target import AS_IT_IS_NAMED
from kivvet.io.stores.store import InStore
from tests.conftest import SMALL_BOOK, write_book
from tests.databases import free_port

ENDINGS = ("csv", "csv.gz", "parquet", "jsonl", "arrow", "xlsx", "parts", "delta")


SERVER = """
import sys
from werkzeug.serving import run_simple
from moto.server import DomainDispatcherApplication, create_backend_app
run_simple("127.0.0.1", int(sys.argv[1]), DomainDispatcherApplication(create_backend_app), threaded=True)
"""


@pytest.fixture(scope="session")
def server():
    """The address of a server, and a file system that writes to it."""
    pytest.importorskip("moto", reason="no stand-in for an object store is installed")
    port = free_port()
    # In a process of its own: what waits for it here may hold this one.
    running = subprocess.Popen([sys.executable, "-c", SERVER, str(port)], stderr=subprocess.DEVNULL)
    keys = {"access_key": "key", "secret_key": "other", "region": "us-east-1"}
    address = f"127.0.0.1:{port}"
    system = fs.S3FileSystem(endpoint_override=address, scheme="http", allow_bucket_creation=True, **keys)
    for _ in range(200):
        try:
            system.create_dir("first")
            break
        except OSError:
            time.sleep(0.1)
    yield address, system
    running.terminate()
    running.wait()


@pytest.fixture
def store(server, tmp_path, monkeypatch):
    """A bucket of its own: the URL of it, and a file system."""
    address, system = server
    for name, value in {
        "AWS_ENDPOINT_URL": f"http://{address}",
        "AWS_ACCESS_KEY_ID": "key",
        "AWS_SECRET_ACCESS_KEY": "other",
        "AWS_DEFAULT_REGION": "us-east-1",
        "AWS_EC2_METADATA_DISABLED": "true",
    }.items():
        monkeypatch.setenv(name, value)
    bucket = f"b{abs(hash(tmp_path.as_posix())):x}"
    system.create_dir(bucket)
    return f"s3://{bucket}", fs.SubTreeFileSystem(bucket, system)


def put(system, name, content):
    with system.open_output_stream(name, compression=None) as stream:
        stream.write(content if isinstance(content, bytes) else content.encode())


def names_in(system):
    return {
        one.path for one in system.get_file_info(fs.FileSelector("", recursive=True)) if one.size is not None
    }


def values_of(location):
    """The rows of what was written, texts and floats by their bits."""
    source = open_written(location, AS_IT_IS_NAMED)
    rows = [row for batch in source.batches() for row in batch.to_pylist()]
    return [{name: v.hex() if isinstance(v, float) else v for name, v in row.items()} for row in rows]


def book_of(folder, source, target, more=""):
    text = SMALL_BOOK["book.toml"].replace('"data/samples.csv"', f'"{source}"')
    return write_book(folder, {"book.toml": text.replace("out/samples.csv", target) + more})


@pytest.mark.parametrize("ending", [one for one in ENDINGS if one != "csv.gz"])
def test_a_target_in_a_store_holds_what_one_on_a_disk_does_and_is_known_again(tmp_path, run, store, ending):
    url, system = store
    folder = book_of(tmp_path / "book", f"{url}/in/samples.csv", f"{url}/out/samples.{ending}")
    local = book_of(tmp_path / "local", "data/samples.csv", f"out/samples.{ending}")
    put(system, "in/samples.csv", (local / "data/samples.csv").read_bytes())
    assert run("apply", cwd=local).code == 0
    told = run("apply", cwd=folder)
    assert told.code == 0 and f"{url}/out/samples.{ending}" in told.out, told.all
    target = InStore(f"{url}/out/samples.{ending}")
    assert values_of(target) == values_of(local / f"out/samples.{ending}")
    assert "current" in run("status", cwd=folder).out
    assert "nothing to do" in run("refresh", cwd=folder).out
    for where in (folder, local):
        rules = where / "tables/station.csv"
        rules.write_text(rules.read_text().replace("Elm", "Oak"))
    assert "stale" in run("status", cwd=folder).out
    assert run("refresh", cwd=folder).code == run("refresh", cwd=local).code == 0
    assert values_of(target) == values_of(local / f"out/samples.{ending}")
    text = (local / "data/samples.csv").read_text()
    put(system, "in/samples.csv", text + text.splitlines()[-1] + "\n")
    stale = run("status", cwd=folder).out
    assert "stale" in stale and f"{url}/in/samples.csv" in stale
    assert run("refresh", cwd=folder).code == 0 and "current" in run("status", cwd=folder).out
    assert len(values_of(target)) == len(values_of(local / f"out/samples.{ending}")) + 1
    if ending in ("csv", "parquet"):
        made = {"csv": b"a\n1\n", "parquet": _parquet({"a": [1]})}[ending]
        put(system, f"out/samples.{ending}", made)
        refused = run("apply", cwd=folder)
        assert refused.code == 2 and f"{url}/out/samples.{ending}" in refused.err, refused.all
        assert system.open_input_stream(f"out/samples.{ending}").read() == made
        assert run("apply", "--replace", cwd=folder).code == 0


def _parquet(columns):
    sink = pa.BufferOutputStream()
    pq.write_table(pa.table(columns), sink)
    return sink.getvalue().to_pybytes()


@pytest.fixture
def years(tmp_path, store):
    """The samples of the small book in folders by year, as text and as Parquet, on a disk and in a store."""
    url, system = store
    header, *rows = SMALL_BOOK["data/samples.csv"].splitlines()
    for year in ("2025", "__HIVE_DEFAULT_PARTITION__", "two%20years"):
        text = "\n".join([header, *rows]) + "\n"
        folder = tmp_path / f"parted/text/year={year}"
        folder.mkdir(parents=True)
        (folder / "part.csv").write_text(text)
        (folder / "_SUCCESS.csv").write_text("no data")
        held = folder.parents[1] / f"typed/year={year}"
        held.mkdir(parents=True)
        pq.write_table(pa.table({"station": ["007", "042"], "ph": [6.1, 8.9]}), held / "part.parquet")
    fs.copy_files(str(tmp_path / "parted"), "parted", fs.LocalFileSystem(), system)
    return url, tmp_path


@pytest.mark.parametrize(
    ("what", "n_files"),
    [
        ("text/", 3),
        ("typed/", 3),
        ("text/**/part.csv", 3),
        ("*/year=2025/p*.csv", 1),
        ("text/year=202?/*", 2),
    ],
)
def test_patterns_and_folders_stand_for_the_same_files_in_a_store(years, what, n_files):
    url, folder = years
    on_disk = [one.relative_to(folder).as_posix() for one in files_of(folder, f"parted/{what}")]
    in_store = [one.url.removeprefix(f"{url}/") for one in files_of(folder, f"{url}/parted/{what}")]
    assert on_disk == in_store and len(on_disk) == n_files


@pytest.mark.parametrize(("kind", "target"), [("text", "csv"), ("typed", "parts"), ("typed", "delta")])
def test_names_of_folders_are_columns(tmp_path, years, kind, target):
    url, folder = years
    rows = {}
    for place in (f"{url}/parted", (folder / "parted").as_posix()):
        text = f"""
[datasets.d]
source = "{place}/{kind}/"
target = "out/d.{target}"
types = {{ station = "text" }}
columns = ["old"]
"""
        rules = 'inputs.year = "text"\noutputs.old = "text"\nmissing = { old = "unknown" }\nrows = [["2025", "old"], ["two years", "new"]]\n'
        book = write_book(tmp_path / f"b{len(rows)}", {"book.toml": text, "tables/old.toml": rules})
        report = kivvet.open_book(book).apply_dataset("d")
        n = report.rows // 3
        assert dict(report.tables[0].classes["old"]) == {"old": n, "new": n, "unknown": n}
        rows[place] = values_of(book / f"out/d.{target}")
    first, second = rows.values()
    assert first == second and {row["year"] or None for row in first} == {"2025", "two years", None}


def test_parts_are_read_and_written_by_themselves_in_a_store(years, tmp_path):
    url, _ = years
    source = f"{url}/parted/typed/"
    for target in ("parts", "delta"):
        text = f'[datasets.d]\nsource = "{source}"\ntarget = "{url}/out/d.{target}"\ncolumns = ["share"]\n'
        files = {"book.toml": text, "formulas.toml": 'share = "ph / SUM(ph) OVER (PARTITION BY station)"\n'}
        book = write_book(tmp_path / target, files)
        opened = read_book(book)
        apply_dataset(opened, opened.dataset("d"), engine=here)
        by_parts = values_of(InStore(f"{url}/out/d.{target}"))
        assert kivvet.open_book(book).status()[0].state == "current"
        kivvet.open_book(book).apply_dataset("d")
        assert values_of(InStore(f"{url}/out/d.{target}")) == by_parts and len(by_parts) == 6


def test_who_writes_meanwhile_stands(tmp_path, run, store, monkeypatch):
    url, system = store
    for ending in ("csv", "parquet", "parts", "delta"):
        folder = book_of(tmp_path / ending, "data/samples.csv", f"{url}/out/samples.{ending}")
        assert run("apply", cwd=folder).code == 0
        before = values_of(InStore(f"{url}/out/samples.{ending}"))
        other = folder.with_name(f"other-{ending}")
        shutil.copytree(folder, other)
        from kivvet.books.runs import target_writer

        commit = target_writer.TargetWriter.commit

        def after_another(self, record, other=other, commit=commit):
            monkeypatch.setattr(target_writer.TargetWriter, "commit", commit)
            rules = other / "tables/station.csv"
            rules.write_text(rules.read_text().replace("Elm", "Oak"))
            kivvet.open_book(other).apply_dataset("samples")
            return commit(self, record)

        monkeypatch.setattr(target_writer.TargetWriter, "commit", after_another)
        told = run("apply", cwd=folder)
        assert (told.code == 2 and "another writer" in told.err) or "something else meanwhile" in told.err, (
            told.all
        )
        after = values_of(InStore(f"{url}/out/samples.{ending}"))
        assert after != before and any("Oak" in str(row) for row in after)
        assert not [one for one in names_in(system) if ".new-" in one]


def test_a_run_that_ends_badly_leaves_the_store_as_it_was(tmp_path, store, monkeypatch):
    url, system = store
    for ending in ENDINGS:
        if ending == "csv.gz":
            continue
        folder = book_of(tmp_path / ending, "data/samples.csv", f"{url}/out/{ending}/samples.{ending}")

        def killed(*_):
            raise KeyboardInterrupt

        with monkeypatch.context() as patch:
            patch.setattr("kivvet.books.runs.target_writer.TargetWriter.commit", killed)
            with pytest.raises(KeyboardInterrupt):
                kivvet.open_book(folder).apply_dataset("samples")
        assert not [one for one in names_in(system) if f"out/{ending}/" in one]


@pytest.mark.parametrize("ending", ENDINGS)
def test_a_bare_url_is_looked_at_drafted_from_and_added(tmp_path, run, store, ending):
    url, system = store
    rows = pa.table({"site": ["a", "b", "c", "a"], "ph": [6.1, 7.2, 8.8, 7.0]})
    local = tmp_path / f"rows.{ending}"
    _write(rows, local)
    if local.is_dir():
        fs.copy_files(str(local), f"in/{local.name}", fs.LocalFileSystem(), system)
    else:
        put(system, f"in/{local.name}", local.read_bytes())
    book = write_book(tmp_path / "book", {"book.toml": ""})
    where = f"{url}/in/{local.name}"
    looked, at_file = run("look", where, cwd=book), run("look", str(local), cwd=book)
    assert looked.code == 0 and looked.out.splitlines()[1:] == at_file.out.splitlines()[1:], looked.all
    assert "4" in looked.out.splitlines()[0]
    drafted = run("draft", "ph_bins", "--on", where, "--column", "ph", "--bins", "2", cwd=book)
    assert drafted.code == 0 and "ph" in drafted.out, drafted.all
    added = run("add", "d", where, cwd=book)
    assert added.code == 0 and f'source  = "{where}"' in (book / "book.toml").read_text(), added.all
    assert run("apply", "d", cwd=book).code == 0
    assert "no rows" not in run("show", "d", cwd=book).all


def _write(rows, path):
    name = path.name.split(".", 1)[1]
    if name in ("csv", "csv.gz"):
        text = "\n".join(["site,ph", *(f"{row['site']},{row['ph']}" for row in rows.to_pylist())]).encode()
        path.write_bytes(gzip.compress(text) if name == "csv.gz" else text)
        return
    folder = write_book(
        path.parent / "writing",
        {"book.toml": f'[datasets.d]\nsource = "rows.parquet"\ntarget = "{path.as_posix()}"\ncolumns = []\n'},
    )
    pq.write_table(rows, folder / "rows.parquet")
    kivvet.open_book(folder).apply_dataset("d")


WRONG = [
    ('source = "s3://bucket"', "names no object"),
    ('source = "s3://key:secret@bucket/x.csv"', "holds no keys"),
    ('source = "https://host/x.csv"', "no URL of an object store"),
    ('source = "s3://bucket/x.doc"', "of a kind this version does not read"),
    ('source = "data/x.csv"\ntarget = "s3://bucket"', "names no object"),
    ('source = "s3://bucket/x.csv"\ntarget = "s3://bucket/x.csv"', "target is the source itself"),
    ('source = "s3://bucket/in/*.csv"\ntarget = "s3://bucket/in/x.csv"', "target is the source itself"),
]


@pytest.mark.parametrize(("entry", "said"), WRONG, ids=[entry.split("\n")[-1] for entry, _ in WRONG])
def test_what_is_no_place_in_a_store_is_told_where_it_stands(tmp_path, run, entry, said):
    book = write_book(tmp_path / "book", {"book.toml": f"[datasets.d]\n{entry}\ncolumns = []\n"})
    told = run("check", "--no-data", cwd=book)
    assert (
        told.code == 1
        and said in told.all
        and "book.toml:" in told.all
        and "secret" not in told.all.replace(entry, "")
    )


def test_what_a_store_does_not_hold_or_say_is_told(tmp_path, run, store, monkeypatch):
    url, system = store
    put(system, "in/bad.parquet", b"no parquet at all")
    put(system, "in/bad.csv", b'a,b\n"1,2\n')
    for name, said in {
        "in/none.csv": "no such object",
        "in/none.parquet": "no such file",
        "in/none.delta": "no such table of a lake",
        "in/none.parts": "no such folder of parts",
        "none/": "no such file",
        "in/bad.parquet": "is no Parquet file",
        "in/bad.csv": f"{url}/in/bad.csv:2",
    }.items():
        told = run("look", f"{url}/{name}", cwd=tmp_path)
        assert told.code and said in told.err and f"{url}/{name}" in told.err, told.all
    here = '[datasets.here]\nsource = "data/samples.csv"\ntarget = "out/here.csv"\ncolumns = []\n'
    book = book_of(tmp_path / "book", f"{url}/in/samples.csv", "out/samples.csv", more=here)
    assert run("apply", "here", cwd=book).code == 0
    monkeypatch.setenv("AWS_ENDPOINT_URL", "http://127.0.0.1:9")
    told = run("status", cwd=book).out
    assert "here  out/here.csv  current" in told and "samples  out/samples.csv  cannot tell" in told
    assert (
        f"{url}/in/samples.csv: cannot be read: curlCode: 7, Could not connect to server (NETWORK_CONNECTION)"
        in told
    )
    told = run("look", f"{url}/in/bad.csv", cwd=tmp_path)
    assert told.code == 2 and "AWS_ENDPOINT_URL" in told.err and "Traceback" not in told.all


@pytest.mark.parametrize(
    "command",
    [["report", "--to", "URL/r.html"], ["export", "URL/rules.xlsx"], ["pack", "URL/book.zip"], ["summary", "samples", "--by", "river", "--to", "URL/s.csv"]],
    ids=lambda command: command[0],
)  # fmt: skip
def test_what_is_no_target_is_not_written_to_a_url_nor_to_a_folder_that_is_called_like_it(
    small_book, run, command
):
    told = run(*(one.replace("URL", "s3://bucket") for one in command), cwd=small_book)
    assert told.code == 2 and not [one for one in small_book.iterdir() if one.name.startswith("s3")], told.all


def test_an_object_that_changes_is_fetched_again(tmp_path, store):
    _, system = store
    url = store[0]
    place = InStore(f"{url}/x.csv")
    for text in ("a\n1\n", "a\n2\n"):
        put(system, "x.csv", text)
        [batch] = open_location(place).batches()
        assert batch.to_pydict() == {"a": [text[2]]}
    assert Path(open_location(place).path).name == "x.csv"
