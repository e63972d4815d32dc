"""A histogram in a report: bars in the paints of their classes, bounds as lines, what the table makes of each stretch below."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

from kivvet.core.picture.histogram import Band, Histogram
from kivvet.core.picture.paints import Paint
from kivvet.core.picture.places import GAP, OVERLAP
from kivvet.draw.histogram import written_place
from kivvet.draw.lines import apart
from kivvet.draw.paper import ALARM
from kivvet.pages.svg_parts import LETTER, WIDE, Drawing, round_steps

Across = Callable[[float], float]
_LEFT, _TOP, _HIGH, _STRIP = 56.0, 8.0, 190.0, 30.0


def svg_of_histogram(picture: Histogram, name: str) -> str:
    """Return a histogram as an element of a page."""
    drawing = Drawing(name)
    left = _LEFT if picture.layers else 4.0
    low, high = picture.view
    span = (high - low) or 1.0

    def across(value: float) -> float:
        return left + (WIDE - 8 - left) * (min(max(value, low), high) - low) / span

    at = _TOP
    if picture.layers:
        _bars(drawing, picture, across, left)
        at = _TOP + _HIGH + 6
    for band in picture.bands:
        begin, end = _ends(band, low, high)
        if end < begin:
            continue
        x, wide = across(begin), across(end) - across(begin)
        alarm = ALARM if _is_fault(band) else ""
        drawing.area(x, at, max(wide, 2.0), _STRIP, _paint(band), edge=alarm, ink=alarm)
        if not _is_fault(band):
            drawing.name_on(x + wide / 2, at + _STRIP / 2 + 4, band.label, band.paint, wide - 6)
    for place, _ in picture.bounds:
        if low <= place <= high:
            drawing.line(across(place), _TOP, across(place), at + _STRIP, "bound")
    _marks(drawing, picture, across, at + _STRIP)
    drawing.text((left + WIDE) / 2, at + _STRIP + 38, picture.about, kind="faint")
    return drawing.made(at + _STRIP + 44, picture.words)


def _bars(drawing: Drawing, picture: Histogram, across: Across, left: float) -> None:
    totals = [sum(counts) for counts in zip(*(layer.counts for layer in picture.layers), strict=True)]
    most = max(totals, default=0) or 1
    foot = _TOP + _HIGH
    for value in round_steps(most):
        y = foot - _HIGH * value / most
        drawing.line(left, y, WIDE - 8, y, "rule")
        drawing.text(left - 6, y + 4, f"{value:,.10g}", to="end", kind="faint")
    heights = [foot] * len(totals)
    for layer in picture.layers:
        for number, ((begin, end), rows) in enumerate(
            zip(pairwise(picture.edges), layer.counts, strict=True)
        ):
            if rows:
                tall = _HIGH * rows / most
                heights[number] -= tall
                drawing.area(across(begin), heights[number], across(end) - across(begin), tall, layer.paint)


def _marks(drawing: Drawing, picture: Histogram, across: Across, foot: float) -> None:
    """Write the bounds, and the ends where there is room, below the strip."""
    low, high = picture.view
    shown = [(across(place), text) for place, text in picture.bounds if low <= place <= high]
    least = LETTER * (1 + max((len(text) for _, text in shown), default=4))
    most = max(1, int(WIDE / least))
    shown = shown[:: -(-len(shown) // most)] if len(shown) > most else shown
    places = apart([place for place, _ in shown], least)
    for (place, text), at in zip(shown, places, strict=True):
        drawing.line(place, foot, at, foot + 7, "tick")
        drawing.text(at, foot + 19, text)
    for value, to in ((low, "start"), (high, "end")):
        if all(abs(across(value) - at) > least for at in places):
            drawing.text(across(value), foot + 19, written_place(value, picture.type), to=to, kind="faint")


def _is_fault(band: Band) -> bool:
    return band.kind in ("gap", "overlap")


def _paint(band: Band) -> Paint:
    return {"gap": GAP, "overlap": OVERLAP}.get(band.kind, band.paint)


def _ends(band: Band, low: float, high: float) -> tuple[float, float]:
    begin, end = (low if band.low is None else band.low), (high if band.high is None else band.high)
    return max(low, begin), min(high, end)
