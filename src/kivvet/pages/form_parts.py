"""What the forms of notebooks are put together of."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from kivvet.pages.grids import Grid, Line, heads

MOST_LINES = 60
MOST_VALUES = 20
#: How the state of a target is taken.
MOODS = {"current": "fine", "stale": "warning", "never applied": "warning", "cannot tell": "error"}


def first_lines(lines: Iterable[Line], most: int = MOST_LINES) -> tuple[tuple[Line, ...], str]:
    """Return the first lines of many, and what is said of the rest."""
    some = list(lines)
    return tuple(some[:most]), f"and {len(some) - most:,} more" if len(some) > most else ""


def grid_of(
    caption: str,
    names: Sequence[str],
    lines: Iterable[Line],
    numbers: Sequence[str] = (),
    most: int = MOST_LINES,
) -> Grid:
    """Return a grid of the first lines of many."""
    shown, more = first_lines(lines, most)
    return Grid(caption, heads(names, numbers), shown, more)


def plain_text(value: Any) -> str:
    """Return a value as a cell shows it; a dot where there is none."""
    if value is None:
        return "·"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        return f"{value:,.6g}"
    if isinstance(value, list):
        return ", ".join(map(str, value))
    return str(value)


def when(at: str) -> str:
    """Return a moment of ISO 8601 (UTC) as it is read."""
    return f"{at[:16].replace('T', ' ')} UTC"
