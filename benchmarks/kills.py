"""A thousand refreshes killed at random moments: what is left is the old target or the new one, whole, never said to be current
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
        _write(folder)
        whole = _whole(folder)
        longest = _forked(lambda: _refresh(folder, _BOUNDS[1]))[1]
        _forked(lambda: _refresh(folder, _BOUNDS[0]))
        counts = {"old": 0, "new": 0, "ended": 0}
        at = 0
        for _ in range(n_kills):
            bound = _BOUNDS[1 - at]
            _rule(folder, bound)
            code, _ = _forked(lambda bound=bound: _refresh(folder, bound), drawn.uniform(0, longest * 1.1))
            left = _forked(lambda bound=bound: _left(folder, bound, whole))[0]
            if left not in (10, 11):
                raise SystemExit(f"a kill left what it should not: {left}")
            counts["ended" if code == 0 else "new" if left == 11 else "old"] += 1
            if _forked(lambda bound=bound: _refresh(folder, bound))[0] != 0:
                raise SystemExit("the refresh after a kill did not go on")
            at = 1 - at
        print(f"\nkills: {n_kills:,} of a refresh that takes {longest:.2f} s (seed {seed})")
        print(
            f"  left the old targets {counts['old']:,}, new ones {counts['new']:,}, ended before {counts['ended']:,}"
        )


def _write(folder: Path) -> None:
    drawn = random.Random(1)
    (folder / "tables").mkdir()
    rows = "".join(f"{number},{drawn.randrange(90) / 10}\n" for number in range(_ROWS))
    (folder / "d.csv").write_text("id,x\n" + rows)
    (folder / "book.toml").write_text(
        "".join(
            f'[datasets.{kind}]\nsource = "d.csv"\ntarget = "out/d.{kind}"\ncolumns = ["band"]\n'
            for kind in ("csv", "parquet")
        )
    )
    _rule(folder, _BOUNDS[0])


def _rule(folder: Path, bound: str) -> None:
    text = f'rows = [["< {bound}", "low"], [">= {bound}", "high"]]\n'
    path = folder / "tables" / "band.toml"
    beside = path.with_suffix(".new")
    beside.write_text('inputs.x = { type = "number", step = 0.1 }\noutputs.band = "text"\n' + text)
    beside.replace(path)


def _refresh(folder: Path, bound: str) -> int:
    _rule(folder, bound)
    kivvet.open_book(folder).refresh()
    return 0


def _whole(folder: Path) -> dict[str, int]:
    """Return by bound how many rows are low."""
    values = [float(line.split(",")[1]) for line in (folder / "d.csv").read_text().splitlines()[1:]]
    return {bound: sum(value < float(bound) for value in values) for bound in _BOUNDS}


def _left(folder: Path, bound: str, whole: dict[str, int]) -> int:
    """Return 10 where the targets, or one of them, are the old ones, 11 where both are new; else what is wrong."""
    found = []
    states = {one.dataset: one.state for one in kivvet.open_book(folder).status()}
    for kind in ("csv", "parquet"):
        path = folder / "out" / f"d.{kind}"
        table = pyarrow.csv.read_csv(path) if kind == "csv" else pyarrow.parquet.read_table(path)
        labels = table.column("band").to_pylist()
        if len(labels) != _ROWS:
            return 20
        n_low = labels.count("low")
        now = next((one for one, n in whole.items() if n == n_low), None)
        if now is None:
            return 21
        if (states[kind] == "current") != (now == bound):
            return 22
        found.append(now == bound)
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
