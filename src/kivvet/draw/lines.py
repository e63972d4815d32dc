"""Lines, drawn."""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING, Any

from kivvet.core.picture.lines import Line, Lines
from kivvet.draw.paper import FAINT, INK, bare, footnotes, heading, paper, short_figure, shortened

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_MARKS = ("o", "s", "^", "D", "v", "P", "X", "<", ">", "p", "h", "*")
_DASHES = ("-", "--", "-.", ":")
_MOST_TICKS = 14
_LETTERS = 110  # of labels, that stand side by side
_NO_MARK: dict[str, Any] = {"marker": ""}
_MANY = 60  # periods, beyond which marks would hide the lines


def draw_lines(lines: Lines) -> Figure:
    """Return lines as a figure: each with a colour, a mark and a dash of its own, and its name at its end."""
    with paper(lines.as_dict()) as (figure, said):
        heading(figure, lines.title, f"{lines.measure} by {lines.about}")
        foot = footnotes(figure, [*lines.notes, *said])
        longest = max(len(shortened(line.label, 30)) for line in lines.lines)
        right = 0.05 + 0.0078 * longest
        axes = figure.add_axes((0.075, foot + 0.075, 0.9 - right, 0.86 - foot - 0.09))
        bare(axes, grid="y")
        ends = []
        is_dense = len(lines.periods) > _MANY
        for number, line in enumerate(lines.lines):
            there = [(x, y) for x, y in zip(lines.places, line.values, strict=True) if y is not None]
            if not there:
                continue
            values = [float("nan") if value is None else value for value in line.values]
            axes.plot(
                lines.places,
                values,
                color="#8c8c8c",
                linewidth=1.6 if is_dense else 4.2,
                alpha=0.55,
                solid_capstyle="round",
            )
            axes.plot(
                lines.places,
                values,
                color=line.paint.colour,
                linewidth=1.1 if is_dense else 2.4,
                linestyle=_dash(number),
                **(_NO_MARK if is_dense else _mark(number)),
            )
            ends.append((there[-1][1], number))
        low = min([0.0, *(y for line in lines.lines for y in line.values if y is not None)])
        high = max((y for line in lines.lines for y in line.values if y is not None), default=1.0)
        axes.set_ylim(low * 1.1, high * 1.1 or 1.0)
        first, last = lines.places[0], lines.places[-1]
        room = (last - first) * 0.02 or 0.5
        axes.set_xlim(first - room, last + room)
        shown = _ticks([(place - first + room) / (last - first + 2 * room) for place in lines.places], lines)
        axes.set_xticks(
            [lines.places[at] for at in shown], [shortened(lines.periods[at], 16) for at in shown], size=10.5
        )
        axes.tick_params(axis="x", pad=9)  # the first stands beside the lowest figure of the other axis
        axes.set_xlabel(lines.about, color=FAINT)
        axes.yaxis.set_major_formatter(lambda value, _: short_figure(value, is_share=lines.is_share))
        span = axes.get_ylim()[1] - axes.get_ylim()[0]
        for (_, number), y in zip(ends, apart([one for one, _ in ends], span * 0.045), strict=True):
            _name(axes, lines.lines[number], number, last + room, y)
        return figure


def _dash(number: int) -> str:
    return _DASHES[(number // 3) % len(_DASHES)]


def _mark(number: int) -> dict[str, Any]:
    return {
        "marker": _MARKS[number % len(_MARKS)],
        "markersize": 7,
        "markeredgecolor": INK,
        "markeredgewidth": 0.6,
    }


def _name(axes: Axes, line: Line, number: int, x: float, y: float) -> None:
    """Write the name of a line beside its end, behind a piece of it in its colour, dash and mark."""
    from matplotlib.lines import Line2D

    begin = axes.transData.transform((x, y))
    back = axes.transData.inverted()
    scale = axes.figure.dpi / 72
    places = [back.transform((begin[0] + points * scale, begin[1])) for points in (6, 19, 32, 38)]
    xs, ys = [float(place[0]) for place in places], [float(place[1]) for place in places]
    below: dict[str, Any] = {"color": "#8c8c8c", "linewidth": 4.2, "alpha": 0.55}
    above = {"color": line.paint.colour, "linewidth": 2.4, "linestyle": _dash(number), **_mark(number)}
    for how in (below, above):
        axes.add_line(Line2D(xs[:3], ys[:3], markevery=[1], clip_on=False, **how))
    axes.text(xs[3], y, shortened(line.label, 30), va="center", color=INK, clip_on=False)


def _ticks(places: list[float], lines: Lines) -> list[int]:
    """Return which periods are written: as many as stand side by side, the first always.

    Parameters
    ----------
    places : list of float
        Where each stands, as a share of the width.
    """
    widest = max(len(shortened(period, 16)) for period in lines.periods) + 2
    least = max(widest / _LETTERS, 1 / _MOST_TICKS)
    step = -(-len(places) // min(_MOST_TICKS, max(2, _LETTERS // widest)))
    shown = [0]
    for at in range(step, len(places), step):
        if places[at] - places[shown[-1]] >= least * 0.9:
            shown.append(at)
    return shown


def apart(places: list[float], least: float) -> list[float]:
    """Return places moved as little as need be for each to be `least` from the next; in the order given."""
    order = sorted(range(len(places)), key=lambda n: places[n])
    moved = list(places)
    for _ in range(60):
        is_done = True
        for low, high in pairwise(order):
            short = least - (moved[high] - moved[low])
            if short > least * 1e-6:
                moved[low] -= short / 2
                moved[high] += short / 2
                is_done = False
        if is_done:
            break
    return moved
