"""Where a table, a column, a class or a dataset is named in the files of a book."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Literal

from kivvet.books.files.open_book import BOOK_FILE, OpenBook
from kivvet.books.files.read_formulas import FORMULAS_FILE
from kivvet.books.files.toml_tokens import Token, tokens
from kivvet.books.runs.fed_domains import known_plan
from kivvet.core.read.options import KeyPath
from kivvet.core.tables.inputs import columns_of
from kivvet.core.tables.table import WHEN
from kivvet.editor.open_books import BookFile, OpenBooks
from kivvet.editor.sketches import Cell, Sketch, sketch_of, sketch_of_csv
from kivvet.editor.texts import Span, Text

#: How a name is written where it stands.
Form = Literal[
    "key", "string", "condition", "result", "expression", "literal", "promise", "csv", "csv-condition"
]
_NAMES = re.compile(r"""'(?:[^']|'')*'|\\?"(?P<quoted>(?:[^"\\]|"")*)\\?"|(?P<plain>[^\W\d]\w*)""")
_LITERALS = re.compile(r"""\\?"(?:[^"\\]|"")*\\?"|'(?P<text>(?:[^']|'')*)'""")
_ATOMS = re.compile(r"""\\?"(?P<quoted>(?:[^"\\]|"")*)\\?"|(?P<plain>[^|()"\\]+)""")
_NOT = re.compile(r"\s*(?:not\s+)?")
_OTHER_TABLE = re.compile(r"(?P<table>[A-Za-z_][\w-]*)\.(?P<column>[A-Za-z_][\w-]*)")


@dataclass(frozen=True, slots=True)
class Entity:
    """What has a name.

    Attributes
    ----------
    kind : {"table", "column", "class", "dataset"}
        A formula is the column that it makes.
    name : str
        Of a class, the column.
    label : str
        Of a class.
    """

    kind: Literal["table", "column", "class", "dataset"]
    name: str
    label: str = ""

    @property
    def word(self) -> str:
        """What is written for it."""
        return self.label if self.kind == "class" else self.name


@dataclass(frozen=True, slots=True)
class Occurrence:
    """A place where something is named.

    Attributes
    ----------
    path : Path
    span : Span
    form : str
        How it is written there.
    is_definition : bool
    """

    path: Path
    span: Span
    form: Form
    is_definition: bool = False


@dataclass(frozen=True, slots=True)
class _Named:
    """An entity at a stretch of a text."""

    entity: Entity
    span: Span
    form: Form
    is_definition: bool = False


def files_of(book: OpenBook) -> list[Path]:
    """Return the files of a book in which something may be named."""
    own = [book.folder / BOOK_FILE, book.folder / FORMULAS_FILE]
    tables = [
        path for path, what in book.files_of_tables.items() if not book.is_used(what.rpartition(" ")[2])
    ]
    known = [path.resolve() for path in (*own, *tables) if path.suffix in (".toml", ".csv", ".tsv")]
    return list(dict.fromkeys(path for path in known if path.is_file()))


def columns_alike(book: OpenBook, name: str) -> frozenset[str]:
    """Return the columns that hold the classes of one: datasets may keep an output of a table under other names."""
    pairs = {
        pair
        for plan in (known_plan(book, dataset)[0] for dataset in book.datasets.values())
        if plan is not None
        for step in plan.table_steps
        for pair in step.outputs
    }
    alike = {name}
    while more := {one for pair in pairs if alike & set(pair) for one in pair} - alike:
        alike |= more
    return frozenset(alike)


def occurrences(books: OpenBooks, book: OpenBook, entity: Entity) -> list[Occurrence]:
    """Return all places where something is named, in the order of files; a class in all columns that hold it."""
    found = []
    names = columns_alike(book, entity.name) if entity.kind == "class" else frozenset()
    entities = frozenset({entity, *(replace(entity, name=name) for name in names)})
    for path in files_of(book):
        text = books.texts.of(path)
        if entity.word not in text.text and entity.word != path.stem:
            continue
        for one in _Namer(books, book, books.file(path), text).named(entities):
            found.append(Occurrence(path, one.span, one.form, one.is_definition))
        if (
            entity.kind == "table"
            and path.parent.name == "tables"
            and path.suffix == ".toml"
            and path.stem == entity.name
        ):
            found.append(Occurrence(path, Span(0, 0), "key", is_definition=True))
    return found


