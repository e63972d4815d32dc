"""Bars, drawn."""

from __future__ import annotations

from typing import TYPE_CHECKING

from kivvet.core.picture.bars import Bars, Sheet
from kivvet.core.picture.paints import Paint
from kivvet.draw.paper import (
    bare,
    footnotes,
    heading,
    ink_on,
    is_dark,
    key_below,
    painted,
    paper,
    short_figure,
    shortened,
    width_of,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_LETTER = 0.0073  # of the width, that a letter of a label takes
_APART = 0.35  # of a bar, that rows without a value stand apart
_THIN = 0.008  # of the longest, below which a bar is all border


def draw_bars(bars: Bars) -> Figure:
    """Return bars as a figure."""
    with paper(bars.as_dict()) as (figure, said):
        below = f"{bars.measure} by {bars.about}" + (
            f", and by {bars.parts_about}" if bars.parts_about else ""
        )
        heading(figure, bars.title, below)
        foot = footnotes(figure, [*bars.notes, *said])
        keys = _keys(bars)
        top = 0.875
        if keys:
            top -= key_below(figure, keys, top) + 0.005
        longest = max(width_of(shortened(bar)) for bar in bars.bars)
        left = min(0.4, 0.04 + _LETTER * longest)
        axes = figure.add_axes((left, foot + 0.05, 0.95 - left, top - foot - 0.06))
        _put_bars(axes, bars, label_size=11 if len(bars.bars) < 20 else 9)
        return figure


def _keys(bars: Bars) -> list[tuple[str, Paint]]:
    if len(bars.parts) == 1 and not bars.parts[0].label:
        return []
    return [(part.label, part.paints[0]) for part in bars.parts if part.paints]


def _put_bars(axes: Axes, bars: Bars, *, label_size: float) -> None:
    """Draw bars on axes, the first on top."""
    places = _places(bars)
    several = len(bars.parts) if bars.style == "beside" else 1
    thick = 0.78 / several
    given = [value for part in bars.parts for value in part.values if value is not None]
    sums = [sum(part.values[n] or 0.0 for part in bars.parts) for n in range(len(places))]
    reach = max([1e-12, *map(abs, given), *(map(abs, sums) if bars.style == "stacked" else ())])
    ends = [0.0] * len(places)
    for number, part in enumerate(bars.parts):
        for at, (place, value) in enumerate(zip(places, part.values, strict=True)):
            if value is None:
                continue
            begun = ends[at] if bars.style == "stacked" else 0.0
            y = place + (thick * (number - (several - 1) / 2) if several > 1 else 0.0)
            paint = part.paints[at]
            edge = {"edgecolor": paint.colour} if abs(value) < _THIN * reach and is_dark(paint) else {}
            axes.barh(y, value, height=thick * 0.96, left=begun, **painted(paint, **edge))
            if bars.style == "stacked":
                ends[at] += value
    axes.set_ylim(places[-1] + 0.6, -0.6)
    axes.set_yticks(places, [shortened(bar) for bar in bars.bars], size=label_size)
    bare(axes, grid="x")
    lowest = min([0.0, *given])
    axes.set_xlim(
        lowest * 1.12, 1.0 if bars.is_share and bars.style == "stacked" and reach > 0.999 else reach * 1.12
    )
    axes.xaxis.set_major_formatter(lambda value, _: short_figure(value, is_share=bars.is_share))
    axes.tick_params(axis="x", labelsize=10)
    _write_values(axes, bars, reach, thick, size=label_size - 1)


def _places(bars: Bars) -> list[float]:
    """Return where bars stand: those of rows without a value a little apart."""
    first_apart = len(bars.bars) - bars.n_apart
    return [number + (_APART if number >= first_apart else 0.0) for number in range(len(bars.bars))]


def _write_values(axes: Axes, bars: Bars, reach: float, thick: float, size: float) -> None:
    """Write lengths: behind single bars, and into parts that have the room."""
    if bars.style == "beside" and len(bars.parts) * len(bars.bars) > 40:
        return
    several = len(bars.parts) if bars.style == "beside" else 1
    begun = [0.0] * len(bars.bars)
    for number, part in enumerate(bars.parts):
        for at, (place, value) in enumerate(zip(_places(bars), part.values, strict=True)):
            if value is None:
                continue
            text = _long(value, is_share=bars.is_share)
            if bars.style == "stacked" and len(bars.parts) > 1:
                if abs(value) / reach > 0.012 * len(text) + 0.008:
                    paint = part.paints[at]
                    axes.text(
                        begun[at] + value / 2,
                        place,
                        text,
                        ha="center",
                        va="center",
                        size=size,
                        color=ink_on(paint),
                        bbox={"facecolor": paint.colour, "edgecolor": "none", "pad": 3.0},
                    )
                begun[at] += value
            else:
                y = place + (thick * (number - (several - 1) / 2) if several > 1 else 0.0)
                axes.annotate(
                    text,
                    (max(value, 0.0), y),
                    (5, 0),
                    textcoords="offset points",
                    va="center",
                    size=min(size, 10.5),
                )


def draw_sheet(sheet: Sheet) -> Figure:
    """Return several pictures of bars as one figure."""
    with paper(sheet.as_dict()) as (figure, said):
        heading(figure, sheet.title, "rows by class")
        foot = footnotes(figure, [*sheet.notes, *said])
        number = len(sheet.panels)
        columns = 1 if number == 1 else 2 if number <= 4 else 3 if number <= 9 else 4
        lines = -(-number // columns)
        bottom, top = foot + 0.01, 0.865
        wide, high = 0.97 / columns, (top - bottom) / lines
        for place, panel in enumerate(sheet.panels):
            line, column = divmod(place, columns)
            x, y = 0.03 + column * wide, top - (line + 1) * high
            figure.text(
                x,
                y + high - 0.012,
                shortened(panel.title, 120 // columns),
                size=11.5,
                weight="bold",
                va="top",
            )
            few = _first(panel, 8 if lines > 2 else 14)
            most = 26 // (1 if columns < 3 else 2) + 6
            few_labels = [shortened(bar, most) for bar in few.bars]
            left = min(0.45 * wide, 0.006 * max(map(width_of, few_labels)) + 0.012)
            axes = figure.add_axes((x + left, y + 0.015, wide - left - 0.035, high - 0.06))
            _put_bars(axes, few, label_size=8.5)
            axes.set_yticks(_places(few), few_labels, size=8.5)
            axes.set_xticks([])
            axes.grid(visible=False)
        return figure


def _first(bars: Bars, most: int) -> Bars:
    """Return the longest bars of one part; the others as one, said in its label."""
    from dataclasses import replace

    from kivvet.core.picture.paints import NO_CLASS

    (part,) = bars.parts
    if len(bars.bars) <= most:
        return bars
    ranked = sorted(range(len(bars.bars)), key=lambda place: -(part.values[place] or 0))
    kept = sorted(ranked[: most - 1])
    rest = ranked[most - 1 :]
    joined = sum(part.values[place] or 0 for place in rest)
    return replace(
        bars,
        bars=(*(bars.bars[place] for place in kept), f"other ({len(rest)})"),
        parts=(
            replace(
                part,
                values=(*(part.values[place] for place in kept), joined),
                paints=(*(part.paints[place] for place in kept), NO_CLASS["rest"]),
            ),
        ),
        n_apart=0,
    )


def _long(value: float, *, is_share: bool) -> str:
    if is_share:
        return f"{100 * value:.1f} %"
    return f"{value:,.0f}" if abs(value) >= 1000 or value == int(value) else f"{value:.4g}"
