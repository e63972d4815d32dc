"""Whole processes timed in turn: wall, CPU and peak memory of each.

A process inherits the peak of the one that starts it, so each is started by a small one of its own.
"""

from __future__ import annotations

import json
import statistics
import subprocess
import sys
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

_STARTER = """
import json, os, sys, time
begun = time.perf_counter()
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # users have their modules compiled
child = os.posix_spawn(sys.argv[1], sys.argv[1:], os.environ, file_actions=[
    (os.POSIX_SPAWN_OPEN, 1, os.devnull, os.O_WRONLY, 0), (os.POSIX_SPAWN_OPEN, 2, os.devnull, os.O_WRONLY, 0)])
_, status, used = os.wait4(child, 0)
print(json.dumps([os.waitstatus_to_exitcode(status), time.perf_counter() - begun, used.ru_utime + used.ru_stime,
                  used.ru_maxrss // 1024]))
"""


@dataclass(frozen=True)
class Cost:
    """What processes took: the medians of seconds of wall and CPU, and the greatest peak of memory in MB."""

    wall: float
    cpu: float
    peak: int

    @classmethod
    def median(cls, costs: Sequence[Cost]) -> Cost:
        return cls(
            statistics.median(cost.wall for cost in costs),
            statistics.median(cost.cpu for cost in costs),
            max(cost.peak for cost in costs),
        )


def cost_of(command: Sequence[str], allowed: Sequence[int] = (0,)) -> Cost:
    """Run a command, which must end with one of the exit codes allowed; return what it took."""
    ran = subprocess.run(
        [sys.executable, "-S", "-c", _STARTER, *command], check=True, stdout=subprocess.PIPE, text=True
    )
    code, wall, cpu, peak = json.loads(ran.stdout)
    if code not in allowed:
        raise AssertionError(f"{' '.join(command)} ended with {code}")
    return Cost(wall, cpu, peak)


def in_turn(
    contenders: Mapping[str, Sequence[str]], rounds: int, allowed: Sequence[int] = (0,)
) -> dict[str, Cost]:
    """Run commands in turn, round by round; return what each took."""
    costs: dict[str, list[Cost]] = {name: [] for name in contenders}
    for _ in range(rounds):
        for name, command in contenders.items():
            costs[name].append(cost_of(command, allowed))
    return {name: Cost.median(each) for name, each in costs.items()}


def loading(command: list[str]) -> list[str]:
    """Return a command that loads the modules of ours which a command ends with, and what these load, and does nothing."""
    told = subprocess.run(
        [command[0], "-X", "importtime", *command[1:]], capture_output=True, text=True, check=False
    ).stderr
    names = [line.rpartition("|")[2].strip() for line in told.splitlines() if line.startswith("import time:")]
    ours = [name for name in names if name.startswith("kivvet") and not name.endswith("__main__")]
    return [
        command[0],
        "-c",
        f"import numpy, pyarrow.compute, {', '.join(ours)}"
        if "numpy" in names
        else f"import {', '.join(ours)}",
    ]
