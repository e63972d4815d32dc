"""Quick fixes: the changes that cure a finding, as edits of the texts that are open."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from pathlib import Path

from kivvet.books.asks.suggested_changes import changes_of
from kivvet.books.files.toml_tokens import tokens
from kivvet.core.words.cures import ReplaceWord, cures_of
from kivvet.editor.diagnoses import Diagnosis
from kivvet.editor.open_books import OpenBooks
from kivvet.editor.texts import Edit, Span, Texts, edit_between

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
    found = list(_of_words(books.texts, diagnosis))
    with books.as_typed():
        for one in changes_of(book, diagnosis.finding, mends=True):
            edit = edit_between(one.before, one.after)
            if edit is not None:
                found.append(Fix(one.title, {one.file.resolve(): [edit]}, diagnosis, one.is_whole))
    return found


def _of_words(texts: Texts, diagnosis: Diagnosis) -> Iterator[Fix]:
    """Offer another word for one that is misspelt, or to take out a keyword that has no meaning."""
    remedy = diagnosis.finding.remedy
    for cure in cures_of(diagnosis.finding):
        if isinstance(cure, ReplaceWord):
            yield from _replaced(texts, diagnosis, cure.word)
    if remedy.startswith("leave it out"):
        yield from _left_out(texts, diagnosis)


def _replaced(texts: Texts, diagnosis: Diagnosis, word: str) -> Iterator[Fix]:
    text, span = texts.of(diagnosis.path).text, diagnosis.span
    for wrong in _QUOTED.findall(diagnosis.finding.message):
        at = text.find(wrong, span.start, max(span.end, span.start + len(wrong)))
        if at >= 0:
            edit = Edit(Span(at, at + len(wrong)), word)
            yield Fix(f"write {word}", {diagnosis.path: [edit]}, diagnosis)
            return


def _left_out(texts: Texts, diagnosis: Diagnosis) -> Iterator[Fix]:
    """Offer to take out the keyword at the place of the finding, with its value."""
    text = texts.of(diagnosis.path).text
    found = tokens(text)
    key = next((one for one in found if one.kind == "key" and one.start == diagnosis.span.start), None)
    if key is None:
        return
    last = [one for one in found if one.path[: len(key.path)] == key.path][-1]
    start, end = text.rfind("\n", 0, key.start) + 1, text.find("\n", last.end)
    end = len(text) if end < 0 else end + 1
    if text[start : key.start].strip() or (
        "\n" in text[start : end - 1].strip("\n") and last.kind != "close"
    ):
        return
    yield Fix(f"leave {key.text} out", {diagnosis.path: [Edit(Span(start, end), "")]}, diagnosis)
