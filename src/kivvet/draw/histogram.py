"""Histograms, drawn: bars in the colours of their classes, the bounds as lines, gaps shaded through the height."""

from __future__ import annotations

import datetime as dt
from itertools import pairwise
from typing import TYPE_CHECKING

from kivvet.core.picture.histogram import Band, Histogram
from kivvet.core.picture.paints import Paint
from kivvet.draw.lines import apart
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
    short_figure,
    wrapped,
)

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure


def draw_histogram(picture: Histogram) -> Figure:
    """Return a histogram as a figure."""
    with paper(picture.as_dict()) as (figure, said):
        below = (
            f"rows by {picture.about}, and what the table makes of it"
            if picture.layers
            else f"what the table makes of {picture.about}"
        )
        heading(figure, picture.title, below)
        foot = footnotes(figure, [*picture.notes, *said])
        top = 0.875
        top -= key_below(figure, _keys(picture), top, _faults(picture)) + 0.005
        strip = 0.07
        bottom = foot + 0.085
        left = 0.075 if picture.layers else 0.03
        wide = 0.97 - left
        band_axes = figure.add_axes((left, bottom, wide, strip if picture.layers else 0.3))
        low, high = picture.view
        _put_bands(band_axes, picture)
        if picture.layers:
            axes = figure.add_axes((left, bottom + strip + 0.012, wide, top - bottom - strip - 0.02))
            _put_layers(axes, picture)
            axes.set_xlim(low, high)
            _put_faults(axes, picture)
        return figure


def _keys(picture: Histogram) -> list[tuple[str, Paint]]:
    found: dict[str, Paint] = {layer.label: layer.paint for layer in picture.layers}
    for band in picture.bands:
        if band.kind in ("class", "open"):
            found.setdefault(band.label, band.paint)
    return list(found.items())[:24]


def _faults(picture: Histogram) -> list[tuple[str, Paint]]:
    kinds = {band.kind for band in picture.bands}
    of_gap = [("gap: no row holds it", Paint("#fbe3e0", "////"))] if "gap" in kinds else []
    of_overlap = (
        [("overlap: rows give several classes", Paint("#fbe3e0", "xxxx"))] if "overlap" in kinds else []
    )
    return [*of_gap, *of_overlap]


def _put_layers(axes: Axes, picture: Histogram) -> None:
    from matplotlib.ticker import MaxNLocator

    widths = [two - one for one, two in pairwise(picture.edges)]
    ends = [0] * len(widths)
    for layer in picture.layers:
        axes.bar(
            picture.edges[:-1],
            layer.counts,
            widths,
            ends,
            align="edge",
            **painted(layer.paint, linewidth=0.4),
        )
        ends = [one + two for one, two in zip(ends, layer.counts, strict=True)]
    for place, _ in picture.bounds:
        axes.axvline(place, color=INK, linewidth=1.0, linestyle=(0, (4, 3)))
    bare(axes, grid="y")
    axes.set_ylim(0, max(ends, default=1) * 1.06 or 1)
    axes.yaxis.set_major_locator(MaxNLocator(integer=True))
    axes.yaxis.set_major_formatter(lambda value, _: short_figure(value, is_share=False))
    axes.set_ylabel("rows", color=FAINT)
    axes.set_xticks([])


def _put_faults(axes: Axes, picture: Histogram) -> None:
    low, high = picture.view
    for band in picture.bands:
        if band.kind not in ("gap", "overlap"):
            continue
        first, last = _ends(band, low, high)
        if first == last:
            axes.axvline(first, color=ALARM, linewidth=2.2)
        else:
            hatch = "////" if band.kind == "gap" else "xxxx"
            axes.axvspan(
                first,
                last,
                facecolor="#fbe3e0",
                alpha=0.55,
                hatch=hatch,
                edgecolor=ALARM,
                linewidth=0,
                zorder=0.5,
            )


def _ends(band: Band, low: float, high: float) -> tuple[float, float]:
    return max(low, low if band.low is None else band.low), min(
        high, high if band.high is None else band.high
    )


def _put_bands(axes: Axes, picture: Histogram) -> None:
    from matplotlib.patches import Rectangle

    low, high = picture.view
    span = (high - low) or 1.0
    for band in picture.bands:
        first, last = _ends(band, low, high)
        if last < first:
            continue
        is_fault = band.kind in ("gap", "overlap")
        if first == last:
            axes.plot([first, first], [0, 1], color=ALARM if is_fault else band.paint.colour, linewidth=4)
            continue
        paint = band.paint
        how = painted(paint, edgecolor=ALARM if is_fault else painted(paint)["edgecolor"])
        axes.add_patch(Rectangle((first, 0), last - first, 1, **how))
        if (last - first) / span > 0.0085 * min(len(band.label), 12) + 0.01 and not is_fault:
            axes.text(
                (first + last) / 2,
                0.5,
                wrapped(band.label, max(4, int((last - first) / span * 115))),
                ha="center",
                va="center",
                size=10,
                color=ink_on(paint),
                clip_on=True,
                bbox={"facecolor": paint.colour, "edgecolor": "none", "pad": 1.5} if paint.pattern else None,
            )
    bare(axes)
    axes.set_xlim(low, high)
    axes.set_ylim(0, 1)
    axes.set_yticks([])
    shown = [(place, text) for place, text in picture.bounds if low <= place <= high]
    if len(shown) > 30:
        shown = shown[:: -(-len(shown) // 30)]
    ends = [(low, written_place(low, picture.type)), (high, written_place(high, picture.type))]
    letters = max((len(text) for _, text in shown), default=4)
    least = span * 0.0085 * (letters + 1)
    axes.set_xticks([])
    for (place, text), at in zip(shown, apart([place for place, _ in shown], least), strict=True):
        axes.annotate(
            text,
            (place, 0),
            (at, -0.16),
            xycoords="data",
            textcoords=axes.get_xaxis_transform(),
            ha="center",
            va="top",
            size=10.5,
            color=INK,
            arrowprops={"arrowstyle": "-", "color": FAINT, "linewidth": 0.8},
            annotation_clip=False,
        )
    taken = apart([place for place, _ in shown], least)
    for place, text in ends:
        if all(abs(place - one) > least for one in taken):
            axes.text(
                place,
                -0.16,
                text,
                transform=axes.get_xaxis_transform(),
                ha="left" if place == low else "right",
                va="top",
                size=10,
                color=FAINT,
            )
    axes.set_xlabel(picture.about, color=FAINT, labelpad=30)


def written_place(place: float, kind: str) -> str:
    """Return a place on the axis as it is written: days as dates."""
    if kind in ("date", "datetime"):
        try:
            return str((dt.datetime(1970, 1, 1) + dt.timedelta(days=place)).date())
        except OverflowError:
            return ""
    return f"{float(f'{place:.6g}'):.15g}"
