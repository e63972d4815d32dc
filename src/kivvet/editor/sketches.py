"""A table as far as it is typed: its inputs, outputs, headings and the cells of its rows, whether it can be read or not."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from kivvet.books.files.toml_tokens import Token, tokens
from kivvet.core.read.options import KeyPath
from kivvet.core.tables.table import WHEN
from kivvet.editor.texts import Span, Text
from kivvet.io.csv_records import separator_said


@dataclass(frozen=True)
class Cell:
    """A cell of a row of a table.

    Attributes
    ----------
    row : int
        The number of the row, from 1; 0 for headings.
    heading : str
    span : Span
        Of what it holds, without quotes.
    text : str
    repeats : bool
        Whether a column before it has the same heading: an input and an output may share a name.
    """

    row: int
    heading: str
    span: Span
    text: str
    repeats: bool = False


@dataclass
class Sketch:
    """What is typed of a table.

    Attributes
    ----------
    inputs, outputs : mapping of str to str
        Types by name; empty where none is said.
    headings : tuple of str
        What its rows name their columns.
    cells : list of Cell
    spans : dict of path to Span
        Where keys stand.
    """

    inputs: dict[str, str] = field(default_factory=dict)
    outputs: dict[str, str] = field(default_factory=dict)
    headings: tuple[str, ...] = ()
    cells: list[Cell] = field(default_factory=list)
    spans: dict[KeyPath, Span] = field(default_factory=dict)

    def cell_at(self, offset: int) -> Cell | None:
        """Return the cell at a place of the text."""
        return next((cell for cell in self.cells if cell.span.holds(offset)), None)

    def in_column(self, heading: str) -> Iterator[Cell]:
        """Yield the cells of a column, the heading itself left out."""
        return (cell for cell in self.cells if cell.heading == heading and cell.row)


def sketch_of(text: str) -> Sketch:
    """Return what is typed of a table in its TOML file; rows that stand in a file of their own are not among it."""
    made = Sketch()
    rows: dict[int, list[Token]] = {}
    for token in tokens(text):
        path = token.path
        if token.kind in ("key", "heading"):
            made.spans.setdefault(path, Span(token.start, token.end))
        if len(path) >= 2 and path[0] in ("inputs", "outputs"):
            of = made.inputs if path[0] == "inputs" else made.outputs
            of.setdefault(str(path[1]), "")
            if token.kind == "value" and (len(path) == 2 or path[2] == "type"):
                of[str(path[1])] = token.text
        elif token.kind == "value" and len(path) == 3 and path[0] == "rows":
            rows.setdefault(int(path[1]), []).append(token)
    names = [*made.inputs, *made.outputs]
    first = [one.text.strip() for one in rows.get(0, [])]
    has_headings = bool(first) and (len(names) > 2 or set(first) - {WHEN} == set(names))
    made.headings = tuple(first) if has_headings else tuple(names)
    for number, cells in rows.items():
        for at, token in enumerate(cells):
            heading = made.headings[at] if at < len(made.headings) else ""
            row = number if has_headings else number + 1
            repeats = heading in made.headings[:at]
            made.cells.append(Cell(row, heading, Span(token.start, token.end), token.text, repeats))
    return made


def sketch_of_csv(text: Text, delimiter: str = "") -> Sketch:
    """Return the cells of a CSV file, each record on a line of its own; the first line has the headings."""
    made = Sketch()
    delimiter = delimiter or separator_said(text.line(0)) or ","
    row = -1
    for number in range(len(text.line_starts)):
        line = text.line(number)
        if not line.strip():
            continue
        row += 1
        start = text.line_starts[number]
        fields = list(_fields(line, delimiter))
        if row == 0:
            made.headings = tuple(held.strip() for _, held in fields)
        for at, (span, held) in enumerate(fields):
            heading = made.headings[at] if at < len(made.headings) else ""
            repeats = heading in made.headings[:at]
            made.cells.append(Cell(row, heading, Span(start + span.start, start + span.end), held, repeats))
    return made


def _fields(line: str, delimiter: str) -> Iterator[tuple[Span, str]]:
    at = 0
    while True:
        if line.startswith('"', at):
            end = at + 1
            while end < len(line) and (line[end] != '"' or line.startswith('""', end)):
                end += 2 if line[end] == '"' else 1
            yield Span(at + 1, end), line[at + 1 : end].replace('""', '"')
            end = min(end + 1, len(line))
            end = line.find(delimiter, end) if delimiter in line[end:] else len(line)
        else:
            end = line.find(delimiter, at) if delimiter in line[at:] else len(line)
            yield Span(at, end), line[at:end]
        if end >= len(line):
            return
        at = end + len(delimiter)
