"""What a command costs on a small book: the demo's survey of 3,600 rows, each run a process of its own."""

from __future__ import annotations

import sys
from pathlib import Path
from tempfile import TemporaryDirectory

from benchmarks.processes import in_turn
from kivvet.demo.story import write_survey

ROUNDS = 5


def figures() -> None:
    """Print the seconds of each command, and of a script that only imports what all of them need."""
    with TemporaryDirectory() as name:
        book = Path(name) / "survey"
        write_survey(book)
        kivvet = [sys.executable, "-m", "kivvet"]
        commands = {
            "python, no import": [sys.executable, "-c", "pass"],
            "import numpy, pyarrow.compute": [sys.executable, "-c", "import numpy, pyarrow.compute"],
            "kivvet --help": [*kivvet, "--help"],
            "kivvet check": [*kivvet, "check", "--book", str(book)],
            "kivvet status": [*kivvet, "status", "--book", str(book)],
            "kivvet look samples": [*kivvet, "look", "samples", "--book", str(book)],
        }
        costs = in_turn(commands, ROUNDS, allowed=(0, 1))
        print(f"\nstart-up: {'':<22}{'wall s':>9}{'CPU s':>9}{'peak MB':>9}, medians of {ROUNDS}")
        for title, cost in costs.items():
            print(f"  {title:<30}{cost.wall:>9.2f}{cost.cpu:>9.2f}{cost.peak:>9}")
