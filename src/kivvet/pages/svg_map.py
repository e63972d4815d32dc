"""A map of a table's space in a report: what it gives over two inputs, a panel for each part of a third."""

from __future__ import annotations

from collections.abc import Sequence

from kivvet.core.picture.region_map import Panel, RegionMap, Strip
from kivvet.draw.paper import ALARM
from kivvet.draw.region_map import borders_of, edges_of, labels_of
from kivvet.pages.svg_parts import LETTER, WIDE, Drawing, pieces

_HIGH, _ABOVE, _BELOW = 210.0, 20.0, 56.0


def svg_of_map(picture: RegionMap, name: str) -> str:
    """Return a map as an element of a page."""
    drawing = Drawing(name)
    number = len(picture.panels)
    columns = number if number <= 3 else 2 if number == 4 else 3
    longest = min(24, max(len(one.text) for one in picture.strips_upright))
    left = 24 + LETTER * longest
    wide = (WIDE - left) / columns
    lines = -(-number // columns)
    for place, panel in enumerate(picture.panels):
        line, column = divmod(place, columns)
        x, y = left + column * wide, line * (_HIGH + _ABOVE + _BELOW) + _ABOVE
        _panel(drawing, panel, (x, y, wide - 14, _HIGH), picture)
        if panel.about:
            drawing.text(x, y - 6, panel.about, to="start")
        if column == 0:
            _upright(drawing, picture, x, y)
        _across(drawing, picture.strips_across, x, y + _HIGH, wide - 14)
        drawing.text(x + (wide - 14) / 2, y + _HIGH + 46, picture.across, kind="faint")
    return drawing.made(lines * (_HIGH + _ABOVE + _BELOW), picture.words)


def _upright(drawing: Drawing, picture: RegionMap, x: float, y: float) -> None:
    edges = edges_of(picture.strips_upright)
    for strip, begin, end in zip(picture.strips_upright, edges, edges[1:], strict=False):
        middle = y + _HIGH * (1 - (begin + end) / 2 / edges[-1])
        drawing.text(x - 6, middle + 4, strip.text, to="end")
    drawing.text(2, y - 6, picture.upright, to="start", kind="faint")


def _across(drawing: Drawing, strips: Sequence[Strip], x: float, y: float, wide: float) -> None:
    edges = edges_of(strips)
    most = max(4, int(wide / len(strips) / LETTER))
    for strip, begin, end in zip(strips, edges, edges[1:], strict=False):
        for number, text in enumerate(pieces(strip.text, most)):
            drawing.text(x + wide * (begin + end) / 2 / edges[-1], y + 15 + 13 * number, text)


def _panel(
    drawing: Drawing, panel: Panel, frame: tuple[float, float, float, float], picture: RegionMap
) -> None:
    x, y, wide, high = frame
    across, upright = edges_of(picture.strips_across), edges_of(picture.strips_upright)

    def at(one: float, other: float) -> tuple[float, float]:
        return x + wide * one / across[-1], y + high * (1 - other / upright[-1])

    for line, given_line in enumerate(panel.given):
        for column, given in enumerate(given_line):
            (left, foot), (right, top) = (
                at(across[column], upright[line]),
                at(across[column + 1], upright[line + 1]),
            )
            ink = ALARM if given.kind in ("gap", "overlap") else ""
            edge = ink or given.paint.colour  # no seams
            drawing.area(left, top, right - left, foot - top, given.paint, edge=edge, ink=ink)
    for begin, end in borders_of(panel, across, upright):
        drawing.line(*at(*begin), *at(*end), "border")
    for label, paint, one, other, room in labels_of(panel, across, upright):
        drawing.name_on(at(one, other)[0], at(one, other)[1] + 4, label, paint, wide * room / across[-1] - 6)
