"""Formulas of sheets read as trees: the language of OpenFormula (ISO/IEC 26300-4) as workbooks of both open forms hold it."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from decimal import Decimal

from kivvet.core.formulas.errors import FormulaError
from kivvet.core.words.places import column_letters, column_number

_DEEPEST = 128
_TOKEN = re.compile(
    r"""(?P<blank>\s+)
    |(?P<text>"(?:[^"]|"")*")
    |(?P<odf>\[[^\]]*\])
    |(?P<range>(?:(?:'(?:[^']|'')+'|[A-Za-z_][\w.]*)!)?\$?[A-Za-z]{1,3}\$?\d{1,7}(?::\$?[A-Za-z]{1,3}\$?\d{1,7})?(?![\w(.]))
    |(?P<columns>(?:(?:'(?:[^']|'')+'|[A-Za-z_][\w.]*)!)?\$?[A-Za-z]{1,3}:\$?[A-Za-z]{1,3}(?![\w(]))
    |(?P<number>(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d{1,3})?)
    |(?P<error>\#[A-Z/0]+[!?]?)
    |(?P<name>(?:_xlfn\.|_xlws\.)*[A-Za-z_\\][\w.]*)
    |(?P<sign><>|<=|>=|[-+*/^&=<>(),;%{}])""",
    re.VERBOSE,
)
_REFERENCE = re.compile(
    r"(?:(?:\$?(?P<quoted>'(?:[^']|'')+'|[^.!\[\]']*))[.!])?(?P<from>\$?[A-Za-z]{1,3}\$?\d{1,7})(?::\.?(?:[^.!]*[.!])?(?P<to>\$?[A-Za-z]{1,3}\$?\d{1,7}))?"
)
_CELL = re.compile(r"(\$?)([A-Za-z]{1,3})(\$?)(\d{1,7})")
#: How tightly signs bind.
_BINDS = {
    **dict.fromkeys(("=", "<>", "<", "<=", ">", ">="), 0),
    "&": 1,
    **dict.fromkeys("+-", 2),
    **dict.fromkeys("*/", 3),
    "^": 4,
}
#: What gives another value each time, or reads what nobody sees.
_VOLATILE = ("NOW", "TODAY", "RAND", "RANDBETWEEN", "OFFSET", "INDIRECT", "CELL", "INFO")


@dataclass(frozen=True, slots=True)
class Const:
    """A number, a text, true or false; None is an argument that is left out."""

    value: Decimal | str | bool | None


@dataclass(frozen=True, slots=True)
class Cell:
    """A cell: its row and column from 1, and whether they stay when the formula is copied."""

    row: int
    column: int
    row_stays: bool
    column_stays: bool
    sheet: str = ""

    @property
    def name(self) -> str:
        """It as workbooks name it."""
        return f"{self.sheet + '!' if self.sheet else ''}{column_letters(self.column)}{self.row}"


@dataclass(frozen=True, slots=True)
class Cells:
    """A block of cells, both ends in."""

    first: Cell
    last: Cell

    @property
    def name(self) -> str:
        """It as workbooks name it."""
        return f"{self.first.name}:{column_letters(self.last.column)}{self.last.row}"


@dataclass(frozen=True, slots=True)
class Func:
    """A function of arguments, its name in capitals; operators are functions by their sign."""

    name: str
    parts: tuple[Node, ...]
    at: int = 0


Node = Const | Cell | Cells | Func


def parse_sheet_formula(text: str) -> Node:
    """Return a formula of a sheet as a tree.

    Parameters
    ----------
    text : str
        As a workbook holds it, with or without ``=`` and ``of:`` before it.

    Raises
    ------
    FormulaError
        With the place, where it is not understood.
    """
    body = re.sub(r"^\s*(?:of:|oooc:)?=?", "", text)
    shift = len(text) - len(body)
    reader = _Reader(list(_tokens(body, shift)), len(text))
    made = reader.compared(0)
    if reader.place < len(reader.tokens):
        _, found, at = reader.tokens[reader.place]
        raise FormulaError(f"{found!r} is not expected here", at)
    return made


def _tokens(text: str, shift: int) -> Iterator[tuple[str, str, int]]:
    at = 0
    while at < len(text):
        match = _TOKEN.match(text, at)
        if match is None:
            what = "a text does not end" if text[at] == '"' else f"{text[at]!r} is not understood"
            if text[at] in "[]!" or re.match(r"R\[?-?\d*\]?C\[?-?\d*\]?", text[at:]):
                what = "a reference to another workbook, or of a form that is not read, stands here"
            raise FormulaError(what, at + shift)
        kind = str(match.lastgroup)
        if kind == "error":
            raise FormulaError(f"{match[0]} stands in the formula: what it named is gone", at + shift)
        if kind != "blank":
            yield kind, match[0], at + shift
        at = match.end()


class _Reader:
    """Reads tokens by how tightly signs bind: comparisons, &, sums, products, powers, signs, percent."""

    def __init__(self, tokens: list[tuple[str, str, int]], end: int) -> None:
        self.tokens, self.end, self.place = tokens, end, 0

    def _next(self) -> tuple[str, str, int]:
        return self.tokens[self.place] if self.place < len(self.tokens) else ("end", "", self.end)

    def compared(self, depth: int, least: int = 0) -> Node:
        """Return an expression whose signs bind at least so tightly."""
        if depth > _DEEPEST:
            raise FormulaError(f"it is nested more than {_DEEPEST} deep", self._next()[2])
        made = self._signed(depth)
        while self._next()[0] == "sign" and _BINDS.get(self._next()[1], -1) >= least:
            _, sign, at = self._next()
            self.place += 1
            made = Func(sign, (made, self.compared(depth, _BINDS[sign] + 1)), at)
        return made

    def _signed(self, depth: int) -> Node:
        kind, sign, at = self._next()
        if kind == "sign" and sign in ("-", "+"):
            self.place += 1
            part = self._signed(depth)
            if sign == "+":
                return part
            if isinstance(part, Const) and isinstance(part.value, Decimal):
                return Const(-part.value)
            return Func("NEG", (part,), at)
        made = self._value(depth)
        while self._next()[1] == "%":
            self.place += 1
            made = Func("/", (made, Const(Decimal(100))), at)
        return made

    def _value(self, depth: int) -> Node:
        kind, text, at = self._next()
        self.place += 1
        if kind == "number":
            return Const(Decimal(text))
        if kind == "text":
            return Const(text[1:-1].replace('""', '"'))
        if kind in ("range", "odf"):
            return _reference(text.strip("[]"), at)
        if kind == "columns":
            raise FormulaError("whole columns are named", at, "name the cells, such as $A$2:$B$90")
        if kind == "sign" and text == "(":
            made = self.compared(depth + 1)
            self._need(")")
            return made
        if kind == "sign" and text == "{":
            raise FormulaError("an array stands here, which is not taken over", at)
        if kind == "name":
            return self._named(text, at, depth)
        raise FormulaError(
            "the formula ends too soon" if kind == "end" else f"{text!r} is not expected here", at
        )

    def _named(self, text: str, at: int, depth: int) -> Node:
        name = re.sub(r"^(?:_xlfn\.|_xlws\.)+", "", text).upper()
        if self._next()[1] != "(":
            if name in ("TRUE", "FALSE"):
                return Const(name == "TRUE")
            raise FormulaError(f"{text} is a name, which is not looked up", at, "name the cells themselves")
        if name in _VOLATILE:
            raise FormulaError(f"{name} gives another value each time", at)
        self.place += 1
        parts: list[Node] = []
        while True:
            if self._next()[1] in (",", ";", ")"):
                parts.append(Const(None))
            else:
                parts.append(self.compared(depth + 1))
            if self._next()[1] not in (",", ";"):
                break
            self.place += 1
        self._need(")")
        if parts == [Const(None)]:
            parts = []
        if name in ("TRUE", "FALSE") and not parts:
            return Const(name == "TRUE")
        return Func(name, tuple(parts), at)

    def _need(self, sign: str) -> None:
        _, found, at = self._next()
        if found != sign:
            raise FormulaError(f"{sign} is expected" + (f", not {found!r}" if found else ""), at)
        self.place += 1


def _reference(text: str, at: int) -> Cell | Cells:
    match = _REFERENCE.fullmatch(text.lstrip("."))
    if match is None or "file:" in text or "[" in text:
        raise FormulaError(
            f"the reference {text} leads to another workbook, or is not read",
            at,
            "name cells of this workbook",
        )
    sheet = (match["quoted"] or "").strip("$")
    sheet = sheet[1:-1].replace("''", "'") if sheet[:1] == "'" else sheet
    first = _cell(match["from"], sheet)
    return first if match["to"] is None else Cells(first, _cell(match["to"], sheet))


def _cell(text: str, sheet: str) -> Cell:
    match = _CELL.fullmatch(text)
    assert match is not None
    return Cell(int(match[4]), column_number(match[2]), bool(match[3]), bool(match[1]), sheet)


_RELATIVE_ROW = re.compile(
    r"(?<![A-Za-z0-9_$.])((?:\$?)[A-Za-z]{1,3})(\d{1,7})(?![\w(])|(?<=[.:])(\$?[A-Za-z]{1,3})(\d{1,7})(?![\w(])"
)


def relative(text: str, row: int) -> str:
    """Return a formula with the rows that move when it is copied as distances from its own, so that copies are alike."""

    def moved(match: re.Match[str]) -> str:
        letters, number = (match[1], match[2]) if match[1] else (match[3], match[4])
        return f"{letters}[{int(number) - row}]"

    parts = re.split(r'("(?:[^"]|"")*")', text)
    return "".join(part if part[:1] == '"' else _RELATIVE_ROW.sub(moved, part) for part in parts)
