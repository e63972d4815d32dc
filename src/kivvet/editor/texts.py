"""The texts that are open in an editor: what they hold, where lines begin, and the files that stand in for them."""

from __future__ import annotations

import re
import tempfile
from bisect import bisect_right
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

from kivvet.core.words.places import Place

_MOST_BYTES, _FIRST_BYTES = 1 << 25, 1 << 16  # of what is larger, data as a rule, the first lines are enough
_LINE_END = re.compile(r"\r\n|\n|\r")


@dataclass(frozen=True, slots=True, order=True)
class Span:
    """A stretch of a text, in signs from its start; its end is not in it."""

    start: int
    end: int

    def holds(self, offset: int) -> bool:
        """Whether a place lies in it, or at its end."""
        return self.start <= offset <= self.end


@dataclass(frozen=True)
class Text:
    """A text as an editor counts it: lines end with LF, CR LF or CR, and with nothing else.

    Attributes
    ----------
    text : str
    version : int
        Of two texts of one file the later one has the higher; 0 for what stands on disk.
    """

    text: str
    version: int = 0

    @cached_property
    def line_starts(self) -> list[int]:
        """Where each line begins."""
        return [0, *(match.end() for match in _LINE_END.finditer(self.text))]

    def line(self, number: int) -> str:
        """Return a line, counted from 0, without its end."""
        return self.text[self.line_span(number).start : self.line_span(number).end]

    def line_span(self, number: int) -> Span:
        """Return where a line lies, counted from 0, without its end; at the end of the text where there is none."""
        if number >= len(self.line_starts):
            return Span(len(self.text), len(self.text))
        start = self.line_starts[number]
        after = self.line_starts[number + 1] if number + 1 < len(self.line_starts) else len(self.text)
        return Span(start, start + len(self.text[start:after].rstrip("\r\n")))

    def position(self, offset: int) -> tuple[int, int]:
        """Return the line, counted from 0, and the sign in it."""
        line = bisect_right(self.line_starts, offset) - 1
        return line, offset - self.line_starts[line]

    def offset(self, line: int, sign: int) -> int:
        """Return the place of a sign of a line; at the end of the line where it has fewer."""
        span = self.line_span(line)
        return min(span.start + sign, span.end)

    def offset_of(self, place: Place) -> int:
        """Return where a place of a finding lies."""
        return self.offset((place.line or 1) - 1, (place.column or 1) - 1)


@dataclass
class Texts:
    """The texts that are open, by the real paths of their files.

    Each text that differs from its file is kept in a file of its own too, which is read in its place.
    """

    opened: dict[Path, Text] = field(default_factory=dict)
    n_changes: int = 0
    _folder: tempfile.TemporaryDirectory[str] | None = None
    _stand_ins: dict[Path, Path] = field(default_factory=dict)

    def put(self, path: Path, text: str) -> None:
        """Take a text as what a file holds from now on."""
        self.n_changes += 1
        self.opened[path] = Text(text, self.n_changes)
        try:
            same = path.read_bytes() == text.encode(errors="surrogatepass")
        except OSError:
            same = True  # a file that is not there yet is none of a book
        if same:
            self._stand_ins.pop(path, None)
            return
        if self._folder is None:
            self._folder = tempfile.TemporaryDirectory(prefix="kivvet-editor-")
        there = Path(self._folder.name) / str(self.n_changes) / path.name
        before = self._stand_ins.get(path)
        there.parent.mkdir()
        there.write_bytes(text.encode(errors="surrogatepass"))
        self._stand_ins[path] = there
        if before is not None:
            before.unlink(missing_ok=True)
            before.parent.rmdir()

    def close(self, path: Path) -> None:
        """Let a file hold what stands on disk again."""
        self.n_changes += 1
        self.opened.pop(path, None)
        self._stand_ins.pop(path, None)

    def of(self, path: Path) -> Text:
        """Return the text of a file, open or not; an empty one where it cannot be read."""
        if path in self.opened:
            return self.opened[path]
        try:
            with path.open("rb") as file:
                held = file.read(_MOST_BYTES if path.stat().st_size <= _MOST_BYTES else _FIRST_BYTES)
        except OSError:
            return Text("")
        return Text(held.decode("utf-8-sig", errors="replace"))

    @property
    def stand_ins(self) -> Mapping[Path, Path]:
        """By file what is read in its place."""
        return dict(self._stand_ins)

    def clear(self) -> None:
        """Remove what stands in for files."""
        if self._folder is not None:
            self._folder.cleanup()
            self._folder = None


def moved(span: Span, before: str, after: str) -> Span | None:
    """Return where a stretch of a text lies after one edit; None where the edit touched it."""
    most = min(len(before), len(after))
    start = next((n for n in range(most) if before[n] != after[n]), most)
    end = next((n for n in range(most - start) if before[-1 - n] != after[-1 - n]), most - start)
    if span.end <= start:
        return span
    if span.start >= len(before) - end:
        grown = len(after) - len(before)
        return Span(span.start + grown, span.end + grown)
    return None


@dataclass(frozen=True)
class Edit:
    """A stretch of a text, and what is to stand there."""

    span: Span
    text: str


def edit_between(before: str, after: str) -> Edit | None:
    """Return the smallest edit that makes one text the other; None where they are the same."""
    if before == after:
        return None
    most = min(len(before), len(after))
    start = next((n for n in range(most) if before[n] != after[n]), most)
    end = next((n for n in range(most - start) if before[-1 - n] != after[-1 - n]), most - start)
    return Edit(Span(start, len(before) - end), after[start : len(after) - end])
