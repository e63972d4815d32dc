"""Searching the places among tied columns that exist: one question, asked of boxes of cells.

The search is that of `box_search`, with a simplex: a box in which statements leave no point is dropped, and of those that a judge
cannot settle the rows are asked first whether they share a point with it. A box is cut where no row lies on both sides, or else
where the larger half has few rows, those that a form does not part being counted where a point known of them lies. Only
neighbouring cells of a form are taken together, since a range of them is to be one bound.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from fractions import Fraction
from functools import cached_property
from typing import Protocol

from kivvet.core.linear.lattices import Lattice, Limits, finer_lattices, on_lattices
from kivvet.core.linear.linear_forms import Cut
from kivvet.core.linear.simplex import Simplex, dot
from kivvet.core.linear.tied_columns import TiedColumns, TiedForms
from kivvet.core.space.boxes import bits_of

Ranges = tuple[tuple[int, int], ...]
Point = tuple[list[int], int]  # numerators in units, denominator
#: What a judge says of the rows that share a place with a box, and of those that hold all of it: it is done (True), it is what is
#: sought (False), or it is to be cut where these rows differ.
Judge = Callable[[int, int], bool | int]


class Budget(Protocol):
    """Counts steps, and raises where there are no more."""

    def take(self, n: int = 1) -> None: ...


class FoundPlace:
    """A place that exists, and values that lie there: worked out, of few digits, when they are asked for.

    Attributes
    ----------
    missing : frozenset of str
        The tied columns that are missing there.
    """

    def __init__(self, question: _Question, ranges: Ranges, point: list[Fraction]) -> None:
        self.missing = question.of.missing
        self._question, self._ranges, self._point = question, ranges, point

    @cached_property
    def _plain(self) -> list[Fraction]:
        return self._question.plain_point(self._ranges, self._point)

    @cached_property
    def cells(self) -> tuple[int, ...]:
        """One cell for each dimension."""
        return self._question.cells_at(self._ranges, self._plain)

    @cached_property
    def values(self) -> Mapping[str, Fraction | None]:
        """The values of the tied columns, dates in days, moments in nanoseconds; None is missing."""
        values: dict[str, Fraction | None] = dict.fromkeys(self.missing)
        return values | self._question.of.substitution.values(self._plain)


def uncovered(alive: int, sure: int) -> bool | int:
    """Judge what no row holds."""
    return True if sure else alive or False


def anywhere(_: int, __: int) -> bool:
    """Judge that any place will do."""
    return False


def tied_place(
    tied: TiedColumns,
    within: Sequence[int],
    rows: int,
    judge: Judge,
    budget: Budget,
    *,
    may_miss: Collection[str] = (),
    boxes: Sequence[Sequence[int]] = (),
) -> FoundPlace | None:
    """Return a place that a judge seeks and that exists; None: there is none.

    Parameters
    ----------
    within : sequence of int
        For each dimension the cells that count, as bits.
    rows : int
        The rows that count, as bits.
    judge : callable
    may_miss : collection of str
        The columns that may be missing where their cells say so; others are only where nothing but missing counts.
    boxes : sequence of sequences of int
        More rows: what they hold of each dimension; their bits follow those of the table's rows.

    Raises
    ------
    BudgetSpentError
    """
    for missing in tied.missing_in(within, may_miss, only_ends=judge is anywhere and not boxes):
        budget.take()
        forms = tied.forms_where(missing)
        if forms is None:
            continue
        found = _Question(forms, within, rows, boxes, budget).place(judge)
        if found is not None:
            return found
    return None


class _Question:
    """Boxes of one set of forms, and the rows over them."""

    def __init__(
        self,
        forms: TiedForms,
        within: Sequence[int],
        rows: int,
        boxes: Sequence[Sequence[int]],
        budget: Budget,
    ) -> None:
        self.of, self.budget, self.rows = forms, budget, rows
        self.n, self.n_forms = forms.n, len(forms.forms)
        dimensions = forms.tied.space.dimensions
        self.within = within
        n_rows = len(forms.tied.space.table.rows)

        def mask(number: int, cell: int) -> int:
            more = sum(1 << n_rows + k for k, box in enumerate(boxes) if box[number] >> cell & 1)
            return (dimensions[number].masks[cell] | more) & rows

        self.masks: list[list[int]] = []
        self.allowed: list[int] = []
        for line in forms.lines:
            masks = [rows] * len(line.cells)
            allowed = line.allowed & (1 << len(line.cells)) - 1
            for number, cells in line.cells_of.items():
                if rows:
                    of_cell = {cell: mask(number, cell) for cell in dict.fromkeys(cells)}
                    masks = [held & of_cell[cell] for held, cell in zip(masks, cells, strict=True)]
                if within[number] & dimensions[number].present != dimensions[number].present:
                    allowed &= line.bits(number, within[number])
            self.masks.append(masks)
            self.allowed.append(allowed)
        self.apart = [number for number in range(len(dimensions)) if number not in forms.on_lines]
        self.apart_cells: list[list[int]] = []
        for number in self.apart:
            bits = within[number] & (1 << forms.fixed[number]) if number in forms.fixed else within[number]
            first_of: dict[int, int] = {}
            for cell in bits_of(bits):
                first_of.setdefault(mask(number, cell), cell)
                if not rows:
                    break
            self.masks.append(list(first_of))
            self.apart_cells.append(list(first_of.values()))

    @cached_property
    def form_values(self) -> list[list[float]]:
        """The coefficients of the forms."""
        return [[float(a) for a in form] for form in self.of.forms]

    def starts(self) -> Iterator[Ranges]:
        """Yield the convex parts of what counts."""
        apart = [[(0, len(cells))] if cells else [] for cells in self.apart_cells]
        yield from itertools.product(*(list(_runs_of(bits)) for bits in self.allowed), *apart)

    # Points

    def limits(self, ranges: Ranges) -> Limits:
        return self.of.limits(dict(enumerate(ranges[: self.n_forms])))

    def enter(self, limits: Limits, near: Simplex | None = None) -> Simplex | None:
        """Return a vertex within limits, steps left aside; None: there is no point."""
        if any(low > limits[1].get(form, low) for form, low in limits[0].items()):
            return None
        simplex = Simplex(self.of.forms, self.n) if near is None else near.copy()
        clash = simplex.clash(*limits)
        self.budget.take(1 + simplex.n_pivots)
        return simplex if clash is None else None

    def point_in(self, limits: Limits, near: Simplex | None = None) -> list[Fraction] | None:
        """Return a point within limits, every column on its steps; where a vertex is not, it is halved around it."""
        simplex = self.enter(limits, near)
        if simplex is None or self.off_steps(simplex, self.of.lattices) is None:
            return None if simplex is None else self.numbers(simplex)
        lattices = finer_lattices(self.of.forms, self.of.lattices, self.of.steps, self.of.unit, limits)
        if lattices is None:
            return None
        waiting = [(limits, simplex)]
        while waiting:
            (low, high), simplex = waiting.pop()
            inside = self.enter(on_lattices(low, high, lattices), simplex)
            if inside is None:
                continue
            form = self.off_steps(inside, lattices)
            if form is None:
                return self.numbers(inside)
            value, (gap, at) = inside.point[form] // inside.scale, lattices[form] or (1, 0)
            below = value - (value - at) % gap
            waiting.append(((low, {**high, form: below}), inside))
            waiting.append((({**low, form: below + gap}, high), inside))
        return None

    def numbers(self, simplex: Simplex) -> list[Fraction]:
        return [Fraction(value, simplex.scale * self.of.unit) for value in simplex.point]

    def off_steps(self, simplex: Simplex, lattices: Sequence[Lattice]) -> int | None:
        """Return a column that a vertex leaves between its steps."""
        for i, (value, lattice) in enumerate(zip(simplex.point, lattices, strict=False)):
            if (
                lattice is not None
                and lattice[0]
                and (value - lattice[1] * simplex.scale) % (lattice[0] * simplex.scale)
            ):
                return i
        return None

    def plain_point(self, ranges: Ranges, point: list[Fraction]) -> list[Fraction]:
        """Return a point of a box with few digits, one column after the other taken near its middle."""
        low, high = self.limits(ranges)
        for i in range(self.n):
            simplex = self.enter((low, high))
            if simplex is None:
                return point
            ends = [simplex.furthest(i, way, low, high) for way in (-1, 1)]
            first, last = (None if end is None else Fraction(end[0], end[1] * self.of.unit) for end in ends)
            for at in (value * self.of.unit for value in _plain_values(first, last, self.of.steps[i])):
                fixed = {**low, i: int(at)}, {**high, i: int(at)}
                if at.denominator == 1 and (made := self.point_in(fixed, simplex)):
                    (low, high), point = fixed, made
                    break
        return point

    # The question

    def place(self, judge: Judge) -> FoundPlace | None:
        waiting: list[tuple[int, Ranges, Simplex, Mapping[int, Point], tuple[int, ...]]] = []
        for start in self.starts():
            simplex = self.enter(self.limits(start))
            if simplex is not None:
                waiting.append((self.rows, start, simplex, {}, ()))
        while waiting:
            alive, ranges, simplex, known, cuts = waiting.pop()
            alive, sure = self.survey(alive, ranges)
            verdict = judge(alive, sure)
            chosen: tuple[int, int] | None = None
            if verdict is not True and verdict is not False:
                chosen = self.clean_cut(int(verdict), ranges)
                if chosen is None:
                    met, known = self.met(int(verdict), ranges, simplex, known, cuts)
                    alive &= ~int(verdict) | met
                    alive, sure = self.survey(alive, ranges)
                    verdict = judge(alive, sure)
                    if verdict is not True and verdict is not False:
                        chosen = self.best_cut(int(verdict), ranges, known)
                        cuts = (chosen[0],)
            if verdict is True:
                continue
            if chosen is None:
                point = self.point_in(self.limits(ranges), simplex)
                if point is not None:
                    return FoundPlace(self, ranges, point)
                continue
            line, at = chosen
            for pair in ((ranges[line][0], at), (at, ranges[line][1])):
                half = (*ranges[:line], pair, *ranges[line + 1 :])
                inside = self.enter(self.limits(half), simplex) if line < self.n_forms else simplex
                if inside is not None:
                    waiting.append((alive, half, inside, known, cuts))
        return None

    def cells_at(self, ranges: Ranges, point: list[Fraction]) -> tuple[int, ...]:
        """Return the cell of each dimension at a point of a box."""
        cells = self.of.cells_at(point)
        for number, of_dimension, (start, _) in zip(
            self.apart, self.apart_cells, ranges[self.n_forms :], strict=True
        ):
            cells[number] = of_dimension[start]
        return tuple(cells[number] for number in range(len(self.within)))

    def survey(self, alive: int, ranges: Ranges) -> tuple[int, int]:
        """Return the rows that may meet a box, and those that hold it."""
        whole = alive
        for masks, (start, end) in zip(self.masks, ranges, strict=True):
            some, every = 0, alive
            for mask in masks[start:end]:
                some |= mask
                every &= mask
            alive &= some
            whole &= every
        return alive, whole & alive

    def met(
        self, rows: int, ranges: Ranges, simplex: Simplex, known: Mapping[int, Point], cuts: Sequence[int]
    ) -> tuple[int, dict[int, Point]]:
        """Return those of some rows that share a point with a box, each with one; those known lay in it before some cuts."""
        limits = self.limits(ranges)
        points: dict[int, Point] = {}
        met = 0
        for row in bits_of(rows):
            point = known.get(row)
            if point is not None and all(self.lies_in(form, ranges[form], point) for form in cuts):
                points[row] = point
                met |= 1 << row
                continue
            low, high = dict(limits[0]), dict(limits[1])
            is_apart = False
            for form, (start, end) in self.shared(row, ranges):
                if start >= end:
                    is_apart = True
                    break
                first, last = self.of.lines[form].cells[start][0], self.of.lines[form].cells[end - 1][1]
                if first is not None:
                    low[form] = max(low.get(form, first), first)
                if last is not None:
                    high[form] = min(high.get(form, last), last)
            inside = None if is_apart else self.enter((low, high), simplex)
            if inside is not None:
                points[row] = inside.point, inside.scale
                met |= 1 << row
        return met, points

    def lies_in(self, line: int, cells: tuple[int, int], point: Point) -> bool:
        if line >= self.n_forms:
            return True
        of_line = self.of.lines[line].cells
        first, last = of_line[cells[0]][0], of_line[cells[1] - 1][1]
        value = dot(self.of.forms[line], point[0])
        return (first is None or value >= first * point[1]) and (last is None or value <= last * point[1])

    def shared(self, row: int, ranges: Ranges) -> Iterator[tuple[int, tuple[int, int]]]:
        """Yield what a row leaves of the forms of a box, from its first cell to its last; what it leaves whole is left out."""
        for form, (start, end) in enumerate(ranges[: self.n_forms]):
            held = [at for at in range(start, end) if self.masks[form][at] >> row & 1]
            if len(held) < end - start:
                yield form, (held[0], held[-1] + 1) if held else (0, 0)

    def _places_to_cut(self, rows: int, ranges: Ranges, line: int) -> Iterator[tuple[int, int, int]]:
        """Yield the cells before which rows change, each with the rows that meet either side."""
        start, end = ranges[line]
        masks = [mask & rows for mask in self.masks[line][start:end]]
        behind = [*itertools.accumulate(reversed(masks), int.__or__)][::-1]
        before = 0
        for at in range(1, end - start):
            before |= masks[at - 1]
            if masks[at] != masks[at - 1]:
                yield start + at, before, behind[at]

    def clean_cut(self, rows: int, ranges: Ranges) -> tuple[int, int] | None:
        """Return the line and the cell to cut before, so that each row lies on one side and the larger has few."""
        best, chosen = rows.bit_count(), None
        for line in range(len(ranges)):
            for at, left, right in self._places_to_cut(rows, ranges, line):
                if not left & right and (larger := max(left.bit_count(), right.bit_count())) < best:
                    best, chosen = larger, (line, at)
        return chosen

    def best_cut(self, rows: int, ranges: Ranges, known: Mapping[int, Point]) -> tuple[int, int]:
        """Return the line and the cell to cut before: the half with more rows is to have few of them."""
        numbers = list(known)
        unit = self.of.unit
        points = [[value / (scale * unit) for value in values] for values, scale in known.values()]
        best, chosen = math.inf, (-1, -1)
        for line in range(len(ranges)):
            places = list(self._places_to_cut(rows, ranges, line))
            if not places:
                continue
            values: list[tuple[float, int]] = []
            if line < self.n_forms:
                form = self.form_values[line]
                values = sorted(
                    (math.fsum(a * x for a, x in zip(form, point, strict=True)), row)
                    for point, row in zip(points, numbers, strict=True)
                )
            reached, known_left = 0, 0
            for at, left, right in places:
                cut: Cut | None = self.of.lines[line].lows[at] if line < self.n_forms else None
                while (
                    cut is not None and reached < len(values) and values[reached][0] < cut[0] + cut[1] * 1e-9
                ):
                    known_left |= 1 << values[reached][1]
                    reached += 1
                both = left & right
                n_left, n_both = (both & known_left).bit_count(), both.bit_count()
                larger = max(
                    (left & ~right).bit_count() + n_left, (right & ~left).bit_count() + n_both - n_left
                )
                if larger + n_both / 2 < best:
                    best, chosen = larger + n_both / 2, (line, at)
        return chosen


def _plain_values(
    first: Fraction | None, last: Fraction | None, step: tuple[Fraction, Fraction] | None
) -> Iterator[Fraction]:
    """Yield values between two ends: those of few digits near the middle, then the ends."""
    low = first if first is not None else last - 2 if last is not None else Fraction(-1)
    high = last if last is not None else low + 2
    middle = (low + high) / 2
    for digits in range(-3, 13):
        value = round(middle * Fraction(10) ** digits) / Fraction(10) ** digits
        if low <= value <= high and (step is None or (value - step[1]) % step[0] == 0):
            yield value
    if step is not None:
        yield step[1] + round((middle - step[1]) / step[0]) * step[0]
    yield from (low, high)


def _runs_of(mask: int) -> Iterator[tuple[int, int]]:
    """Yield the ranges of neighbouring bits that are set."""
    while mask:
        first = (mask & -mask).bit_length() - 1
        shifted = mask >> first
        end = first + (~shifted & (shifted + 1)).bit_length() - 1
        yield first, end
        mask &= -1 << end
