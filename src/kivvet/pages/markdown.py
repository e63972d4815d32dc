"""Results as Markdown, for comments on a change and for notes: the same parts that notebooks and the report show."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from kivvet.core.words.findings import Finding
from kivvet.core.words.wording import listed
from kivvet.pages.grids import Cell, Grid, Part
from kivvet.pages.notebook import part_of

_SIGNS = re.compile(r"([\\`*\[\]<|~]|(?<!\w)_|_(?!\w))")
_MOODS = ("error", "warning", "note")


def markdown_of(value: object) -> str:
    """Return a result as Markdown: facts, sentences and tables; a value without such parts as its text."""
    part = part_of(value)
    lines = [_plain(str(value))] if part is None else list(_lines(part))
    return re.sub(r"\n{3,}", "\n\n", "\n".join(lines)).strip() + "\n"


def _lines(part: Part) -> Iterator[str]:
    if part.title:
        yield from (f"**{_plain(part.title)}**", "")
    told = [f"{_plain(word)} {_plain(text)}" for word, text in part.facts]
    told += [f"{mood}: {_plain(text)}" if mood in _MOODS else _plain(text) for mood, text in part.said]
    yield from (f"- {one}" for one in told)
    yield ""
    if part.findings:
        heads = (Cell("severity"), Cell("kind"), Cell("what"), Cell("where"))
        yield from (*_table(heads, [_told(finding) for finding in part.findings]), "")
    for grid in part.grids:
        yield from _grid(grid)
    for one in part.parts:
        yield from _lines(one)


def _told(one: Finding) -> tuple[str, ...]:
    what = f"{one.message}. Fix: {one.remedy}" if one.remedy else one.message
    return one.severity, one.kind, what, listed(map(str, one.places), 2) if one.places else ""


def _grid(grid: Grid) -> Iterator[str]:
    if grid.caption:
        yield from (_plain(grid.caption), "")
    yield from _table(grid.heads, [tuple(cell.text for cell in line.cells) for line in grid.lines])
    yield ""
    if grid.more:
        yield from (_plain(grid.more), "")


def _table(heads: Sequence[Cell], rows: Sequence[Sequence[str]]) -> Iterator[str]:
    yield f"| {' | '.join(_plain(one.text) for one in heads)} |"
    yield f"| {' | '.join('---:' if one.is_number else '---' for one in heads)} |"
    for row in rows:
        yield f"| {' | '.join(map(_plain, row))} |"


def _plain(text: str) -> str:
    """Return a text that means itself in Markdown."""
    return _SIGNS.sub(r"\\\1", " ".join(text.split()))
