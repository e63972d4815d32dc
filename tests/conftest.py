"""What the tests share: a small book, the demo's book, and the command line as a process."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import settings

from kivvet.demo.story import write_survey

settings.register_profile("kivvet", deadline=None, derandomize="CI" in os.environ)
settings.load_profile("kivvet")

CASES = Path(__file__).parent / "cases"

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


@pytest.fixture
def survey(tmp_path):
    """The demo's book with its faults."""
    write_survey(tmp_path / "survey")
    return tmp_path / "survey"


class Ran:
    """What a process printed and ended with."""

    def __init__(self, done: subprocess.CompletedProcess[str]) -> None:
        self.code = done.returncode
        self.out = done.stdout
        self.err = done.stderr
        self.all = done.stdout + done.stderr


def kivvet(*arguments: object, cwd: Path, **environment: str) -> Ran:
    """Run the command line as its users do, in a folder; never with a traceback."""
    done = subprocess.run(
        [sys.executable, "-m", "kivvet", *map(str, arguments)],
        cwd=cwd,
        capture_output=True,
        text=True,
        timeout=120,
        check=False,
        env={**os.environ, **environment},
    )
    assert "Traceback" not in done.stderr, done.stderr
    assert "in a way it should not" not in done.stderr, done.stderr
    return Ran(done)


def golden(name: str, text: str) -> None:
    """Compare text with the file of that name in tests/cases; KIVVET_GOLDEN=write writes it."""
    text = re.sub(r"\d{4}-\d\d-\d\d \d\d:\d\d UTC", "<time>", text)
    path = CASES / name
    if os.environ.get("KIVVET_GOLDEN") == "write":
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
    assert text == path.read_text(encoding="utf-8")


@pytest.fixture
def run(capsys):
    """The command line in this process: ``run("check", "ph_class", cwd=folder)``."""
    from tests.commands import Commands

    return Commands(capsys)
