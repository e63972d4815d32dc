"""A thousand refreshes killed at random moments, after a rule changed or the source grew: what is left is the old target or the new one, whole, never said to be current
where it is not, and the next refresh goes on without being asked.

Each refresh runs in a forked process, so that loading the library does not eat the moments that matter.
"""

from __future__ import annotations

import os
import random
import signal
import sys
import tempfile
import time
from dataclasses import dataclass
from pathlib import Path

import pyarrow.csv
import pyarrow.parquet

import kivvet
from kivvet.books.asks import impact  # noqa: F401
from kivvet.books.runs import apply, refresh, status  # noqa: F401

_KILLS = 1_000
_ROWS = 20_000
_BOUNDS = ("2", "3")


def figures() -> None:
    """Print what came of all kills."""
    given = dict(zip(sys.argv, sys.argv[1:], strict=False))
    seed, n_kills = int(given.get("--seed", 1)), int(given.get("--kills", _KILLS))
    drawn = random.Random(seed)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        now = _Rules(_BOUNDS[0], _write(folder))
        _forked(lambda: _refresh(folder, now))
        longest = max(
            _forked(lambda turn=turn: _refresh(folder, turn))[1] for turn in (now.turned(), now, now.turned())
        )
        _forked(lambda: _refresh(folder, now))
        counts = {"old": 0, "new": 0, "ended": 0}
        for number in range(n_kills):
            then, now = now, now.turned() if number % 3 else now.grown(folder, drawn)
            code, _ = _forked(lambda now=now: _refresh(folder, now), drawn.uniform(0, longest * 1.1))
            left = _forked(lambda then=then, now=now: _left(folder, then, now))[0]
            if left not in (10, 11):
                raise SystemExit(f"a kill left what it should not: {left}")
            counts["ended" if code == 0 else "new" if left == 11 else "old"] += 1
            if _forked(lambda now=now: _refresh(folder, now))[0] != 0:
                raise SystemExit("the refresh after a kill did not go on")
        print(f"\nkills: {n_kills:,} of a refresh that takes {longest:.2f} s (seed {seed})")
        print(
            f"  left the old targets {counts['old']:,}, new ones {counts['new']:,}, ended before {counts['ended']:,}"
        )


@dataclass(frozen=True)
class _Rules:
    """The bound of the table, and the values of the source: what a target is to be made of."""

    bound: str
    values: list[float]

    def turned(self) -> _Rules:
        """Return another bound."""
        return _Rules(_BOUNDS[1 - _BOUNDS.index(self.bound)], self.values)

    def grown(self, folder: Path, drawn: random.Random) -> _Rules:
        """Add rows to the source."""
        values = [drawn.randrange(90) / 10 for _ in range(drawn.randint(1, 50))]
        with (folder / "d.csv").open("a") as file:
            file.write("".join(f"{len(self.values) + n},{value}\n" for n, value in enumerate(values)))
        return _Rules(self.bound, [*self.values, *values])

    def labels(self) -> list[str]:
        return ["low" if value < float(self.bound) else "high" for value in self.values]


def _write(folder: Path) -> list[float]:
    """Write the book and its source; return the values of that."""
    drawn = random.Random(1)
    (folder / "tables").mkdir()
    values = [drawn.randrange(90) / 10 for _ in range(_ROWS)]
    (folder / "d.csv").write_text("id,x\n" + "".join(f"{n},{value}\n" for n, value in enumerate(values)))
    (folder / "book.toml").write_text(
        "".join(
            f'[datasets.{kind}]\nsource = "d.csv"\ntarget = "out/d.{kind}"\ncolumns = ["band"]\n'
            for kind in ("csv", "parquet")
        )
    )
    _rule(folder, _BOUNDS[0])
    return values


def _rule(folder: Path, bound: str) -> None:
    text = f'rows = [["< {bound}", "low"], [">= {bound}", "high"]]\n'
    path = folder / "tables" / "band.toml"
    beside = path.with_suffix(".new")
    beside.write_text('inputs.x = { type = "number", step = 0.1 }\noutputs.band = "text"\n' + text)
    beside.replace(path)


def _refresh(folder: Path, now: _Rules) -> int:
    _rule(folder, now.bound)
    kivvet.open_book(folder).refresh()
    return 0


def _left(folder: Path, then: _Rules, now: _Rules) -> int:
    """Return 10 where the targets, or one of them, are the old ones, 11 where both are new; else what is wrong."""
    found = []
    _rule(folder, now.bound)
    states = {one.dataset: one.state for one in kivvet.open_book(folder).status()}
    for kind in ("csv", "parquet"):
        path = folder / "out" / f"d.{kind}"
        table = pyarrow.csv.read_csv(path) if kind == "csv" else pyarrow.parquet.read_table(path)
        labels = table.column("band").to_pylist()
        if labels not in (then.labels(), now.labels()):
            return 20
        if (states[kind] == "current") != (labels == now.labels()):
            return 21
        found.append(labels == now.labels())
    return 11 if all(found) else 10


def _forked(work: object, after: float | None = None) -> tuple[int, float]:
    """Run work in a process of its own, killed after some seconds; return what it ended with, and how long it took."""
    start = time.perf_counter()
    child = os.fork()
    if not child:
        code = 99
        try:
            code = work()  # type: ignore[operator]
        finally:
            os._exit(code)
    if after is not None:
        time.sleep(after)
        os.kill(child, signal.SIGKILL)
    _, ended = os.waitpid(child, 0)
    return os.waitstatus_to_exitcode(ended), time.perf_counter() - start


if __name__ == "__main__":
    figures()
