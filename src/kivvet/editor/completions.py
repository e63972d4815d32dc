"""What may be typed at the cursor: keywords, names, classes, values of the data."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

from kivvet.books.files.open_book import OpenBook
from kivvet.books.files.toml_tokens import Cursor, cursor_at, tokens
from kivvet.books.runs.plans import prepare
from kivvet.core.formulas.functions import FUNCTIONS
from kivvet.core.read.options import KeyPath
from kivvet.core.tables.inputs import columns_of
from kivvet.core.tables.table import WHEN
from kivvet.core.words.conditions import KEYWORDS, write_literal
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.wording import toml_key
from kivvet.editor.data_seen import values_of
from kivvet.editor.hovers import SCHEMAS, schema_at
from kivvet.editor.open_books import BookFile, OpenBooks
from kivvet.editor.sketches import Cell, Sketch, sketch_of, sketch_of_csv
from kivvet.editor.texts import Span, Text
from kivvet.io.formats import LOOKUP_ENDINGS, ROW_ENDINGS

Kind = Literal["keyword", "table", "formula", "dataset", "column", "class", "value", "function", "file"]
_WORD = re.compile(r"""\w*\Z|"[^"]*\Z""")
_CONDITION_PART = re.compile(r"(?:.*\|)?\s*(?P<part>[^|]*)\Z", re.DOTALL)
_MOST = 200


@dataclass(frozen=True)
class Completion:
    """One thing that may be typed.

    Attributes
    ----------
    label : str
    kind : str
    span : Span
        What it takes the place of.
    text : str
        What is put there.
    detail : str
    """

    label: str
    kind: Kind
    span: Span
    text: str
    detail: str = ""


@dataclass(frozen=True)
class _Offer:
    label: str
    kind: Kind
    detail: str = ""


def completions_at(books: OpenBooks, path: Path, offset: int) -> list[Completion]:
    """Return what may be typed at a place of a file, the likeliest first."""
    file = books.file(path)
    book = books.known(file)
    if book is None:
        return []
    text = books.texts.of(path)
    if file.kind == "rows":
        sketch = sketch_of_csv(text)
        cell = sketch.cell_at(offset) or _first_cell(sketch, text, offset)
        offers = (
            []
            if cell is None
            else _of_cell(book, file.table, sketch, cell.heading, cell.row, is_result=cell.repeats)
        )
        return [] if cell is None else [_plain(one, cell.span) for one in _unique(offers)]
    if file.kind not in SCHEMAS:
        return []
    cursor = cursor_at(text.text, offset)
    if cursor.awaits != "value":
        return _of_keys(book, file, cursor, text.text, offset)
    token = cursor.token
    if file.kind == "formulas" and _is_formula(cursor.path):
        start = offset - len(match[0]) if (match := _WORD.search(text.text[:offset])) else offset
        return [_plain(one, Span(start, offset)) for one in _unique(_of_formula(book))]
    offers = list(_unique(_of_value(book, file, cursor, text.text, offset)))
    if token is None or not token.is_string:
        span = Span(token.start, token.end) if token is not None else Span(offset, offset)
        bare = ("true", "false")
        return [
            Completion(
                offer.label,
                offer.kind,
                span,
                offer.label if offer.label in bare else f'"{_escaped(offer.label)}"',
                offer.detail,
            )
            for offer in offers
        ]
    span = Span(token.start, token.end)
    if file.kind == "table" and cursor.path[0] == "rows" and len(cursor.path) == 3:
        match = _CONDITION_PART.match(cursor.typed)
        assert match is not None
        span = Span(token.start + match.start("part"), token.end)
    return [
        Completion(offer.label, offer.kind, span, _escaped(offer.label), offer.detail) for offer in offers
    ]


def _first_cell(sketch: Sketch, text: Text, offset: int) -> Cell | None:
    """Return the cell that a blank line of a CSV file begins with."""
    line, _ = text.position(offset)
    if not sketch.headings or text.line(line).strip():
        return None
    return Cell(1, sketch.headings[0], Span(offset, offset), "")


def _escaped(text: str) -> str:
    return text.replace("\\", "\\\\").replace('"', '\\"')


def _plain(one: _Offer, span: Span) -> Completion:
    return Completion(one.label, one.kind, span, one.label, one.detail)


def _unique(offers: Iterable[_Offer]) -> Iterator[_Offer]:
    seen: set[str] = set()
    for offer in offers:
        if offer.label not in seen:
            seen.add(offer.label)
            yield offer
        if len(seen) == _MOST:
            return


def _is_formula(path: KeyPath) -> bool:
    return len(path) == 1 or path[-1] in ("formula", "among")


def _of_keys(book: OpenBook, file: BookFile, cursor: Cursor, text: str, offset: int) -> list[Completion]:
    """Return the keywords, and the names of columns, that may stand where a key is awaited."""
    token = cursor.token
    parent = cursor.path[:-1] if token is not None else cursor.path
    span = Span(token.start, token.end) if token is not None else Span(offset, offset)
    there = {
        one.path[len(parent)]
        for one in tokens(text)
        if one.path[: len(parent)] == parent
        and len(one.path) > len(parent)
        and not (token and one.start == token.start)
    }
    offers: list[_Offer] = []
    for part in schema_at(SCHEMAS[file.kind], parent):
        for way in (part, *_ways(part)):
            for word, about in way.get("properties", {}).items():
                is_heading = cursor.awaits == "heading"
                if _is_table(about) if is_heading else word not in there:
                    offers.append(_Offer(word, "keyword", about.get("description", "")))
    if file.kind == "table" and parent == ("inputs",):
        offers += [_Offer(one, "column") for one in _source_columns(book) if one not in there]
    if file.kind == "book" and len(parent) == 3 and parent[2] in ("types", "input", "missing_words"):
        offers += [
            _Offer(column, "column") for column in _columns_of(book, str(parent[1])) if column not in there
        ]
    return [Completion(one.label, one.kind, span, toml_key(one.label), one.detail) for one in _unique(offers)]


def _ways(part: Mapping[str, Any]) -> list[Mapping[str, Any]]:
    found: list[Mapping[str, Any]] = list(part.get("anyOf", ()))
    return found


def _is_table(about: Mapping[str, Any]) -> bool:
    return any(way.get("type") == "object" for way in (about, *_ways(about)))


def _of_value(book: OpenBook, file: BookFile, cursor: Cursor, text: str, offset: int) -> Iterator[_Offer]:
    path = cursor.path
    if file.kind == "table" and path[0] == "rows" and len(path) == 3:
        yield from _of_toml_cell(book, file, path, text, offset)
        return
    for part in schema_at(SCHEMAS[file.kind], path):
        for way in (part, *_ways(part)):
            words = way.get("enum", [way["const"]] if "const" in way else [])
            yield from (_Offer(str(word), "keyword") for word in words if isinstance(word, str) and word)
            if way.get("type") == "boolean":
                yield from (_Offer(one, "keyword") for one in ("true", "false"))
    if file.kind == "book":
        yield from _of_book(book, path)
    elif file.kind == "table":
        yield from _of_table(book, file, path)


def _of_book(book: OpenBook, path: KeyPath) -> Iterator[_Offer]:
    """Offer names that a value of book.toml may be."""
    word = next((one for one in reversed(path) if isinstance(one, str)), "")
    own = str(path[1]) if len(path) > 1 else ""
    if word in ("columns", "table"):
        yield from (_Offer(name, "table", one.title) for name, one in book.tables.items())
    if word in ("columns", "formula"):
        yield from (_Offer(name, "formula", one.text) for name, one in book.formulas.items())
    if word == "from":
        yield from (_Offer(name, "dataset") for name in book.datasets if name != own)
    if word == "keep":
        yield from (
            _Offer(each.name, "column", name) for name, one in book.tables.items() for each in one.outputs
        )
    if word in ("by", "key", "over", "amount", "indicators", "where") or "input" in path or "values" in path:
        below = book.datasets.get(own)
        of = below.of.name if below is not None and below.of is not None else own
        yield from (_Offer(column, "column") for column in _columns_of(book, of))
    if word in ("source", "target", "path"):
        yield from (
            _Offer(path.relative_to(book.folder).as_posix(), "file")
            for path in sorted(book.folder.glob("*/*"))
            if path.is_file()
            and path.parent.name not in ("tables", ".kivvet")
            and not path.name.startswith(".")
        )


def _of_table(book: OpenBook, file: BookFile, path: KeyPath) -> Iterator[_Offer]:
    """Offer names that a value of a table's file may be, besides those in cells."""
    table = book.tables.get(file.path.stem)
    if path[0] in ("rows", "lookup", "examples") and len(path) == 1:
        endings = LOOKUP_ENDINGS if path[0] == "lookup" else ROW_ENDINGS
        yield from (
            _Offer(path.name, "file")
            for path in sorted(file.path.parent.iterdir())
            if path.name.endswith(endings)
        )
    if path[0] == "inputs" and path[-1] == "domain":
        yield from (
            _Offer(f"{name}.{each.name}", "column")
            for name, one in book.tables.items()
            for each in one.outputs
        )
    if table is None:
        return
    if path[0] == "outputs" and "order" in path:
        yield from (
            _Offer(one, "class")
            for each in table.outputs
            if each.name == path[1]
            for one in _classes(book, table.name, each.name)
        )
    if path[0] in ("missing", "otherwise") and len(path) == 2:
        yield from (_Offer(one, "class") for one in _classes(book, table.name, str(path[1])))
    if path[0] in ("examples", "promises", "given"):
        yield from (
            _Offer(column.name, "column", column.type) for column in columns_of(table.inputs, table.outputs)
        )


