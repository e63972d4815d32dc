"""Run all benchmarks, or those named: python -m benchmarks [bins] [mapping]"""

from __future__ import annotations

import sys

from benchmarks import bins, check, look, lookup, mapping, rules
from benchmarks.runner import print_machine, run

ALL = {
    "bins": bins.comparisons, "mapping": mapping.comparisons, "look": look.comparisons, "rules": rules.comparisons,
    "lookup": lookup.comparisons,
}  # fmt: skip


def main() -> int:
    chosen = sys.argv[1:] or [*ALL, "check"]
    print_machine()
    if "check" in chosen:
        chosen.remove("check")
        check.figures()
    reached = [run(comparison) for name in chosen for comparison in ALL[name]()]
    print(f"\n{sum(reached)} of {len(reached)} targets reached")
    return 0 if all(reached) else 1


if __name__ == "__main__":
    sys.exit(main())
