"""What is wrong in a file that is open, and where: the findings of the check, each at the stretch of text that it is about."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from kivvet.books.files.open_book import BOOK_FILE, OpenBook
from kivvet.core.words.findings import Finding, Severity
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, shown_path
from kivvet.editor.texts import Span, Text, Texts, moved

_PARTS_OF_LINE = re.compile(r"""\#.*|"(?:[^"\\]|\\.)*"?|'[^']*'?|[^\s\[\]{}=,#"']+|[\[\]{}=,]""")
_MOST_IN_FILE = 1_000  # an editor shows no more that anyone reads


@dataclass(frozen=True)
class Diagnosis:
    """A finding at a stretch of a file.

    Attributes
    ----------
    path : Path
    span : Span
    finding : Finding
    others : tuple of (Path, Span, str)
        Where else it is about, and what stands there.
    is_past : bool
        Whether it is of the text as it could last be read.
    """

    path: Path
    span: Span
    finding: Finding
    others: tuple[tuple[Path, Span, str], ...] = ()
    is_past: bool = False

    @property
    def severity(self) -> Severity:
        return self.finding.severity

    @property
    def message(self) -> str:
        """The finding in words, with its example, the data it concerns, and what to do."""
        one = self.finding
        said = one.message + (" (not proven)" if one.possible else "")
        rows = count(one.count, "row") if one.count else ""
        lines = [f"{said}; {rows} of {one.dataset}" if rows and rows not in said else said]
        lines += [f"for example {one.example}"] if one.witness else []
        lines += [f"fix: {one.remedy}"] if one.remedy else []
        return "\n".join(lines)


def span_of(text: Text, place: Place) -> Span:
    """Return the stretch of a text that a place is about: a cell, a word, a row or a line."""
    line = text.line_span((place.line or 1) - 1)
    held = text.text[line.start : line.end]
    if place.column is None:
        shown = held.strip()
        start = line.start + (len(held) - len(held.lstrip()))
        return Span(start, start + len(shown))
    at = place.column - 1
    for part in _PARTS_OF_LINE.finditer(held):
        if part.end() <= at and part.end() < len(held):
            continue
        if part[0][0] in "\"'":
            quote = part[0][0]
            end = part.end() - (len(part[0]) > 1 and part[0].endswith(quote))
            start = max(at, part.start() + 1)
            return Span(line.start + min(start, end), line.start + end) if start < end else Span(line.start + part.start(), line.start + part.end())  # fmt: skip
        if part[0] in "[{":
            return Span(line.start + part.start(), line.start + _row_end(held, part.start()))
        return Span(line.start + max(at, part.start()), line.start + part.end())
    return Span(line.start + min(at, len(held)), line.end)


def _row_end(line: str, start: int) -> int:
    """Return where a bracket on a line closes; the end of what stands on the line where it does not."""
    depth = 0
    for part in _PARTS_OF_LINE.finditer(line, start):
        depth += (part[0] in "[{") - (part[0] in "]}")
        if depth == 0:
            return part.end()
        if part[0].startswith("#"):
            return len(line[: part.start()].rstrip())
    return len(line.rstrip())


def diagnoses_of(book: OpenBook, findings: Iterable[Finding], texts: Texts) -> list[Diagnosis]:
    """Return findings at their places; what has none stands at the table's file, or at the book's."""
    found: list[Diagnosis] = []
    known: dict[Path, Text] = {}
    n_in: dict[Path, int] = {}

    def text(path: Path) -> Text:
        if path not in known:
            known[path] = texts.of(path)
        return known[path]

    for finding in findings:
        places = [place for place in finding.places if not place.sheet] or [Place(_home(book, finding))]
        at = [(path := Path(place.file).resolve(), span_of(text(path), place)) for place in places]
        if len(at) == 1 and _is_of_whole(finding, places[0]):
            at = [(path, _key_of_rows(text(path)) or span) for path, span in at]
        main = _row_meant(finding, len(at))
        path, span = at[main]
        n_in[path] = n_in.get(path, 0) + 1
        if n_in[path] > _MOST_IN_FILE:
            continue
        others = tuple(
            (where, stretch, f"row {finding.rows[n]}" if n < len(finding.rows) else "see here")
            for n, (where, stretch) in enumerate(at)
            if n != main
        )
        found.append(Diagnosis(path, span, finding, others))
    return found


