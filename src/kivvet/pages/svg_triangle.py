"""A triangle of three inputs that sum to a constant, in a report."""

from __future__ import annotations

from kivvet.core.picture.triangle import Mix, Triangle
from kivvet.draw.paper import ALARM
from kivvet.draw.triangle import HEIGHT, labels_of, spot_of, ticks_of
from kivvet.pages.svg_parts import WIDE, Drawing

_SIDE, _ABOVE, _BELOW = 440.0, 26.0, 34.0


def svg_of_triangle(picture: Triangle, name: str) -> str:
    """Return a triangle as an element of a page."""
    drawing, total = Drawing(name), float(picture.total)
    left, foot = (WIDE - _SIDE) / 2, _ABOVE + HEIGHT * _SIDE

    def at(mix: Mix) -> tuple[float, float]:
        x, y = spot_of(mix, total)
        return left + x * _SIDE, foot - y * _SIDE

    for face in picture.faces:
        ink = ALARM if face.given.kind in ("gap", "overlap") else ""
        drawing.shape([at(mix) for mix in face.corners], face.given.paint, ink=ink)
    for begin, end in picture.borders:
        drawing.line(*at(begin), *at(end), "border")
    for (begin, end), _ in picture.edges:
        drawing.line(*at(begin), *at(end), "alarm")
    outline = [(left, foot), (left + _SIDE, foot), (left + _SIDE / 2, _ABOVE)]
    for corner, other in zip(outline, [*outline[1:], outline[0]], strict=True):
        drawing.line(*corner, *other, "border")
    for label, face, area in labels_of(picture):
        x, y = at(face.middle)
        drawing.name_on(x, y + 4, label, face.given.paint, 1.2 * _SIDE * area**0.5)
    for part, _, end, shown in ticks_of(picture):
        x, y = at(end)
        dx, dy, to = ((6, 4, "start"), (-6, 0, "end"), (2, 15, "middle"))[part]
        drawing.text(x + dx, y + dy, shown, to=to, kind="faint")
    drawing.text(left + _SIDE / 2, _ABOVE - 8, f"all {picture.parts[0]}")
    drawing.text(left - 8, foot + 18, f"all {picture.parts[1]}", to="end")
    drawing.text(left + _SIDE + 8, foot + 18, f"all {picture.parts[2]}", to="start")
    return drawing.made(foot + _BELOW, picture.words)
