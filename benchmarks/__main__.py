"""Run all benchmarks, or those named: python -m benchmarks [bins] [mapping]"""

from __future__ import annotations

import sys

from benchmarks import bins, look, mapping
from benchmarks.runner import print_machine, run

ALL = {"bins": bins.comparisons, "mapping": mapping.comparisons, "look": look.comparisons}


def main() -> int:
    chosen = sys.argv[1:] or list(ALL)
    print_machine()
    reached = [run(comparison) for name in chosen for comparison in ALL[name]()]
    print(f"\n{sum(reached)} of {len(reached)} targets reached")
    return 0 if all(reached) else 1


if __name__ == "__main__":
    sys.exit(main())
