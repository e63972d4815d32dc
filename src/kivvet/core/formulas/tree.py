"""Formulas as values: expressions over columns, and conditions on them in the logic of true, false and
unknown.
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterator
from dataclasses import dataclass, field, fields, is_dataclass, replace
from decimal import Decimal
from typing import Any, Literal, TypeVar

from kivvet.core.words.values import Value, ValueType, write_value

Operator = Literal["<", "<=", "=", "<>", ">=", ">"]
#: What an operator becomes when its sides change places, and when it is negated.
MIRRORED: dict[Operator, Operator] = {"<": ">", "<=": ">=", "=": "=", "<>": "<>", ">=": "<=", ">": "<"}
OPPOSITE: dict[Operator, Operator] = {"<": ">=", "<=": ">", "=": "<>", "<>": "=", ">=": "<", ">": "<="}
#: The signs of left minus right for which an operator holds.
SIGNS: dict[Operator, tuple[int, ...]] = {
    "<": (-1,),
    "<=": (-1, 0),
    "=": (0,),
    "<>": (-1, 1),
    ">=": (0, 1),
    ">": (1,),
}

RESERVED = frozenset(
    [
        "and",
        "or",
        "not",
        "is",
        "null",
        "in",
        "between",
        "distinct",
        "from",
        "for",
        "as",
        "escape",
        "case",
        "when",
        "then",
        "else",
        "end",
        "true",
        "false",
        "unknown",
        "like",
        "like_regex",
        "leading",
        "trailing",
        "both",
        "asc",
        "desc",
    ]
)
CAST_WORDS: dict[ValueType, str] = {
    "text": "TEXT",
    "integer": "INTEGER",
    "number": "NUMBER",
    "boolean": "BOOLEAN",
    "date": "DATE",
    "datetime": "TIMESTAMP",
}


@dataclass(frozen=True, slots=True)
class ColumnName:
    """The value of a column. `at` is, here and below, the place in the text: characters before it."""

    name: str
    at: int = field(default=0, compare=False)


@dataclass(frozen=True, slots=True)
class Constant:
    """A value; None is NULL. TRUE is not 1."""

    value: Value | None
    at: int = field(default=0, compare=False)
    is_truth: bool = field(init=False, repr=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "is_truth", isinstance(self.value, bool))


@dataclass(frozen=True, slots=True)
class Arithmetic:
    """Sum, difference, product or quotient of two numbers; differences of dates, and dates with days added."""

    sign: Literal["+", "-", "*", "/"]
    left: Tree
    right: Tree
    at: int = field(default=0, compare=False)


@dataclass(frozen=True, slots=True)
class Comparison:
    """Two expressions compared; unknown where one of them is missing."""

    operator: Operator
    left: Tree
    right: Tree
    at: int = field(default=0, compare=False)


@dataclass(frozen=True, slots=True)
class IsNull:
    """Whether an expression is missing; never unknown."""

    part: Tree
    is_negated: bool = False


@dataclass(frozen=True, slots=True)
class And:
    """True where all parts are, false where one is."""

    parts: tuple[Tree, ...]


@dataclass(frozen=True, slots=True)
class Or:
    """True where one part is, false where all are."""

    parts: tuple[Tree, ...]


@dataclass(frozen=True, slots=True)
class Not:
    """True where its part is false."""

    part: Tree


@dataclass(frozen=True, slots=True)
class Call:
    """A function of values of one row; `name` in capitals. ``||``, LIKE and IS TRUE are such functions too."""

    name: str
    parts: tuple[Tree, ...]
    at: int = field(default=0, compare=False)


@dataclass(frozen=True, slots=True)
class Case:
    """The value of the first branch whose condition is true; only the branch taken is worked out."""

    branches: tuple[tuple[Tree, Tree], ...]
    otherwise: Tree | None
    at: int = field(default=0, compare=False)


@dataclass(frozen=True, slots=True)
class Cast:
    """A value as another type; missing where it cannot be.

    Attributes
    ----------
    part : Tree
    kind : str
    length : int or None
        Of text: the most characters, ``VARCHAR(20)``.
    digits : tuple of (int, int) or None
        Of a number: how many digits it has at most, and how many of them stand after the point, ``DECIMAL(10, 2)``.
    """

    part: Tree
    kind: ValueType
    at: int = field(default=0, compare=False)
    length: int | None = None
    digits: tuple[int, int] | None = None


@dataclass(frozen=True, slots=True)
class OrderItem:
    """One expression that orders the rows of a group."""

    part: Tree
    is_descending: bool = False
    nulls_first: bool = False


@dataclass(frozen=True, slots=True)
class Frame:
    """The rows around each row that a window function looks at.

    Attributes
    ----------
    unit : str
        "rows", or "range": distances in the values of the one expression of ORDER BY, equal ones together.
    start, end : float or int
        Distance from the row, preceding negative; infinite where unbounded. Both ends are in.
    """

    unit: Literal["rows", "range"]
    start: Decimal
    end: Decimal


@dataclass(frozen=True, slots=True)
class Window:
    """A function of the rows of a group: with a value for each of them, or, as an aggregate, one for all.

    Attributes
    ----------
    name : str
    parts : tuple of Tree
        The arguments; none of ``COUNT(*)``.
    partition, order, frame
        What OVER says. An aggregate has none of them: its groups are those it is asked for.
    within : OrderItem or None
        What WITHIN GROUP orders by.
    where : Tree or None
        The condition of FILTER: other rows do not count.
    is_distinct : bool
        Whether equal values count once.
    """

    name: str
    parts: tuple[Tree, ...]
    partition: tuple[Tree, ...] = ()
    order: tuple[OrderItem, ...] = ()
    frame: Frame | None = None
    at: int = field(default=0, compare=False)
    within: OrderItem | None = None
    where: Tree | None = None
    is_distinct: bool = False


Tree = ColumnName | Constant | Arithmetic | Comparison | IsNull | And | Or | Not | Call | Case | Cast | Window
#: A tree that gives a value, and one that is true, false or unknown.
Expression = Tree
Condition = Tree


def children(tree: Tree) -> tuple[Tree, ...]:
    """Return the trees that a tree is made of, in order."""
    match tree:
        case Arithmetic(_, left, right) | Comparison(_, left, right):
            return left, right
        case IsNull(part) | Not(part) | Cast(part):
            return (part,)
        case And(parts) | Or(parts) | Call(_, parts):
            return parts
        case Case(branches, otherwise):
            inner = tuple(one for branch in branches for one in branch)
            return inner if otherwise is None else (*inner, otherwise)
        case Window(_, parts, partition, order):
            made = (*parts, *partition, *(one.part for one in order))
            made = made if tree.within is None else (*made, tree.within.part)
            return made if tree.where is None else (*made, tree.where)
    return ()


def walk(tree: Tree) -> Iterator[Tree]:
    """Yield a tree and all it is made of, outer ones first."""
    yield tree
    for part in children(tree):
        yield from walk(part)


def columns_read(tree: Tree) -> Iterator[str]:
    """Yield the names of the columns a tree reads, in order, with repetitions."""
    return (node.name for node in walk(tree) if isinstance(node, ColumnName))


def windows_in(tree: Tree) -> tuple[Window, ...]:
    """Return the window functions of a tree, each once, inner ones before those they stand in."""
    found = [node for node in walk(tree) if isinstance(node, Window)]
    return tuple(dict.fromkeys(reversed(found)))


def is_condition(tree: Tree) -> bool:
    """Whether a tree can be nothing but true, false or unknown, whatever columns hold."""
    return isinstance(tree, (Comparison, IsNull, And, Or, Not)) or (
        isinstance(tree, Call) and tree.name in ("LIKE", "LIKE_REGEX", "IS TRUE", "IS FALSE", "IS DISTINCT")
    )


def without_not(condition: Tree, *, negated: bool = False) -> Tree:
    """Return an equal condition in which nothing is negated but single tests, by De Morgan's laws."""
    match condition:
        case Not(part):
            return without_not(part, negated=not negated)
        case And(parts) | Or(parts):
            made = tuple(without_not(part, negated=negated) for part in parts)
            return And(made) if isinstance(condition, And) is not negated else Or(made)
        case Comparison(operator, left, right, at):
            return Comparison(OPPOSITE[operator], left, right, at) if negated else condition
        case IsNull(part, is_negated):
            return IsNull(part, is_negated is not negated)
    return Not(condition) if negated else condition


