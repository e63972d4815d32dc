"""What the house promises to those who extend it: a format touches its own module and one line, a kind of place likewise; and the whole
order of work goes on with it.
"""

from __future__ import annotations

import json
import subprocess
import sys

import pytest

TOY_FORMAT = '''
"""A format of our own: columns one below the other, each a line of JSON with its name and values."""

import json

import pyarrow as pa

from kivvet.io.csv_target import kept_records, write_record_beside
from kivvet.io.files import hash_bytes_of
from kivvet.io.formats import Format
from kivvet.io.source_and_target import Source, Target


class Columns(Source):
    def __init__(self, path, options=None):
        self.path = path
        rows = dict(json.loads(line) for line in path.read_text().splitlines())
        self.table = pa.table(rows)
        self.stored_schema = self.table.schema
        self.schema = dict(zip(self.stored_schema.names, self.stored_schema.types, strict=True))

    def batches(self, names=None, block_bytes=None):
        yield from self.table.select(self.names if names is None else list(names)).to_batches()


class ColumnsTarget(Target):
    def __init__(self, path, target, schema, options):
        self.path, self.target, self.schema, self.rows = path, target, schema, []

    def write(self, columns):
        self.rows += pa.RecordBatch.from_arrays(list(columns), schema=self.schema).to_pylist()

    def commit(self, seal):
        lines = [json.dumps([name, [row[name] for row in self.rows]]) for name in self.schema.names]
        self.path.write_text("\\n".join(lines))
        write_record_beside(self.target, seal(hash_bytes_of(self.path)))

    def abandon(self):
        self.rows = []


FORMAT = Format("columns", (".columns",), Columns, ColumnsTarget, kept_records, keeps_types=True)
'''

TOY_PLACE = '''
"""A kind of place of our own: a shelf, a folder that all books share."""

from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from kivvet.io.file_locations import Files


@dataclass(frozen=True)
class OnShelf:
    name: str

    @property
    def path(self):
        return Path("shelf") / self.name

    @property
    def shown(self):
        return f"shelf/{self.name}"


class Shelves(Files):
    def __getattribute__(self, name):
        found = getattr(Files, name, None)
        if name.startswith("_") or not callable(found):
            return object.__getattribute__(self, name)
        def asked(*given):
            return getattr(Files(), name)(*(one.path if isinstance(one, OnShelf) else one for one in given))
        return asked
'''

#: Loads a module with one line more than it has, and then runs commands.
WITH_A_LINE = """
import importlib.util, json, sys
name, at, line, commands = json.loads(sys.argv[1])
spec = importlib.util.find_spec(name)
text = open(spec.origin, encoding="utf-8").read()
assert text.count(at) == 1
module = importlib.util.module_from_spec(spec)
sys.modules[name] = module
exec(compile(text.replace(at, at + line), spec.origin, "exec"), module.__dict__)
from kivvet.cli.main import main
for command in commands:
    print("$", *command, flush=True)
    try:
        main(command)
    except SystemExit as ended:
        print("ended", ended.code or 0, flush=True)
"""


def run_with(folder, name, at, line, commands):
    done = subprocess.run(
        [sys.executable, "-c", WITH_A_LINE, json.dumps([name, at, line, commands])],
        cwd=folder, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0 and "Traceback" not in done.stderr, done.stderr
    parts = done.stdout.split("$ ")[1:]
    return {part.split("\n", 1)[0]: part.split("\n", 1)[1] for part in parts}, done.stderr


RULES = 'inputs.ph = "number"\noutputs.ph_class = "text"\nrows = [["< 6.5", "acidic"], [">= 6.5", "other"]]\n'


@pytest.fixture
def book(tmp_path):
    (tmp_path / "tables").mkdir()
    (tmp_path / "tables/ph_class.toml").write_text(RULES)
    (tmp_path / "book.toml").write_text("")
    (tmp_path / "d.columns").write_text('["site", ["a", "b", null]]\n["ph", [6.1, null, 8.2]]')
    return tmp_path


def test_a_format_touches_its_module_and_one_line(book):
    (book / "toy_format.py").write_text(TOY_FORMAT)
    entry = '[datasets.d]\nsource = "d.columns"\ntarget = "out/d.columns"\ncolumns = ["ph_class"]\n'
    (book / "book.toml").write_text(entry)
    commands = [
        ["look", "d.columns"],
        ["apply"],
        ["status"],
        ["refresh"],
        ["show", "d"],
        ["summary", "d", "--by", "ph_class"],
        ["draft", "bands", "--on", "d.columns", "--column", "ph"],
        ["add", "again", "d.columns", "--to", "out/again.columns"],
        ["check", "--no-data"],
    ]
    at = "FORMATS: tuple[Format, ...] = ("
    told, err = run_with(book, "kivvet.io.formats", at, "__import__('toy_format').FORMAT,", commands)
    assert all("ended 0" in part for part in told.values()), (told, err)
    made = dict(json.loads(line) for line in (book / "out/d.columns").read_text().splitlines())
    assert made == {"site": ["a", "b", None], "ph": [6.1, None, 8.2], "ph_class": ["acidic", None, "other"]}
    assert "3" in told["look d.columns"].splitlines()[0] and "current" in told["status"], err
    assert "nothing to do" in told["refresh"] and "acidic" in told["show d"]
    assert 'target  = "out/again.columns"' in (book / "book.toml").read_text()
    # Without the line it is a file like any other of no kind that is known.
    done = subprocess.run(
        [sys.executable, "-m", "kivvet", "check", "--no-data"], cwd=book, capture_output=True, text=True, check=False
    )  # fmt: skip
    assert done.returncode == 1 and "of a kind this version does not read" in done.stdout


def test_a_kind_of_place_touches_its_module_and_one_line(tmp_path):
    (tmp_path / "toy_place.py").write_text(TOY_PLACE)
    (tmp_path / "shelf").mkdir()
    (tmp_path / "shelf/d.csv").write_text("ph\n6.1\n7\n")
    at = "KINDS: dict[type, LocationKind[Any]] = {"
    asked = """
from toy_place import OnShelf
from kivvet.io.locations import format_at, is_there, marks_of, open_location, replacing_at, begun, records_at, shown_location
from kivvet.io.source_and_target import AS_IT_IS_NAMED
import pyarrow as pa
source, target = OnShelf("d.csv"), OnShelf("e.parquet")
assert is_there(source) and not is_there(target) and marks_of(source) and format_at(source).name == "csv"
rows = list(open_location(source).batches())[0]
with replacing_at(target) as part:
    made = begun(part, target, rows.schema, AS_IT_IS_NAMED)
    made.write(rows.columns)
    made.commit(lambda hash_: {"target_hash": hash_, "rows": 2})
assert list(open_location(target).batches())[0].to_pydict() == {"ph": ["6.1", "7"]}
print(shown_location(target), records_at(target).values[0]["rows"])
"""
    line = "__import__('toy_place').OnShelf: __import__('toy_place').Shelves(), "
    script = WITH_A_LINE.split("from kivvet.cli", maxsplit=1)[0] + asked
    done = subprocess.run(
        [sys.executable, "-c", script, json.dumps(["kivvet.io.locations", at, line, []])],
        cwd=tmp_path, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.stdout == "shelf/e.parquet 2\n", done.stderr