_ROWS_KEY = re.compile(r"^[ \t]*(?P<key>rows|lookup)[ \t]*=", re.MULTILINE)


def _is_of_whole(one: Finding, place: Place) -> bool:
    """Whether a finding is about what a table as a whole leaves out, and not about a place in it."""
    return (
        bool(one.table)
        and not one.is_of_formula
        and not one.rows
        and place.column is None
        and place.file.endswith(".toml")
    )


def _key_of_rows(text: Text) -> Span | None:
    found = _ROWS_KEY.search(text.text)
    return None if found is None else Span(*found.span("key"))


def _row_meant(one: Finding, n_places: int) -> int:
    """Return which of the places of a finding is the one that its remedy is about."""
    named = re.search(r"\brow (\d+)\b", one.remedy)
    if named and len(one.rows) == n_places and int(named[1]) in one.rows:
        return one.rows.index(int(named[1]))
    return n_places - 1 if one.kind in ("overlap", "conflict", "duplicate") else 0


def _home(book: OpenBook, one: Finding) -> str:
    """Return the file that a finding without a place belongs to."""
    if one.table in book.tables and not one.is_of_formula:
        place = book.tables[one.table].place
        if place is not None:
            return place.file
    return shown_path(book.folder / BOOK_FILE)


@dataclass
class Told:
    """What an editor was told last of a book, so that nothing blinks while a file cannot be read.

    Attributes
    ----------
    quick, data : list of Diagnosis
        Those without data, and those that data brought.
    texts : dict of Path to str
        The texts that they were found in.
    """

    quick: list[Diagnosis] = field(default_factory=list)
    data: list[Diagnosis] = field(default_factory=list)
    texts: dict[Path, str] = field(default_factory=dict)

    def after(self, found: Sequence[Diagnosis], broken: set[Path], texts: Texts) -> list[Diagnosis]:
        """Take what a check without data found, and return all that is to be shown.

        Parameters
        ----------
        found : sequence of Diagnosis
        broken : set of Path
            The files that cannot be read as they stand: what was last found in them stays, as past.
        """
        stays = [one for one in self.quick if one.path in broken]
        self.quick = [*found, *(replace(one, is_past=True) for one in self._moved(stays, texts))]
        self.data = self._moved(self.data, texts)
        new = {_key(one) for one in self.quick}
        self._take(texts)
        return [*self.quick, *(one for one in self.data if _key(one) not in new)]

    def with_data(self, found: Sequence[Diagnosis], texts: Texts) -> list[Diagnosis]:
        """Take what a check with data found, and return all that is to be shown."""
        self._take(texts)
        past = [one for one in self.quick if one.is_past]
        known = {_key(one) for one in self.quick}
        self.data = [one for one in found if _key(one) not in known]
        return [*found, *past]

    def _take(self, texts: Texts) -> None:
        self.texts = {one.path: texts.of(one.path).text for one in (*self.quick, *self.data)}

    def _moved(self, diagnoses: Iterable[Diagnosis], texts: Texts) -> list[Diagnosis]:
        """Return diagnoses where they lie after the edits since; those whose text was edited go."""
        found = []
        for diagnosis in diagnoses:
            before, after = self.texts.get(diagnosis.path), texts.of(diagnosis.path).text
            span = (
                diagnosis.span if before is None or before == after else moved(diagnosis.span, before, after)
            )
            if span is not None:
                found.append(replace(diagnosis, span=span))
        return found


def _key(one: Diagnosis) -> tuple[object, ...]:
    found = one.finding
    return one.path, found.kind, found.table, found.message
