"""Grids: tables of cells as pages show them, in the report and in notebooks."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from kivvet.core.picture.paints import Paint
from kivvet.core.words.findings import Finding

_EDGE = "#7a7a7a"


@dataclass(frozen=True, slots=True)
class Cell:
    """A cell: its text, and how it is shown.

    Attributes
    ----------
    text : str
    is_number : bool
        Whether it stands to the right.
    paint : Paint or None
        What stands for the class in it.
    share : float or None
        From 0 to 1: the length of a bar behind it.
    link : str
        What it leads to within the page; empty for nothing.
    mood : str
        "error", "warning", "note", "fine" or empty.
    is_head : bool
        Whether it is what its line is about.
    """

    text: str
    is_number: bool = False
    paint: Paint | None = None
    share: float | None = None
    link: str = ""
    mood: str = ""
    is_head: bool = False

    @property
    def swatch(self) -> str:
        """The style of the little square that stands for its class: the colour, striped where it has a pattern."""
        if self.paint is None:
            return ""
        colour = self.paint.colour
        if not self.paint.pattern:
            return f"background:{colour}"
        angle = {"/": 135, "\\": 45, "-": 0, "|": 90}.get(self.paint.pattern[0], 135)
        return f"background:repeating-linear-gradient({angle}deg,{colour} 0 3px,{_EDGE} 3px 4px)"


@dataclass(frozen=True)
class Line:
    """A line of a grid, with an anchor and what a search finds it by, both of which may be empty."""

    cells: tuple[Cell, ...]
    anchor: str = ""
    found_as: str = ""


@dataclass(frozen=True)
class Grid:
    """A table of cells.

    Attributes
    ----------
    caption : str
    heads : tuple of Cell
    lines : tuple of Line
    more : str
        What is not shown of it.
    """

    caption: str
    heads: tuple[Cell, ...]
    lines: tuple[Line, ...]
    more: str = ""


@dataclass(frozen=True)
class Part:
    """A part of a page: a heading, facts by word, sentences, grids and parts within.

    Attributes
    ----------
    title : str
    facts : tuple of (str, str)
    said : tuple of (str, str)
        Sentences, each with its mood.
    grids : tuple of Grid
    findings : tuple of Finding
    parts : tuple of Part
    """

    title: str
    facts: tuple[tuple[str, str], ...] = ()
    said: tuple[tuple[str, str], ...] = ()
    grids: tuple[Grid, ...] = ()
    findings: tuple[Finding, ...] = ()
    parts: tuple[Part, ...] = ()


def words(*texts: str) -> tuple[Cell, ...]:
    """Return cells of plain text."""
    return tuple(Cell(text) for text in texts)


def number(value: float | None, *, is_share: bool = False) -> Cell:
    """Return a cell of a figure; a dot where there is none."""
    if value is None:
        return Cell("·", is_number=True)
    if is_share:
        return Cell(percent(value), is_number=True)
    return Cell(f"{value:,}" if isinstance(value, int) else f"{value:,.6g}", is_number=True)


def percent(share: float) -> str:
    """Return ``12.3 %``; ``< 0.1 %`` for what is there but would read as nothing."""
    return "< 0.1 %" if 0 < share < 0.0005 else f"{100 * share:.1f} %"


def heads(names: Sequence[str], numbers: Sequence[str] = ()) -> tuple[Cell, ...]:
    """Return headings, those of figures to the right."""
    return tuple(Cell(name, is_number=name in numbers) for name in names)


def without_empty(grid: Grid) -> Grid:
    """Return a grid without the columns in which nothing stands."""
    kept = [place for place in range(len(grid.heads)) if any(line.cells[place].text for line in grid.lines)]
    return replace(
        grid,
        heads=tuple(grid.heads[place] for place in kept),
        lines=tuple(replace(line, cells=tuple(line.cells[place] for place in kept)) for line in grid.lines),
    )
