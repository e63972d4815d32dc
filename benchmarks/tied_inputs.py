"""How long a check takes where statements tie inputs: rows that part the space by their own bounds, or by planes across inputs.

The space of some inputs that sum to 100, or of which one is at most another, is cut again and again: the rows neither meet nor leave
a gap. Damaged: one of them is left out. Promises of order are measured on rows without statements, and with.
"""

from __future__ import annotations

import random
from collections.abc import Iterator

import numpy as np

import kivvet
from benchmarks.lines import Line
from benchmarks.runner import timed

_POINTS = 6_000
_SHAPES = (
    (60, 3, 0.0, "sum", 0.1),
    (60, 3, 0.0, "le", 0.1),
    (200, 5, 0.0, "sum", 1.0),
    (200, 5, 0.0, "le", 1.0),
    (200, 5, 0.3, "sum", None),
    (200, 5, 1.0, "sum", None),
)


def figures() -> Iterator[Line]:
    """Yield lines for each shape: rows that are whole, and damaged."""
    for n_rows, n_inputs, oblique, given, target in _SHAPES:
        for is_damaged in (False, True):
            table = partition(n_rows, n_inputs, oblique, given, is_damaged=is_damaged)
            seconds, found = timed(table.check)
            kinds = ", ".join(sorted({one.kind for one in found} & {"gap", "not-proven"})) or "nothing found"
            across = f", {oblique:.0%} of bounds across inputs" if oblique else ""
            tied = {"sum": "which sum to 100", "le": "one at most another"}[given]
            yield Line(f"{n_rows} rows by {n_inputs} inputs, {tied}{across}: {kinds}", seconds, target=target)
    for given in ("", "le"):
        table = partition(500, 6, 0.0, given, promises=[f"as x{k} rises, y never falls" for k in range(2)])
        tied = " with a statement" if given else ""
        yield Line(f"two promises of order, 500 rows by 6 inputs{tied}", timed(table.check)[0], target=1.5)


def partition(
    n_rows: int,
    n_inputs: int,
    oblique: float,
    given: str,
    *,
    is_damaged: bool = False,
    promises: list[str] | None = None,
) -> kivvet.RuleTable:
    """Return rows that part a space.

    Parameters
    ----------
    oblique : float
        The share of cuts that lie across inputs.
    given : {"", "sum", "le"}
    """
    rng = random.Random(1)
    cloud = np.random.default_rng(1)
    points = (
        cloud.dirichlet(np.ones(n_inputs), _POINTS) * 100
        if given == "sum"
        else cloud.random((_POINTS, n_inputs)) * 100
    )
    if given == "le":
        points[:, :2] = np.sort(points[:, :2], axis=1)
    names = [f"x{number}" for number in range(n_inputs)]
    leaves: list[tuple[list[str], np.ndarray]] = [([], points)]
    while len(leaves) < n_rows:
        at = max(range(len(leaves)), key=lambda number: len(leaves[number][1]) * rng.random())
        asked, held = leaves[at]
        across = rng.random() < oblique
        form = [rng.randint(-3, 3) if across else 0 for _ in names]
        if not across:
            form[rng.randrange(n_inputs)] = 1
        if sum(map(bool, form)) < 1 + across or len(held) < 8:
            continue
        values = held @ np.array(form, float)
        bound = round(float(np.quantile(values, rng.uniform(0.3, 0.7))), 1)
        below = values < bound
        if below.sum() < 3 or (~below).sum() < 3:
            continue
        text = " + ".join(
            f"{factor} * {name}" if factor != 1 else name
            for factor, name in zip(form, names, strict=True)
            if factor
        )
        leaves[at : at + 1] = [
            ([*asked, f"{text} < {bound}"], held[below]),
            ([*asked, f"{text} >= {bound}"], held[~below]),
        ]
    rows = [one for one, _ in leaves]
    rng.shuffle(rows)
    about = {"type": "number", "domain": "0 to 100", "required": True}
    classes = [f"c{number}" for number in range(n_rows)]
    return kivvet.RuleTable(
        "t",
        dict.fromkeys(names, about),
        {"y": {"type": "text", "order": classes}},
        [
            [*names, "when", "y"],
            *(
                [*[""] * n_inputs, " AND ".join(row), name]
                for row, name in zip(rows[is_damaged:], classes, strict=False)
            ),
        ],
        given={"": [], "sum": [" + ".join(names) + " = 100"], "le": ["x0 <= x1"]}[given],
        promises=promises or [],
    )
