"""What a command costs on a small book: the demo's survey of 3,600 rows, each run a process of its own."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from pathlib import Path
from tempfile import TemporaryDirectory

from benchmarks.lines import Line
from benchmarks.processes import in_turn, loading
from kivvet.demo.story import write_survey

ROUNDS = 5


_IMPORTS = "import numpy, pyarrow.compute"
#: To importing what all of them need.
_TARGETS = {"kivvet --help": 0.3, "kivvet status": 1.65, "kivvet check": 2.0, "kivvet look samples": 2.0}


def figures() -> Iterator[Line]:
    """Yield the seconds of each command, and of a script that only imports what all of them need."""
    with TemporaryDirectory() as name:
        book = Path(name) / "survey"
        write_survey(book)
        kivvet = [sys.executable, "-m", "kivvet"]
        commands = {
            "python, no import": [sys.executable, "-c", "pass"],
            _IMPORTS: [sys.executable, "-c", "import numpy, pyarrow.compute"],
            "kivvet --help": [*kivvet, "--help"],
            "kivvet check": [*kivvet, "check", "--book", str(book)],
            "kivvet status": [*kivvet, "status", "--book", str(book)],
            "kivvet look samples": [*kivvet, "look", "samples", "--book", str(book)],
        }
        commands |= {_floor_of(title): loading(commands[title]) for title in _TARGETS}
        costs = in_turn(commands, ROUNDS, allowed=(0, 1))
        for title, target in _TARGETS.items():
            ours, beside, floor = (costs[name].wall for name in (title, _IMPORTS, _floor_of(title)))
            yield Line(title, ours, "s", _IMPORTS, beside, target, floor, "loading its modules alone")


def _floor_of(title: str) -> str:
    return f"{title}: loading its modules alone"
