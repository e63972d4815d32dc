"""From what the grammar found to a tree."""

from __future__ import annotations

import datetime as dt
import math
from collections.abc import Sequence
from dataclasses import replace
from decimal import Decimal
from typing import Any, Literal, cast

from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.functions import (
    AGGREGATES,
    DATE_PARTS,
    FUNCTIONS,
    MEANT,
    NEED_ORDER,
    OF_GROUPS,
    ORDERED_SETS,
    TAKE_FRAMES,
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
    Frame,
    IsNull,
    Not,
    Operator,
    Or,
    OrderItem,
    Tree,
    Window,
    is_condition,
    walk,
)
from kivvet.core.words.values import FOLDS, LiteralError, ValueType, parse_value
from kivvet.core.words.wording import did_you_mean, listed

_UNBOUNDED = Decimal("Infinity")


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


def start_of(tree: Any) -> int:
    """Return where a lark tree or token begins."""
    if hasattr(tree, "start_pos"):
        return int(tree.start_pos or 0)
    return int(getattr(getattr(tree, "meta", None), "start_pos", 0) or 0)


_SIGN_OF: dict[str, Literal["+", "-", "*", "/", "||"]] = {
    "plus": "+",
    "minus": "-",
    "times": "*",
    "divided": "/",
    "joined": "||",
}


