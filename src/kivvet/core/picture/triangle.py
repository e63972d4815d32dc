"""Triangles of three inputs that sum to a constant, as values: every place stands for one mix of the three.

The bounds of rows and statements are straight lines across the triangle; they cut it into faces on which no row changes its mind.
Each face is decided by a mix within it, and each line between faces by one on it: a gap or an overlap may be as thin as a line.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from itertools import pairwise
from typing import Any

from kivvet.core.linear.form_lines import Line
from kivvet.core.linear.tied_columns import TiedColumns, TiedForms, stated
from kivvet.core.picture.paints import Paint
from kivvet.core.picture.places import NEVER, Given, Places, in_order
from kivvet.core.space.boxes import Space, bits_of
from kivvet.core.space.region_text import write_asked
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.wording import listed

#: How much there is of each of the three parts.
Mix = tuple[Fraction, Fraction, Fraction]
Point = tuple[Fraction, Fraction]
_PARTS = 3
_MOST_FACES = 4_000


@dataclass(frozen=True, slots=True)
class Face:
    """A part of the triangle without corners inwards, and what the table gives there."""

    corners: tuple[Mix, ...]
    given: Given

    @property
    def middle(self) -> Mix:
        """A mix within it."""
        first, second, third = (
            sum(each, Fraction(0)) / len(self.corners) for each in zip(*self.corners, strict=True)
        )
        return first, second, third

    @property
    def area(self) -> float:
        """Its share of the triangle, times the square of the total."""
        points = [(float(a), float(b)) for a, b, _ in self.corners]
        around = [*points, points[0]]
        return abs(sum(x * v - u * y for (x, y), (u, v) in pairwise(around)))


@dataclass(frozen=True)
class Triangle:
    """What a table gives over three inputs that sum to a constant.

    Attributes
    ----------
    title : str
    parts : tuple of three str
        The inputs: all of the first stands at the top, of the second on the left, of the third on the right.
    total : Fraction
    faces : tuple of Face
    edges : tuple of ((Mix, Mix), Given)
        Lines between faces on which rows leave a gap, or overlap.
    borders : tuple of (Mix, Mix)
        Lines between faces that differ.
    fixed : mapping of str to str
        The other inputs, each with what holds of it, as a condition.
    key : tuple of (str, Paint)
    notes : tuple of str
    """

    title: str
    parts: tuple[str, ...]
    total: Fraction
    faces: tuple[Face, ...]
    edges: tuple[tuple[tuple[Mix, Mix], Given], ...]
    borders: tuple[tuple[Mix, Mix], ...]
    fixed: Mapping[str, str]
    key: tuple[tuple[str, Paint], ...]
    notes: tuple[str, ...] = ()

    @property
    def kinds(self) -> set[Any]:
        """The kinds of places that are drawn."""
        return {face.given.kind for face in self.faces} | {given.kind for _, given in self.edges}

    def as_dict(self) -> dict[str, Any]:
        def numbers(corners: Sequence[Mix]) -> list[list[float]]:
            return [[float(one) for one in mix] for mix in corners]

        def told(given: Given, corners: Sequence[Mix]) -> dict[str, Any]:
            return {
                "kind": given.kind,
                "label": given.label,
                "rows": list(given.rows),
                "corners": numbers(corners),
            }

        return {
            "kind": "triangle",
            "title": self.title,
            "parts": list(self.parts),
            "total": float(self.total),
            "fixed": dict(self.fixed),
            "faces": [told(face.given, face.corners) for face in self.faces],
            "edges": [told(given, ends) for ends, given in self.edges],
            "notes": list(self.notes),
        }

    @property
    def words(self) -> str:
        shares: dict[str, float] = {}
        for face in self.faces:
            shares[face.given.label] = shares.get(face.given.label, 0.0) + face.area
        whole = sum(shares.values())
        told = [f"{label} {100 * share / whole:.0f} %" for label, share in shares.items()]
        thin = [f"on a line {given.label}" for _, given in self.edges[:1]]
        return f"{self.title}. Of all mixes of {listed(self.parts)}: {', '.join([*told, *thin])}."


def parts_of(table: Table) -> tuple[tuple[str, ...], Fraction] | None:
    """Return three inputs of a table that sum to a constant, in their order, and that constant; None where there are none, or
    more inputs are tied to them.
    """
    inputs = [input_.name for input_ in table.inputs]
    for statement, _ in stated(table)[0]:
        form = statement.form
        sizes = set(form.coefficients.values())
        names = tuple(name for name in inputs if name in form.coefficients)
        ((low, high), *others) = statement.intervals
        is_equation = not others and low is not None and high is not None and low[0] == high[0]
        if is_equation and len(names) == len(form.coefficients) == _PARTS and len(sizes) == 1:
            total = -form.constant / sizes.pop()
            tied = TiedColumns.of(Space(table))
            if total > 0 and tied is not None and set(tied.names) == set(names):
                return names, total
    return None


def triangle_of(
    table: Table, output: Output, title: str, *, fixed: Mapping[str, str] | None = None
) -> Triangle:
    """Return a table over three inputs that sum to a constant as a triangle.

    Parameters
    ----------
    fixed : mapping of str to str
        By other input the value that it has; without it the first stretch of each is drawn.

    Raises
    ------
    BookError, DataError
        If no three inputs sum to a constant, if there is no such input, or a value is none.
    """
    from kivvet.core.picture.region_map import fixed_strips

    found = parts_of(table)
    tied = TiedColumns.of(space := Space(table)) if table.lookup is None else None
    forms = None if found is None or tied is None else tied.forms_where(frozenset())
    if found is None or forms is None or forms.n != _PARTS - 1:
        raise DataError(
            f"no three inputs of table {table.name!r} sum to a constant",
            expected='a statement such as given = ["gravel + sand + mud = 100"] of inputs that no other statement names',
            fix="draw it otherwise: --kind map",
        )
    parts, total = found
    own = (
        {number for number, form in enumerate(tied.forms) if form is not None} if tied is not None else set()
    )
    others = {
        dimension.about.name: dimension
        for number, dimension in enumerate(space.dimensions)
        if number not in own
    }
    strips = fixed_strips(table, others, fixed or {})
    at = {
        number: next(bits_of(strips[dimension.about.name].cells))
        for number, dimension in enumerate(space.dimensions)
        if number not in own
    }
    drawing = _Drawing(forms, parts, total, Places(table, output), at)
    faces = drawing.faces()
    borders, edges = drawing.lines(faces)
    notes = []
    if stated(table)[1]:
        notes.append("statements that are not linear may rule out more")
    if output.name in table.missing:
        notes.append(
            f"where a value is missing: {output.name} = {Places.text_of(table.missing[output.name])}"
        )
    drawn = {face.given.label: face.given.paint for face in faces if face.given.kind in ("class", "open")}
    return Triangle(
        title,
        parts,
        total,
        tuple(faces),
        tuple(edges),
        tuple(borders),
        {
            name: strip.text if others[name].test is not None else write_asked(name, strip.text)
            for name, strip in strips.items()
        },
        tuple((label, drawn[label]) for label in in_order(table, output, list(drawn))),
        tuple(notes),
    )


class _Drawing:
    """The faces of one triangle, as points of the two columns that are left."""

    def __init__(
        self,
        forms: TiedForms,
        parts: tuple[str, ...],
        total: Fraction,
        places: Places,
        at: Mapping[int, int],
    ) -> None:
        self.forms, self.parts, self.total, self.places, self.at = forms, parts, total, places, at
        self.dimensions = forms.tied.space.dimensions
        self.has_steps = any(step is not None for step in forms.tied.steps.values())

    def mix(self, point: Point) -> Mix:
        values = self.forms.substitution.values(point)
        first, second, third = (values[name] for name in self.parts)
        return first, second, third

    def faces(self) -> list[Face]:
        """Return the faces that the bounds cut the triangle into."""
        free = self.forms.substitution.free
        corners = []
        for name in self.parts:
            values = {part: self.total if part == name else Fraction(0) for part in self.parts}
            corners.append((values[free[0]], values[free[1]]))
        polygons: list[list[Point]] = [corners]
        for form, line in zip(self.forms.forms, self.forms.lines, strict=True):
            for value in dict.fromkeys(cut[0] for cut in line.lows if cut is not None):
                polygons = [part for polygon in polygons for part in _split(polygon, form, value)]
                if len(polygons) > _MOST_FACES:
                    raise DataError(
                        f"the rows cut the triangle into more than {_MOST_FACES:,} parts", fix="--kind map"
                    )
        return [Face(tuple(map(self.mix, polygon)), self.given(_middle(polygon))) for polygon in polygons]

    def lines(
        self, faces: Sequence[Face]
    ) -> tuple[list[tuple[Mix, Mix]], list[tuple[tuple[Mix, Mix], Given]]]:
        """Return the lines between faces that differ, and those on which there is a fault that neither side has."""
        sides: dict[frozenset[Mix], list[Face]] = {}
        for face in faces:
            for ends in pairwise([*face.corners, face.corners[0]]):
                sides.setdefault(frozenset(ends), []).append(face)
        borders, faulty = [], []
        free = [self.parts.index(name) for name in self.forms.substitution.free]
        for pair, beside in sides.items():
            one, other = sorted(pair)
            kinds = {(face.given.kind, face.given.label) for face in beside}
            if len(kinds) > 1:
                borders.append((one, other))
            middle = [(a + b) / 2 for a, b in zip(one, other, strict=True)]
            given = self.given((middle[free[0]], middle[free[1]]))
            if (
                given.kind in ("gap", "overlap")
                and (given.kind, given.label) not in kinds
                and not self.has_steps
            ):
                faulty.append(((one, other), given))
        return borders, faulty

    def given(self, point: Point) -> Given:
        """Return what stands at a point."""
        rows = (1 << len(self.places.table.rows)) - 1
        is_open = False
        for number, cell in self._cells(point):
            dimension = self.dimensions[number]
            if dimension.is_plain and not dimension.inside >> cell & 1:
                return NEVER
            is_open = is_open or (dimension.is_open and cell in dimension.unlisted)
            rows &= dimension.masks[cell]
        return self.places.given(rows, is_open=is_open and not rows)

    def _cells(self, point: Point) -> Iterator[tuple[int, int]]:
        yield from self.at.items()
        yield from self.forms.fixed.items()
        for form, line in zip(self.forms.forms, self.forms.lines, strict=True):
            value = form[0] * point[0] + form[1] * point[1]
            number = _cell_at(line, value)
            yield from ((dimension, cells[number]) for dimension, cells in line.cells_of.items())


def _cell_at(line: Line, value: Fraction) -> int:
    """Return the cell of a form that a value lies in; between two, where steps leave no values, the one below."""
    ends = [(Fraction(-1), -1) if cut is None else cut for cut in line.lows]
    first = int(line.lows[0] is None)
    return max(0, first + bisect_left(ends[first:], (value, 1)) - 1)


def _split(polygon: list[Point], form: tuple[int, ...], value: Fraction) -> list[list[Point]]:
    """Return the parts of a polygon without corners inwards on either side of a line."""
    heights = [form[0] * x + form[1] * y - value for x, y in polygon]
    if min(heights) >= 0 or max(heights) <= 0:
        return [polygon]
    sides: tuple[list[Point], list[Point]] = ([], [])
    around = [*zip(polygon, heights, strict=True), (polygon[0], heights[0])]
    for (point, height), (then, height_then) in pairwise(around):
        if height <= 0:
            sides[0].append(point)
        if height >= 0:
            sides[1].append(point)
        if height * height_then < 0:
            share = height / (height - height_then)
            crossing = (point[0] + (then[0] - point[0]) * share, point[1] + (then[1] - point[1]) * share)
            sides[0].append(crossing)
            sides[1].append(crossing)
    return list(sides)


def _middle(polygon: Sequence[Point]) -> Point:
    n = len(polygon)
    return sum((x for x, _ in polygon), Fraction(0)) / n, sum((y for _, y in polygon), Fraction(0)) / n
