"""What the cures of a finding change in the files of a table: each offer whole, from which somebody may choose."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from kivvet.books.asks.mend_table import mend_in_book
from kivvet.books.files.readers import read_text
from kivvet.books.files.row_edits import RowEdit
from kivvet.books.files.table_files import TableFiles
from kivvet.books.files.toml_values import with_input, with_match, with_option
from kivvet.core.tables.inputs import columns_of
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import write_literal
from kivvet.core.words.cures import (
    AddRow,
    Cure,
    FirstWins,
    MoveRow,
    RemoveRow,
    SetInput,
    SetStep,
    WriteCell,
    cures_of,
)
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.findings import Finding
from kivvet.core.words.values import write_plain

if TYPE_CHECKING:
    from kivvet.books.files.open_book import OpenBook

_MOST_CLASSES = 6
_MOST_MENDED = 500  # rows of a table that is mended while one waits
#: Kinds whose cure is to take out the first row that they name.
_NEEDLESS = ("duplicate", "shadowed", "impossible")


@dataclass(frozen=True, slots=True)
class LinesReplaced:
    """Lines of a file, from 1, that are replaced: `first` to the one before `end`; none where the two are the same."""

    first: int
    end: int
    text: str


@dataclass(frozen=True)
class SuggestedChange:
    """A change of one file that takes a finding away.

    Attributes
    ----------
    title : str
        What it does, in words.
    cure : Cure or None
        None: the fewest changes that mend examples and promises.
    file : Path
    before, after : str
        The text of the file, with the ends of lines that it has.
    is_whole : bool
        Whether nothing is left to be filled in.
    """

    title: str
    cure: Cure | None
    file: Path
    before: str
    after: str
    is_whole: bool = True

    @property
    def lines(self) -> tuple[LinesReplaced, ...]:
        """The lines that it replaces."""
        old, new = self.before.splitlines(keepends=True), self.after.splitlines(keepends=True)
        return tuple(
            LinesReplaced(start + 1, end + 1, "".join(new[low:high]))
            for tag, start, end, low, high in difflib.SequenceMatcher(
                None, old, new, autojunk=False
            ).get_opcodes()
            if tag != "equal"
        )


def suggested_change(book: OpenBook, found: Finding) -> SuggestedChange | None:
    """Return the change that would cure a finding; None where it takes more than a row, or somebody has to choose."""
    table = book.tables.get(found.table)
    if table is None or table.lookup is not None or found.is_of_formula or found.possible:
        return None
    for one in changes_of(book, found):
        if found.kind in _NEEDLESS and isinstance(one.cure, RemoveRow):
            return one
        if found.kind == "gap" and isinstance(one.cure, AddRow) and not one.is_whole:
            return one
    return None


def changes_of(book: OpenBook, found: Finding, *, mends: bool = False) -> Iterator[SuggestedChange]:
    """Yield the changes that cure a finding about a table, the best one first; none where its rows are not edited here.

    Parameters
    ----------
    mends : bool
        Whether the fewest changes are sought with which examples and promises hold.
    """
    if found.table not in book.tables or found.is_of_formula or book.is_used(found.table):
        return
    cures = cures_of(found)
    if found.kind == "unmatched" and found.witness and not cures:
        cures = _of_value(book.tables[found.table], next(iter(found.witness.values()))[1:-1])
    try:
        files = TableFiles.read(book.file_of_table(found.table))
    except (KivvetError, OSError):
        return
    for cure in cures:
        try:
            yield from _of_cure(files, found, cure)
        except (KivvetError, ValueError, IndexError):
            continue  # the rows stand in a way in which they cannot be changed one by one
    if mends and found.kind in ("example", "promise") and files.table.n_rows <= _MOST_MENDED:
        for offer in mend_in_book(book, found.table).offers:
            cells: dict[int, dict[str, str]] = {}
            for cell in offer.cells:
                cells.setdefault(cell.row, {})[cell.heading] = cell.after
            edited = files.with_edits({row: RowEdit(texts) for row, texts in cells.items()})
            yield _of_rows("; ".join(offer.steps), None, files, edited)


def _of_value(table: Table, value: str) -> list[Cure]:
    """Return a row for a value that no row of a table of one input lists."""
    if len(table.inputs) != 1:
        return []
    about = table.inputs[0]
    text = value if table.lookup is not None or about.type != "text" else write_literal(value)
    outputs = {output.column or output.name for output in table.outputs} | {
        output.name for output in table.outputs
    }
    cells: list[str] = []
    for name in _order(table):
        is_key = name in (about.name, about.column) and text not in cells
        cells.append(text if is_key else "..." if name in outputs else "")
    return [AddRow(tuple(cells))]


def _of_cure(files: TableFiles, found: Finding, cure: Cure) -> Iterator[SuggestedChange]:
    match cure:
        case AddRow(cells):
            yield from _added(files, found, cure, cells)
        case WriteCell(row, text, heading):
            name = heading or files.headings[0]
            edited = files.with_edits({row: RowEdit(files.known({name: text}))})
            yield _of_rows(f"write {name} of row {row} as {text}", cure, files, edited)
        case RemoveRow(row):
            yield _of_rows(f"remove row {row}", cure, files, files.with_edits({row: RowEdit()}))
        case MoveRow(row, above):
            yield _of_rows(f"move row {row} above row {above}", cure, files, files.with_row_moved(row, above))
        case FirstWins():
            yield _of_definition("let the earlier row win: match = first", cure, files.path, with_match)
        case SetStep(name, step):
            change = lambda text: with_option(text, name, "step", step)  # noqa: E731
            yield _of_definition(f"set step = {step} of {name}", cure, files.path, change)
        case SetInput(name, options):
            change = lambda text: with_input(text, name, options)  # noqa: E731
            yield _of_definition(f"inputs.{name} = {options}", cure, files.path, change)


def _added(
    files: TableFiles, found: Finding, cure: Cure, cells: tuple[str, ...]
) -> Iterator[SuggestedChange]:
    """Offer a row for a gap, with each of the results that rows beside it give, and one to be filled in."""
    table, order = files.table, _order(files.table)
    if len(cells) != len(order) or "..." not in cells:
        return
    places = {name: place for place, name in enumerate(order) if cells[place] == "..."}
    outputs = [
        output.column or output.name if (output.column or output.name) in places else output.name
        for output in table.outputs
    ]
    if set(outputs) != set(places):
        return
    after = max(found.rows[:2], default=table.n_rows)
    shown = ", ".join(cell for cell in cells if cell and cell != "...") or "any"
    for results in [*_results_near(table, after), ("",) * len(outputs)]:
        record = list(cells)
        for name, result in zip(outputs, results, strict=True):
            record[places[name]] = result
        grown = files.with_rows([[*record, *[""] * (len(files.headings) - len(record))]])
        n_rows = grown.table.n_rows
        if found.rows and after + 1 < n_rows and table.match == "one":
            grown = grown.with_row_moved(n_rows, min(found.rows[:2]) + 1)
        said = f": {', '.join(results)}" if any(results) else ", its result to be filled in"
        yield _of_rows(f"add the row {shown}{said}", cure, files, grown, is_whole=any(results))


def _order(table: Table) -> list[str]:
    """Return the headings in the order in which a remedy writes a row; those of outputs that inputs share as well."""
    names = [column.column or column.name for column in columns_of(table.inputs, table.outputs)]
    return list(table.header) or names


def _of_rows(
    title: str, cure: Cure | None, before: TableFiles, after: TableFiles, *, is_whole: bool = True
) -> SuggestedChange:
    text, _ = read_text(before.file)
    line_end = "\r\n" if "\r\n" in text else "\n"
    return SuggestedChange(title, cure, before.file, text, after.text.replace("\n", line_end), is_whole)


def _of_definition(title: str, cure: Cure, path: Path, change: Callable[[str], str]) -> SuggestedChange:
    text, _ = read_text(path)
    return SuggestedChange(title, cure, path, text, change(text))


def _results_near(table: Table, after: int) -> list[tuple[str, ...]]:
    """Return the results that rows give, those of the nearest ones first."""
    near = sorted(table.rows, key=lambda row: (abs(row.number - after - 0.5), row.number))
    found: dict[tuple[str, ...], None] = {}
    for row in near:
        if all(isinstance(result, (str, int, float)) for result in row.results):
            found.setdefault(
                tuple(result if isinstance(result, str) else write_plain(result) for result in row.results)
            )
        if len(found) == _MOST_CLASSES:
            break
    return list(found)
