"""Whether bounds on linear forms leave a point, in whole numbers: exact, small, without a dependency.

B. Dutertre and L. de Moura, *A fast linear-arithmetic solver for DPLL(T)*, CAV 2006, with Edmonds's pivots, whose divisions come
out even. The clash it returns is a certificate of Farkas; the forms in it have one linear dependency, so that none of its bounds
could be left out. Solvers in floating point are no substitute: they take a system that is empty by less than their tolerance for
one that has points.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

Form = tuple[int, ...]
Clash = list[tuple[int, int]]  # forms, each with the end (-1 low, 1 high) that takes part
_PIVOTS_BEFORE_BLAND = 50


def dot(one: Sequence[int], other: Sequence[int]) -> int:
    """Return the sum of products."""
    return sum(a * b for a, b in zip(one, other, strict=True))


class Simplex:
    """A vertex of linear forms, moved until it lies within bounds or these are proven to clash.

    Parameters
    ----------
    forms : sequence of tuple of int
        Coefficients; the first `n` forms are the variables themselves.
    n : int
        How many variables there are.

    Attributes
    ----------
    basis, values : list of int
        As many forms as there are variables, and what they are at the vertex.
    edges, scale
        The vertex times `scale` is the sum of edges times values.
    n_pivots : int
    """

    __slots__ = ("basis", "edges", "forms", "n_pivots", "scale", "values")

    def __init__(self, forms: Sequence[Form], n: int) -> None:
        self.forms = forms
        self.basis = list(range(n))
        self.values = [0] * n
        self.edges = [[int(i == j) for i in range(n)] for j in range(n)]
        self.scale = 1
        self.n_pivots = 0

    def copy(self) -> Simplex:
        """Return one that moves on by itself, its pivots counted anew."""
        other = Simplex.__new__(Simplex)
        other.forms, other.basis, other.values = self.forms, self.basis[:], self.values[:]
        other.edges, other.scale, other.n_pivots = self.edges[:], self.scale, 0
        return other

    @property
    def point(self) -> list[int]:
        """The vertex times `scale`."""
        return [dot(row, self.values) for row in zip(*self.edges, strict=True)]

    def pivot(self, form: int, out: int, value: int) -> None:
        """Put a form with its value into the basis for the one at a place."""
        self.n_pivots += 1
        edge, scale = self.edges[out], self.scale
        rates = [dot(self.forms[form], edge) for edge in self.edges]
        turn = 1 if rates[out] > 0 else -1
        p = rates[out] * turn
        self.edges = [
            [turn * e for e in edge]
            if j == out
            else one
            if p == scale and not rate
            else [(o * p - turn * rate * e) // scale for o, e in zip(one, edge, strict=True)]
            for j, (one, rate) in enumerate(zip(self.edges, rates, strict=True))
        ]
        self.scale = p
        self.basis[out], self.values[out] = form, value

    def clash(self, low: Mapping[int, int], high: Mapping[int, int]) -> Clash | None:
        """Move inside the bounds; return None, or bounds that clash, none of which could be left out."""
        for j, form in enumerate(self.basis):
            if form in low and self.values[j] < low[form]:
                self.values[j] = low[form]
            elif form in high and self.values[j] > high[form]:
                self.values[j] = high[form]
        bounded = sorted({*low, *high})
        first = self.n_pivots
        while True:
            point, scale = self.point, self.scale
            is_bland = self.n_pivots - first > _PIVOTS_BEFORE_BLAND  # never in circles
            worst, chosen, way = 0, -1, 0
            for form in bounded:
                value = dot(self.forms[form], point)
                if form in low and (by := low[form] * scale - value) > worst:
                    worst, chosen, way = by, form, 1
                elif form in high and (by := value - high[form] * scale) > worst:
                    worst, chosen, way = by, form, -1
                if is_bland and worst:
                    break
            if not worst:
                return None
            rates = [dot(self.forms[chosen], edge) * way for edge in self.edges]
            movable = [j for j, rate in enumerate(rates) if rate and self._has_room(j, rate, low, high)]
            if not movable:
                blocked = [
                    (form, 1 if rate > 0 else -1)
                    for form, rate in zip(self.basis, rates, strict=True)
                    if rate
                ]
                return [(chosen, -way), *blocked]
            end = low[chosen] if way > 0 else high[chosen]
            self.pivot(chosen, min(movable, key=self.basis.__getitem__), end)

    def _has_room(self, j: int, way: int, low: Mapping[int, int], high: Mapping[int, int]) -> bool:
        form, bounds = self.basis[j], high if way > 0 else low
        return form not in bounds or (
            self.values[j] < bounds[form] if way > 0 else self.values[j] > bounds[form]
        )

    def furthest(
        self, form: int, way: int, low: Mapping[int, int], high: Mapping[int, int]
    ) -> tuple[int, int] | None:
        """Move, from inside, to where a form is greatest (1) or least (-1); return that as a ratio, None: it has no end."""
        while True:
            rates = [dot(self.forms[form], edge) * way for edge in self.edges]
            movable = [j for j, rate in enumerate(rates) if rate and self._has_room(j, rate, low, high)]
            point, scale = self.point, self.scale
            if not movable:
                return dot(self.forms[form], point), scale
            j = min(movable, key=self.basis.__getitem__)
            forward, own = (1 if rates[j] > 0 else -1), self.basis[j]
            end = (high if forward > 0 else low).get(own)
            best = None if end is None else (abs(end - self.values[j]), 1, -1, end)
            for other in sorted({*low, *high} - {*self.basis}):
                rate = dot(self.forms[other], self.edges[j]) * forward
                stop = (high if rate > 0 else low).get(other) if rate else None
                if stop is not None:
                    room = abs(stop * scale - dot(self.forms[other], point))
                    if best is None or room * best[1] < best[0] * abs(rate):
                        best = (room, abs(rate), other, stop)
            if best is None:
                return None
            if best[2] < 0:
                self.values[j] = best[3]
            else:
                self.pivot(best[2], j, best[3])
