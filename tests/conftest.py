"""What the tests share: a small book, the demo's book, and the command line as a process."""

from __future__ import annotations

import gc
import io
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Sequence
from contextlib import chdir, redirect_stderr, redirect_stdout
from pathlib import Path
from typing import Any

import pytest
from filelock import FileLock
from hypothesis import settings

from kivvet.cli.main import main
from kivvet.demo.story import Story, write_survey
from tests.databases import held, other_sql_server, sql_server  # noqa: F401 - fixtures
from tests.fork_server import write_client


def budget(n: int) -> int:
    """Return how many generated cases a law gets that is worth so many: where they are the same each time, more find nothing new."""
    return max(2, n // 2) if "CI" in os.environ else n


def some(cases: Sequence[Any], step: int = 2) -> list[Any]:
    """Return the cases of a table that are tried: where they are the same each time, every second or so of a long one."""
    return list(cases)[::step] if "CI" in os.environ else list(cases)


settings.register_profile("kivvet", deadline=None, max_examples=budget(40), derandomize="CI" in os.environ)
settings.load_profile("kivvet")

# As a command does, and what is loaded by now is never looked through again: else a tenth of all time goes there.
gc.set_threshold(100_000, 50, 100)
gc.freeze()

CASES = Path(__file__).parent / "cases"


@pytest.fixture(scope="session")
def quick_kivvet(tmp_path_factory):
    """A folder that holds a `kivvet` which shell lines can run, and which does not load everything each time."""
    folder = tmp_path_factory.mktemp("bin")
    path = folder / "socket"
    write_client(folder, path)
    server = subprocess.Popen(
        [sys.executable, "-m", "tests.fork_server", str(path)],
        cwd=Path(__file__).parents[1],
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
    )
    assert server.stdout.readline() == b"ready\n"
    yield folder
    server.kill()
    server.communicate()


SMALL_BOOK = {
    "book.toml": """\
title = "Small"

[datasets.samples]
source  = "data/samples.csv"
target  = "out/samples.csv"
types   = { station = "text" }
columns = ["ph_class", { table = "station", keep = ["river"], status = "how", row = "by" }]
""",
    "tables/ph_class.toml": """\
inputs.ph = { type = "number", step = 0.1 }
outputs.ph_class = { type = "text", width = 12 }
missing = { ph_class = "not measured" }

rows = [
  ["< 6.5",       "acidic"],
  ["6.5 to <8.5", "neutral"],
  [">= 8.5",      "alkaline"],
]
""",
    "tables/station.toml": """\
inputs.station = { type = "text", column = "Station no." }
outputs.river = "text"
outputs.opened = "date"
lookup = "station.csv"
otherwise = { river = "unknown" }
""",
    "tables/station.csv": "keeper,Station no.,opened,river\nIda,007,2001-02-03,Elm\nTom,008,,Ash\n",
    "data/samples.csv": 'id,station,ph,remark\n1,007,6.40,"foam, brown"\n2,008,,NA\n3,9,8.5,\n4,007,7,\n',
}


def write_book(folder: Path, changes: dict[str, str | bytes | None] | None = None) -> Path:
    """Write the small book, with some files changed, added or (None) left out."""
    for name, content in {**SMALL_BOOK, **(changes or {})}.items():
        if content is not None:
            path = folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content if isinstance(content, bytes) else content.encode())
    return folder


@pytest.fixture
def small_book(tmp_path):
    return write_book(tmp_path / "book")


def made_once(factory, name, make):
    """Return a folder that is made by whichever process of the tests is first."""
    shared = factory.getbasetemp()
    if "PYTEST_XDIST_WORKER" in os.environ:
        shared = shared.parent
    with FileLock(shared / f"{name}.lock"):
        if not (shared / f"{name}.told").exists():
            make(shared / name)
            (shared / f"{name}.told").touch()
    return shared / name


@pytest.fixture(scope="session")
def survey_as_written(tmp_path_factory):
    return made_once(tmp_path_factory, "survey", write_survey)


@pytest.fixture
def survey(tmp_path, survey_as_written):
    """The demo's book with its faults."""
    return shutil.copytree(survey_as_written, tmp_path / "survey")


@pytest.fixture(scope="session")
def river(tmp_path_factory):
    """The demo's book as its whole story leaves it: mended, applied, changed, refreshed. It is read, not changed."""
    return made_once(tmp_path_factory, "river", lambda folder: Story(folder, lambda *_: None).run())


@pytest.fixture(scope="module")
def changed(river, tmp_path_factory):
    """The survey with a rule that was changed since, so that there is something to refresh; its targets were written here."""
    folder = tmp_path_factory.mktemp("changed") / "river"
    shutil.copytree(river, folder)
    path = folder / "tables/month.toml"
    path.write_text(path.read_text(encoding="utf-8").replace("October", "Oct"), encoding="utf-8")
    return folder


class Ran:
    """What a command printed and ended with."""

    def __init__(self, code: int, out: str, err: str) -> None:
        self.code = code
        self.out = out
        self.err = err
        self.all = out + err
        assert "Traceback" not in err, err
        assert "in a way it should not" not in err, err


def kivvet(*arguments: object, cwd: Path, **environment: str) -> Ran:
    """Run the command line in a folder, in this process: quick, and as strict as another one."""
    out, err = io.StringIO(), io.StringIO()
    with chdir(cwd), pytest.MonkeyPatch.context() as patch, redirect_stdout(out), redirect_stderr(err):
        patch.delitem(os.environ, "KIVVET_TRACEBACK", raising=False)
        for name, value in environment.items():
            patch.setenv(name, value)
        with pytest.raises(SystemExit) as ended:
            main([str(argument) for argument in arguments])
    code = ended.value.code
    return Ran(code if isinstance(code, int) else 0, out.getvalue(), err.getvalue())


def kivvet_process(*arguments: object, cwd: Path, **environment: str) -> Ran:
    """Run the command line as its users do, as a process of its own."""
    done = subprocess.run(
        [sys.executable, "-m", "kivvet", *map(str, arguments)],
        cwd=cwd,
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
        env={**os.environ, **environment},
    )
    return Ran(done.returncode, done.stdout, done.stderr)


def golden(name: str, text: str) -> None:
    """Compare text with the file of that name in tests/cases; KIVVET_GOLDEN=write writes it."""
    text = re.sub(r"\d{4}-\d\d-\d\d \d\d:\d\d UTC", "<time>", text)
    text = re.sub(r"\bon( =)? \d{4}-\d\d-\d\d(?=[\",])", r"on\1 <day>", text)
    path = CASES / name
    if os.environ.get("KIVVET_GOLDEN") == "write":
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    assert text == path.read_text(encoding="utf-8")


@pytest.fixture
def run():
    """The command line in this process: ``run("check", "ph_class", cwd=folder)``."""
    return kivvet


def fits_output(form, values):
    """Whether what a command printed as JSON fits the schema that ships; what does not is raised."""
    import jsonschema

    import kivvet

    schema = {**kivvet.schema("output").values, "$ref": f"#/$defs/{form}"}
    return jsonschema.Draft202012Validator(schema).validate(values) is None
