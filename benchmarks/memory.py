"""What work in memory takes above its input: the most that a process of its own held, over the size of the input.

Of windows that order rows, and of a lookup with twelve outputs, whose result is more than its input.
"""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from benchmarks.lines import Line

N_ROWS = 5_000_000
_WORKS = {
    "RANK, ordered within groups": "RANK() OVER (PARTITION BY key ORDER BY amount)",
    "RANK, ordered over all rows": "RANK() OVER (ORDER BY amount)",
    "NTILE of ten": "NTILE(10) OVER (ORDER BY amount)",
    "share of a group": "amount / SUM(amount) OVER (PARTITION BY key)",
    "lookup, 12 outputs": "",
}
#: To what the peak above the input is held, and the target.
_WORKS_TARGETS = {name: ("result", 1.5) if "lookup" in name else ("input", 3.0) for name in _WORKS}
_N_KEYS, _N_OUTPUTS = 50_000, 12


def figures() -> Iterator[Line]:
    """Yield the peak of each work above its input."""
    for name, (beside, target) in _WORKS_TARGETS.items():
        ran = subprocess.run(
            [sys.executable, "-m", "benchmarks.memory", name], capture_output=True, text=True, check=True
        )
        given, made, peak = (int(part) / 1e6 for part in ran.stdout.split())
        yield Line(
            f"{name}, {N_ROWS:,} rows",
            peak,
            "MB",
            f"the {beside}",
            given if beside == "input" else made,
            target,
        )


def _measure(name: str) -> None:
    """Print in bytes the input, what was made of it, and the peak above what was held before."""
    import numpy as np
    import pyarrow as pa

    import kivvet

    rng = np.random.default_rng(4)
    keys = rng.integers(0, _N_KEYS, N_ROWS)
    frame = pa.table({"key": keys, "amount": rng.uniform(0, 1_000, N_ROWS)})
    del keys
    outputs = {f"out{number}": "text" for number in range(_N_OUTPUTS)}
    rows = {"key": list(range(_N_KEYS))} | {
        one: [f"{one} {key % 90}" for key in range(_N_KEYS)] for one in outputs
    }
    table = kivvet.RuleTable("t", {"key": "integer"}, outputs, lookup=pa.table(rows))
    work = (
        (lambda given: kivvet.with_formulas(given, {"made": _WORKS[name]})) if _WORKS[name] else table.apply
    )
    work(frame.slice(0, 10))
    Path("/proc/self/clear_refs").write_text("5")  # the peak counts from here
    before = _status("VmRSS")
    made = work(frame)
    peak = _status("VmHWM") - before
    print(frame.nbytes, made.nbytes - frame.nbytes, peak)


def _status(name: str) -> int:
    lines = Path("/proc/self/status").read_text().splitlines()
    return next(int(line.split()[1]) * 1024 for line in lines if line.startswith(f"{name}:"))


if __name__ == "__main__":
    _measure(sys.argv[1])