AnyTree = TypeVar("AnyTree", bound=Any)


def with_other_column(tree: AnyTree, name: str, other: str) -> AnyTree:
    """Return a tree that reads another column where it reads one."""
    if isinstance(tree, ColumnName):
        return replace(tree, name=other) if tree.name == name else tree
    if isinstance(tree, tuple):
        return tuple(with_other_column(part, name, other) for part in tree)  # type: ignore[return-value]
    if not is_dataclass(tree) or isinstance(tree, type):
        return tree
    parts = {one.name: getattr(tree, one.name) for one in fields(tree) if one.init}
    return replace(tree, **{key: with_other_column(value, name, other) for key, value in parts.items()})


# Writing


def write_name(name: str) -> str:
    """Return a column name as a formula writes it."""
    is_plain = re.fullmatch(r"[^\W\d]\w*", name) and name.lower() not in RESERVED
    return name if is_plain else '"' + name.replace('"', '""') + '"'


#: How tightly a form binds; what binds less than its surroundings stands in brackets.
_OR, _AND, _NOT, _TEST, _SUM, _PRODUCT, _VALUE = range(7)


def write_formula(tree: Tree) -> str:
    """Return a tree as text; parsing it gives an equal tree."""
    return _written(tree)[0]


def _in(tree: Tree, least: int) -> str:
    text, binds = _written(tree)
    return f"({text})" if binds < least else text


