"""What the pictures of a report are made of: shapes of SVG within the page, whose inks follow it into the dark; paints stay as they are
everywhere, and their patterns are drawn once a picture.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from html import escape

from kivvet.core.picture.paints import Paint
from kivvet.draw.paper import edge_of, ink_on

WIDE = 960.0
LETTER = 6.6  # how wide a letter is, about
#: What is drawn in a square of 8 by 8 for each sign of a pattern.
_SIGNS = {
    "/": "M-2,2 L2,-2 M0,8 L8,0 M6,10 L10,6",
    "\\": "M-2,6 L2,10 M0,0 L8,8 M6,-2 L10,2",
    "-": "M0,4 L8,4",
    "|": "M4,0 L4,8",
    "x": "M0,0 L8,8 M0,8 L8,0",
    "+": "M0,4 L8,4 M4,0 L4,8",
    ".": "M3.2,4 L4.8,4",
    "o": "M2.5,4 a1.5,1.5 0 1,0 3,0 a1.5,1.5 0 1,0 -3,0",
    "*": "M4,2 L4,6 M2.3,3 L5.7,5 M2.3,5 L5.7,3",
}


class Drawing:
    """A picture as it is drawn.

    Parameters
    ----------
    name : str
        Its own within the page.
    """

    def __init__(self, name: str) -> None:
        self.name = name
        self.shapes: list[str] = []
        self._patterns: dict[tuple[str, str, str], str] = {}

    def area(
        self, x: float, y: float, wide: float, high: float, paint: Paint, *, edge: str = "", ink: str = ""
    ) -> None:
        """Draw a rectangle in a paint.

        Parameters
        ----------
        edge, ink : str
            The colours of its border and of its pattern, where they are not those of the paint.
        """
        line = edge or (edge_of(paint) if paint.pattern else "#7a7a7a")
        self.shapes.append(
            f'<rect x="{x:.1f}" y="{y:.1f}" width="{max(wide, 0.4):.1f}" height="{max(high, 0.0):.1f}" '
            f'fill="{self._fill(paint, ink or edge_of(paint))}" stroke="{line}" stroke-width=".5"/>'
        )

    def shape(self, corners: Sequence[tuple[float, float]], paint: Paint, *, ink: str = "") -> None:
        """Draw a polygon in a paint, without a seam to those beside it."""
        points = " ".join(f"{x:.1f},{y:.1f}" for x, y in corners)
        self.shapes.append(
            f'<polygon points="{points}" fill="{self._fill(paint, ink or edge_of(paint))}" '
            f'stroke="{paint.colour}" stroke-width=".8"/>'
        )

    def _fill(self, paint: Paint, ink: str) -> str:
        if not paint.pattern:
            return paint.colour
        name = f"{self.name}-p{len(self._patterns)}"
        return f"url(#{self._patterns.setdefault((paint.colour, paint.pattern, ink), name)})"

    def line(self, x: float, y: float, to_x: float, to_y: float, kind: str) -> None:
        """Draw a line; `kind` is a class of the page's style."""
        self.shapes.append(
            f'<line class="{kind}" x1="{x:.1f}" y1="{y:.1f}" x2="{to_x:.1f}" y2="{to_y:.1f}"/>'
        )

    def text(self, x: float, y: float, text: str, *, to: str = "middle", kind: str = "") -> None:
        """Write a text in the ink of the page, whose middle, start or end stands at x."""
        about = f' class="{kind}"' if kind else ""
        self.shapes.append(f'<text x="{x:.1f}" y="{y:.1f}" text-anchor="{to}"{about}>{escape(text)}</text>')

    def name_on(self, x: float, y: float, text: str, paint: Paint, room: float) -> None:
        """Write a text on a paint, as far as there is room; over a pattern on a plain field."""
        most = int(room / LETTER)
        shown = text if len(text) <= most else f"{text[: most - 1]}…" if most >= _SHORTEST else ""
        if not shown:
            return
        if paint.pattern:
            wide = LETTER * len(shown) + 6
            self.shapes.append(
                f'<rect x="{x - wide / 2:.1f}" y="{y - 12:.1f}" width="{wide:.1f}" height="16" fill="{paint.colour}"/>'
            )
        self.shapes.append(
            f'<text x="{x:.1f}" y="{y:.1f}" text-anchor="middle" style="fill:{ink_on(paint)}">{escape(shown)}</text>'
        )

    def made(self, high: float, words: str) -> str:
        """Return the picture as an element of a page; `words` say what is to be seen."""
        patterns = "".join(
            f'<pattern id="{name}" width="8" height="8" patternUnits="userSpaceOnUse"><rect width="8" height="8" fill="{colour}"/>'
            f'<path d="{_SIGNS[pattern[0]]}" stroke="{ink}" stroke-width="{1.6 if pattern[0] == "." else 0.9}" fill="none" stroke-linecap="round"/></pattern>'
            for (colour, pattern, ink), name in self._patterns.items()
        )
        return (
            f'<svg class="picture" viewBox="0 0 {WIDE:g} {high:g}" role="img" aria-label="{escape(words)}">'
            f"<defs>{patterns}</defs>{''.join(self.shapes)}</svg>"
        )


_SHORTEST = 4


def round_steps(highest: float, about: int = 4) -> Iterator[float]:
    """Yield round figures from 0 up to the highest."""
    raw = max(highest, 1.0) / about
    power = 10.0 ** (len(str(int(raw))) - 1)
    step = next(power * nice for nice in (1, 2, 5, 10) if power * nice >= raw)
    at = 0.0
    while at <= highest:
        yield at
        at += step


def pieces(text: str, most: int) -> Sequence[str]:
    """Return a text in at most two lines."""
    if len(text) <= most:
        return (text,)
    cut = text.rfind(" ", 0, most + 1)
    cut = cut if cut > 0 else most
    rest = text[cut:].strip()
    return (text[:cut], rest if len(rest) <= most else f"{rest[: most - 1]}…")
