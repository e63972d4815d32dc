"""A linear form cut into cells: at the bounds that dimensions and statements name, and so that each cell holds a value."""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from fractions import Fraction

from kivvet.core.linear.lattices import Lattice
from kivvet.core.linear.linear_forms import OF_SIGN, Cut, Interval
from kivvet.core.space.boxes import Dimension
from kivvet.core.words.regions import HIGH, LOW


@dataclass
class Line:
    """A linear form cut into cells at all bounds that dimensions and statements name.

    Attributes
    ----------
    cells : list of (int or None, int or None)
        The least and the greatest value of each, in units; None where there is none.
    cells_of : dict of int to list of int
        For each dimension that is about this form its cell that each of these lies in.
    """

    cells: list[tuple[int | None, int | None]] = field(default_factory=list)
    lows: list[Cut | None] = field(default_factory=list)
    cells_of: dict[int, list[int]] = field(default_factory=dict)
    allowed: int = -1
    _bits: dict[tuple[int, int], int] = field(default_factory=dict)

    def bits(self, number: int, cells: int) -> int:
        """Return the cells of the form, as bits, that lie in some cells of a dimension."""
        if (number, cells) not in self._bits:
            self._bits[number, cells] = sum(
                1 << at for at, cell in enumerate(self.cells_of[number]) if cells >> cell & 1
            )
        return self._bits[number, cells]


def line_of(
    stretches: Sequence[tuple[int, int, Interval]],
    holes: Sequence[Sequence[Interval]],
    lattice: Lattice,
    unit: int,
) -> Line:
    """Return the cells that the ends of stretches cut a form into; those are left out that hold no value."""
    line = Line(cells_of={number: [] for number, _, _ in stretches})
    cuts: set[Cut] = {cut for *_, pair in stretches for cut in pair if cut is not None}
    cuts |= {cut for hole in holes for pair in hole for cut in pair if cut is not None}
    by_dimension: dict[int, list[tuple[int, Interval]]] = {}
    for number, cell, pair in stretches:
        by_dimension.setdefault(number, []).append((cell, pair))
    for of_dimension in by_dimension.values():
        of_dimension.sort(key=lambda one: (one[1][0] is not None, one[1][0]))
    at = dict.fromkeys(by_dimension, 0)
    allowed = 0
    for low, high in itertools.pairwise([None, *sorted(cuts), None]):
        bounds = ends_in_units(low, high, unit)
        if lattice is not None:
            bounds = _on_lattice(bounds, lattice)
        own: dict[int, int] = {}
        for number, of_dimension in by_dimension.items():
            while at[number] < len(of_dimension) and _is_before(of_dimension[at[number]][1], low):
                at[number] += 1
            if at[number] < len(of_dimension) and _contains(of_dimension[at[number]][1], (low, high)):
                own[number] = of_dimension[at[number]][0]
        first, last = bounds
        if len(own) < len(by_dimension) or (first is not None and last is not None and first > last):
            continue
        if all(any(_contains(pair, (low, high)) for pair in hole) for hole in holes):
            allowed |= 1 << len(line.cells)
        line.cells.append(bounds)
        line.lows.append(low)
        for number, cell in own.items():
            line.cells_of[number].append(cell)
    line.allowed = allowed
    return line


def stretches_of(dimension: Dimension) -> Iterator[tuple[int, Interval]]:
    """Yield the present cells of a dimension, each with the stretch of its form that it is."""
    for number, cell in enumerate(dimension.cut.cells):
        if dimension.is_plain:
            low = None if cell.low == LOW else (Fraction(cell.low[1]), cell.low[2])
            high = None if cell.high == HIGH else (Fraction(cell.high[1]), cell.high[2])
            yield number, (low, high)
        else:
            yield number, OF_SIGN[int(cell.witness)]  # type: ignore[arg-type]


def moved(pair: Interval, constant: Fraction, factor: Fraction) -> Interval:
    """Return the stretch of a form in which ``factor * form + constant`` lies in a stretch."""

    def cut_moved(cut: Cut | None) -> Cut | None:
        return cut and ((cut[0] - constant) / factor, cut[1] if factor > 0 else 1 - cut[1])

    low, high = cut_moved(pair[0]), cut_moved(pair[1])
    return (low, high) if factor > 0 else (high, low)


def holds(pair: Interval, value: Fraction) -> bool:
    """Whether a stretch holds a value."""
    low, high = pair
    return (low is None or low < (value, 1)) and (high is None or (value, 0) < high)


def _contains(outer: Interval, inner: Interval) -> bool:
    return (outer[0] is None or (inner[0] is not None and outer[0] <= inner[0])) and (
        outer[1] is None or (inner[1] is not None and inner[1] <= outer[1])
    )


def _is_before(pair: Interval, low: Cut | None) -> bool:
    return low is not None and pair[1] is not None and pair[1] <= low


def ends_in_units(low: Cut | None, high: Cut | None, unit: int) -> tuple[int | None, int | None]:
    """Return the ends of a stretch in units, an open one a unit inside."""
    first = None if low is None else int(low[0] * unit) + low[1]
    last = None if high is None else int(high[0] * unit) + high[1] - 1
    return first, last


def _on_lattice(
    bounds: tuple[int | None, int | None], lattice: tuple[int, int]
) -> tuple[int | None, int | None]:
    (first, last), (gap, at) = bounds, lattice
    first = None if first is None else first + (at - first) % gap
    return first, None if last is None else last - (last - at) % gap
