"""What all views share: a console that is plain when piped, and lines that wrap under their own column."""

from __future__ import annotations

import textwrap
from collections.abc import Iterable
from typing import Any

from rich.console import Console, ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.text import Text

from kivvet.show.figures import shown
from kivvet.show.hints import with_book

SEVERITY_STYLES = {"error": "bold red", "warning": "yellow", "note": "cyan"}
_NARROWEST = 40
_NARROW_INDENT = 4
_BAR = "█"
_PART_BARS = " ▏▎▍▌▋▊▉"


class Terminal(Console):
    """Where all text of views goes. What would steer a terminal, wherever it came from, is shown as its number."""

    def __init__(self, **options: Any) -> None:
        super().__init__(highlight=False, soft_wrap=True, emoji=False, markup=False, **options)

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        for segment in super().render(renderable, options):
            is_plain = segment.control or (segment.text.isascii() and segment.text.isprintable())
            yield segment if is_plain else Segment(harmless(segment.text), segment.style, segment.control)


def harmless(text: str) -> str:
    """Return a text of several lines as it can be shown on a terminal."""
    return "\n".join(map(shown, text.expandtabs().split("\n")))


def console(*, stderr: bool = False) -> Console:
    """Return a console: colours and the terminal's width on a terminal, plain and unwrapped otherwise."""
    return Terminal(stderr=stderr)


def print_hint(out: Console, text: str, style: str = "green") -> None:
    """Print what to do next: a command goes to the book that was given."""
    out.print(Text(with_book(text), style))


def wrapped(out: Console, text: str, indent: int) -> list[str]:
    """Return the lines of `text` that fit the terminal after an indent; one line where output is piped."""
    text, *drawn = text.split(
        "\n"
    )  # further lines are drawn as they are: a formula, and a caret under a place
    if not out.is_terminal:
        return [text, *drawn]
    width = max(_NARROWEST, out.width - indent)
    lines = textwrap.wrap(
        text, width, break_long_words=False, break_on_hyphens=False, replace_whitespace=False
    )
    return [*(lines or [""]), *drawn]


def print_columns(out: Console, heads: list[tuple[str, str, int]], body: str, body_style: str = "") -> None:
    """Print cells of given widths, then `body`, wrapped under itself.

    Parameters
    ----------
    heads : list of (text, style, width)
    """
    line = Text()
    for text, style, width in heads:
        line.append(text, style)
        line.append(" " * max(0, width - len(text)))
    indent = sum(width for *_, width in heads)
    if out.is_terminal and out.width - indent < _NARROWEST:  # no room beside: the body goes below
        if line.plain.strip():
            out.print(line)
        indent = min(indent, _NARROW_INDENT)
        line = Text(" " * indent)
    first, *others = wrapped(out, with_book(body), indent)
    line.append(first, body_style)
    line.rstrip()
    out.print(line)
    for other in others:
        out.print(Text(" " * indent).append(other, body_style))


def bar(share: float, width: int) -> str:
    """Return a horizontal bar of `share` (0 to 1) of `width` characters, in eighths."""
    eighths = round(share * width * 8)
    full, rest = divmod(eighths, 8)
    return _BAR * full + (_PART_BARS[rest] if rest else "")


def percent(part: int, whole: int) -> str:
    """Return ``12.3 %``; ``< 0.1 %`` for what is there but would read as nothing."""
    if not whole:
        return "0.0 %"
    share = 100 * part / whole
    if part and share < 0.05:
        return "< 0.1 %"
    return f"{share:.1f} %"
