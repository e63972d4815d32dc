"""Run all benchmarks, or those named: python -m benchmarks [bins] [mapping]"""

from __future__ import annotations

import sys

from benchmarks import (
    bins,
    books,
    charts,
    check,
    columns,
    compare,
    cross_table,
    currency,
    databases,
    editor,
    formulas,
    frames,
    growth,
    latency,
    look,
    lookup,
    lookup_size,
    mapping,
    memory,
    national,
    parts,
    pipelines,
    rules,
    startup,
    tied_inputs,
    workbooks,
)
from benchmarks.runner import print_machine, run

ALL = {
    "bins": bins.comparisons,
    "frames": frames.comparisons,
    "mapping": mapping.comparisons,
    "look": look.comparisons,
    "rules": rules.comparisons,
    "lookup": lookup.comparisons,
    "formulas": formulas.comparisons,
    "columns": columns.comparisons,
    "cross_table": cross_table.comparisons,
    "workbooks": workbooks.comparisons,
    "databases": databases.comparisons,
}
FIGURES = {
    "books": books.figures,
    "charts": charts.figures,
    "check": check.figures,
    "compare": compare.figures,
    "currency": currency.figures,
    "editor": editor.figures,
    "growth": growth.figures,
    "latency": latency.figures,
    "lookup_size": lookup_size.figures,
    "memory": memory.figures,
    "national": national.figures,
    "parts": parts.figures,
    "pipelines": pipelines.figures,
    "startup": startup.figures,
    "tied_inputs": tied_inputs.figures,
}  # without a contender


def main() -> int:
    chosen = sys.argv[1:] or [*ALL, *FIGURES]
    print_machine()
    for name in [one for one in chosen if one in FIGURES]:
        chosen.remove(name)
        FIGURES[name]()
    reached = [run(comparison) for name in chosen for comparison in ALL[name]()]
    if chosen:
        print(f"\n{sum(reached)} of {len(reached)} targets reached")
    return 0 if all(reached) else 1


if __name__ == "__main__":
    sys.exit(main())
