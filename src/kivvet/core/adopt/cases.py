"""A CASE as its branches, in order: what is asked, and what it gives. Nested ones are laid flat, so that the first branch that holds
decides as it did before.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal

from kivvet.core.adopt.sql_tokens import Token, joined, place_of
from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.parser import parse_row_formula
from kivvet.core.formulas.tree import (
    And,
    Call,
    ColumnName,
    Comparison,
    Constant,
    IsNull,
    Not,
    Operator,
    Or,
    Tree,
)

_DEEPEST = 200
_COMPARISONS = ("=", "<>", "<", "<=", ">", ">=")


@dataclass(frozen=True, slots=True)
class Branch:
    """One branch: all of its conditions have to be true; none of them is what ELSE stands for.

    Attributes
    ----------
    asked : tuple of Tree
    gives : Tree
    at : int
        Where it stands in the text, in characters before it.
    """

    asked: tuple[Tree, ...]
    gives: Tree
    at: int


def is_case(tokens: Sequence[Token]) -> bool:
    """Whether tokens are one CASE and nothing else, in brackets or not."""
    tokens = _without_brackets(tokens)
    return bool(tokens) and tokens[0].is_word("CASE") and _end_of_case(tokens, 0) == len(tokens)


def branches_of(tokens: Sequence[Token], depth: int = 0) -> Iterator[Branch]:
    """Yield the branches of a CASE in order.

    Raises
    ------
    FormulaError
        With the place, where it is no CASE, or a part of it cannot be read.
    """
    tokens = _without_brackets(tokens)
    if depth > _DEEPEST:
        raise FormulaError(f"CASE is nested more than {_DEEPEST} deep", tokens[0].at)
    parts = _parts(tokens)
    subject: Tree | None = None
    if parts[0][0] == "CASE" and parts[0][1]:
        subject = value_of(parts[0][1])
    asked: Tree | None = None
    start = tokens[0].at
    for word, inner, at in parts[1:]:
        if not inner:
            raise FormulaError(f"nothing stands after {word}", at)
        if word == "WHEN":
            asked = condition_of(inner) if subject is None else Comparison("=", subject, value_of(inner))
            start = at
            continue
        outer = () if word == "ELSE" or asked is None else (asked,)
        begins = at if word == "ELSE" else start
        if is_case(inner):
            last: Branch | None = None
            for last in branches_of(inner, depth + 1):
                yield Branch((*outer, *last.asked), last.gives, last.at)
            if outer and (last is None or last.asked):  # nothing more is asked once the outer condition holds
                yield Branch(outer, Constant(None), begins)
        else:
            yield Branch(outer, value_of(inner), begins)


def _parts(tokens: Sequence[Token]) -> list[tuple[str, Sequence[Token], int]]:
    """Return the words CASE, WHEN, THEN and ELSE of the outermost CASE, each with the tokens up to the next."""
    made: list[tuple[str, Sequence[Token], int]] = []
    depth = brackets = 0
    word, start, at = "", 0, tokens[0].at
    expected: dict[str, tuple[str, ...]] = {
        "CASE": ("WHEN",),
        "WHEN": ("THEN",),
        "THEN": ("WHEN", "ELSE", "END"),
        "ELSE": ("END",),
    }
    for place, token in enumerate(tokens):
        brackets += token.is_sign("(") - token.is_sign(")")
        if token.is_word("CASE"):
            depth += 1
            if depth == 1:
                word, start, at = "CASE", place + 1, token.at
            continue
        if depth == 1 and not brackets and token.is_word("WHEN", "THEN", "ELSE", "END"):
            found = token.text.upper()
            if found not in expected[word]:
                raise FormulaError(
                    f"{found} stands after {word}", token.at, f"expected {' or '.join(expected[word])}"
                )
            made.append((word, tokens[start:place], at))
            word, start, at = found, place + 1, token.at
        depth -= token.is_word("END")
    return made


def _end_of_case(tokens: Sequence[Token], start: int) -> int:
    """Return the place after the END of a CASE."""
    depth = 0
    for place in range(start, len(tokens)):
        depth += tokens[place].is_word("CASE") - tokens[place].is_word("END")
        if not depth:
            return place + 1
    raise FormulaError("a CASE does not end", tokens[start].at, "END closes it")


def _without_brackets(tokens: Sequence[Token]) -> Sequence[Token]:
    while len(tokens) > 1 and tokens[0].is_sign("(") and tokens[-1].is_sign(")"):
        depth = 0
        for place, token in enumerate(tokens):
            depth += token.is_sign("(") - token.is_sign(")")
            if not depth and place < len(tokens) - 1:
                return tokens
        tokens = tokens[1:-1]
    return tokens


def value_of(tokens: Sequence[Token]) -> Tree:
    """Return an expression of a value as a tree; `FormulaError` with the place where it cannot be read."""
    return _simple_value(tokens) or _parsed(tokens)


def condition_of(tokens: Sequence[Token]) -> Tree:
    """Return a condition as a tree; the usual ones quickly, all others by the grammar of formulas."""
    try:
        reader = _Simple(tokens)
        made = reader.any_of()
        return made if reader.place == len(tokens) else _parsed(tokens)
    except _NotSimpleError:
        return _parsed(tokens)


def _parsed(tokens: Sequence[Token]) -> Tree:
    for place, token in enumerate(tokens):
        if token.is_word("SELECT"):
            raise FormulaError("a query within stands here", token.at, "join what it gives to the data first")
        if (
            token.is_word("IIF", "IF", "DECODE", "NVL", "IFNULL", "ISNULL")
            and tokens[place + 1 :][:1]
            and tokens[place + 1].is_sign("(")
        ):
            fix = (
                "COALESCE(a, b)" if token.text.upper() in ("NVL", "IFNULL", "ISNULL") else "CASE WHEN ... END"
            )
            raise FormulaError(f"{token.text} is no function of the SQL standard", token.at, f"write {fix}")
    text, places = joined(tokens)
    try:
        return parse_row_formula(text, "a branch of a CASE")
    except FormulaError as error:
        raise FormulaError(error.problem, place_of(error.offset, places), error.fix) from error


def _simple_value(tokens: Sequence[Token]) -> Tree | None:
    """Return a column or a constant; None where it is more than that."""
    first = tokens[0]
    if len(tokens) == 2 and first.is_sign("-") and tokens[1].kind == "number":
        return Constant(-_number(tokens[1].text))
    if len(tokens) != 1:
        return None
    if first.kind == "text":
        return Constant(first.text[1:-1].replace("''", "'"))
    if first.kind == "number":
        return Constant(_number(first.text))
    if first.is_word("NULL"):
        return Constant(None)
    if first.is_word("TRUE", "FALSE"):
        return Constant(first.text.upper() == "TRUE")
    if first.kind == "quoted":
        return ColumnName(first.text[1:-1].replace('""', '"') if first.text[:1] == '"' else first.text)
    return ColumnName(first.text) if first.kind == "name" and not _is_reserved(first) else None


def _is_reserved(token: Token) -> bool:
    from kivvet.core.formulas.tree import RESERVED

    return token.text.lower() in RESERVED


def _number(text: str) -> Decimal:
    return Decimal(text)


class _NotSimpleError(Exception):
    """What stands here is none of the usual conditions."""


class _Simple:
    """Reads comparisons of a column with constants, IN, BETWEEN, IS NULL, LIKE, joined by AND, OR, NOT and brackets."""

    def __init__(self, tokens: Sequence[Token]) -> None:
        self.tokens, self.place = tokens, 0

    def any_of(self) -> Tree:
        parts = [self._all_of()]
        while self._takes("OR"):
            parts.append(self._all_of())
        return parts[0] if len(parts) == 1 else Or(_flat(parts, Or))

    def _all_of(self) -> Tree:
        parts = [self._negated()]
        while self._takes("AND"):
            parts.append(self._negated())
        return parts[0] if len(parts) == 1 else And(_flat(parts, And))

    def _negated(self) -> Tree:
        if self._takes("NOT"):
            return Not(self._negated())
        if self._is_sign("("):
            self.place += 1
            made = self.any_of()
            self._need(")")
            return made
        return self._test()

    def _test(self) -> Tree:
        subject = self._operand()
        if self._takes("IS"):
            is_negated = self._takes("NOT")
            if not self._takes("NULL"):
                raise _NotSimpleError
            return IsNull(subject, is_negated)
        is_negated = self._takes("NOT")
        made = self._listed(subject)
        if made is not None:
            return Not(made) if is_negated else made
        token = self._next()
        if is_negated or token is None or not token.is_sign(*_COMPARISONS):
            raise _NotSimpleError
        self.place += 1
        operator: Operator = token.text  # type: ignore[assignment]
        return Comparison(operator, subject, self._operand())

    def _listed(self, subject: Tree) -> Tree | None:
        if self._takes("IN"):
            self._need("(")
            tests: list[Tree] = [Comparison("=", subject, self._operand())]
            while self._is_sign(","):
                self.place += 1
                tests.append(Comparison("=", subject, self._operand()))
            self._need(")")
            return tests[0] if len(tests) == 1 else Or(tuple(tests))
        if self._takes("BETWEEN"):
            low = self._operand()
            if not self._takes("AND"):
                raise _NotSimpleError
            return And((Comparison(">=", subject, low), Comparison("<=", subject, self._operand())))
        if self._takes("LIKE"):
            pattern = self._operand()
            if self._next() is not None and self._next().is_word("ESCAPE"):  # type: ignore[union-attr]
                raise _NotSimpleError
            return Call("LIKE", (subject, pattern))
        return None

    def _operand(self) -> Tree:
        token = self._next()
        if token is None:
            raise _NotSimpleError
        after = self.tokens[self.place + 1 : self.place + 2]
        if token.is_sign("-") and after and after[0].kind == "number":
            self.place += 2
            return Constant(-_number(after[0].text))
        if after and (after[0].is_sign("+", "-", "*", "/", "||", "(") or after[0].kind == "text"):
            raise _NotSimpleError
        made = _simple_value([token])
        if made is None:
            raise _NotSimpleError
        self.place += 1
        return made

    def _next(self) -> Token | None:
        return self.tokens[self.place] if self.place < len(self.tokens) else None

    def _is_sign(self, sign: str) -> bool:
        token = self._next()
        return token is not None and token.is_sign(sign)

    def _takes(self, word: str) -> bool:
        token = self._next()
        if token is None or not token.is_word(word):
            return False
        self.place += 1
        return True

    def _need(self, sign: str) -> None:
        if not self._is_sign(sign):
            raise _NotSimpleError
        self.place += 1


def _flat(parts: Sequence[Tree], join: type[And] | type[Or]) -> tuple[Tree, ...]:
    """Return parts with those of the same kind put in their place."""
    return tuple(inner for part in parts for inner in (part.parts if isinstance(part, join) else (part,)))
