"""Values of linear forms whose columns lie on steps: every `gap` from one of them.

Where equations hold among columns on steps, Euclid's algorithm on the moves that keep them true finds what every form may be, or
that there is no solution.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from fractions import Fraction

from kivvet.core.linear.simplex import Form, dot

Lattice = (
    tuple[int, int] | None
)  # the gap between the values of a form (0: it has one) and one of them, in units
Limits = tuple[dict[int, int], dict[int, int]]  # by form the least and the greatest value, in units
Step = tuple[Fraction, Fraction] | None  # size and offset


def lattice_of(form: Form, steps: Sequence[Step], unit: int) -> Lattice:
    """Return the values of a form in units, if all it reads has steps."""
    used = [(a, step) for a, step in zip(form, steps, strict=True) if a]
    if not all(step for _, step in used):
        return None
    gap = math.gcd(*(int(a * step[0] * unit) for a, step in used if step))
    return gap, sum(int(a * step[1] * unit) for a, step in used if step)


def finer_lattices(
    forms: Sequence[Form], lattices: Sequence[Lattice], steps: Sequence[Step], unit: int, limits: Limits
) -> list[Lattice] | None:
    """Return what each form may be where limits leave some forms one value; None: that has no solution."""
    base = [0 if step is None else int(step[1] * unit) for step in steps]
    moves = [
        [int(step[0] * unit) * (i == j) for j in range(len(steps))]
        for i, step in enumerate(steps)
        if step is not None
    ]
    for form, value in limits[0].items():
        if limits[1].get(form) != value or lattices[form] is None:
            continue
        rest, changes = value - dot(forms[form], base), [dot(forms[form], move) for move in moves]
        while len(some := sorted((abs(change), j) for j, change in enumerate(changes) if change)) > 1:
            j = some[0][1]
            for _, other in some[1:]:
                by = changes[other] // changes[j]
                moves[other] = [a - by * b for a, b in zip(moves[other], moves[j], strict=True)]
                changes[other] -= by * changes[j]
        if not some:
            if rest:
                return None
            continue
        move, change = moves.pop(some[0][1]), changes[some[0][1]]
        if rest % change:
            return None
        base = [a + rest // change * b for a, b in zip(base, move, strict=True)]
    return [
        lattice and (math.gcd(*(dot(form, move) for move in moves)), dot(form, base))
        for form, lattice in zip(forms, lattices, strict=True)
    ]


def on_lattices(low: Mapping[int, int], high: Mapping[int, int], lattices: Sequence[Lattice]) -> Limits:
    """Return limits moved in to values that forms have."""
    moved: Limits = dict(low), dict(high)
    for form, lattice in enumerate(lattices):
        if lattice is None:
            continue
        gap, at = lattice
        if not gap:  # the equations leave one value
            moved[0][form], moved[1][form] = max(low.get(form, at), at), min(high.get(form, at), at)
            continue
        if form in low:
            moved[0][form] = low[form] + (at - low[form]) % gap
        if form in high:
            moved[1][form] = high[form] - (high[form] - at) % gap
    return moved
