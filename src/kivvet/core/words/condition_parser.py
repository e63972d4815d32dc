"""Reading the condition language: the text of one cell becomes a `Condition`.

    alternatives := negation ("|" negation)*
    negation     := "not" negation | primary
    primary      := "any" | "missing" | "present" | "(" alternatives ")"
                  | ("<" | "<=" | ">" | ">=") bound
                  | [">"] bound "to" ["<"] bound
                  | ("[" | "(") bound "," bound ("]" | ")")
                  | value | prefix "*" | [">"] prefix "*" "to" ["<"] prefix "*"

What a value and a bound look like depends on the type of the input. On text a value is any run of
words without operators, or a quoted text; bounds are quoted; a prefix may be quoted.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import NoReturn

from kivvet.core.words.conditions import (
    AnyOf,
    AnyValue,
    Between,
    CodeRange,
    Condition,
    Equals,
    IsMissing,
    IsPresent,
    Negation,
    StartsWith,
    is_bare_text,
    quote_text,
)
from kivvet.core.words.values import LiteralError, Value, ValueType, parse_decimal, parse_value

_SIMPLE: dict[str, Condition] = {
    "": AnyValue(),
    "any": AnyValue(is_written=True),
    "missing": IsMissing(),
    "present": IsPresent(),
}
_INTERVAL = re.compile(r'[\[(]\s*("(?:[^"]|"")*"|[^",|()\[\]]*)\s*,\s*("(?:[^"]|"")*"|[^",|()\[\]]*)\s*[\])]')
_DASHED_RANGE = re.compile(r"\s*(\S+?)\s*[-\N{EN DASH}\N{EM DASH}]\s*(\d\S*)\s*")
_LARGEST_DEPTH = 50
NUMERIC = frozenset({"number", "integer"})
_NUMBER = r"([+-]?(?:0|[1-9][0-9]{0,17})(?:\.[0-9]{1,18})?)"
#: A comparison, a number, or a range of them, as they are written most.
_PLAIN_RANGE = re.compile(rf"(?:(<=|>=|<|>) *)?{_NUMBER}|(> *)?{_NUMBER} to (< *)?{_NUMBER}")
_DASHES = "\N{EN DASH}\N{EM DASH}\N{MINUS SIGN}\N{NON-BREAKING HYPHEN}"


_FOR_ALL_OTHERS = frozenset(("else", "other", "others", "otherwise", "rest", "default", "all others"))
_SIGNS = {"\N{GREATER-THAN OR EQUAL TO}": ">=", "\N{LESS-THAN OR EQUAL TO}": "<=", "=>": ">=", "=<": "<="}
_VALUE = r"([^\s<>=|,]+)"
#: Ways to write a range, and how the condition language writes it.
_WAYS = tuple(
    (re.compile(pattern, re.IGNORECASE), written)
    for pattern, written in (
        (rf"{_VALUE}\s*\+", r">= \1"),
        (rf"{_VALUE}\s+(?:and|or)\s+(?:over|above|more|later|up)", r">= \1"),
        (rf"{_VALUE}\s+(?:and|or)\s+(?:under|below|less|earlier|down)", r"<= \1"),
        (rf"(?:from|at least)\s+{_VALUE}", r">= \1"),
        (rf"(?:up to|at most)\s+{_VALUE}", r"<= \1"),
        (rf"(?:over|above|more than|after)\s+{_VALUE}", r"> \1"),
        (rf"(?:under|below|less than|before)\s+{_VALUE}", r"< \1"),
        (rf"(?:between|from)\s+{_VALUE}\s+(?:and|to)\s+{_VALUE}", r"\1 to \2"),
        (rf">=\s*{_VALUE}\s*(?:\band\b|&&?|,)\s*<=\s*{_VALUE}", r"\1 to \2"),
        (rf">=\s*{_VALUE}\s*(?:\band\b|&&?|,)\s*<\s*{_VALUE}", r"\1 to <\2"),
        (rf">\s*{_VALUE}\s*(?:\band\b|&&?|,)\s*<=\s*{_VALUE}", r">\1 to \2"),
        (rf">\s*{_VALUE}\s*(?:\band\b|&&?|,)\s*<\s*{_VALUE}", r">\1 to <\2"),
        (rf"(?:=|==)\s*{_VALUE}", r"\1"),
        (rf"(?:<>|!=)\s*{_VALUE}", r"not \1"),
    )
)


def _meant(text: str) -> Iterator[str]:
    """Yield what a cell may mean that is no condition, the likeliest first."""
    plain = text.translate({ord(dash): "-" for dash in _DASHES})
    for sign, written in _SIGNS.items():
        plain = plain.replace(sign, written)
    forms = [plain, re.sub(r"(?<=\d),(?=\d{3}(?!\d))", "", plain), re.sub(r"(?<=\d),(?=\d)", ".", plain)]
    for form in forms:
        if (match := _DASHED_RANGE.fullmatch(form)) and match[1][-1:].isalnum():
            yield f"{match[1]} to {match[2]}"
        yield form
        for pattern, written in _WAYS:
            if match := pattern.fullmatch(form):
                yield match.expand(written)


class ConditionError(ValueError):
    """A cell that is no condition on its input: where in the cell, what was expected, what to do."""

    def __init__(self, problem: str, offset: int, expected: str, fix: str = "", kind: str = "syntax") -> None:
        self.problem = problem
        self.offset = offset  # characters of the cell before the place, from 0
        self.expected = expected
        self.fix = fix
        self.kind = kind  # the kind of finding it makes: "syntax" or "type"
        super().__init__(problem)


def parse_condition(text: str, kind: ValueType) -> Condition:
    """Return the condition that a cell writes for an input of type `kind`.

    Parameters
    ----------
    text : str
        The cell; outer blanks do not count.
    kind : str
        The type of the input; `number` and `integer` read the same, since bounds may be decimals.

    Raises
    ------
    ConditionError
        With the offset into `text`, what was expected and how to mend it.
    """
    trimmed = text.strip()
    if (simple := _SIMPLE.get(trimmed)) is not None:
        return simple
    if kind == "text" and is_bare_text(trimmed):  # most cells of long mappings
        return Equals(trimmed)
    if kind in NUMERIC and (plain := plain_range(trimmed)) is not None:  # most cells of many bins
        return plain
    return _Parser(text, "number" if kind == "integer" else kind).parse()


@lru_cache(1 << 15)  # rows are read again as a table is edited
def plain_range(text: str) -> Condition | None:
    """Return what a comparison, a number or a range of two means, if a text is one written as most are; else None."""
    match = _PLAIN_RANGE.fullmatch(text)
    if match is None:
        return None
    sign, bound, above, low, below, high = match.groups()
    if bound is None:
        return Between(parse_decimal(low), above is None, parse_decimal(high), below is None)
    value = parse_decimal(bound)
    if sign is None:
        return Equals(value)
    if sign[0] == "<":
        return Between(None, False, value, sign == "<=")
    return Between(value, sign == ">=", None, False)


@dataclass(frozen=True, slots=True)
class _Operand:
    value: Value
    offset: int
    is_quoted: bool = False
    is_prefix: bool = False


class _Parser:
    """Reads one cell from left to right; `at` is the offset of the next character."""

    def __init__(self, text: str, kind: ValueType, *, offers: bool = True) -> None:
        self.offers = offers  # whether an error says how the cell is probably meant
        self.text = text
        self.kind = kind
        self.at = 0
        self.depth = 0

    def parse(self) -> Condition:
        condition = self.alternatives()
        self.skip_blanks()
        if self.at < len(self.text):
            self.fail(f"{self.text[self.at :].strip()!r} follows a condition that is already complete")
        return condition

    # Structure

    def alternatives(self) -> Condition:
        self.depth += 1
        if self.depth > _LARGEST_DEPTH:
            self.fail("brackets or 'not' are nested too deeply", f"at most {_LARGEST_DEPTH} levels")
        parts = [self.negation()]
        while self.accept("|"):
            parts.append(self.negation())
        self.depth -= 1
        return parts[0] if len(parts) == 1 else AnyOf(tuple(parts))

    def negation(self) -> Condition:
        if self.accept_word("not"):
            self.depth += 1
            if self.depth > _LARGEST_DEPTH:
                self.fail("brackets or 'not' are nested too deeply", f"at most {_LARGEST_DEPTH} levels")
            part = self.negation()
            self.depth -= 1
            return Negation(part)
        return self.primary()

    def primary(self) -> Condition:
        self.skip_blanks()
        if match := _INTERVAL.match(self.text, self.at):
            return self.interval(match)
        if self.accept("("):
            inner = self.alternatives()
            if not self.accept(")"):
                self.fail("a '(' is not closed", "')'")
            return inner
        for sign in ("<=", ">=", "<", ">"):
            if self.accept(sign):
                return self.comparison(sign)
        if self.text.startswith(("[", "="), self.at):
            self.fail(f"{self.text[self.at]!r} begins no condition here")
        if self.kind != "text":
            for word in ("any", "missing", "present"):
                if self.accept_word(word):
                    return _SIMPLE[word]
        first = self.operand()
        if self.accept_word("to"):
            return self.range_to(first, lower_closed=True)
        if first.is_prefix:
            return StartsWith(str(first.value))
        if self.kind == "text" and not first.is_quoted and first.value in _SIMPLE:
            return _SIMPLE[str(first.value)]
        return Equals(first.value)

    def comparison(self, sign: str) -> Condition:
        operand = self.operand()
        if sign == ">" and self.accept_word("to"):
            return self.range_to(operand, lower_closed=False)
        if operand.is_prefix:
            self.fail(
                "a prefix has no place after a comparison sign",
                "a quoted text, or a code range",
                at=operand.offset,
            )
        self.need_bound(operand)
        if sign[0] == "<":
            return Between(None, False, operand.value, sign == "<=")
        return Between(operand.value, sign == ">=", None, False)

    def range_to(self, first: _Operand, *, lower_closed: bool) -> Condition:
        upper_closed = not self.accept("<")
        second = self.operand()
        if first.is_prefix or second.is_prefix:
            low, high = str(first.value), str(second.value)
            if not (first.is_prefix and second.is_prefix):
                self.fail(
                    "a code range has '*' at both ends", "a range such as C30* to C39*", at=first.offset
                )
            if len(low) != len(high):
                self.fail(
                    f"the ends of a code range are equally long; {low!r} has {len(low)} characters and {high!r} {len(high)}",
                    f"two prefixes of {len(low)} characters",
                    at=second.offset,
                )
            return CodeRange(low, lower_closed, high, upper_closed)
        self.need_bound(first)
        self.need_bound(second)
        return Between(first.value, lower_closed, second.value, upper_closed)

    def interval(self, match: re.Match[str]) -> Condition:
        closed_left, closed_right = match[0][0] == "[", match[0][-1] == "]"
        bounds: list[Value] = []
        for group in (1, 2):
            if not match[group].strip():
                self.fail(
                    "an interval has two ends", "for an open end write >= 5 or < 9", at=match.start(group)
                )
            inner = _Parser(match[group].rstrip(), self.kind)
            try:
                operand = inner.operand()
                inner.need_bound(operand)
                if inner.text[inner.at :].strip():
                    inner.fail("an end of an interval is one value")
            except ConditionError as error:
                error.offset += match.start(group)
                raise
            bounds.append(operand.value)
        self.at = match.end()
        return Between(bounds[0], closed_left, bounds[1], closed_right)

    # Values

    def operand(self) -> _Operand:
        self.skip_blanks()
        start = self.at
        if self.text.startswith('"', start):
            return self.quoted()
        stops = r'[|()"]|\sto(?=\s)' if self.kind == "text" else r'[|()\[\]"<>,]|\s(?:to|not)(?=\s)'
        stop = re.compile(stops).search(self.text, start)
        self.at = stop.start() if stop else len(self.text)
        raw = self.text[start : self.at].rstrip()
        if not raw:
            self.fail("a value is missing", self.expected_value(), at=start)
        if self.kind == "text":
            return self.bare_text(raw, start)
        try:
            return _Operand(parse_value(raw, self.kind), start)
        except LiteralError as error:
            self.fail(f"{raw!r} is not {error.expected}", error.expected, error.fix, at=start)

    def quoted(self) -> _Operand:
        start = self.at
        pieces: list[str] = []
        at = start + 1
        while True:
            end = self.text.find('"', at)
            if end < 0:
                self.fail("a quote is not closed", 'a closing "', at=start)
            pieces.append(self.text[at:end])
            at = end + 1
            if not self.text.startswith('"', at):
                break
            pieces.append('"')
            at += 1
        self.at = at
        value = "".join(pieces)
        if self.kind != "text":
            self.fail(
                f"quotes make text, and this input is of type {self.kind}",
                f"a value of type {self.kind}",
                f"write {value}",
                at=start,
                fault="type",
            )
        is_prefix = self.text.startswith("*", at)
        self.at += is_prefix
        if not value:
            self.fail("text of no characters is missing", "missing, or any text", at=start)
        return _Operand(value, start, True, is_prefix)

    def bare_text(self, raw: str, start: int) -> _Operand:
        is_prefix = raw.endswith("*")
        value = raw.removesuffix("*")
        if "*" in value or re.search(r"[<>\[\]]", value[:1]) or not value:
            fix = self.with_part_quoted(raw, start) if self.offers else ""
            self.fail(f"{raw!r} holds a sign of the condition language", fix=fix, at=start)
        return _Operand(value, start, False, is_prefix)

    def need_bound(self, operand: _Operand) -> None:
        """Fail unless a range may end in `operand`."""
        if self.kind == "boolean":
            self.fail(
                "true and false have no order", "true, false, or a list", at=operand.offset, fault="type"
            )
        if self.kind == "text" and not operand.is_quoted:
            is_numeric = re.fullmatch(r"[+-]?[\d.,]+", str(operand.value))
            self.fail(
                "a comparison of numbers on a text input would go by characters: 1 to 12 would hold 10 but not 2"
                if is_numeric
                else "a range of text has its ends in quotes",
                'a range such as "a" to "f", or a code range such as C30* to C39*',
                at=operand.offset,
                fault="type" if is_numeric else "syntax",
            )

    # Reading

    def skip_blanks(self) -> None:
        while self.at < len(self.text) and self.text[self.at].isspace():
            self.at += 1

    def accept(self, sign: str) -> bool:
        self.skip_blanks()
        if self.text.startswith(sign, self.at):
            self.at += len(sign)
            return True
        return False

    def accept_word(self, word: str) -> bool:
        self.skip_blanks()
        end = self.at + len(word)
        if (
            self.text.startswith(word, self.at)
            and (end == len(self.text) or self.text[end] in ' \t|()"<>[')
            and not (word == "not" and end == len(self.text))
        ):
            self.at = end
            return True
        return False

    def expected_value(self) -> str:
        return {"text": "a text", "number": "a number", "boolean": "true or false"}.get(
            self.kind, f"a {self.kind}"
        )

    def fail(
        self, problem: str, expected: str = "", fix: str = "", at: int | None = None, fault: str = "syntax"
    ) -> NoReturn:
        offset = self.at if at is None else at
        raise ConditionError(
            problem, offset, expected or "a condition", fix or (self.remedy() if self.offers else ""), fault
        )

    def is_condition(self, text: str) -> bool:
        """Whether a text is a condition on such an input."""
        try:
            _Parser(text, self.kind, offers=False).parse()
        except ConditionError:
            return False
        return True

    def with_part_quoted(self, raw: str, start: int) -> str:
        """Return how to mean a part of the cell as a text, and where texts are told by what is within them."""
        whole = f"{self.text[:start]}{quote_text(raw)}{self.text[start + len(raw) :]}".strip()
        if not self.is_condition(whole):
            return ""
        within = raw.strip("*")
        like = f"; texts that hold it: LIKE '%{within}%' in when" if "*" in raw and within.isalnum() else ""
        return f"to mean this text itself, write {whole}{like}"

    def remedy(self) -> str:
        """Return how the whole cell is probably meant."""
        text = self.text.strip()
        if self.kind == "text":
            return f"to mean this text itself, write it in quotes: {quote_text(text)}"
        if text.casefold() in _FOR_ALL_OTHERS:
            return 'for all other values leave the row out and say: otherwise = { OUTPUT = "..." }'
        if re.fullmatch(r"[\[(][^\[\]()]*,[^\[\]()]*,[^\[\]()]*[\])]", text):
            mended = re.sub(r"(\d),(\d)", r"\1.\2", text)
            if _INTERVAL.fullmatch(mended):
                return f"decimals have a point: {mended}"
        for candidate in _meant(text):
            if candidate != text and self.is_condition(candidate):
                return f"write {candidate}"
        return ""
