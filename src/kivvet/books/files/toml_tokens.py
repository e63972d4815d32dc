"""The tokens of a TOML text with the paths that they stand at, as far as it is typed: no text is refused.

Reading is done elsewhere; this serves to know what stands at the cursor, and where things begin and end. Where the text is
broken, the tokens up to there are right, and what follows is as good as can be guessed: a line that is not indented and
begins a key or a heading begins anew.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Literal

from kivvet.core.read.options import KeyPath

TokenKind = Literal["heading", "key", "value", "open", "close"]
_TOKEN = re.compile(
    r"""(?P<blank>[ \t\r]+|\#[^\n]*)|(?P<newline>\n)
    |(?P<long>\"\"\"(?:[^\\]|\\.)*?(?:\"\"\"+|\Z)|'''.*?(?:'''+|\Z))
    |(?P<string>"(?:[^"\\\n]|\\.)*"?|'[^'\n]*'?)
    |(?P<sign>[\[\]{}=,.])
    |(?P<bare>[^\s\[\]{}=,\#"'.]+(?:\.[^\s\[\]{}=,\#"']*)?)
    |(?P<other>.)""",
    re.VERBOSE | re.DOTALL,
)
_PARTS = re.compile(r"""\s*("[^"]*"?|'[^']*'?|[^.\s"']+)\s*(?:\.|$)""")
#: A line that begins anew whatever was left open above it.
_ANEW = re.compile(r"""(?:\[[\w"'.\- ]+\]|[\w"'.\-]+[ \t]*=)""")


@dataclass(frozen=True, slots=True)
class Token:
    """A part of a text.

    Attributes
    ----------
    kind : {"heading", "key", "value", "open", "close"}
        A part of a heading or key, a value that holds no others, or a bracket.
    path : tuple
        What it stands at: of a key part the path up to it, itself included.
    start, end : int
        Of what it holds: of a string without its quotes.
    text : str
        What it holds.
    is_string : bool
    """

    kind: TokenKind
    path: KeyPath
    start: int
    end: int
    text: str = ""
    is_string: bool = False


@dataclass(frozen=True, slots=True)
class Cursor:
    """What stands at a place of a text.

    Attributes
    ----------
    token : Token or None
        The one that the place is in, or touches.
    path : tuple
        What stands there, or would: of a key that is still to be typed the path that it is below.
    awaits : {"key", "value", "heading"}
        What is, or may be, typed there.
    typed : str
        Of the token, what stands before the place.
    """

    token: Token | None
    path: KeyPath
    awaits: Literal["key", "value", "heading"]
    typed: str = ""


@dataclass
class _Frame:
    """A list or an inline table that is still open."""

    path: KeyPath
    is_list: bool
    index: int = 0


@dataclass
class _Scan:
    """A walk through a text; `state` is what is awaited after each token."""

    text: str
    frames: list[_Frame] = field(default_factory=list)
    heading: KeyPath = ()
    key: KeyPath = ()
    state: Literal["key", "equals", "value", "after"] = "key"
    counts: dict[KeyPath, int] = field(default_factory=dict)

    @property
    def under(self) -> KeyPath:
        """The path that keys stand below."""
        return self.frames[-1].path if self.frames else self.heading

    @property
    def at(self) -> KeyPath:
        """The path of the value that is awaited."""
        if self.frames and self.frames[-1].is_list:
            return (*self.frames[-1].path, self.frames[-1].index)
        return (*self.under, *self.key)

    def tokens(self) -> Iterator[Token]:
        at, text = 0, self.text
        is_line_start = True
        while at < len(text):
            if is_line_start and self.frames and _ANEW.match(text, at) and not self._is_list_of_lists(at):
                self.frames, self.state, self.key = [], "key", ()
            if self.state == "key" and not self.frames and text.startswith("[", at):
                end, found = self._heading(at)
                yield from found
                at, is_line_start = end, False
                continue
            match = _TOKEN.match(text, at)
            assert match is not None
            kind, start, at = match.lastgroup, at, match.end()
            is_line_start = kind == "newline"
            if kind == "newline" and not self.frames:
                self.state, self.key = "key", ()
            if kind in ("blank", "newline", "other"):
                continue
            yield from self._token(str(kind), start, at)

    def _is_list_of_lists(self, at: int) -> bool:
        """Whether a bracket at the start of a line is a list within a list, and no heading."""
        if not self.text.startswith("[", at):
            return False
        line = self.text[at : self.text.find("\n", at) if "\n" in self.text[at:] else len(self.text)]
        return any(sign in line for sign in ",\"'") or not line.rstrip().endswith("]")

    def _heading(self, at: int) -> tuple[int, list[Token]]:
        end = self.text.find("\n", at)
        end = len(self.text) if end < 0 else end
        line = self.text[at:end]
        is_array = line.startswith("[[")
        shift = 2 if is_array else 1
        close = line.find("]", shift)
        inside = line[shift : close if close >= 0 else len(line)].split("#")[0]
        path: KeyPath = ()
        found = []
        for part in _PARTS.finditer(inside):
            name, start = _unquoted(part[1]), at + shift + part.start(1)
            path = (*path, name)
            found.append(Token("heading", path, start, start + len(part[1]), name))
            if path in self.counts and part.end() < len(inside):
                path = (*path, self.counts[path])
        if is_array and path:
            self.counts[path] = self.counts.get(path, -1) + 1
            path = (*path, self.counts[path])
        self.heading, self.state, self.key = path, "after", ()
        return end, found

    def _token(self, kind: str, start: int, end: int) -> Iterator[Token]:
        text = self.text[start:end]
        if kind == "sign":
            yield from self._sign(text, start)
        elif self.state in ("key", "equals"):
            if kind == "bare":
                for part in _PARTS.finditer(text):
                    name = _unquoted(part[1])
                    self.key = (*self.key, name)
                    first = start + part.start(1)
                    yield Token("key", (*self.under, *self.key), first, first + len(part[1]), name)
            else:
                name = _unquoted(text)
                self.key = (*self.key, name)
                yield Token("key", (*self.under, *self.key), start, end, name, is_string=True)
            self.state = "equals"
        elif self.state == "value":
            if kind == "bare":
                yield Token("value", self.at, start, end, text)
            else:
                shift = 3 if kind == "long" else 1
                is_closed = len(text) >= 2 * shift and text.endswith(text[0] * shift)
                inner = start + shift, max(start + shift, end - shift if is_closed else end)
                yield Token("value", self.at, *inner, self.text[slice(*inner)], is_string=True)
            self.state = "after"

    def _sign(self, sign: str, start: int) -> Iterator[Token]:
        if sign == "=":
            self.state = "value"
        elif sign in "[{" and self.state == "value":
            path = self.at
            yield Token("open", path, start, start + 1, sign)
            self.frames.append(_Frame(path, is_list=sign == "["))
            self.key, self.state = (), "value" if sign == "[" else "key"
        elif sign in "]}" and self.frames:
            frame = self.frames.pop()
            yield Token("close", frame.path, start, start + 1, sign)
            self.key = () if self.frames else self.key
            self.state = "after"
        elif sign == "," and self.frames:
            self.frames[-1].index += 1
            self.key, self.state = (), "value" if self.frames[-1].is_list else "key"


def _unquoted(text: str) -> str:
    if text[:1] not in ("'", '"'):
        return text
    return text[1:-1] if len(text) > 1 and text[-1] == text[0] else text[1:]


def tokens(text: str) -> list[Token]:
    """Return the tokens of a text, in order."""
    return list(_Scan(text).tokens())


def cursor_at(text: str, offset: int) -> Cursor:
    """Return what stands at a place of a text, counted in signs from its start."""
    scan = _Scan(text)
    within: Token | None = None
    for token in scan.tokens():
        if token.start > offset:
            break
        if offset <= token.end and token.kind not in ("open", "close"):
            within = token
    if within is not None:
        awaits: Literal["key", "value", "heading"] = "value"
        if within.kind in ("key", "heading"):
            awaits = "key" if within.kind == "key" else "heading"
        return Cursor(within, within.path, awaits, text[within.start : offset])
    before = _Scan(text[:offset])
    for _ in before.tokens():
        pass
    line = text[text.rfind("\n", 0, offset) + 1 : offset]
    if not before.frames and line.lstrip().startswith("[") and "]" not in line:
        return Cursor(None, (), "heading")
    if before.state == "value":
        return Cursor(None, before.at, "value")
    return Cursor(None, before.under, "key")
