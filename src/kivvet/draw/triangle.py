"""Triangles of three inputs that sum to a constant, drawn: regions in the colours of their classes, gaps and overlaps marked."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from kivvet.core.picture.places import marks
from kivvet.core.picture.triangle import Face, Mix, Triangle
from kivvet.draw.paper import (
    ALARM,
    FAINT,
    INK,
    RULE,
    footnotes,
    heading,
    ink_on,
    key_below,
    painted,
    paper,
    shortened,
    wrapped,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure

Spot = tuple[float, float]
HEIGHT = 3**0.5 / 2
_TENTHS = range(1, 10)
_TINY = 0.004  # of the triangle: a region that small has no room for its name


def spot_of(mix: Mix, total: float) -> Spot:
    """Return where a mix lies in a triangle one wide: all of the first part at the top, of the second on the left."""
    first, _, third = (float(one) / total for one in mix)
    return third + first / 2, first * HEIGHT


def labels_of(picture: Triangle) -> Iterator[tuple[str, Face, float]]:
    """Yield the name of each region that is large enough, a face to write it on, and the area of the region."""
    by_region: dict[tuple[str, str], list[Face]] = {}
    for face in picture.faces:
        by_region.setdefault((face.given.kind, face.given.label), []).append(face)
    whole = sum(face.area for face in picture.faces)
    for (kind, label), faces in by_region.items():
        for group in _together(faces):
            area = sum(face.area for face in group) / whole
            if area >= _TINY:
                yield (kind if kind in ("gap", "overlap") else label), _most_inward(group), area


def _together(faces: list[Face]) -> Iterator[list[Face]]:
    """Yield the faces that hang together by a line."""
    waiting = list(faces)
    while waiting:
        group = [waiting.pop()]
        grown = True
        while grown:
            corners = [set(one.corners) for one in group]
            near = [one for one in waiting if any(len(held & {*one.corners}) > 1 for held in corners)]
            group += near
            waiting = [one for one in waiting if one not in near]
            grown = bool(near)
        yield group


def _most_inward(group: list[Face]) -> Face:
    """Return the face nearest the middle of a region that is large in it."""
    whole = sum(one.area for one in group) or 1.0
    middle = [sum(float(one.middle[k]) * one.area for one in group) / whole for k in range(3)]

    def away(one: Face) -> float:
        return sum((float(a) - b) ** 2 for a, b in zip(one.middle, middle, strict=True))

    large = [one for one in group if one.area >= 0.2 * max(face.area for face in group)]
    return min(large, key=away)


def ticks_of(picture: Triangle) -> Iterator[tuple[int, Mix, Mix, str]]:
    """Yield for each part the lines along which there is as much of it: where each begins and ends, and how much."""
    total = picture.total
    for part in range(3):
        for tenth in _TENTHS:
            value = total * tenth / 10
            ends = []
            for other in ((part + 1) % 3, (part + 2) % 3):
                mix = [value if k == part else total - value if k == other else total * 0 for k in range(3)]
                ends.append((mix[0], mix[1], mix[2]))
            shown = f"{float(value):g}" if tenth % 2 == 0 else ""
            yield part, ends[0], ends[1], shown


def draw_triangle(picture: Triangle) -> Figure:
    """Return a triangle as a figure."""
    from matplotlib.patches import Polygon

    total = float(picture.total)
    with paper(picture.as_dict()) as (figure, said):
        fixed = ", ".join(picture.fixed.values())
        names = " + ".join(picture.parts)
        heading(figure, picture.title, f"{names} = {total:g}" + (f"; with {fixed}" if fixed else ""))
        foot = footnotes(figure, [*picture.notes, *said])
        top = 0.875
        top -= key_below(figure, picture.key[:20], top, marks(picture.kinds)) + 0.01
        axes = figure.add_axes((0.03, foot, 0.94, top - foot))
        for face in picture.faces:
            how = painted(face.given.paint)
            is_fault = face.given.kind in ("gap", "overlap")
            how["hatchcolor"] = ALARM if is_fault else how["edgecolor"]
            corners = [spot_of(mix, total) for mix in face.corners]
            colour = face.given.paint.colour  # faces of one colour leave no seam, patterns go on across it
            axes.add_patch(Polygon(corners, closed=True, facecolor=colour, edgecolor=colour, linewidth=0.8))
            how |= {"facecolor": "none", "linewidth": 0.0, "zorder": 1.5}
            axes.add_patch(Polygon(corners, closed=True, **how))
        for _, begin, end, _ in ticks_of(picture):
            (x0, y0), (x1, y1) = spot_of(begin, total), spot_of(end, total)
            axes.plot([x0, x1], [y0, y1], color=RULE, linewidth=0.5, alpha=0.5)
        for begin, end in picture.borders:
            (x0, y0), (x1, y1) = spot_of(begin, total), spot_of(end, total)
            axes.plot([x0, x1], [y0, y1], color=INK, linewidth=1.1, solid_capstyle="round")
        for (begin, end), _ in picture.edges:
            (x0, y0), (x1, y1) = spot_of(begin, total), spot_of(end, total)
            axes.plot([x0, x1], [y0, y1], color=ALARM, linewidth=2.6, solid_capstyle="round")
        outline = [(0.0, 0.0), (1.0, 0.0), (0.5, HEIGHT)]
        axes.add_patch(Polygon(outline, closed=True, fill=False, edgecolor=INK, linewidth=1.3))
        for label, face, area in labels_of(picture):
            x, y = spot_of(face.middle, total)
            axes.text(
                x,
                y,
                wrapped(label, 11),
                ha="center",
                va="center",
                size=10.5 if area > 0.02 else 8.5,
                color=ink_on(face.given.paint),
                bbox={"facecolor": face.given.paint.colour, "edgecolor": "none", "pad": 1.2, "alpha": 0.9},
            )
        for part, _, end, shown in ticks_of(picture):
            if shown:
                x, y = spot_of(end, total)
                dx, dy, to = ((0.012, 0.0, "left"), (-0.012, 0.012, "right"), (0.004, -0.03, "center"))[part]
                axes.text(x + dx, y + dy, shown, size=9.5, color=FAINT, ha=to, va="center")
        for part, (x, y, to) in enumerate(
            ((0.5, HEIGHT + 0.03, "center"), (-0.01, -0.05, "right"), (1.01, -0.05, "left"))
        ):
            axes.text(
                x, y, shortened(f"all {picture.parts[part]}", 24), size=11, color=INK, ha=to, va="center"
            )
        axes.set_xlim(-0.25, 1.25)
        axes.set_ylim(-0.09, HEIGHT + 0.06)
        axes.set_aspect("equal")
        axes.axis("off")
        return figure
