"""A lookup of a million keys: how long it takes to read and to check; and peak memory of a lookup beside
pandas' merge.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import pandas as pd
import pyarrow as pa
import pyarrow.csv as arrow_csv

import kivvet
from benchmarks.lines import Line

N_KEYS = 1_000_000
N_ROWS = 10_000_000


def figures() -> Iterator[Line]:
    """Yield both, each measured in a process of its own."""
    said = {}
    for what in ("read and check", "kivvet", "pandas merge"):
        command = [sys.executable, "-m", "benchmarks.lookup_size", what]
        said[what] = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
    read, checked = said["read and check"]
    yield Line(f"{N_KEYS:,} keys of CSV, read", read, target=1.5)
    yield Line("the same, checked", checked, target=1.5)
    work = f"{N_ROWS:,} rows, 12 outputs: memory above the data"
    yield Line(work, said["kivvet"], "MB", "pandas merge", said["pandas merge"], 0.5)


def read_and_check() -> tuple[float, float]:
    """Return the seconds that a lookup of a million keys takes to be read, and to be checked."""
    with tempfile.TemporaryDirectory() as folder:
        book = Path(folder)
        (book / "tables").mkdir()
        (book / "book.toml").write_text('title = "big"\n')
        (book / "tables/site.toml").write_text(
            'inputs.site = "text"\noutputs.name = "text"\noutputs.size = "integer"\nlookup = "site.csv"\n'
        )
        keys = [f"S{number:07d}" for number in range(N_KEYS)]
        names = [f"class {number % 100}" for number in range(N_KEYS)]
        arrow_csv.write_csv(
            pa.table({"site": keys, "name": names, "size": range(N_KEYS)}), book / "tables/site.csv"
        )
        start = time.perf_counter()
        opened = kivvet.open_book(book)
        read = time.perf_counter() - start
        found = opened.check()
        assert all(one.severity != "error" for one in found.findings)
        return read, time.perf_counter() - start - read


def work_with(name: str) -> int:
    """Return the peak of memory in MB above what the data takes, and bare imports."""
    rng = np.random.default_rng(5)
    texts = np.array([f"S{number:06d}" for number in range(5_000)])
    keys = pa.table(
        {
            "site": np.repeat(texts, 10),
            "year": np.tile(np.arange(10) + 2017, 5_000),
            **{f"t{n}": [f"class {one % (n + 5)}" for one in range(50_000)] for n in range(5)},
            **{f"n{n}": rng.random(50_000) for n in range(4)},
            **{f"i{n}": rng.integers(0, 99, 50_000) for n in range(3)},
        }
    )
    site = pa.array(texts).take(pa.array(rng.integers(0, 5_000, N_ROWS)))
    frame = pa.table({"site": site, "year": rng.integers(2017, 2027, N_ROWS)})
    given: pa.Table | pd.DataFrame = frame.to_pandas() if name == "pandas merge" else frame
    others = keys.to_pandas()
    before = _memory("VmRSS")
    if isinstance(given, pd.DataFrame):
        made = given.merge(others, on=["site", "year"], how="left")
    else:
        kinds = {"t": "text", "n": "number", "i": "integer"}
        outputs = {name: kinds[name[0]] for name in keys.column_names[2:]}
        table = kivvet.RuleTable("lookup", {"site": "text", "year": "integer"}, outputs, lookup=keys)
        made = table.apply(given)
    assert len(made) == N_ROWS
    return _memory("VmHWM") - before


def _memory(what: str) -> int:
    """Return a figure of this process in MB, 0 where the system does not tell."""
    status = Path("/proc/self/status")
    lines = status.read_text().splitlines() if status.exists() else []
    return next((int(line.split()[1]) // 1024 for line in lines if line.startswith(what)), 0)


if __name__ == "__main__":
    print(json.dumps(read_and_check() if sys.argv[1] == "read and check" else work_with(sys.argv[1])))
