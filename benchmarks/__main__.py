"""Run all benchmarks, or those named, and print one table: python -m benchmarks [bins] [mapping]

`python -m benchmarks page` puts what was measured so far into docs/speed.md.
"""

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
from benchmarks.lines import Line, keep, table, write_page
from benchmarks.runner import machine, run

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
}  # whole commands and books


def main() -> int:
    """Measure, print the table, and end with 1 where a target is missed."""
    chosen = sys.argv[1:] or [*ALL, *FIGURES]
    if chosen == ["page"]:
        print("\n".join(f"{group} has no place in docs/speed.md" for group in write_page()))
        return 0
    print(machine(), file=sys.stderr)
    lines: list[Line] = []
    for name in chosen:
        measured = []
        for line in FIGURES[name]() if name in FIGURES else map(run, ALL[name]()):
            measured.append(line)
            print(f"{name}: {' '.join(filter(None, line.cells()))}", file=sys.stderr, flush=True)
        keep(name, measured)
        lines += measured
    print(table(lines))
    wanted = [line for line in lines if line.target is not None]
    print(f"\n{sum(bool(line.is_reached) for line in wanted)} of {len(wanted)} targets reached")
    return 0 if all(line.stands != "MISSED" for line in wanted) else 1


if __name__ == "__main__":
    sys.exit(main())
