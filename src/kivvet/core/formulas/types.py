"""The type of a formula, from the types of the columns it reads; what does not fit is found before any data
is read.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Sequence
from decimal import Decimal

from kivvet.core.formulas.errors import FormulaError
from kivvet.core.formulas.functions import FUNCTIONS, TIME_PARTS, Kind
from kivvet.core.formulas.tree import (
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
    Or,
    Tree,
    Window,
    write_formula,
)
from kivvet.core.words.values import Value, ValueType

#: Gives the type of a column, None where nothing is known of it; raises `FormulaError` where there is none.
TypeOf = Callable[[ColumnName], ValueType | None]
FORMULA_TYPES: tuple[ValueType, ...] = ("text", "integer", "number", "boolean", "date", "datetime")
_NUMBERS = ("integer", "number")
_MOMENTS = ("date", "datetime")
#: What a type can be made into by CAST, besides itself and text.
_CASTS: dict[ValueType, tuple[ValueType, ...]] = {
    "text": ("integer", "number", "boolean", "date", "datetime"),
    "integer": ("number", "boolean"),
    "number": ("integer",),
    "boolean": ("integer",),
    "date": ("datetime",),
    "datetime": ("date",),
}


def type_of_constant(value: Value | None) -> ValueType | None:
    """Return the type of a constant; None for NULL."""
    if value is None:
        return None
    if isinstance(value, bool):
        return "boolean"
    if isinstance(value, str):
        return "text"
    if isinstance(value, dt.datetime):
        return "datetime"
    if isinstance(value, dt.date):
        return "date"
    exact = Decimal(value)
    is_whole = exact == exact.to_integral_value() and abs(exact) < 2**63
    return "integer" if is_whole else "number"


def type_of(tree: Tree, type_of_column: TypeOf) -> ValueType | None:
    """Return the type of a tree's value; None where it is NULL, or rests on columns of which nothing is
    known.

    Raises
    ------
    FormulaError
        Where types do not fit, with the place.
    """
    return _Typist(type_of_column).of(tree)


class _Typist:
    def __init__(self, type_of_column: TypeOf) -> None:
        self.type_of_column = type_of_column
        self._known: dict[int, ValueType | None] = {}  # by id of parts, which the tree keeps alive

    def of(self, tree: Tree) -> ValueType | None:
        """Return the type of a part; each is worked out once."""
        if id(tree) not in self._known:
            self._known[id(tree)] = self._worked_out(tree)
        return self._known[id(tree)]

    def _worked_out(self, tree: Tree) -> ValueType | None:
        match tree:
            case Constant(value):
                return type_of_constant(value)
            case ColumnName():
                kind = self.type_of_column(tree)
                return "number" if kind == "decimal" else kind
            case Arithmetic():
                return self._arithmetic(tree)
            case Comparison(_, left, right, at):
                self._common((left, right), at, "are compared")
                return "boolean"
            case IsNull(part):
                self.of(part)
                return "boolean"
            case And(parts) | Or(parts):
                for part in parts:
                    self._need(part, "boolean")
                return "boolean"
            case Not(part):
                self._need(part, "boolean")
                return "boolean"
            case Case(branches, otherwise, at):
                for test, _ in branches:
                    self._need(test, "boolean")
                values = [value for _, value in branches] + ([] if otherwise is None else [otherwise])
                return self._common(values, at, "are results of one CASE")
            case Cast(part, kind, at):
                given = self.of(part)
                if given is not None and kind not in (given, "text", *_CASTS[given]):
                    raise FormulaError(
                        f"{given} cannot be made {kind}", at, f"{write_formula(part)} is {given}"
                    )
                return kind
            case Call(name, parts, at):
                return self._call(name, parts, at)
            case Window():
                return self._window(tree)

    def _need(self, tree: Tree, kind: Kind) -> ValueType | None:
        """Return the type of a part that has to be of a kind."""
        given = self.of(tree)
        fits = (
            given is None
            or kind in ("any", "same", given)
            or (kind == "number" and given in _NUMBERS)
            or (kind == "moment" and given in _MOMENTS)
        )
        if not fits:
            wanted = {
                "moment": "a date or a time",
                "boolean": "a condition",
                "integer": "a whole number",
            }.get(kind, f"a {kind}")
            fix = ""
            if given == "text" and kind in ("number", "integer", "moment"):
                fix = f"declare the type of the column, or CAST({write_formula(tree)} AS {'DATE' if kind == 'moment' else kind.upper()})"
            elif kind == "text":
                fix = f"CAST({write_formula(tree)} AS TEXT)"
            raise FormulaError(
                f"{write_formula(tree)} is {given}, and {wanted} is expected", _place(tree), fix
            )
        return given

    def _common(self, parts: Sequence[Tree], at: int, why: str) -> ValueType | None:
        """Return the type that all parts have in common."""
        kinds = {kind: part for part in parts if (kind := self.of(part)) is not None}
        if len(kinds) <= 1:
            return next(iter(kinds), None)
        if set(kinds) <= set(_NUMBERS):
            return "number"
        if set(kinds) <= set(_MOMENTS):
            return "datetime"
        (one, first), (other, second) = list(kinds.items())[:2]
        raise FormulaError(
            f"{write_formula(first)}, which is {one}, and {write_formula(second)}, which is {other}, {why}",
            _place(second) or at,
            "values of one type are needed; CAST makes one of another",
        )

    def _arithmetic(self, tree: Arithmetic) -> ValueType | None:
        left, right = self.of(tree.left), self.of(tree.right)
        if left in _MOMENTS or right in _MOMENTS:
            if tree.sign == "-" and left in _MOMENTS and right in _MOMENTS:
                if left != right:
                    raise FormulaError(
                        "a date and a time have no difference", tree.at, "make both the same with CAST"
                    )
                return "integer" if left == "date" else "number"
            if tree.sign in "+-" and left in _MOMENTS and right in ("integer", None):
                return left
            if tree.sign == "+" and right in _MOMENTS and left in ("integer", None):
                return right
            raise FormulaError(
                f"{write_formula(tree)} has no meaning",
                _place(tree.right),
                "days, in whole numbers, are added to a date; two dates have a difference in days",
            )
        self._need(tree.left, "number")
        self._need(tree.right, "number")
        if tree.sign == "/" or "number" in (left, right):
            return "number"
        return "integer" if left == right == "integer" else (left or right)

    def _call(self, name: str, parts: tuple[Tree, ...], at: int) -> ValueType | None:
        match name:
            case "||":
                for part in parts:
                    self._need(part, "text")
                return "text"
            case "LIKE" | "LIKE_REGEX":
                for part in parts:
                    self._need(part, "text")
                return "boolean"
            case "IS TRUE" | "IS FALSE":
                self._need(parts[0], "boolean")
                return "boolean"
            case "IS DISTINCT":
                self._common(parts, at, "are compared")
                return "boolean"
            case "TRIM":
                for part in parts:
                    self._need(part, "text")
                return "text"
            case "EXTRACT":
                assert isinstance(parts[0], Constant)
                moment = self._need(parts[1], "moment")
                if parts[0].value in TIME_PARTS and moment == "date":
                    raise FormulaError(f"a date has no {parts[0].value}", at, "a time is needed")
                return "number" if parts[0].value == "SECOND" else "integer"
            case "NULLIF":
                self._common(parts, at, "are compared")
                return self.of(parts[0])
        function = FUNCTIONS[name]
        if function.takes[0] == "same":
            return self._common(parts, at, f"are arguments of {name}")
        takes = [*function.takes, *(function.takes[-1:] * (len(parts) - len(function.takes)))]
        kinds = [self._need(part, kind) for part, kind in zip(parts, takes, strict=False)]
        if function.gives == "same":
            return self._common(parts, at, f"are arguments of {name}")
        return kinds[0] if function.gives == "first" else function.gives

    def _window(self, tree: Window) -> ValueType | None:
        function = FUNCTIONS[tree.name]
        kinds = [
            self._need(part, "any" if kind == "same" else kind)
            for part, kind in zip(tree.parts, function.takes, strict=False)
        ]
        if tree.within is not None:
            kinds = [self._need(tree.within.part, "number" if tree.name == "PERCENTILE_CONT" else "any")]
        if tree.where is not None:
            self._need(tree.where, "boolean")
        for key in tree.partition:
            self.of(key)
        orders = [self.of(one.part) for one in tree.order]
        if tree.frame is not None and tree.frame.unit == "range":
            distances = [one for one in (tree.frame.start, tree.frame.end) if one.is_finite() and one]
            if distances and orders[0] not in (*_NUMBERS, *_MOMENTS, None):
                raise FormulaError("RANGE with a distance needs numbers or dates in ORDER BY", tree.at)
            if any(distance != int(distance) for distance in distances) and orders[0] in (
                *_MOMENTS,
                "integer",
            ):
                raise FormulaError("days are counted in whole numbers", tree.at)
        if tree.name in ("LAG", "LEAD") and len(tree.parts) == 3:
            return self._common((tree.parts[0], tree.parts[2]), tree.at, f"are results of {tree.name}")
        return kinds[0] if function.gives == "first" else function.gives  # type: ignore[return-value]


def _place(tree: Tree) -> int:
    """Return where a tree begins, as far as it knows."""
    found = getattr(tree, "at", 0)
    return int(found)