def entity_at(books: OpenBooks, path: Path, offset: int) -> tuple[Entity, Span] | None:
    """Return what is named at a place of a file, and the stretch that names it; None where nothing is."""
    file = books.file(path)
    book = None if file.folder is None else books.read(file.folder)
    if book is None:
        return None
    text = books.texts.of(path)
    namer = _Namer(books, book, file, text)
    at = [one for one in namer.named(None) if one.span.holds(offset) and one.span.end > one.span.start]
    if at:
        best = min(at, key=lambda one: one.span.end - one.span.start)
        return best.entity, best.span
    return None


class _Namer:
    """Finds names in one file.

    With entities, those of them; without, all that can be told apart: of expressions the known columns.
    """

    def __init__(self, books: OpenBooks, book: OpenBook, file: BookFile, text: Text) -> None:
        self.books, self.book, self.file, self.text = books, book, file, text
        self.columns = set(book.formulas) | {
            column.name
            for table in book.tables.values()
            for column in columns_of(table.inputs, table.outputs)
        }
        self.alike: dict[str, frozenset[str]] = {}

    def named(self, entities: frozenset[Entity] | None) -> Iterator[_Named]:
        for one in self._all():
            if entities is None or one.entity in entities:
                yield one

    def _all(self) -> Iterator[_Named]:
        if self.file.kind == "book":
            yield from self._of_book()
        elif self.file.kind == "formulas":
            yield from self._of_formulas()
        elif self.file.kind == "table":
            sketch = sketch_of(self.text.text)
            yield from self._of_table(sketch)
            yield from self._of_cells(sketch, in_csv=False)
        elif self.file.kind == "rows":
            yield from self._of_cells(sketch_of_csv(self.text), in_csv=True)

    # What single names are.

    def _column(self, token: Token, *, form: Form = "string", is_definition: bool = False) -> _Named:
        name = _unescaped(token.text) if form == "string" else token.text
        return _Named(Entity("column", name), Span(token.start, token.end), form, is_definition)

    def _maker(self, token: Token) -> _Named:
        name = _unescaped(token.text)
        if name in self.book.formulas:
            return self._column(token)
        return _Named(Entity("table", name), Span(token.start, token.end), "string")

    def _class(self, column: str, token: Token, form: Form = "result") -> _Named:
        text = _unescaped(token.text) if form != "key" else token.text
        return _Named(Entity("class", column, _plain(text)), Span(token.start, token.end), form)

    def _of_expression(self, text: str, start: int, form: Form = "expression") -> Iterator[_Named]:
        """Yield the columns that an expression names, and the classes of them that it compares with."""
        read: list[str] = []
        for match in _NAMES.finditer(text):
            name = match["plain"] or (match["quoted"] or "").replace('""', '"')
            after = text[match.end() :].lstrip()
            if name in self.columns and not (match["plain"] and after.startswith("(")):
                read.append(name)
                yield _Named(Entity("column", name), Span(start + match.start(), start + match.end()), form)
        for match in _LITERALS.finditer(text):
            if match["text"] is None:
                continue
            label = match["text"].replace("''", "'")
            for name in dict.fromkeys(read):
                if label in self._labels(name):
                    yield _Named(
                        Entity("class", name, label),
                        Span(start + match.start(), start + match.end()),
                        "literal",
                    )

    def _labels(self, column: str) -> set[str]:
        return {
            str(label)
            for table in self.book.tables.values()
            for output in table.outputs
            if output.name in self._alike(column)
            for label in table.classes(output)
            if isinstance(label, str)
        }

    def _alike(self, column: str) -> frozenset[str]:
        if column not in self.alike:
            self.alike[column] = columns_alike(self.book, column)
        return self.alike[column]

    # The files.

    def _of_formulas(self) -> Iterator[_Named]:
        for token in tokens(self.text.text):
            if token.kind in ("key", "heading") and len(token.path) == 1:
                yield self._column(token, form="key", is_definition=True)
            elif token.kind == "value" and (len(token.path) == 1 or token.path[-1] in ("formula", "among")):
                yield from self._of_expression(token.text, token.start)
            elif (
                token.kind == "value"
                and len(token.path) == 4
                and token.path[1] == "examples"
                and token.path[2] == 0
            ):
                yield self._column(token)

    def _of_book(self) -> Iterator[_Named]:
        for token in tokens(self.text.text):
            path = token.path
            if len(path) < 2 or path[0] not in ("datasets", "summaries"):
                continue
            span = Span(token.start, token.end)
            if token.kind in ("key", "heading") and len(path) == 2:
                yield _Named(Entity("dataset", str(path[1])), span, "key", is_definition=True)
            elif token.kind == "value" and path[0] == "summaries" and path[2:] == ("from",):
                yield _Named(Entity("dataset", _unescaped(token.text)), span, "string")
            elif token.kind in ("key", "value"):
                yield from self._of_dataset(token, path[2:])

    def _of_dataset(self, token: Token, path: KeyPath) -> Iterator[_Named]:
        word, *rest = path
        is_key = token.kind == "key"
        if word == "columns" and len(rest) >= 1 and not is_key:
            if len(rest) == 1 or rest[1] in ("table", "formula"):
                yield self._maker(token)
            elif rest[1] in ("status", "row", "as", "rest"):
                yield self._column(token, is_definition=True)
            elif rest[1] in ("input", "over", "indicators", "amount"):
                yield self._column(token)
            elif rest[1] == "keep":
                yield self._column(token, is_definition=isinstance(rest[-1], str))
        elif (word == "columns" and len(rest) == 3 and is_key and rest[1] == "input") or (
            word == "columns" and len(rest) >= 3 and is_key and rest[1] == "keep"
        ):
            yield self._column(token, form="key")
        elif word in ("types", "missing_words", "input", "values", "by") and is_key and len(rest) >= 1:
            if len(rest) == 1 or (word == "by" and len(rest) == 2):
                is_definition = word in ("values", "by", "input")
                yield self._column(token, form="key", is_definition=is_definition)
        elif word in ("key", "input") and not is_key:
            yield self._column(token)
        elif word in ("where", "values", "by") and not is_key:
            yield from self._of_expression(token.text, token.start)

    def _of_table(self, sketch: Sketch) -> Iterator[_Named]:
        for token in tokens(self.text.text):
            path, is_key = token.path, token.kind in ("key", "heading")
            if token.kind in ("open", "close"):
                continue
            if path[0] in ("inputs", "outputs") and len(path) == 2 and is_key:
                yield self._column(token, form="key", is_definition=path[0] == "outputs")
            elif path[0] == "inputs" and len(path) >= 3 and path[2] == "domain" and not is_key:
                yield from self._of_domain(str(path[1]), token, is_list=len(path) == 4)
            elif path[0] == "outputs" and len(path) == 4 and path[2] == "order" and not is_key:
                yield self._class(str(path[1]), token)
            elif path[0] == "outputs" and len(path) == 4 and path[2] == "meaning" and is_key:
                yield self._class(str(path[1]), token, "key")
            elif path[0] in ("missing", "otherwise") and len(path) == 2:
                yield self._column(token, form="key") if is_key else self._class(str(path[1]), token)
            elif path[0] == "examples" and len(path) == 3 and not is_key:
                yield from self._of_example(sketch, token)
            elif path[0] == "given" and not is_key:
                yield from self._of_expression(token.text, token.start)
            elif path[0] == "promises" and not is_key:
                yield from self._of_promise(sketch, token)

    def _of_domain(self, name: str, token: Token, *, is_list: bool) -> Iterator[_Named]:
        match = None if is_list else _OTHER_TABLE.fullmatch(token.text)
        if match is not None:
            for kind in ("table", "column"):
                span = Span(token.start + match.start(kind), token.start + match.end(kind))
                yield _Named(Entity(kind, match[kind]), span, "string")
        elif is_list:
            yield self._class(name, token)
        else:
            yield from self._of_condition(name, token.text, token.start, "condition")

    def _of_example(self, sketch: Sketch, token: Token) -> Iterator[_Named]:
        """Yield what a cell of an example names; its headings are those of its first row."""
        row, at = int(token.path[1]), int(token.path[2])
        if row == 0:
            yield self._column(token)
            return
        heads = self._example_heads
        if at < len(heads) and (heads[at] in sketch.outputs or sketch.inputs.get(heads[at]) == "text"):
            yield self._class(heads[at], token)

    @property
    def _example_heads(self) -> list[str]:
        return [
            _unescaped(one.text)
            for one in tokens(self.text.text)
            if one.kind == "value" and one.path[:2] == ("examples", 0)
        ]

    def _of_promise(self, sketch: Sketch, token: Token) -> Iterator[_Named]:
        names = [*sketch.inputs, *sketch.outputs]
        for name in names:
            for match in re.finditer(rf"(?<![\w]){re.escape(name)}(?![\w])", token.text):
                span = Span(token.start + match.start(), token.start + match.end())
                yield _Named(Entity("column", name), span, "promise")
            for label in sorted(self._labels(name)):
                if label in names:
                    continue
                for match in re.finditer(rf"(?<![\w]){re.escape(label)}(?![\w])", token.text):
                    span = Span(token.start + match.start(), token.start + match.end())
                    yield _Named(Entity("class", name, label), span, "promise")

    def _of_condition(self, name: str, text: str, start: int, form: Form) -> Iterator[_Named]:
        """Yield the values that a condition names as classes of its column."""
        for match in _ATOMS.finditer(text):
            if match["quoted"] is not None:
                label, at, end = match["quoted"].replace('""', '"'), match.start(), match.end()
            else:
                held = match["plain"]
                lead = _NOT.match(held)
                at = match.start() + (lead.end() if lead else 0)
                end = match.start() + len(held.rstrip())
                label = text[at:end]
            if label and at < end:
                yield _Named(Entity("class", name, label), Span(start + at, start + end), form)

    def _of_cells(self, sketch: Sketch, *, in_csv: bool) -> Iterator[_Named]:
        table = self.book.tables.get(self.file.table or self.file.path.stem)
        kinds = dict(sketch.inputs)
        inputs, outputs = set(sketch.inputs), set(sketch.outputs)
        known: dict[str, str] = {}
        is_lookup = False
        if table is not None and in_csv:
            inputs, outputs = (
                {input_.name for input_ in table.inputs},
                {output.name for output in table.outputs},
            )
            kinds = {input_.name: input_.type for input_ in table.inputs}
            known = {
                column.column: column.name
                for column in columns_of(table.inputs, table.outputs)
                if column.column
            }
            is_lookup = table.lookup is not None
        for cell in sketch.cells:
            name = known.get(cell.heading, cell.heading)
            if cell.row == 0:
                if name == cell.heading and (name in inputs or name in outputs):
                    yield _Named(Entity("column", name), cell.span, "csv" if in_csv else "string")
                continue
            if name in outputs and (cell.repeats or name not in inputs):
                yield from self._of_result(name, cell, in_csv=in_csv)
            elif name in inputs and kinds.get(name) == "text":
                if is_lookup:
                    yield _Named(Entity("class", name, cell.text), cell.span, "csv")
                else:
                    form: Form = "csv-condition" if in_csv else "condition"
                    yield from self._of_condition(name, cell.text, cell.span.start, form)
            elif cell.heading == WHEN:
                yield from self._of_expression(cell.text, cell.span.start)

    def _of_result(self, name: str, cell: Cell, *, in_csv: bool) -> Iterator[_Named]:
        if cell.text.lstrip().startswith("="):
            at = cell.text.index("=") + 1
            yield from self._of_expression(cell.text[at:], cell.span.start + at)
        elif cell.text.strip():
            text = cell.text if in_csv else _unescaped(cell.text)
            form: Form = "csv" if in_csv else "result"
            yield _Named(Entity("class", name, _plain(text)), cell.span, form, is_definition=True)


def _unescaped(text: str) -> str:
    return text.replace('\\"', '"').replace("\\\\", "\\")


def _plain(text: str) -> str:
    """Return a result as a value: quotes around it are no part of it."""
    text = text.strip()
    is_quoted = len(text) >= 2 and text[0] == text[-1] == '"'
    return text[1:-1].replace('""', '"') if is_quoted else text
