"""How a file is laid out: what folds, its outline, and rows as aligned columns."""

from __future__ import annotations

import unicodedata
from collections.abc import Iterator
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Literal

from kivvet.books.files.long_rows import read_document
from kivvet.books.files.toml_tokens import Token, tokens
from kivvet.editor.open_books import FileKind
from kivvet.editor.sketches import Cell, sketch_of, sketch_of_csv
from kivvet.editor.texts import Edit, Span, Text

_MOST_ROWS = 2_000  # of an outline
_EXAMPLES_TOO = ("rows", "examples")


@dataclass
class Symbol:
    """A part of a file, as an outline shows it.

    Attributes
    ----------
    name, detail : str
    kind : {"table", "input", "output", "row", "formula", "dataset", "part"}
    span : Span
        All of it.
    named_at : Span
        Its name.
    parts : list of Symbol
    """

    name: str
    kind: Literal["table", "input", "output", "row", "formula", "dataset", "part"]
    span: Span
    named_at: Span
    detail: str = ""
    parts: list[Symbol] = field(default_factory=list)


def folds_of(text: Text) -> list[tuple[int, int]]:
    """Return the stretches of lines that fold, counted from 0: lists, inline tables and what stands under headings."""
    found: list[tuple[int, int]] = []
    opened: list[int] = []
    headings: list[int] = []
    for token in tokens(text.text):
        line = text.position(token.start)[0]
        if token.kind == "open":
            opened.append(line)
        elif token.kind == "close" and opened:
            first = opened.pop()
            found += [(first, line)] if line > first else []
        elif token.kind == "heading" and line not in headings[-1:]:
            headings.append(line)
    last = len(text.line_starts) - 1
    while last > 0 and not text.line(last).strip():
        last -= 1
    for first, after in pairwise([*headings, last + 1]):
        end = after - 1
        while end > first and not text.line(end).strip():
            end -= 1
        found += [(first, end)] if end > first else []
    return sorted(set(found))


def outline_of(text: Text, kind: FileKind, name: str) -> list[Symbol]:
    """Return the outline of a file of a book."""
    if kind == "rows":
        return list(_rows(sketch_of_csv(text).cells))
    found = tokens(text.text)
    if kind == "formulas":
        return list(_named(found, 0, "formula"))
    if kind == "book":
        made = []
        for word in ("databases", "datasets", "summaries", "uses"):
            below = [one for one in found if one.path[:1] == (word,)]
            made += list(_named(below, 1, "dataset"))
        return made
    if kind != "table":
        return []
    whole = Span(0, len(text.text))
    table = Symbol(name, "table", whole, Span(0, 0))
    for word, of in (("inputs", "input"), ("outputs", "output")):
        below = [one for one in found if one.path[:1] == (word,)]
        table.parts += _named(below, 1, "input" if of == "input" else "output")
    table.parts += _rows(sketch_of(text.text).cells)
    return [table]


def _named(
    found: list[Token], at: int, kind: Literal["formula", "dataset", "input", "output"]
) -> Iterator[Symbol]:
    """Yield a part for each name at a place of the paths of tokens."""
    by_name: dict[object, list[Token]] = {}
    for one in found:
        if len(one.path) > at:
            by_name.setdefault(one.path[at], []).append(one)
    for name, parts in by_name.items():
        key = next(
            (part for part in parts if part.kind in ("key", "heading") and len(part.path) == at + 1), parts[0]
        )
        value = next((part for part in parts if part.kind == "value"), None)
        detail = value.text if value is not None else ""
        yield Symbol(
            str(name),
            kind,
            Span(key.start, max(part.end for part in parts)),
            Span(key.start, key.end),
            detail,
        )


def _rows(cells: list[Cell]) -> Iterator[Symbol]:
    by_row: dict[int, list[Cell]] = {}
    for cell in cells:
        if cell.row:
            by_row.setdefault(cell.row, []).append(cell)
        if len(by_row) > _MOST_ROWS:
            return
    for row, held in by_row.items():
        shown = [one.text.strip() for one in held]
        span = Span(held[0].span.start, held[-1].span.end)
        yield Symbol(f"row {row}", "row", span, span, " | ".join(one or "any" for one in shown))


def aligned(text: str) -> list[Edit]:
    """Return the edits that set the cells of rows in columns, a row a line; none where what is read would not be the same."""
    found = tokens(text)
    edits = [edit for word in _EXAMPLES_TOO for edit in _aligned(text, found, word)]
    made = text
    for one in sorted(edits, key=lambda edit: edit.span.start, reverse=True):
        made = made[: one.span.start] + one.text + made[one.span.end :]
    try:
        is_same = read_document(text.replace("\r\n", "\n")) == read_document(made.replace("\r\n", "\n"))
    except (ValueError, RecursionError):
        return []
    return edits if is_same else []


def _aligned(text: str, found: list[Token], word: str) -> Iterator[Edit]:
    rows: dict[int, list[Span]] = {}
    brackets: dict[int, list[int]] = {}
    for one in found:
        if one.path[:1] != (word,) or len(one.path) < 2:
            continue
        number = int(one.path[1])
        if len(one.path) == 3 and one.kind == "value":
            span = Span(one.start - one.is_string, one.end + one.is_string)
            rows.setdefault(number, []).append(span)
        elif len(one.path) == 2 and one.kind in ("open", "close"):
            brackets.setdefault(number, []).append(one.start)
    whole = {
        number: spans
        for number, spans in rows.items()
        if len(brackets.get(number, ())) == 2 and "\n" not in text[brackets[number][0] : brackets[number][1]]
    }
    n_columns = max((len(spans) for spans in whole.values()), default=0)
    widths = [
        max(
            (_width(text[spans[at].start : spans[at].end]) for spans in whole.values() if len(spans) > at),
            default=0,
        )
        for at in range(n_columns)
    ]
    for number, spans in whole.items():
        first, last = brackets[number]
        if "#" in text[first:last] and "#" in _between(text, spans):
            continue
        cells = [text[span.start : span.end] for span in spans]
        padded = [
            f"{cell},{' ' * (widths[at] - _width(cell) + 1)}" if at < len(cells) - 1 else cell
            for at, cell in enumerate(cells)
        ]
        new = f"[{''.join(padded)}]"
        if new != text[first : last + 1]:
            yield Edit(Span(first, last + 1), new)


def _between(text: str, spans: list[Span]) -> str:
    return "".join(text[one.end : two.start] for one, two in pairwise(spans))


def _width(text: str) -> int:
    """Return how wide a text is in an editor: signs of East Asian scripts take two places, marks on others none."""
    return sum(
        0 if unicodedata.combining(one) else 1 + (unicodedata.east_asian_width(one) in "WF") for one in text
    )
