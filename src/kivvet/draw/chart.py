"""A chart as users hold it: what is to be seen as a value, drawn when it is asked for."""

from __future__ import annotations

import io
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from kivvet.core.picture.bars import Bars, Sheet
from kivvet.core.picture.flows import Flows
from kivvet.core.picture.histogram import Histogram
from kivvet.core.picture.lines import Lines
from kivvet.core.picture.region_map import RegionMap
from kivvet.core.picture.triangle import Triangle
from kivvet.draw.fonts import families_for, texts_in
from kivvet.draw.paper import quiet_fonts
from kivvet.io.own_files import refuse_ending, refuse_other, write_whole

if TYPE_CHECKING:
    from matplotlib.figure import Figure

Picture = Bars | Sheet | Lines | Histogram | RegionMap | Triangle | Flows
ENDINGS = (".png", ".svg")
_MADE_BY = "kivvet chart"
CHART_VERSION = 1
#: Fonts that take about the same room, for where the first is not there.
_SIMILAR = b"'DejaVu Sans', Verdana, sans-serif"


@dataclass(frozen=True)
class Chart:
    """A chart.

    Attributes
    ----------
    picture : Bars, Sheet, Lines, Histogram, RegionMap, Triangle or Flows
        What is to be seen: all figures, labels and colours, as values.
    name : str
        What a file of it would be called.
    """

    picture: Picture
    name: str

    def __repr__(self) -> str:
        return f"<Chart {self.name}: {type(self.picture).__name__.lower()}>"

    @property
    def title(self) -> str:
        return self.picture.title

    @property
    def notes(self) -> tuple[str, ...]:
        """What is not drawn, or drawn otherwise than one might think."""
        return (*self.picture.notes, *families_for(texts_in(self.picture.as_dict()))[1])

    @property
    def words(self) -> str:
        """What is to be seen, in words, for those who do not see it."""
        return self.picture.words

    def as_dict(self) -> dict[str, Any]:
        """Return all that is drawn as plain values."""
        return {"version": CHART_VERSION, "name": self.name, **self.picture.as_dict()}

    def figure(self) -> Figure:
        """Return it as a Matplotlib figure of 1280 by 800 dots, which may be changed further."""
        return _drawn(self.picture)

    def save(self, path: str | Path, *, replace: bool = False) -> Path:
        """Write it to a file, whole or not at all; return the path.

        Parameters
        ----------
        path : str or Path
            Ends in ``.png`` or ``.svg``.
        replace : bool
            Whether a file may be replaced that is no chart of Kivvet.

        Raises
        ------
        OutputError
            If it ends otherwise, may not be replaced, or cannot be written.
        """
        path = Path(path)
        refuse_ending(path, ENDINGS, "chart")
        if not replace:
            refuse_other(path, _MADE_BY, "chart")
        write_whole(path, self.to_bytes(path.suffix.lower()[1:]))
        return path

    def to_bytes(self, form: str = "png", *, with_text: bool = False) -> bytes:
        """Return it as the bytes of a file: ``"png"`` or ``"svg"``; the same for the same chart.

        Parameters
        ----------
        form : {"png", "svg"}
        with_text : bool
            Whether an SVG holds its letters as text, which is less to carry and is set in the fonts of whoever opens it;
            otherwise they are drawn.
        """
        import matplotlib as mpl

        made = io.BytesIO()
        keys = ("Software", "Title") if form == "png" else ("Creator", "Title")
        metadata: dict[str, str | None] = {keys[0]: _MADE_BY, keys[1]: self.title}
        if form == "svg":
            metadata["Date"] = None
        saving: Any = {"svg.hashsalt": "kivvet", "svg.fonttype": "none" if with_text else "path"}
        with quiet_fonts(), mpl.rc_context(saving):
            self.figure().savefig(made, format=form, metadata=metadata)
        drawn = made.getvalue()
        return drawn.replace(b"'DejaVu Sans'", _SIMILAR) if with_text else drawn

    def _repr_png_(self) -> bytes:
        return self.to_bytes("png")


def _drawn(picture: Picture) -> Figure:
    match picture:
        case Bars():
            from kivvet.draw.bars import draw_bars

            return draw_bars(picture)
        case Sheet():
            from kivvet.draw.bars import draw_sheet

            return draw_sheet(picture)
        case Lines():
            from kivvet.draw.lines import draw_lines

            return draw_lines(picture)
        case Histogram():
            from kivvet.draw.histogram import draw_histogram

            return draw_histogram(picture)
        case RegionMap():
            from kivvet.draw.region_map import draw_map

            return draw_map(picture)
        case Triangle():
            from kivvet.draw.triangle import draw_triangle

            return draw_triangle(picture)
        case Flows():
            from kivvet.draw.flows import draw_flows

            return draw_flows(picture)
