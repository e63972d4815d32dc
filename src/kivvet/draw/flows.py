"""Flows, drawn: the classes before on the left, after on the right, and bands for the rows that go between."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kivvet.core.picture.flows import Flows
from kivvet.draw.lines import apart
from kivvet.draw.paper import FAINT, INK, footnotes, heading, painted, paper, shortened

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_LEFT, _RIGHT, _WIDE = 0.0, 1.0, 0.035
_BETWEEN = 0.018  # of all rows, that stands free between two classes


def draw_flows(flows: Flows) -> Figure:
    """Return flows as a figure."""
    with paper(flows.as_dict()) as (figure, said):
        heading(
            figure,
            flows.title,
            f"rows by class, {flows.before} on the left, {flows.after} on the right; what changes is dark",
        )
        foot = footnotes(figure, [*flows.notes, *said])
        longest = max(len(shortened(name, 30)) for name, *_ in flows.classes) + 14
        side = min(0.3, 0.02 + 0.0075 * longest)
        axes = figure.add_axes((side, foot + 0.02, 1 - 2 * side, 0.86 - foot - 0.03))
        axes.axis("off")
        axes.set_xlim(_LEFT, _RIGHT)
        _put_flows(axes, flows)
        return figure


def _put_flows(axes: Axes, flows: Flows) -> None:
    from matplotlib.patches import Rectangle

    total = max(flows.rows, 1)
    before = _tops([one for _, _, one, _ in flows.classes], total)
    after = _tops([two for *_, two in flows.classes], total)
    names = [name for name, *_ in flows.classes]
    paints = {name: paint for name, paint, *_ in flows.classes}
    rank = {name: place for place, name in enumerate(names)}
    left = {name: before[place] for place, name in enumerate(names)}
    right = {name: after[place] for place, name in enumerate(names)}
    ordered = sorted(flows.pairs, key=lambda pair: (rank[pair[0]], rank[pair[1]]))
    starts: dict[tuple[str, str], float] = {}
    ends: dict[tuple[str, str], float] = {}
    for one, two, number in ordered:
        starts[one, two] = left[one]
        left[one] += number
    for one, two, number in sorted(flows.pairs, key=lambda pair: (rank[pair[1]], rank[pair[0]])):
        ends[one, two] = right[two]
        right[two] += number
    for one, two, number in sorted(ordered, key=lambda pair: pair[0] != pair[1]):
        _band(
            axes,
            starts[one, two],
            ends[one, two],
            number,
            painted(paints[one]),
            is_same=one == two,
            least=total * 0.0012,
        )
    for place, (_, paint, old, new) in enumerate(flows.classes):
        for x, top, number in ((_LEFT, before[place], old), (_RIGHT - _WIDE, after[place], new)):
            axes.add_patch(Rectangle((x, top), _WIDE, number, zorder=3, clip_on=False, **painted(paint)))
    _names(axes, flows, before, after, total)
    axes.set_ylim(
        max(before[-1] + flows.classes[-1][2], after[-1] + flows.classes[-1][3]) + total * 0.01, -total * 0.06
    )
    axes.text(
        _LEFT,
        -total * 0.045,
        shortened(flows.before, 30),
        size=11,
        weight="bold",
        color=INK,
        ha="left",
        va="center",
    )
    axes.text(
        _RIGHT,
        -total * 0.045,
        shortened(flows.after, 30),
        size=11,
        weight="bold",
        color=INK,
        ha="right",
        va="center",
    )


def _tops(numbers: list[int], total: int) -> list[float]:
    tops, at = [], 0.0
    for number in numbers:
        tops.append(at)
        at += number + _BETWEEN * total
    return tops


def _band(
    axes: Axes, top: float, end: float, number: int, how: dict[str, object], *, is_same: bool, least: float
) -> None:
    from matplotlib.patches import PathPatch
    from matplotlib.path import Path

    high = max(float(number), least)
    x0, x1 = _LEFT + _WIDE, _RIGHT - _WIDE
    half = (x0 + x1) / 2
    points = [
        (x0, top),
        (half, top),
        (half, end),
        (x1, end),
        (x1, end + high),
        (half, end + high),
        (half, top + high),
        (x0, top + high),
        (x0, top),
    ]
    codes = [
        Path.MOVETO,
        Path.CURVE4,
        Path.CURVE4,
        Path.CURVE4,
        Path.LINETO,
        Path.CURVE4,
        Path.CURVE4,
        Path.CURVE4,
        Path.CLOSEPOLY,
    ]
    style = {
        "facecolor": how["facecolor"],
        "alpha": 0.16 if is_same else 0.88,
        "linewidth": 0 if is_same else 0.7,
        "edgecolor": INK,
    }
    axes.add_patch(PathPatch(Path(points, codes), zorder=1 if is_same else 2, **style))
    if not is_same and number:
        at = (top + end + high) / 2
        axes.text(
            half,
            at,
            f"{number:,}",
            ha="center",
            va="center",
            size=9.5,
            color=INK,
            zorder=4,
            bbox={"facecolor": "#ffffff", "edgecolor": "none", "pad": 1.0, "alpha": 0.8},
        )


def _names(axes: Axes, flows: Flows, before: list[float], after: list[float], total: int) -> None:
    for tops, is_left in ((before, True), (after, False)):
        numbers = [one[2] if is_left else one[3] for one in flows.classes]
        middles = [top + number / 2 for top, number in zip(tops, numbers, strict=True)]
        for place, y in enumerate(apart(middles, total * 0.042)):
            name, _, old, new = flows.classes[place]
            grown = f" ({new - old:+,})" if not is_left and new != old else ""
            text = f"{shortened(name, 30)}  {numbers[place]:,}{grown}"
            axes.text(
                _LEFT - 0.012 if is_left else _RIGHT + 0.012,
                y,
                text,
                ha="right" if is_left else "left",
                va="center",
                size=10.5,
                color=INK if numbers[place] else FAINT,
                clip_on=False,
            )
