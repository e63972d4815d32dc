"""Maps of a table's space, drawn: regions in the colours of their classes, gaps and overlaps marked."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import pairwise
from typing import TYPE_CHECKING

from kivvet.core.picture.paints import Paint
from kivvet.core.picture.places import Given, marks
from kivvet.core.picture.region_map import Panel, RegionMap, Strip
from kivvet.draw.paper import (
    ALARM,
    FAINT,
    INK,
    bare,
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
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_POINT = 0.35  # how wide a single value is drawn, beside a stretch


def draw_map(picture: RegionMap) -> Figure:
    """Return a map as a figure."""
    with paper(picture.as_dict()) as (figure, said):
        fixed = ", ".join(picture.fixed.values())
        below = f"{picture.upright} upwards, {picture.across} to the right" + (
            f"; with {fixed}" if fixed else ""
        )
        heading(figure, picture.title, below)
        foot = footnotes(figure, [*picture.notes, *said])
        top = 0.875
        top -= key_below(figure, picture.key[:20], top, _faults(picture)) + 0.01
        number = len(picture.panels)
        columns = number if number <= 3 else 2 if number == 4 else 3
        lines = -(-number // columns)
        longest = min(24, max(len(one.text) for one in picture.strips_upright))
        left = 0.05 + 0.0073 * longest
        wide = (0.98 - left) / columns
        bottom = foot + 0.09
        high = (top - bottom) / lines
        for place, panel in enumerate(picture.panels):
            line, column = divmod(place, columns)
            y = top - (line + 1) * high
            gap_above = 0.045 if panel.about else 0.01
            axes = figure.add_axes((left + column * wide, y, wide - 0.015, high - gap_above))
            _put_panel(axes, picture, panel)
            if panel.about:
                axes.set_title(shortened(panel.about, 90 // columns), size=11, loc="left", color=INK)
            _ticks(axes, picture.strips_upright, upright=True, is_shown=column == 0)
            is_last = place + columns >= number
            _ticks(axes, picture.strips_across, upright=False, is_shown=is_last, room=wide)
            if column == 0:
                axes.set_ylabel(shortened(picture.upright, 30), color=FAINT)
            if is_last:
                axes.set_xlabel(shortened(picture.across, 40), color=FAINT)
        return figure


def _faults(picture: RegionMap) -> list[tuple[str, Paint]]:
    return marks({given.kind for panel in picture.panels for line in panel.given for given in line})


def edges_of(strips: Sequence[Strip]) -> list[float]:
    """Return where strips begin and end, a single value narrower than a stretch."""
    edges = [0.0]
    for strip in strips:
        edges.append(edges[-1] + (_POINT if strip.is_point else 1.0))
    return edges


def _ticks(axes: Axes, strips: Sequence[Strip], *, upright: bool, is_shown: bool, room: float = 1.0) -> None:
    edges = edges_of(strips)
    middles = [(one + two) / 2 for one, two in pairwise(edges)]
    if upright:
        axes.set_yticks(
            middles,
            [wrapped(strip.text, 24) for strip in strips] if is_shown else [""] * len(strips),
            size=10 if len(strips) < 20 else 8,
        )
        return
    per_strip = room / len(strips) / 0.0078
    is_tight = max(len(strip.text) for strip in strips) > per_strip * 1.9
    labels = (
        [
            shortened(strip.text, 22) if is_tight else wrapped(strip.text, max(4, int(per_strip)))
            for strip in strips
        ]
        if is_shown
        else [""] * len(strips)
    )
    axes.set_xticks(middles, labels, size=10 if len(strips) < 20 else 8)
    if is_tight and is_shown:
        axes.tick_params(axis="x", labelrotation=30)
        for label in axes.get_xticklabels():
            label.set_horizontalalignment("right")
            label.set_rotation_mode("anchor")


def _put_panel(axes: Axes, picture: RegionMap, panel: Panel) -> None:
    from matplotlib.patches import Rectangle

    across, upright = edges_of(picture.strips_across), edges_of(picture.strips_upright)
    for line, given_line in enumerate(panel.given):
        for column, given in enumerate(given_line):
            is_fault = given.kind in ("gap", "overlap")
            x, y = across[column], upright[line]
            wide, high = across[column + 1] - x, upright[line + 1] - y
            how = painted(given.paint)
            hatch = ALARM if is_fault else how["edgecolor"]
            how |= {"hatchcolor": hatch, "edgecolor": given.paint.colour, "linewidth": 0.8}  # no seams
            axes.add_patch(Rectangle((x, y), wide, high, **how))
    for (x0, y0), (x1, y1) in borders_of(panel, across, upright):
        axes.plot([x0, x1], [y0, y1], color=INK, linewidth=1.1, solid_capstyle="butt")
    for label, paint, x, y, wide in labels_of(panel, across, upright):
        letters = max(4, int(wide / across[-1] * 150 / max(1, min(3, len(picture.panels)))))
        axes.text(
            x,
            y,
            wrapped(label, letters),
            ha="center",
            va="center",
            size=10.5,
            color=ink_on(paint),
            clip_on=True,
            bbox={"facecolor": paint.colour, "edgecolor": "none", "pad": 1.5, "alpha": 0.9},
        )
    bare(axes)
    axes.set_xlim(across[0], across[-1])
    axes.set_ylim(upright[0], upright[-1])


Spot = tuple[float, float]


def borders_of(
    panel: Panel, across: Sequence[float], upright: Sequence[float]
) -> Iterator[tuple[Spot, Spot]]:
    """Yield the ends of a line wherever what is given changes."""
    for line, given in enumerate(panel.given):
        for column, here in enumerate(given):
            if column + 1 < len(given) and _differ(here, given[column + 1]):
                x = across[column + 1]
                yield (x, upright[line]), (x, upright[line + 1])
            if line + 1 < len(panel.given) and _differ(here, panel.given[line + 1][column]):
                y = upright[line + 1]
                yield (across[column], y), (across[column + 1], y)


def _differ(one: Given, other: Given) -> bool:
    return (one.kind, one.label) != (other.kind, other.label)


def labels_of(
    panel: Panel, across: Sequence[float], upright: Sequence[float]
) -> list[tuple[str, Paint, float, float, float]]:
    """Return for each connected region its label, once, in the middle of its widest line."""
    n_lines, n_columns = len(panel.given), len(panel.given[0])
    seen: set[tuple[int, int]] = set()
    made = []
    for line in range(n_lines):
        for column in range(n_columns):
            if (line, column) in seen:
                continue
            region = _region(panel, line, column)
            seen |= region
            given = panel.given[line][column]
            label = given.kind if given.kind in ("gap", "overlap") else given.label
            runs: list[tuple[float, int, int, int]] = []
            for at in {place[0] for place in region}:
                begun = None
                for column_at in range(n_columns + 1):
                    inside = (at, column_at) in region
                    if inside and begun is None:
                        begun = column_at
                    if not inside and begun is not None:
                        runs.append((round(across[column_at] - across[begun], 6), at, begun, column_at))
                        begun = None
            widest = max(runs)[0]
            best = [run for run in runs if run[0] == widest]
            _, at, begun, end = best[len(best) // 2]
            if len(best) > 1 and all(run[2:] == best[0][2:] for run in best):
                low, high = upright[best[0][1]], upright[best[-1][1] + 1]
                y = (
                    (low + high) / 2
                    if best[-1][1] - best[0][1] == len(best) - 1
                    else (upright[at] + upright[at + 1]) / 2
                )
            else:
                y = (upright[at] + upright[at + 1]) / 2
            if widest >= _POINT * 1.5 or len(region) > 1:
                made.append((label, given.paint, (across[begun] + across[end]) / 2, y, widest))
    return made


def _region(panel: Panel, line: int, column: int) -> set[tuple[int, int]]:
    """Return the places that hang together with one and are given the same."""
    found, waiting = {(line, column)}, [(line, column)]
    here = panel.given[line][column]
    while waiting:
        y, x = waiting.pop()
        for near in ((y + 1, x), (y - 1, x), (y, x + 1), (y, x - 1)):
            inside = 0 <= near[0] < len(panel.given) and 0 <= near[1] < len(panel.given[0])
            if inside and near not in found and not _differ(panel.given[near[0]][near[1]], here):
                found.add(near)
                waiting.append(near)
    return found
