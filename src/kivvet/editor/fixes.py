"""Quick fixes: the cures of a finding as edits of the texts that are open."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from kivvet.books.asks.mend_table import mend_in_book
from kivvet.books.files.open_book import OpenBook
from kivvet.books.files.row_edits import RowEdit
from kivvet.books.files.table_files import TableFiles
from kivvet.core.tables.inputs import columns_of
from kivvet.core.tables.table import Table
from kivvet.core.words.cures import (
    AddRow,
    Cure,
    FirstWins,
    MoveRow,
    RemoveRow,
    ReplaceWord,
    SetInput,
    SetStep,
    WriteCell,
    cures_of,
)
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.values import write_plain
from kivvet.editor.diagnoses import Diagnosis
from kivvet.editor.open_books import OpenBooks
from kivvet.editor.texts import Edit, Span, Texts, edit_between
from kivvet.editor.toml_tokens import Token, tokens

_MOST_CLASSES = 6
_MOST_MENDED = 500  # rows of a table that is mended while one waits
_QUOTED = re.compile(r"'([^']+)'")


@dataclass(frozen=True)
class Fix:
    """An offer to edit texts so that a finding goes.

    Attributes
    ----------
    title : str
    edits : mapping of Path to list of Edit
    diagnosis : Diagnosis
    is_whole : bool
        Whether nothing is left to be filled in.
    """

    title: str
    edits: Mapping[Path, list[Edit]]
    diagnosis: Diagnosis
    is_whole: bool = True


def fixes_of(books: OpenBooks, folder: Path, diagnosis: Diagnosis) -> list[Fix]:
    """Return the fixes that a diagnosis offers, the best one first."""
    book = books.read(folder)
    if book is None or diagnosis.is_past:
        return []
    with books.as_typed():
        return list(_Fixer(book, books.texts, diagnosis).fixes())


class _Fixer:
    def __init__(self, book: OpenBook, texts: Texts, diagnosis: Diagnosis) -> None:
        self.book, self.texts, self.diagnosis = book, texts, diagnosis
        self.finding = diagnosis.finding

    def fixes(self) -> Iterator[Fix]:
        """Yield the fixes; what cannot be edited line by line offers none."""
        cures = cures_of(self.finding)
        if self.finding.kind == "unmatched" and self.finding.witness and not cures:
            value = next(iter(self.finding.witness.values()))[1:-1]
            cures = [AddRow((value, "..."))]
        for cure in cures:
            if isinstance(cure, ReplaceWord):
                yield from self.replaced(cure)
        if self.finding.remedy.startswith("leave it out"):
            yield from self.left_out()
        try:
            files = TableFiles.read(self.book.file_of_table(self.finding.table))
        except (KivvetError, StopIteration, OSError):
            return
        for cure in cures:
            try:
                yield from self.of_rows(files, cure)
            except (KivvetError, ValueError, IndexError):
                continue
        if self.finding.kind in ("example", "promise") and files.table.n_rows <= _MOST_MENDED:
            yield from self.mended(files)

    def replaced(self, cure: ReplaceWord) -> Iterator[Fix]:
        """Offer the near word for the one that is named in the finding and stands at its place."""
        text = self.texts.of(self.diagnosis.path).text
        span = self.diagnosis.span
        for wrong in _QUOTED.findall(self.finding.message):
            at = text.find(wrong, span.start, max(span.end, span.start + len(wrong)))
            if at >= 0:
                edit = Edit(Span(at, at + len(wrong)), cure.word)
                yield Fix(f"write {cure.word}", {self.diagnosis.path: [edit]}, self.diagnosis)
                return

    def left_out(self) -> Iterator[Fix]:
        """Offer to take out the keyword at the place of the finding, with its value."""
        text = self.texts.of(self.diagnosis.path).text
        found = tokens(text)
        key = next(
            (one for one in found if one.kind == "key" and one.start == self.diagnosis.span.start), None
        )
        if key is None:
            return
        last = [one for one in found if one.path[: len(key.path)] == key.path][-1]
        start, end = text.rfind("\n", 0, key.start) + 1, text.find("\n", last.end)
        end = len(text) if end < 0 else end + 1
        if text[start : key.start].strip() or (
            "\n" in text[start : end - 1].strip("\n") and last.kind != "close"
        ):
            return
        yield Fix(
            f"leave {key.text} out", {self.diagnosis.path: [Edit(Span(start, end), "")]}, self.diagnosis
        )

    def of_rows(self, files: TableFiles, cure: Cure) -> Iterator[Fix]:
        match cure:
            case AddRow(cells):
                yield from self.added(files, cells)
            case WriteCell(row, text, heading):
                name = heading or files.headings[0]
                edited = files.with_edits({row: RowEdit(files.known({name: text}))})
                yield self.fix(f"write {name} of row {row} as {text}", files, edited)
            case RemoveRow(row):
                yield self.fix(f"remove row {row}", files, files.with_edits({row: RowEdit()}))
            case MoveRow(row, above):
                yield self.fix(f"move row {row} above row {above}", files, files.with_row_moved(row, above))
            case FirstWins():
                yield self.of_toml("let the earlier row win: match = first", _with_match(self.toml(files)))
            case SetStep(name, step):
                made = _with_option(self.toml(files), name, "step", step)
                yield self.of_toml(f"set step = {step} of {name}", made)
            case SetInput(name, options):
                yield self.of_toml(f"inputs.{name} = {options}", _with_input(self.toml(files), name, options))

    def added(self, files: TableFiles, cells: tuple[str, ...]) -> Iterator[Fix]:
        """Offer a row for a gap, with each of the results that rows beside it give, and one to be filled in."""
        table, headings = files.table, files.headings
        n_results = cells.count("...")
        own = cells[: len(cells) - n_results]
        if len(cells) > len(headings) or not n_results:
            return
        after = max((row for row in self.finding.rows[:2]), default=table.n_rows)
        known = _results_near(table, after, n_results)
        shown = ", ".join(one for one in own if one) or "any"
        for results in [*known, ("",) * n_results]:
            grown = files.with_rows([_record(table, headings, [*own, *results])])
            n_rows = grown.table.n_rows
            if self.finding.rows and after + 1 < n_rows:
                grown = grown.with_row_moved(
                    n_rows, min(self.finding.rows[:2]) + 1 if table.match == "one" else n_rows
                )
            said = f": {', '.join(results)}" if any(results) else ", its result to be filled in"
            yield replace(self.fix(f"add the row {shown}{said}", files, grown), is_whole=any(results))

    def mended(self, files: TableFiles) -> Iterator[Fix]:
        """Offer the fewest changes with which all examples and promises hold."""
        for offer in mend_in_book(self.book, self.finding.table).offers:
            cells: dict[int, dict[str, str]] = {}
            for one in offer.cells:
                cells.setdefault(one.row, {})[one.heading] = one.after
            edited = files.with_edits({row: RowEdit(texts) for row, texts in cells.items()})
            yield self.fix("; ".join(offer.steps), files, edited)

    def toml(self, files: TableFiles) -> tuple[Path, str]:
        return files.path.resolve(), self.texts.of(files.path.resolve()).text

    def of_toml(self, title: str, made: tuple[Path, str, str]) -> Fix:
        path, before, after = made
        edit = edit_between(before, after)
        return Fix(title, {path: [edit] if edit else []}, self.diagnosis)

    def fix(self, title: str, before: TableFiles, after: TableFiles) -> Fix:
        """Return the fix that makes one state of the files the other."""
        path = before.file.resolve()
        text = self.texts.of(path).text
        line_end = "\r\n" if "\r\n" in text else "\n"
        edit = edit_between(text, after.text.replace("\n", line_end))
        return Fix(title, {path: [edit] if edit else []}, self.diagnosis)


def _record(table: Table, headings: Sequence[str], cells: Sequence[str]) -> list[str]:
    """Return the cells of a row, which a remedy writes in the order of inputs and outputs, in that of the headings."""
    names = [one.name for one in columns_of(table.inputs, table.outputs)]
    if table.header or len(set(names)) < len(names):
        return [*cells, *[""] * (len(headings) - len(cells))]
    by_name = dict(zip(names, cells, strict=False))
    return [by_name.get(one, "") for one in headings]


def _results_near(table: Table, after: int, n_results: int) -> list[tuple[str, ...]]:
    """Return the results that rows give, those of the nearest ones first."""
    near = sorted(table.rows, key=lambda row: (abs(row.number - after - 0.5), row.number))
    found: dict[tuple[str, ...], None] = {}
    for row in near:
        if len(row.results) == n_results and all(isinstance(one, (str, int, float)) for one in row.results):
            found.setdefault(tuple(one if isinstance(one, str) else write_plain(one) for one in row.results))
        if len(found) == _MOST_CLASSES:
            break
    return list(found)


def _statement(text: str, path: tuple[str, ...]) -> list[Token]:
    """Return the tokens of what stands at a path, its key included."""
    return [one for one in tokens(text) if one.path[: len(path)] == path]


def _with_match(toml: tuple[Path, str]) -> tuple[Path, str, str]:
    path, text = toml
    value = next((one for one in _statement(text, ("match",)) if one.kind == "value"), None)
    if value is not None:
        return path, text, f"{text[: value.start]}first{text[value.end :]}"
    rows = next(one for one in tokens(text) if one.kind == "key" and one.path in (("rows",), ("lookup",)))
    at = text.rfind("\n", 0, rows.start) + 1
    return path, text, f'{text[:at]}match = "first"\n{text[at:]}'


def _with_option(toml: tuple[Path, str], name: str, word: str, value: str) -> tuple[Path, str, str]:
    """Return the text of a table with an option of an input said."""
    path, text = toml
    found = _statement(text, ("inputs", name))
    said = [one for one in found if one.path == ("inputs", name, word) and one.kind == "value"]
    if said:
        start, end = said[0].start - said[0].is_string, said[0].end + said[0].is_string
        return path, text, text[:start] + value + text[end:]
    plain = next((one for one in found if one.path == ("inputs", name) and one.kind == "value"), None)
    if plain is not None:
        start, end = plain.start - 1, plain.end + 1
        return path, text, f"{text[:start]}{{ type = {text[start:end]}, {word} = {value} }}{text[end:]}"
    close = next((one for one in found if one.path == ("inputs", name) and one.kind == "close"), None)
    if close is not None:
        return path, text, f"{text[: close.start].rstrip()}, {word} = {value} {text[close.start :]}"
    last = [one for one in found if len(one.path) == 3][-1]
    end = text.find("\n", last.end)
    end = len(text) if end < 0 else end
    heading = any(one.kind == "heading" for one in found)
    key = word if heading else f"inputs.{name}.{word}"
    return path, text, f"{text[:end]}\n{key} = {value}{text[end:]}"


def _with_input(toml: tuple[Path, str], name: str, options: str) -> tuple[Path, str, str]:
    """Return the text of a table with an input defined anew, where it stands in one statement."""
    path, text = toml
    found = _statement(text, ("inputs", name))
    values = [one for one in found if one.path == ("inputs", name) and one.kind in ("value", "open", "close")]
    if not values:
        return path, text, text
    start = values[0].start - values[0].is_string
    end = values[-1].end + values[-1].is_string
    return path, text, text[:start] + options + text[end:]