class TreeReader:
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
        names = [one for one in parts[2].children if getattr(one, "type", "") == "NAME"]
        lengths = [one for one in parts[2].children if getattr(one, "type", "") == "NUMBER"]
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

    # Functions

    def _call(self, tree: Any, parts: Sequence[Any]) -> Tree:
        name, given = self.called(tree)
        if FUNCTIONS[name].is_window:
            return self._grouped(tree, None, None)
        if name == "FOLD":
            for one in given[1:]:
                if not (isinstance(one, Constant) and one.value in FOLDS):
                    raise FormulaError(
                        "FOLD is told what does not count",
                        getattr(one, "at", 0),
                        f"one or more of {listed(map(repr, FOLDS))}",
                    )
        return Call(name, given, start_of(tree))

    def _call_of_rows(self, tree: Any, parts: Sequence[Any]) -> Tree:
        return self._grouped(tree, None, None)

    _call_of_distinct = _call_of_rows

    def _aggregate(self, tree: Any, parts: Sequence[Any]) -> Tree:
        within, where = (None, parts[1]) if parts[1].data == "filter" else (parts[1], parts[2])
        return self._grouped(parts[0], within, where)

    def _grouped(self, call: Any, within: Any, where: Any) -> Tree:
        """Return a call without OVER of a function that looks at several rows: an aggregate, where such are meant."""
        made = self._of_rows(call, within, where)
        at = start_of(call)
        if not self.of_groups:
            raise FormulaError(
                f"{made.name}{'(*)' if made.name == 'COUNT' and not made.parts else ''} needs OVER, which says over which rows",
                at,
                f"{made.name}({'*' if made.name == 'COUNT' else '...'}) OVER (PARTITION BY ...)",
            )
        if made.name not in AGGREGATES:
            raise FormulaError(
                f"{made.name} gives no value for a group of rows",
                at,
                f"a summary takes {listed(sorted(AGGREGATES), 20)}",
            )
        self._refuse_within(made, made.parts)
        return made

    def _of_rows(self, call: Any, within: Any, where: Any) -> Window:
        """Return a call of a function that looks at several rows, with what WITHIN GROUP and FILTER say."""
        name, given = self.called(call)
        at = start_of(call)
        if call.data == "call_of_distinct" and name != "COUNT":
            raise FormulaError(
                f"{name} takes no DISTINCT",
                at,
                "only COUNT(DISTINCT x) does" if name not in ("MIN", "MAX") else f"{name}(x) is the same",
            )
        if (within is not None) != (name in ORDERED_SETS):
            if within is None:
                raise FormulaError(
                    f"{name} is told by WITHIN GROUP what it orders",
                    at,
                    f"{name}(0.9) WITHIN GROUP (ORDER BY x)",
                )
            raise FormulaError(f"{name} takes no WITHIN GROUP", start_of(within))
        if where is not None and name not in AGGREGATES:
            raise FormulaError(
                f"{name} takes no FILTER", start_of(where), f"{listed(sorted(AGGREGATES), 20)} do"
            )
        if name in ORDERED_SETS:
            share = given[0].value if isinstance(given[0], Constant) else None
            if not isinstance(share, Decimal) or not 0 <= share <= 1:
                raise FormulaError(f"{name} takes a share from 0 to 1", at, "0.5 for the one in the middle")
        return Window(
            name,
            given,
            at=at,
            within=None if within is None else self.order_item(within.children[0]),
            where=None if where is None else self.condition(where.children[0]),
            is_distinct=call.data == "call_of_distinct",
        )

    def _refuse_within(self, window: Window, inner: Sequence[Tree]) -> None:
        """Raise where a function of rows stands within another."""
        more = [] if window.within is None else [window.within.part]
        for part in (*inner, *more, *([] if window.where is None else [window.where])):
            for one in walk(part):
                if isinstance(one, Window):
                    raise FormulaError(
                        f"{one.name} stands within {window.name}",
                        one.at,
                        "give the inner one a name of its own in formulas.toml",
                    )

    def called(self, tree: Any) -> tuple[str, tuple[Tree, ...]]:
        """Return the name of a function and its arguments; an error where there is no such function or too
        few or many.
        """
        token = tree.children[0]
        name = str(token).upper()
        function = FUNCTIONS.get(name)
        if function is None:
            meant = f"write {MEANT[name]}" if name in MEANT else did_you_mean(name, FUNCTIONS)
            raise FormulaError(
                f"no function {str(token)!r}",
                start_of(token),
                meant or "docs/formulas.md lists all functions",
            )
        if tree.data == "call_of_rows":
            if name != "COUNT":
                raise FormulaError(f"{name}(*) has no meaning", start_of(token), f"{name}(column)")
            return name, ()
        given = tuple(self.value(one) for one in tree.children[1:] if one is not None)
        least, most = len(function.takes) - function.n_optional, len(function.takes)
        if name == "COUNT" and not given:
            raise FormulaError("COUNT counts rows as COUNT(*), or a column", start_of(token), "COUNT(*)")
        if len(given) < least or (len(given) > most and not function.repeats):
            wanted = (
                f"{least}"
                if least == most
                else f"{least} or more"
                if function.repeats
                else f"{least} to {most}"
            )
            raise FormulaError(
                f"{name} takes {wanted} argument{'' if wanted == '1' else 's'}, and has {len(given)}",
                start_of(token),
                f"for example {function.example}",
            )
        return name, given

    def _window(self, tree: Any, parts: Sequence[Any]) -> Tree:
        call, within, where, partition, order, frame = parts
        at = start_of(tree)
        name, _ = self.called(call)
        if not FUNCTIONS[name].is_window:
            raise FormulaError(f"{name} takes no OVER", at, "it is worked out for each row by itself")
        called = self._of_rows(call, within, where)
        if self.of_groups:
            raise FormulaError(
                f"{name} OVER gives a value for each row, and one for each group is wanted",
                at,
                "leave OVER out, or give the formula a name of its own in formulas.toml",
            )
        keys = () if partition is None else tuple(self.value(one) for one in partition.children)
        items = () if order is None else tuple(map(self.order_item, order.children))
        if name in NEED_ORDER and not items:
            raise FormulaError(f"{name} needs an order", at, f"{name}(...) OVER (... ORDER BY ...)")
        if order is not None and (name in OF_GROUPS or called.is_distinct):
            said = f"{name}(DISTINCT ...)" if called.is_distinct else name
            raise FormulaError(
                f"{said} looks at the whole group, in no order", start_of(order), "leave ORDER BY out of OVER"
            )
        made = None if frame is None else self.frame(frame)
        if made is not None and (name not in TAKE_FRAMES or called.is_distinct):
            raise FormulaError(
                f"{name} takes no {made.unit.upper()}", start_of(frame), "it looks at the whole group"
            )
        is_distance = made is not None and any(
            one and not one.is_infinite() for one in (made.start, made.end)
        )
        if made is not None and made.unit == "range" and is_distance and len(items) != 1:
            raise FormulaError("RANGE with a distance needs one expression in ORDER BY", start_of(frame))
        window = replace(called, partition=keys, order=items, frame=made, at=at)
        self._refuse_within(window, (*called.parts, *keys, *(item.part for item in items)))
        return window

    def order_item(self, tree: Any) -> OrderItem:
        part, direction, place = tree.children
        return OrderItem(
            self.value(part),
            direction is not None and str(direction).upper() == "DESC",
            place is not None and str(place).upper() == "FIRST",
        )

    def frame(self, tree: Any) -> Frame:
        unit = cast("Literal['rows', 'range']", str(tree.children[0]).lower())
        start = self.bound(tree.children[1])
        end = self.bound(tree.children[2]) if len(tree.children) > 2 else Decimal(0)
        if start > end or start == _UNBOUNDED or end == -_UNBOUNDED:
            raise FormulaError(
                "the frame ends before it starts", start_of(tree), "the earlier bound stands first"
            )
        if unit == "rows" and any(one.is_finite() and one != int(one) for one in (start, end)):
            raise FormulaError("ROWS are counted in whole numbers", start_of(tree))
        return Frame(unit, start, end)

    def bound(self, tree: Any) -> Decimal:
        if tree.data == "current":
            return Decimal(0)
        way = -1 if str(tree.children[-1]).upper() == "PRECEDING" else 1
        return way * (_UNBOUNDED if tree.data == "unbounded" else Decimal(str(tree.children[0])))


def _text_of(token: Any) -> str:
    return str(token)[1:-1].replace("''", "'")


def _of_constants(sign: str, left: Decimal, right: Decimal) -> Decimal:
    return left + right if sign == "+" else left - right if sign == "-" else left * right