def _written(tree: Tree) -> tuple[str, int]:
    match tree:
        case ColumnName(name):
            return write_name(name), _VALUE
        case Constant(value):
            text = _write_literal(value)
            return text, _PRODUCT if text.startswith("-") else _VALUE
        case Arithmetic(sign, left, right):
            level = _SUM if sign in "+-" else _PRODUCT
            return f"{_in(left, level)} {sign} {_in(right, level + 1)}", level
        case Comparison(operator, left, right):
            return f"{_in(left, _SUM)} {operator} {_in(right, _SUM)}", _TEST
        case IsNull(part, is_negated):
            return f"{_in(part, _SUM)} IS {'NOT ' if is_negated else ''}NULL", _TEST
        case And(parts):
            return " AND ".join(_in(part, _NOT) for part in parts), _AND
        case Or(parts):
            return " OR ".join(_in(part, _AND + isinstance(part, Or)) for part in parts), _OR
        case Not(part):
            return f"NOT {_in(part, _TEST + isinstance(part, Comparison))}", _NOT
        case Cast(part):
            return f"CAST({write_formula(part)} AS {_written_type(tree)})", _VALUE
        case Case(branches, otherwise):
            inner = [f"WHEN {write_formula(test)} THEN {write_formula(value)}" for test, value in branches]
            inner += [] if otherwise is None else [f"ELSE {write_formula(otherwise)}"]
            return f"CASE {' '.join(inner)} END", _VALUE
        case Call():
            return _write_call(tree)
        case Window():
            return _write_window(tree), _VALUE


def _written_type(tree: Cast) -> str:
    if tree.length is not None:
        return f"VARCHAR({tree.length})"
    if tree.digits is not None:
        return f"DECIMAL({tree.digits[0]}, {tree.digits[1]})"
    return CAST_WORDS[tree.kind]


def _write_call(tree: Call) -> tuple[str, int]:
    parts = tree.parts
    match tree.name:
        case "||":
            return f"{_in(parts[0], _SUM)} || {_in(parts[1], _PRODUCT)}", _SUM
        case "LIKE" | "LIKE_REGEX":
            escape = f" ESCAPE {write_formula(parts[2])}" if len(parts) > 2 else ""
            return f"{_in(parts[0], _SUM)} {tree.name} {_in(parts[1], _SUM)}{escape}", _TEST
        case "IS TRUE" | "IS FALSE":
            return f"{_in(parts[0], _SUM)} {tree.name}", _TEST
        case "IS DISTINCT":
            return f"{_in(parts[0], _SUM)} IS DISTINCT FROM {_in(parts[1], _SUM)}", _TEST
        case "EXTRACT":
            assert isinstance(parts[0], Constant)
            return f"EXTRACT({parts[0].value} FROM {write_formula(parts[1])})", _VALUE
        case "POSITION":
            return f"POSITION({_in(parts[0], _SUM)} IN {_in(parts[1], _SUM)})", _VALUE
        case "TRIM" if len(parts) > 1:
            side, sign, text = parts
            assert isinstance(side, Constant)
            return f"TRIM({side.value} {write_formula(sign)} FROM {write_formula(text)})", _VALUE
    return f"{tree.name}({', '.join(map(write_formula, parts))})", _VALUE


def _write_window(tree: Window) -> str:
    inner = []
    if tree.partition:
        inner.append("PARTITION BY " + ", ".join(map(write_formula, tree.partition)))
    if tree.order:
        inner.append("ORDER BY " + ", ".join(map(_write_item, tree.order)))
    if tree.frame is not None:
        start, end = _write_bound(tree.frame.start), _write_bound(tree.frame.end)
        inner.append(f"{tree.frame.unit.upper()} BETWEEN {start} AND {end}")
    return f"{write_aggregate(tree)} OVER ({' '.join(inner)})"


def write_aggregate(tree: Window) -> str:
    """Return a function of the rows of a group as text, without OVER."""
    called = ", ".join(map(write_formula, tree.parts)) or ("*" if tree.name == "COUNT" else "")
    made = f"{tree.name}({'DISTINCT ' if tree.is_distinct else ''}{called})"
    if tree.within is not None:
        made += f" WITHIN GROUP (ORDER BY {_write_item(tree.within)})"
    return made if tree.where is None else f"{made} FILTER (WHERE {write_formula(tree.where)})"


def _write_item(item: OrderItem) -> str:
    return (
        write_formula(item.part)
        + (" DESC" if item.is_descending else "")
        + (" NULLS FIRST" if item.nulls_first else "")
    )


def _write_bound(distance: Decimal) -> str:
    if distance.is_infinite():
        return "UNBOUNDED " + ("PRECEDING" if distance < 0 else "FOLLOWING")
    if not distance:
        return "CURRENT ROW"
    return f"{write_value(abs(distance))} " + ("PRECEDING" if distance < 0 else "FOLLOWING")


def _write_literal(value: Value | None) -> str:
    if value is None:
        return "NULL"
    if isinstance(value, bool):
        return "TRUE" if value else "FALSE"
    if isinstance(value, str):
        return "'" + value.replace("'", "''") + "'"
    if isinstance(value, dt.datetime):
        return f"TIMESTAMP '{write_value(value)}'"
    if isinstance(value, dt.date):
        return f"DATE '{write_value(value)}'"
    return write_value(Decimal(value))
