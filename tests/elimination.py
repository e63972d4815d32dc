"""Whether linear inequalities have a solution, by the elimination of Fourier and Motzkin: slow, short, exact."""

from __future__ import annotations

import math
from fractions import Fraction


def feasible(rows, n):
    """Return whether some point of `n` numbers meets all rows.

    Parameters
    ----------
    rows : list of (tuple of int, Fraction, bool)
        Coefficients, what their sum is at most, and whether it is to stay below that.
    """
    rows = _fewest([_normal(*row) for row in rows])
    left = set(range(n))
    while True:
        if any(not any(a) and (b < 0 or (strict and b == 0)) for a, b, strict in rows):
            return False
        rows = [row for row in rows if any(row[0])]
        if not left or not rows:
            return True
        out = min(left, key=lambda k: sum(a[k] > 0 for a, _, _ in rows) * sum(a[k] < 0 for a, _, _ in rows))
        left.discard(out)
        kept = [row for row in rows if not row[0][out]]
        for a, b, strict in (row for row in rows if row[0][out] > 0):
            for c, d, other in (row for row in rows if row[0][out] < 0):
                p, q = -c[out], a[out]
                kept.append(
                    _normal(
                        [p * x + q * y for x, y in zip(a, c, strict=True)], p * b + q * d, strict or other
                    )
                )
        rows = _fewest(kept)


def _normal(a, b, strict):
    divisor = math.gcd(*a)
    return (
        (tuple(x // divisor for x in a), Fraction(b) / divisor, strict)
        if divisor
        else (tuple(a), Fraction(b), strict)
    )


def _fewest(rows):
    best = {}
    for a, b, strict in rows:
        if a not in best or (b, not strict) < (best[a][0], not best[a][1]):
            best[a] = (b, strict)
    return [(a, *rest) for a, rest in best.items()]
