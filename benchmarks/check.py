"""How long a check over several inputs takes, and the memory it needs; each table in a process of its own.

Partitioned: the space is cut again and again at random, so that rows neither meet nor leave a gap. Random:
rows of random ranges, half of the cells blank.
"""

from __future__ import annotations

import json
import random
import subprocess
import sys
from collections.abc import Iterator
from decimal import Decimal

from benchmarks.lines import Line
from benchmarks.runner import timed
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import Match, Row, Table
from kivvet.core.words.conditions import AnyValue, Between

Box = list[tuple[int, int]]
_EDGE = 1000


#: Seconds of the whole check where rows decide alone, by kind, rows and inputs.
_TARGETS = {("partitioned", 500, 8): 0.2, ("partitioned", 2_000, 8): 1.0, ("random", 2_000, 8): 5.0}


def figures() -> Iterator[Line]:
    """Yield a line for each table, and way to match."""
    for kind in ("partitioned", "random"):
        for n_rows in (100, 500, 2_000):
            for n_inputs in (4, 8, 12):
                ran = subprocess.run(
                    [sys.executable, "-m", "benchmarks.check", kind, str(n_rows), str(n_inputs)],
                    check=True,
                    capture_output=True,
                    text=True,
                )
                for match, (seconds, kinds) in json.loads(ran.stdout).items():
                    target = _TARGETS.get((kind, n_rows, n_inputs)) if match == "one" else None
                    work = f"{kind}, {n_rows:,} rows by {n_inputs} inputs, match = {match}: {kinds}"
                    yield Line(work, seconds, target=target)


def measure(kind: str, n_rows: int, n_inputs: int) -> dict[str, tuple[float, str]]:
    """Return by way to match the seconds that a check of one table takes, and what it finds."""
    from kivvet.core.check.check import check_table

    boxes = (partitioned if kind == "partitioned" else random_boxes)(n_rows, n_inputs)
    measured = {}
    ways: tuple[Match, ...] = ("one", "first")
    for match in ways:
        table = table_of(boxes, match)
        seconds, found = timed(lambda table=table: check_table(table))
        kinds = sorted({one.kind for one in found} & {"gap", "overlap", "shadowed", "not-proven"})
        measured[match] = seconds, ", ".join(kinds) or "nothing found"
    return measured


def table_of(boxes: list[Box], match: Match) -> Table:
    """Return boxes as the rows of a table."""
    inputs = tuple(Input(f"x{number}", "number") for number in range(len(boxes[0])))
    rows = []
    for number, box in enumerate(boxes, 1):
        cells = [
            AnyValue()
            if pair == (0, _EDGE)
            else Between(
                Decimal(pair[0]) if pair[0] else None,
                True,
                Decimal(pair[1]) if pair[1] < _EDGE else None,
                False,
            )
            for pair in box
        ]
        rows.append(Row(number, tuple(cells), (f"class {number % 5}",)))
    return Table("t", inputs, (Output("y", "text"),), tuple(rows), match=match)


def partitioned(n_rows: int, n_inputs: int, seed: int = 1) -> list[Box]:
    """Return boxes that partition the space."""
    rng = random.Random(seed)
    boxes: list[Box] = [[(0, _EDGE)] * n_inputs]
    while len(boxes) < n_rows:
        index, axis = rng.randrange(len(boxes)), rng.randrange(n_inputs)
        box = boxes[index]
        low, high = box[axis]
        if high - low < 2:
            continue
        at = rng.randrange(low + 1, high)
        boxes[index] = [*box[:axis], (low, at), *box[axis + 1 :]]
        boxes.append([*box[:axis], (at, high), *box[axis + 1 :]])
    rng.shuffle(boxes)
    return boxes


def random_boxes(n_rows: int, n_inputs: int, seed: int = 1) -> list[Box]:
    """Return boxes of random ranges."""
    rng = random.Random(seed)
    boxes: list[Box] = []
    for _ in range(n_rows):
        box: Box = []
        for _ in range(n_inputs):
            low = rng.randrange(0, 900)
            box.append((0, _EDGE) if rng.random() < 0.5 else (low, min(_EDGE, low + rng.randrange(50, 500))))
        boxes.append(box)
    return boxes


if __name__ == "__main__":
    print(json.dumps(measure(sys.argv[1], int(sys.argv[2]), int(sys.argv[3]))))
