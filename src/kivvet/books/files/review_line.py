"""The line of a table's file that says when it was reviewed: written anew, every other character as it was."""

from __future__ import annotations

import json
import re
from pathlib import Path

from kivvet.books.files.read_table import read_table
from kivvet.books.files.readers import read_text
from kivvet.books.files.table_files import as_files
from kivvet.core.read.meaning import table_fingerprint
from kivvet.core.tables.review import Review
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import BookError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.files import replacing

_LINE = re.compile(r"^reviewed[ \t]*=[^\n]*\n", re.MULTILINE)
_TOP = re.compile(r"^(?:title|owner|note)[ \t]*=[^\n]*\n", re.MULTILINE)
_HEAD = re.compile(r"(?:[ \t]*(?:#[^\n]*)?\n)*")


def with_review(text: str, review: Review) -> str:
    """Return the text of a table's file with its review."""
    said = [f"on = {review.on}"]
    said += [
        f"{word} = {json.dumps(one, ensure_ascii=False)}"
        for word, one in (("by", review.by), ("note", review.note))
        if one
    ]
    line = f'reviewed = {{ {", ".join(said)}, version = "{review.version}" }}\n'
    if (there := _LINE.search(text)) is not None:
        return text[: there.start()] + line + text[there.end() :]
    at = 0
    head = _HEAD.match(text)
    place = at if head is None else head.end()
    while (top := _TOP.match(text, place)) is not None:
        place = top.end()
    return text[:place] + line + text[place:]


def write_review(table: Table, path: Path, review: Review) -> None:
    """Write a review into a table's file, atomically.

    Raises
    ------
    BookError
        If the file is not what it was when the table was read, or says so in another form.
    """
    original = path.read_bytes()
    text, faults = read_text(path)
    if faults:
        raise BookError(faults[0].message, place=faults[0].places[0])
    made = with_review(text.replace("\r\n", "\n"), review)
    with as_files(path, path, made) as (there, _):
        again, _, faults = read_table(there)
    is_same = again is not None and table_fingerprint(again) == table_fingerprint(table)
    if not is_same or again is None or again.reviewed != review:
        raise BookError(
            "was changed since it was read, or says `reviewed` in a form of its own",
            place=Place(shown_path(path)),
            fix="open the book again; a review stands on one line: reviewed = { on = ..., version = ... }",
        )
    line_end = "\r\n" if b"\r\n" in original else "\n"
    mark = b"\xef\xbb\xbf" if original.startswith(b"\xef\xbb\xbf") else b""
    with replacing(path) as beside:
        beside.write_bytes(mark + made.replace("\n", line_end).encode())
