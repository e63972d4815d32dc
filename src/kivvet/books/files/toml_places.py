"""Where keys and cells stand in a TOML document that has already been read without error.

Reading is the standard library's; this scan only walks the text again to note line and column for each
path, such as ``("rows", 2, 0)`` for the first cell of the third row.
"""

from __future__ import annotations

import re
from bisect import bisect_right

from kivvet.core.read.options import KeyPath
from kivvet.core.words.places import Place

_BLANK = re.compile(r"(?:[ \t\r\n]|#[^\n]*)*")
_BARE_KEY = re.compile(r"[A-Za-z0-9_-]+")
_SCALAR = re.compile(r"[^,\]}\n#]*")
#: An array of strings on one line, and the comma after it.
_PLAIN_ROW = re.compile(
    r'[ \t\r\n]*(\[[ \t]*(?:"(?:[^"\\\n]|\\.)*+"(?:[ \t]*,[ \t]*"(?:[^"\\\n]|\\.)*+")*+[ \t]*,?[ \t]*)?\])[ \t]*(,?)'
)
_STRINGS = (
    re.compile(r'"""(?:[^\\]|\\.)*?"""+', re.DOTALL),
    re.compile(r"'''.*?'''+", re.DOTALL),
    re.compile(r'"(?:[^"\\\n]|\\.)*"'),
    re.compile(r"'[^'\n]*'"),
)


class TomlPlaces:
    """The places of one document.

    Parameters
    ----------
    text : str
        A valid TOML document.
    file : str
        Its name, as messages show it.
    """

    def __init__(self, text: str, file: str) -> None:
        self.text = text
        self.file = file
        self.line_starts = [0, *(match.end() for match in re.finditer("\n", text))]
        self._offsets: dict[KeyPath, int] = {}
        # Of arrays (at their closing bracket) and of their elements (after them).
        self._ends: dict[KeyPath, int] = {}
        self._unread: dict[KeyPath, int] = {}  # rows of which the cells are sought when they are asked for
        self.first_heading: int | None = None  # where the first heading in brackets begins
        self.at = 0
        self._document()

    def locate(self, path: KeyPath) -> Place | None:
        """Return the place of a path; of its nearest parent where the path itself is not there."""
        while not self._is_there(path):
            if not path:
                return Place(self.file)
            path = path[:-1]
        offset = self._offsets[path]
        line = bisect_right(self.line_starts, offset)
        return Place(self.file, line, offset - self.line_starts[line - 1] + 1)

    def start(self, path: KeyPath) -> int:
        """Return where in the text a path begins, a string after its quote; KeyError where it is not there."""
        self._is_there(path)
        return self._offsets[path]

    def end(self, path: KeyPath) -> int:
        """Return where an array's closing bracket stands, or what follows an element of one; KeyError as of `start`."""
        self._is_there(path)
        return self._ends[path]

    def _is_there(self, path: KeyPath) -> bool:
        row = path[:-1]
        if path not in self._offsets and row in self._unread:
            self.at, after = self._unread.pop(row), self._ends[row]
            self._array(row)
            self._ends[row] = after
        return path in self._offsets

    # The scan: each method begins at `at` and leaves it after what it read.

    def _document(self) -> None:
        under: KeyPath = ()
        counts: dict[KeyPath, int] = {}
        while self._skip():
            if self.text.startswith("[", self.at):
                is_array = self.text.startswith("[[", self.at)
                self.first_heading = self.at if self.first_heading is None else self.first_heading
                self.at += 1 + is_array
                start = self.at
                under = self._resolve(self._key(), counts)
                if is_array:
                    counts[under] = counts.get(under, -1) + 1
                    under = (*under, counts[under])
                self._note(under, start)
                self.at = self.text.index("]", self.at) + 1 + is_array
            else:
                self._pair(under)

    def _resolve(self, key: KeyPath, counts: dict[KeyPath, int]) -> KeyPath:
        """Return the path of a heading: below an array of tables, of its last table."""
        path: KeyPath = ()
        for part in key[:-1]:
            path = (*path, part)
            if path in counts:
                path = (*path, counts[path])
        return (*path, key[-1])

    def _pair(self, under: KeyPath) -> None:
        start = self.at
        path = (*under, *self._key())
        for length in range(len(under) + 1, len(path) + 1):
            self._note(path[:length], start)
        self.at = self.text.index("=", self.at) + 1
        self._value(path)

    def _key(self) -> KeyPath:
        parts: list[str] = []
        while True:
            self._skip()
            if self.text[self.at] in "\"'":
                string = self._string()
                parts.append(string[1:-1])
            else:
                match = _BARE_KEY.match(self.text, self.at)
                assert match is not None
                parts.append(match[0])
                self.at = match.end()
            self._skip()
            if not self.text.startswith(".", self.at):
                return tuple(parts)
            self.at += 1

    def _value(self, path: KeyPath) -> None:
        self._skip()
        sign = self.text[self.at]
        if sign == "[":
            self._array(path)
        elif sign == "{":
            self.at += 1
            while self._skip() and self.text[self.at] != "}":
                self._pair(path)
                self._skip()
                self.at += self.text[self.at] == ","
            self.at += 1
        elif sign in "\"'":
            self._string()
        else:
            match = _SCALAR.match(self.text, self.at)
            assert match is not None
            self.at = match.end()

    def _array(self, path: KeyPath) -> None:
        self.at += 1
        index = self._plain_rows(path, 0)
        while self._skip() and self.text[self.at] != "]":
            is_string = self.text[self.at] in "\"'"
            element = (*path, index)
            self._note(element, self.at + is_string)
            self._value(element)
            self._ends[element] = self.at
            index += 1
            self._skip()
            self.at += self.text[self.at] == ","
            index = self._plain_rows(path, index)
        self._ends[path] = self.at
        self.at += 1

    def _plain_rows(self, path: KeyPath, index: int) -> int:
        """Pass over arrays of strings that follow each other, the cells of which are sought later; return the number of
        the next element.
        """
        is_followed = True
        while is_followed and (match := _PLAIN_ROW.match(self.text, self.at)):
            start, after = match.span(1)
            element = (*path, index)
            self._note(element, start)
            self._unread[element] = start
            self._ends[element] = after
            self.at, is_followed = match.end(), bool(match[2])
            index += 1
        if not is_followed:  # a comment or a line end may stand before the comma
            self._skip()
            self.at += self.text[self.at] == ","
        return index

    def _string(self) -> str:
        for pattern in _STRINGS:
            if match := pattern.match(self.text, self.at):
                self.at = match.end()
                return match[0]
        raise AssertionError("the document was read without error before")

    def _skip(self) -> bool:
        """Pass over blanks, line ends and comments; return whether anything follows."""
        match = _BLANK.match(self.text, self.at)
        assert match is not None
        self.at = match.end()
        return self.at < len(self.text)

    def _note(self, path: KeyPath, offset: int) -> None:
        self._offsets.setdefault(path, offset)
