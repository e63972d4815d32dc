"""From what the grammar found to a tree."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Sequence
from decimal import Decimal
from typing import Any, Literal, cast

from kivvet.core.formulas.call_reader import CallReader, start_of
from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.functions import (
    DATE_PARTS,
    TIME_PARTS,
)
from kivvet.core.formulas.regular import fault_of_regular
from kivvet.core.formulas.tree import (
    CAST_WORDS,
    And,
    Arithmetic,
    Call,
    Case,
    Cast,
    ColumnName,
    Comparison,
    Constant,
    IsNull,
    Not,
    Operator,
    Or,
    Tree,
    is_condition,
)
from kivvet.core.words.values import LiteralError, ValueType, parse_value
from kivvet.core.words.wording import did_you_mean, listed

_CAST_KINDS: dict[str, ValueType] = {
    **{word: kind for kind, word in CAST_WORDS.items()},
    "VARCHAR": "text",
    "CHAR": "text",
    "INT": "integer",
    "BIGINT": "integer",
    "SMALLINT": "integer",
    "DOUBLE": "number",
    "REAL": "number",
    "FLOAT": "number",
    "DATETIME": "datetime",
    "DOUBLE PRECISION": "number",
    "CHARACTER": "text",
    "CHARACTER VARYING": "text",
    "CHAR VARYING": "text",
    "TIMESTAMP WITHOUT TIME ZONE": "datetime",
    "BOOL": "boolean",
}


_EXACT = ("DECIMAL", "NUMERIC", "DEC")
_VARYING = ("VARCHAR", "CHARACTER VARYING", "CHAR VARYING")
_MOST_DIGITS = 38


_SIGN_OF: dict[str, Literal["+", "-", "*", "/", "||"]] = {
    "plus": "+",
    "minus": "-",
    "times": "*",
    "divided": "/",
    "joined": "||",
}


class TreeReader(CallReader):
    """Turns lark's tree into ours.

    Parameters
    ----------
    of_groups : bool
        As of `parse_formula`.
    """

    def __init__(self, *, of_groups: bool = False) -> None:
        self.of_groups = of_groups

    def read(self, tree: Any) -> Tree:
        return cast("Tree", getattr(self, f"_{tree.data}")(tree, tree.children))

    # Conditions

    def _any_of(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return self._all(parts, Or)

    def _all_of(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return self._all(parts, And)

    def _all(self, parts: Sequence[Any], join: type[And] | type[Or]) -> Tree:
        """Return AND or OR of the parts; parts of the same kind become one with it."""
        if len(parts) == 1:
            return self.read(parts[0])
        made: list[Tree] = []
        for part in parts:
            one = self.condition(part)
            made.extend(one.parts if isinstance(one, join) else [one])
        return join(tuple(made))

    def condition(self, tree: Any) -> Tree:
        """Return a part that must be true, false or unknown; a column is compared with TRUE."""
        made = self.read(tree)
        if isinstance(made, ColumnName) or (isinstance(made, Constant) and isinstance(made.value, bool)):
            return Comparison("=", made, Constant(True), made.at)
        if isinstance(made, (Constant, Arithmetic)):
            raise FormulaError("a condition is expected here, such as flow > 5", start_of(tree))
        return made

    def value(self, tree: Any) -> Tree:
        """Return a part that is compared or worked with; a condition stands in brackets there."""
        return self.read(tree)

    def _negated(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Not(self.condition(parts[0]))

    def _alone(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return self.read(parts[0])

    _bracketed = _alone

    def _comparison(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Comparison(
            cast("Operator", str(parts[1])), self.value(parts[0]), self.value(parts[2]), start_of(parts[1])
        )

    def _is_null(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return IsNull(self.value(parts[0]))

    def _is_not_null(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return IsNull(self.value(parts[0]), True)

    def _is_truth(self, tree: Any, parts: Sequence[Any]) -> Tree:
        word = str(parts[1]).upper()
        if word == "UNKNOWN":
            return IsNull(self.value(parts[0]))
        return Call(f"IS {word}", (self.condition(parts[0]),), start_of(parts[1]))

    def _is_not_truth(self, tree: Any, parts: Sequence[Any]) -> Tree:
        made = self._is_truth(tree, parts)
        return IsNull(made.part, True) if isinstance(made, IsNull) else Not(made)

    def _is_distinct(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Call("IS DISTINCT", (self.value(parts[0]), self.value(parts[1])), start_of(tree))

    def _is_not_distinct(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Not(self._is_distinct(tree, parts))

    def _one_of(self, tree: Any, parts: Sequence[Any]) -> Tree:
        subject = self.value(parts[0])
        tests = tuple(Comparison("=", subject, self.value(part), start_of(part)) for part in parts[1:])
        return Or(tests) if len(tests) > 1 else tests[0]

    def _none_of(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Not(self._one_of(tree, parts))

    def _between(self, tree: Any, parts: Sequence[Any]) -> Tree:
        subject, low, high = (self.value(part) for part in parts)
        at = start_of(tree)
        return And((Comparison(">=", subject, low, at), Comparison("<=", subject, high, at)))

    def _not_between(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Not(self._between(tree, parts))

    def _like(self, tree: Any, parts: Sequence[Any]) -> Tree:
        text, word, pattern = parts[0], str(parts[1]).upper(), self.value(parts[2])
        made = (self.value(text), pattern)
        if word == "LIKE_REGEX":
            if len(parts) > 3:
                raise FormulaError("LIKE_REGEX takes no ESCAPE", start_of(parts[3]), "escape with \\")
            expression = pattern.value if isinstance(pattern, Constant) else None
            if isinstance(expression, str) and (fault := fault_of_regular(expression)):
                raise FormulaError(
                    f"no regular expression: {fault}",
                    start_of(parts[2]),
                    "what looks ahead, behind or back at a group is not known, so that the time it takes is bounded",
                )
        if len(parts) > 3:
            sign = _text_of(parts[3])
            if len(sign) != 1:
                raise FormulaError("ESCAPE takes one character", start_of(parts[3]))
            return Call(word, (*made, Constant(sign)), start_of(tree))
        return Call(word, made, start_of(tree))

    def _not_like(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Not(self._like(tree, parts))

    # Values

    def _chain(self, tree: Any, parts: Sequence[Any]) -> Tree:
        """Return sums, products and joined texts; a long chain of them is read from its left end, not
        downwards.
        """
        links = [tree]
        while (left := links[-1].children[0]).data in _SIGN_OF:
            links.append(left)
        made: Tree | None = None
        for link in reversed(links):
            sign = _SIGN_OF[link.data]
            first, second = link.children
            if sign == "||":
                made = Call(
                    "||", (self.value(first) if made is None else made, self.value(second)), start_of(link)
                )
            else:
                left_side = self.operand(first) if made is None else self._as_operand(made, first)
                made = self._worked(sign, left_side, self.operand(second), start_of(link))
        assert made is not None
        return made

    _plus = _minus = _times = _divided = _joined = _chain

    def _worked(self, sign: Literal["+", "-", "*", "/"], left: Tree, right: Tree, at: int) -> Tree:
        if isinstance(left, Constant) and isinstance(right, Constant) and sign != "/":
            one, other = left.value, right.value
            if isinstance(one, Decimal) and isinstance(other, Decimal):
                return Constant(_of_constants(sign, one, other), left.at)
        return Arithmetic(sign, left, right, at)

    def operand(self, tree: Any) -> Tree:
        return self._as_operand(self.value(tree), tree)

    def _as_operand(self, made: Tree, tree: Any) -> Tree:
        is_wrong = isinstance(made, Constant) and isinstance(made.value, (str, bool))
        if is_condition(made) or is_wrong:
            raise FormulaError(
                "only numbers and dates can be worked with", start_of(tree), "texts are joined with ||"
            )
        return made

    def _negative(self, tree: Any, parts: Sequence[Any]) -> Tree:
        n_signs, inner_tree = 1, parts[0]
        while inner_tree.data in ("negative", "positive"):
            n_signs += inner_tree.data == "negative"
            inner_tree = inner_tree.children[0]
        inner = self.operand(inner_tree)
        if n_signs % 2 == 0:
            return inner
        if isinstance(inner, Constant) and isinstance(inner.value, Decimal):
            return Constant(-inner.value, start_of(tree))
        return Arithmetic("-", Constant(Decimal(0), start_of(tree)), inner, start_of(tree))

    def _positive(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return self.operand(parts[0])

    def _number(self, tree: Any, parts: Sequence[Any]) -> Tree:
        value = Decimal(str(parts[0]))
        if math.isinf(float(value)):
            raise FormulaError("a number beyond what 64 bits hold", start_of(tree))
        return Constant(value, start_of(tree))

    def _text(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Constant(_text_of(parts[0]), start_of(tree))

    def _truth(self, tree: Any, parts: Sequence[Any]) -> Tree:
        word = str(parts[0]).lower()
        return Constant({"true": True, "false": False, "unknown": None}[word], start_of(tree))

    def _null(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Constant(None, start_of(tree))

    def _date(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Constant(self.moment(parts[0], "date"), start_of(tree))

    def _timestamp(self, tree: Any, parts: Sequence[Any]) -> Tree:
        value = self.moment(parts[0], "datetime")
        if not isinstance(value, dt.datetime):
            value = dt.datetime.combine(value, dt.time())
        return Constant(value, start_of(tree))

    def moment(self, token: Any, kind: Literal["date", "datetime"]) -> Any:
        text = _text_of(str(token)[str(token).index("'") :])
        try:
            return parse_value(text, kind)
        except LiteralError as error:
            word = "date" if kind == "date" else "timestamp"
            raise FormulaError(
                f"{text!r} is no {word}; expected {error.expected}", start_of(token) + str(token).index("'")
            ) from None

    def _column(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return ColumnName(str(parts[0]), start_of(tree))

    def _quoted_column(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return ColumnName(str(parts[0])[1:-1].replace('""', '"'), start_of(tree))

    def _searched_case(self, tree: Any, parts: Sequence[Any]) -> Tree:
        branches = tuple(
            (self.condition(part.children[0]), self.value(part.children[1])) for part in parts[:-1]
        )
        return Case(branches, None if parts[-1] is None else self.value(parts[-1]), start_of(tree))

    def _simple_case(self, tree: Any, parts: Sequence[Any]) -> Tree:
        subject = self.value(parts[0])
        branches = tuple(
            (
                Comparison("=", subject, self.value(part.children[0]), start_of(part.children[0])),
                self.value(part.children[1]),
            )
            for part in parts[1:-1]
        )
        return Case(branches, None if parts[-1] is None else self.value(parts[-1]), start_of(tree))

    def _cast(self, tree: Any, parts: Sequence[Any]) -> Tree:
        names = [child for child in parts[2].children if getattr(child, "type", "") == "NAME"]
        lengths = [child for child in parts[2].children if getattr(child, "type", "") == "NUMBER"]
        word = " ".join(str(name).upper() for name in names)
        part, at = self.value(parts[1]), start_of(tree)
        sizes = [int(one) for one in map(str, lengths) if one.isdigit()]
        if len(sizes) == len(lengths):
            if word in _EXACT and sizes:
                if not 1 <= sizes[0] <= _MOST_DIGITS or sizes[-1] > sizes[0]:
                    fix = f"DECIMAL(10, 2) has 10 digits, 2 of them after the point; at most {_MOST_DIGITS}"
                    raise FormulaError("no such number of digits", start_of(lengths[0]), fix)
                digits = sizes[0], sizes[1] if len(sizes) > 1 else 0
                return Cast(part, "number" if digits[1] else "integer", at, digits=digits)
            if word in _VARYING and len(sizes) == 1 and sizes[0]:
                return Cast(part, "text", at, length=sizes[0])
            if word == "FLOAT" and len(sizes) == 1:
                return Cast(part, "number", at)
        if lengths or word not in _CAST_KINDS:
            raise FormulaError(
                f"no type {word}({', '.join(map(str, lengths))})" if lengths else f"no type {word}",
                start_of(parts[2]),
                self._type_meant(word),
            )
        return Cast(part, _CAST_KINDS[word], at)

    def _type_meant(self, word: str) -> str:
        """Return how a type that is not there may be written."""
        if word in _EXACT:
            return "write DECIMAL(10, 2), with the digits in all and those after the point; or NUMBER"
        if word in ("CHAR", "CHARACTER"):
            return "write VARCHAR(n): nothing is filled up with blanks; or TEXT"
        if plain := _CAST_KINDS.get(word):
            return f"write {CAST_WORDS[plain]}"
        return did_you_mean(word, CAST_WORDS.values()) or f"types: {listed(CAST_WORDS.values())}"

    def _extract(self, tree: Any, parts: Sequence[Any]) -> Tree:
        word, known = str(parts[1]).upper(), (*DATE_PARTS, *TIME_PARTS)
        if word not in known:
            raise FormulaError(
                f"no part {str(parts[1])!r} of a date",
                start_of(parts[1]),
                did_you_mean(word, known) or f"parts: {listed(known, 20)}",
            )
        return Call("EXTRACT", (Constant(word), self.value(parts[2])), start_of(tree))

    def _position(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Call("POSITION", (self.value(parts[1]), self.value(parts[2])), start_of(tree))

    def _substring(self, tree: Any, parts: Sequence[Any]) -> Tree:
        inner = tuple(self.value(part) for part in parts[1:] if part is not None)
        return Call("SUBSTRING", inner, start_of(tree))

    def _trim(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Call("TRIM", (self.value(parts[1]),), start_of(tree))

    def _trim_of(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return Call("TRIM", (Constant("BOTH"), self.value(parts[1]), self.value(parts[2])), start_of(tree))

    def _trim_side(self, tree: Any, parts: Sequence[Any]) -> Tree:
        sign = Constant(" ") if parts[2] is None else self.value(parts[2])
        return Call("TRIM", (Constant(str(parts[1]).upper()), sign, self.value(parts[3])), start_of(tree))


def _text_of(token: Any) -> str:
    return str(token)[1:-1].replace("''", "'")


def _of_constants(sign: str, left: Decimal, right: Decimal) -> Decimal:
    return left + right if sign == "+" else left - right if sign == "-" else left * right
