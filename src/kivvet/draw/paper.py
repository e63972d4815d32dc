"""What all pictures share: their size, their type, headings, notes, and how a paint is put on."""

from __future__ import annotations

import logging
import textwrap
import unicodedata
import warnings
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from kivvet.core.picture.paints import Paint
from kivvet.draw.fonts import families_for, texts_in

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

INCHES = (12.8, 8.0)
DOTS_AN_INCH = 100
INK = "#222222"
FAINT = "#6a6a6a"
RULE = "#dddddd"
ALARM = "#c0261c"
_LONGEST_LABEL = 44
_TITLE_TOP = 0.965


@contextmanager
def quiet_fonts() -> Iterator[None]:
    """Keep Matplotlib from telling what is said in a note: which letters it has no font for, and no bold one."""
    log = logging.getLogger("matplotlib.font_manager")
    level = log.level
    log.setLevel(logging.ERROR)
    try:
        with warnings.catch_warnings():
            warnings.filterwarnings("ignore", message="Glyph .* missing from font")
            yield
    finally:
        log.setLevel(level)


@contextmanager
def paper(values: object) -> Iterator[tuple[Figure, tuple[str, ...]]]:
    """Give an empty figure whose type has the letters of all texts in some values, and what there is to say of that."""
    import matplotlib as mpl
    from matplotlib.figure import Figure

    families, notes = families_for(texts_in(values))
    style: Any = {
        "font.family": families,
        "font.size": 11,
        "text.parse_math": False,  # a class may hold $ signs
        "text.usetex": False,
        "axes.edgecolor": RULE,
        "axes.labelcolor": INK,
        "xtick.color": FAINT,
        "ytick.color": INK,
        "xtick.labelcolor": FAINT,
        "ytick.labelcolor": INK,
        "hatch.linewidth": 0.8,
        "axes.unicode_minus": False,
        "figure.constrained_layout.use": False,
    }
    with quiet_fonts(), mpl.rc_context(style):
        yield Figure(figsize=INCHES, dpi=DOTS_AN_INCH), notes


def heading(figure: Figure, title: str, below: str = "") -> None:
    """Write the title, and what is said below it."""
    figure.text(0.03, _TITLE_TOP, shortened(title, 92), size=16, weight="bold", color=INK, va="top")
    if below:
        figure.text(0.03, _TITLE_TOP - 0.043, shortened(below, 150), size=11, color=FAINT, va="top")


def footnotes(figure: Figure, notes: Sequence[str]) -> float:
    """Write what is to be said at the foot; return how much of the height it takes."""
    lines = textwrap.wrap("; ".join(notes), 165)
    for number, line in enumerate(reversed(lines[:4])):
        figure.text(0.03, 0.02 + number * 0.025, line, size=9.5, color=FAINT, va="bottom")
    return 0.03 + 0.025 * min(len(lines), 4)


def shortened(text: str, longest: int = _LONGEST_LABEL) -> str:
    """Return text that fits: its middle left out where it is longer."""
    text = " ".join(text.split()) if "\n" in text or "\t" in text else text
    if len(text) <= longest:
        return text
    head = (longest - 1) * 2 // 3
    return f"{text[:head]}…{text[len(text) - (longest - 1 - head) :]}"


def width_of(text: str) -> int:
    """Return how many letters wide a text is, about: those of East Asia count as two."""
    return sum(2 if unicodedata.east_asian_width(sign) in "WF" else 1 for sign in text)


def wrapped(text: str, width: int, most_lines: int = 2) -> str:
    """Return text over a few lines, shortened where these do not hold it."""
    lines = textwrap.wrap(shortened(text, width * most_lines), width, break_long_words=True) or [text]
    return "\n".join(lines[:most_lines])


def painted(paint: Paint, **more: Any) -> dict[str, Any]:
    """Return how a patch is drawn with a paint."""
    return {
        "facecolor": paint.colour,
        "hatch": paint.pattern or None,
        "edgecolor": edge_of(paint),
        "linewidth": 0.6,
        **more,
    }


def edge_of(paint: Paint) -> str:
    """Return the colour of a paint's pattern and border: dark on light, light on dark."""
    return "#f4f4f4" if is_dark(paint) else "#333333"


def is_dark(paint: Paint) -> bool:
    """Whether a pattern on a paint has to be light."""
    return _lightness(paint.colour) <= 0.32


def ink_on(paint: Paint) -> str:
    """Return the colour of text on a paint."""
    return INK if _lightness(paint.colour) > 0.22 else "#ffffff"


def _lightness(colour: str) -> float:
    red, green, blue = (int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5))
    return float(0.2126 * red**2.2 + 0.7152 * green**2.2 + 0.0722 * blue**2.2)


def bare(axes: Axes, *, grid: str = "") -> None:
    """Take away what a picture does not need of its frame; leave a faint grid along one axis."""
    for side in ("top", "right", "left", "bottom"):
        axes.spines[side].set_visible(False)
    axes.tick_params(length=0)
    if grid:
        axes.grid(axis=grid, color=RULE, linewidth=0.8)  # type: ignore[arg-type]
        axes.set_axisbelow(True)


def key_below(
    figure: Figure, entries: Sequence[tuple[str, Paint]], top: float, faults: Sequence[tuple[str, Paint]] = ()
) -> float:
    """Write what the paints stand for in lines from the left; return the height that it takes.

    Parameters
    ----------
    entries : sequence of (str, Paint)
    faults : sequence of (str, Paint)
        What is drawn in the colour of alarm; they come last.
    top : float
        Where it begins, as a share of the height from below.
    """
    from matplotlib.patches import Rectangle

    left, step = 0.03, 0.034
    x, y = left, top
    for number, (label, paint) in enumerate([*entries, *faults]):
        text = shortened(label, 34)
        width = 0.022 + 0.0072 * width_of(text) + 0.02
        if x + width > 0.99 and x > left:
            x, y = left, y - step
        box = Rectangle(
            (x, y - 0.021),
            0.018,
            0.02,
            transform=figure.transFigure,
            **(painted(paint, edgecolor=ALARM) if number >= len(entries) else painted(paint)),
        )
        figure.add_artist(box)
        figure.text(x + 0.023, y - 0.011, text, size=10.5, color=INK, va="center")
        x += width
    return top - y + step if entries or faults else 0.0


def short_figure(value: float, *, is_share: bool) -> str:
    """Return a figure as an axis shows it: shares as percent, large ones with a word for their thousands."""
    if is_share:
        return f"{100 * value:.0f} %"
    for size, word in ((1e12, "T"), (1e9, "G"), (1e6, "M")):
        if abs(value) >= size:
            return f"{value / size:g} {word}"
    return f"{value:,.10g}"
