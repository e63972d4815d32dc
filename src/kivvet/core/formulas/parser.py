"""Reading a condition formula: text becomes a tree, or an error that points at the place."""

from __future__ import annotations

import datetime as dt
import functools
import re
from decimal import Decimal
from importlib import resources
from typing import TYPE_CHECKING, Any, cast

from kivvet.core.formulas.tree import (
    And,
    Arithmetic,
    ColumnName,
    Comparison,
    Condition,
    Constant,
    Expression,
    IsNull,
    Not,
    Operator,
    Or,
)
from kivvet.core.values import LiteralError, parse_value

if TYPE_CHECKING:
    from lark import Lark, Token, Tree

LONGEST_FORMULA = 4_000
_DEEPEST = 40
_MOST_SIGNS = 200  # of + - * and NOT; each is one level of the tree


class FormulaError(ValueError):
    """A text that is no formula: what is wrong, where (characters before the place), what to do."""

    def __init__(self, problem: str, offset: int, fix: str = "") -> None:
        self.problem = problem
        self.offset = offset
        self.fix = fix
        super().__init__(problem)


def parse_condition_formula(text: str) -> Condition:
    """Return the tree of a condition such as ``flow > capacity AND method = 'strip'``.

    Raises
    ------
    FormulaError
        With the offset into `text`.
    """
    from lark.exceptions import UnexpectedCharacters, UnexpectedEOF, UnexpectedToken, VisitError

    if len(text) > LONGEST_FORMULA:
        raise FormulaError(
            f"a formula has at most {LONGEST_FORMULA:,} characters; this one has {len(text):,}", 0
        )
    _check_depth(text)
    try:
        tree = _parser().parse(text)
    except (UnexpectedCharacters, UnexpectedToken, UnexpectedEOF) as error:
        raise _syntax_error(text, error) from None
    try:
        made = _Reader().read(tree.children[0])
    except VisitError as error:  # pragma: no cover - lark wraps nothing here
        raise FormulaError(str(error), 0) from None
    if not isinstance(made, (Comparison, IsNull, And, Or, Not)):
        raise FormulaError("a condition is expected, such as flow > 5; this is a value", 0)
    return made


@functools.cache
def _parser() -> Lark:
    from lark import Lark

    grammar = (resources.files("kivvet.core.formulas") / "grammar.lark").read_text(encoding="utf-8")
    return Lark(grammar, parser="lalr", propagate_positions=True, maybe_placeholders=False)


def _check_depth(text: str) -> None:
    depth = signs = 0
    pattern = r"'(?:[^']|'')*'|\"(?:[^\"]|\"\")*\"|[()]|[-+*]|\b(?i:not)\b|(?<![\w.])\d{4}-\d\d-\d\d(?!\w)"
    for match in re.finditer(pattern, text):
        found = match.group()
        depth += {"(": 1, ")": -1}.get(found, 0)
        signs += found in ("+", "-", "*") or found.lower() == "not"
        if depth > _DEEPEST:
            raise FormulaError(f"brackets are nested more than {_DEEPEST} deep", match.start())
        if signs > _MOST_SIGNS:
            raise FormulaError(f"a formula has at most {_MOST_SIGNS} signs of + - * and NOT", match.start())
        if found[0].isdigit():
            raise FormulaError(f"{found} would be a subtraction", match.start(), f"write DATE '{found}'")


def _syntax_error(text: str, error: Any) -> FormulaError:
    offset = getattr(error, "pos_in_stream", None)
    is_at_end = offset is None or offset < 0 or getattr(getattr(error, "token", None), "type", "") == "$END"
    offset = len(text) if is_at_end else offset
    assert offset is not None
    rest = text[offset:]
    if is_at_end:
        missing = text.count("(") - text.count(")")
        return FormulaError("the formula ends too soon", offset, "close the bracket" if missing > 0 else "")
    if rest.startswith("'"):
        return FormulaError("a text that does not end", offset, "close the quote: '...'")
    if rest.startswith('"'):
        return FormulaError("a quoted column name that does not end", offset, 'close the quote: "..."')
    if rest.startswith(("==", "!=")) or text[max(0, offset - 1) : offset + 1] in ("==", "!="):
        return FormulaError("no such comparison", offset, "write = for equal and <> for not equal")
    word = re.match(r"\w+|.", rest, re.DOTALL)
    found = word.group() if word else rest
    if found.lower() in ("and", "or", "not") or found in ("=", "<", ">"):
        return FormulaError(
            f"{found!r} is not expected here", offset, "a column or a value belongs before it"
        )
    return FormulaError(
        f"{found!r} is not expected here", offset,
        "texts stand in 'single quotes', column names with blanks in \"double quotes\", dates as DATE '2026-04-01'",
    )  # fmt: skip


