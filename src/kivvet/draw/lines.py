"""Lines, drawn."""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING

from kivvet.core.picture.lines import Lines
from kivvet.draw.paper import FAINT, INK, bare, footnotes, heading, paper, short_figure, shortened

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_MARKS = ("o", "s", "^", "D", "v", "P", "X", "<", ">", "p", "h", "*")
_DASHES = ("-", "--", "-.", ":")
_MOST_TICKS = 14
_LETTERS = 110  # of labels, that stand side by side
_MANY = 60  # periods, beyond which marks would hide the lines


def draw_lines(lines: Lines) -> Figure:
    """Return lines as a figure: each with a colour, a mark and a dash of its own, and its name at its end."""
    with paper(lines.as_dict()) as (figure, said):
        heading(figure, lines.title, f"{lines.measure} by {lines.about}")
        foot = footnotes(figure, [*lines.notes, *said])
        longest = max(len(shortened(one.label, 30)) for one in lines.lines)
        right = 0.02 + 0.0078 * longest
        axes = figure.add_axes((0.075, foot + 0.075, 0.9 - right, 0.86 - foot - 0.09))
        bare(axes, grid="y")
        ends = []
        is_dense = len(lines.periods) > _MANY
        for number, line in enumerate(lines.lines):
            there = [(x, y) for x, y in zip(lines.places, line.values, strict=True) if y is not None]
            if not there:
                continue
            values = [float("nan") if one is None else one for one in line.values]
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
                linestyle=_DASHES[(number // 3) % len(_DASHES)],
                marker="" if is_dense else _MARKS[number % len(_MARKS)],
                markersize=7,
                markeredgecolor=INK,
                markeredgewidth=0.6,
            )
            ends.append((there[-1][1], line))
        low = min([0.0, *(y for line in lines.lines for y in line.values if y is not None)])
        high = max((y for line in lines.lines for y in line.values if y is not None), default=1.0)
        axes.set_ylim(low * 1.1, high * 1.1 or 1.0)
        first, last = lines.places[0], lines.places[-1]
        room = (last - first) * 0.02 or 0.5
        axes.set_xlim(first - room, last + room)
        widest = max(len(shortened(one, 16)) for one in lines.periods) + 2
        step = -(-len(lines.periods) // min(_MOST_TICKS, max(2, _LETTERS // widest)))
        axes.set_xticks(
            lines.places[::step], [shortened(one, 16) for one in lines.periods[::step]], size=10.5
        )
        axes.set_xlabel(lines.about, color=FAINT)
        axes.yaxis.set_major_formatter(lambda value, _: short_figure(value, is_share=lines.is_share))
        span = axes.get_ylim()[1] - axes.get_ylim()[0]
        for (_, line), y in zip(ends, apart([one for one, _ in ends], span * 0.045), strict=True):
            axes.annotate(
                shortened(line.label, 30),
                (last + room, y),
                (8, 0),
                textcoords="offset points",
                va="center",
                color=INK,
                annotation_clip=False,
            )
        return figure


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