def _of_toml_cell(book: OpenBook, file: BookFile, path: KeyPath, text: str, offset: int) -> Iterator[_Offer]:
    sketch = sketch_of(text)
    cell = sketch.cell_at(offset)
    at = int(path[2])
    heading = cell.heading if cell is not None else sketch.headings[at] if at < len(sketch.headings) else ""
    row = cell.row if cell is not None else 1
    is_result = heading in sketch.headings[:at]
    yield from _of_cell(book, file.path.stem, sketch, heading, row, is_result=is_result)


def _of_cell(
    book: OpenBook, name: str, sketch: Sketch, heading: str, row: int, *, is_result: bool
) -> Iterator[_Offer]:
    """Offer what a cell of a column may hold: classes that there are, values of the data, words of conditions."""
    table = book.tables.get(name)
    inputs = list(sketch.inputs) or ([] if table is None else [input_.name for input_ in table.inputs])
    outputs = list(sketch.outputs) or ([] if table is None else [output.name for output in table.outputs])
    if table is not None:
        known = {
            column.column or column.name: column.name for column in columns_of(table.inputs, table.outputs)
        }
        heading = known.get(heading, heading)
    if row == 0:
        yield from (_Offer(one, "column") for one in (*inputs, *outputs, WHEN))
        return
    if heading in outputs and (is_result or heading not in inputs):
        typed = (cell.text for cell in sketch.in_column(heading) if cell.text.strip())
        yield from (_Offer(one, "class") for one in (*_classes(book, name, heading), *typed))
        return
    if heading not in inputs:
        return
    for other in book.tables.values():
        for each in other.outputs:
            if each.name == heading and other.name != name:
                yield from (
                    _Offer(one, "class", f"of {other.name}") for one in _classes(book, other.name, each.name)
                )
    is_lookup = table is not None and table.lookup is not None
    for value, n in values_of(book, name, heading) if table is not None else ():
        yield _Offer(value if is_lookup else write_literal(value), "value", f"{n:,} rows")
    if not is_lookup:
        yield from (_Offer(one, "keyword") for one in sorted(KEYWORDS))