class _Reader:
    """Turns lark's tree into ours."""

    def read(self, tree: Tree[Token] | Token) -> Condition | Expression:
        kind, parts = str(tree.data), tree.children  # type: ignore[union-attr]
        if kind in ("any_of", "all_of"):
            return self.read(parts[0]) if len(parts) == 1 else self.joined(kind, parts)
        if kind == "negated":
            return Not(self.condition(parts[0]))
        if kind == "comparison":
            return Comparison(cast("Operator", str(parts[1])), self.value(parts[0]), self.value(parts[2]))
        if kind in ("is_null", "is_not_null"):
            return IsNull(self.value(parts[0]), kind == "is_not_null")
        if kind in ("one_of", "none_of"):
            subject = self.value(parts[0])
            tests = tuple(Comparison("=", subject, self.value(part)) for part in parts[1:])
            whole = Or(tests) if len(tests) > 1 else tests[0]
            return whole if kind == "one_of" else Not(whole)
        if kind in ("between", "not_between"):
            subject, low, high = (self.value(part) for part in parts)
            both = And((Comparison(">=", subject, low), Comparison("<=", subject, high)))
            return both if kind == "between" else Not(both)
        if kind == "alone":
            return self.read(parts[0])
        return self._value(kind, tree)

    def joined(self, kind: str, parts: Any) -> Condition:
        """Return AND or OR of the parts; parts of the same kind become one with it."""
        join = Or if kind == "any_of" else And
        made: list[Condition] = []
        for part in map(self.condition, parts):
            made.extend(part.parts if isinstance(part, join) else [part])
        return join(tuple(made))

    def _value(self, kind: str, tree: Any) -> Expression:
        parts = tree.children
        if kind in ("plus", "minus", "times"):
            sign = {"plus": "+", "minus": "-", "times": "*"}[kind]
            left, right = self.number(parts[0]), self.number(parts[1])
            if isinstance(left, Constant) and isinstance(right, Constant):
                return Constant(_worked_out(sign, left.value, right.value))
            return Arithmetic(cast("Any", sign), left, right)
        if kind == "negative":
            inner = self.number(parts[0])
            if isinstance(inner, Constant) and isinstance(inner.value, Decimal):
                return Constant(-inner.value)
            return Arithmetic("-", Constant(Decimal(0)), inner)
        if kind == "column":
            return ColumnName(str(parts[0]))
        if kind == "quoted_column":
            return ColumnName(str(parts[0])[1:-1].replace('""', '"'))
        if kind in ("true", "false", "null"):
            return Constant({"true": True, "false": False, "null": None}[kind])
        token = parts[0]
        if kind == "number":
            return Constant(Decimal(str(token)))
        text = str(token)[1:-1].replace("''", "'")
        if kind == "text":
            return Constant(text)
        try:
            value = parse_value(text, "date" if kind == "date" else "datetime")
        except LiteralError as error:
            raise FormulaError(
                f"{text!r} is no {kind}; expected {error.expected}", token.start_pos or 0
            ) from None
        if kind == "timestamp" and not isinstance(value, dt.datetime):
            assert isinstance(value, dt.date)
            value = dt.datetime.combine(value, dt.time())
        return Constant(value)

    def condition(self, tree: Any) -> Condition:
        made = self.read(tree)
        if isinstance(made, (ColumnName, Constant)) and not (
            isinstance(made, Constant) and not isinstance(made.value, bool)
        ):
            return Comparison("=", made, Constant(True))
        if isinstance(made, (ColumnName, Constant, Arithmetic)):
            raise FormulaError("a condition is expected here, such as flow > 5", _start(tree))
        return made

    def value(self, tree: Any) -> Expression:
        made = self.read(tree)
        if isinstance(made, (ColumnName, Constant, Arithmetic)):
            return made
        raise FormulaError("a column or a value is expected here, not a condition", _start(tree))

    def number(self, tree: Any) -> Expression:
        made = self.value(tree)
        if isinstance(made, Constant) and not isinstance(made.value, Decimal):
            raise FormulaError("only numbers can be added and multiplied", _start(tree))
        return made


def _worked_out(sign: str, left: Any, right: Any) -> Decimal:
    made = left + right if sign == "+" else left - right if sign == "-" else left * right
    return Decimal(made)


def _start(tree: Any) -> int:
    return int(getattr(tree.meta, "start_pos", 0) or 0)