def _classes(book: OpenBook, name: str, output: str) -> list[str]:
    table = book.tables.get(name)
    about = None if table is None else next((one for one in table.outputs if one.name == output), None)
    if table is None or about is None or about.type != "text":
        return []
    return [str(one) for one in table.classes(about) if one is not None][:_MOST]


def _columns_of(book: OpenBook, dataset: str) -> list[str]:
    """Return the columns of a dataset: of its source, and those that are made; nothing where it cannot be read."""
    if dataset not in book.datasets:
        return []
    try:
        prepared, _ = prepare(book, book.datasets[dataset])
    except KivvetError:
        return []
    return list(dict.fromkeys([*prepared.source.names, *prepared.plan.written]))


def _source_columns(book: OpenBook) -> list[str]:
    return list(dict.fromkeys(column for name in book.datasets for column in _columns_of(book, name)))


def _of_formula(book: OpenBook) -> Iterator[_Offer]:
    yield from (_Offer(one, "column") for one in _source_columns(book))
    yield from (
        _Offer(each.name, "column", name) for name, one in book.tables.items() for each in one.outputs
    )
    yield from (_Offer(name, "formula", one.text) for name, one in book.formulas.items())
    yield from (_Offer(name, "function", one.says) for name, one in FUNCTIONS.items())
