"""Formulas as the SQL of a database that gives the same; what it would give otherwise is an obstacle."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from decimal import Decimal

from kivvet.core.formulas.tree import (
    And,
    Arithmetic,
    Call,
    Case,
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
from kivvet.core.formulas.types import type_of
from kivvet.core.sql.dialect import Dialect, ObstacleError
from kivvet.core.words.values import ValueType

#: Gives the SQL of a column, and its type.
ColumnSql = Callable[[str], tuple[str, ValueType]]
_MOST_SIGNS = 20_000
_DAY_PARTS = ("YEAR", "QUARTER", "MONTH", "WEEK", "DAY", "DAY_OF_WEEK", "DAY_OF_YEAR")
_WHY = {
    "POWER": "databases round its last digits otherwise",
    "EXP": "databases round its last digits otherwise",
    "LN": "databases round its last digits otherwise",
    "LOG10": "databases round its last digits otherwise",
    "LOWER": "databases differ in some letters",
    "UPPER": "databases differ in some letters",
    "FOLD": "databases have no such thing",
    "ROUND": "databases round otherwise",
}


class FormulaSql:
    """Writes formulas over columns of one step.

    Parameters
    ----------
    dialect : Dialect
    column : callable
    """

    def __init__(self, dialect: Dialect, column: ColumnSql) -> None:
        self.dialect = dialect
        self.column = column
        self.among = ""  # the condition of the rows that groups are made of

    def kind(self, tree: Tree) -> ValueType:
        """Return the type of what a tree gives; of NULL, which has any, it is text."""
        return type_of(tree, lambda one: self.column(one.name)[1]) or "text"

    def written(self, tree: Tree, kind: ValueType) -> str:
        """Return a formula as SQL that gives a type."""
        made = self.sql(tree)
        if kind == "number" and self.kind(tree) == "integer":
            made = self.dialect.real(made)
        elif kind != self.kind(tree) and not _is_null(tree):
            raise ObstacleError(f"a {self.kind(tree)} where a {kind} is asked for")
        if kind == "text":
            made = f"NULLIF({made}, '')"
        if len(made) > _MOST_SIGNS:
            raise ObstacleError("it becomes too long", "cut it into parts with names of their own")
        return made

    def sql(self, tree: Tree) -> str:
        """Return a tree as SQL."""
        dialect = self.dialect
        match tree:
            case ColumnName(name):
                return self.column(name)[0]
            case Constant(value):
                return self._constant(value)
            case Arithmetic():
                return self._arithmetic(tree)
            case Comparison(operator, left, right):
                made = self.compared(left, right)
                return f"({made[0]} {operator} {made[1]})"
            case IsNull(part, is_negated):
                return f"({self.sql(part)} IS {'NOT ' if is_negated else ''}NULL)"
            case And(parts) | Or(parts):
                return "(" + (" AND " if isinstance(tree, And) else " OR ").join(map(self.sql, parts)) + ")"
            case Not(part):
                return f"(NOT {self.sql(part)})"
            case Case(branches, otherwise):
                kind = self.kind(tree)
                inner = " ".join(
                    f"WHEN {self.sql(test)} THEN {self._as(value, kind)}" for test, value in branches
                )
                rest = dialect.null(kind) if otherwise is None else self._as(otherwise, kind)
                return f"CASE {inner} ELSE {rest} END"
            case Window():
                return self._window(tree)
            case Call(name, parts):
                return self._call(tree, name, parts)
        raise ObstacleError(f"{write_formula(tree)}: casts differ between databases")

    def _constant(self, value: object) -> str:
        if isinstance(value, Decimal):
            is_whole = value == value.to_integral_value() and abs(value) < 2**63
            return self.dialect.value(value, "integer" if is_whole else "number")
        if value is None:
            return "NULL"
        if isinstance(value, (bool, str, dt.date)):
            return self.dialect.value(value, "text")
        raise ObstacleError(f"the constant {value!r}")

    def _as(self, tree: Tree, kind: ValueType) -> str:
        if _is_null(tree):
            return self.dialect.null(kind)
        made = self.sql(tree)
        return self.dialect.real(made) if kind == "number" and self.kind(tree) == "integer" else made

    def compared(self, left: Tree, right: Tree) -> tuple[str, str]:
        """Return two values that are compared, of one type."""
        if _is_null(left) or _is_null(right):
            return self.sql(left), self.sql(right)
        kinds = {self.kind(left), self.kind(right)}
        if kinds == {"integer", "number"}:
            return self._whole_beside(left), self._whole_beside(right)
        if len(kinds) > 1:
            raise ObstacleError(f"a {' compared with a '.join(sorted(kinds))}", "compare values of one type")
        return self.sql(left), self.sql(right)

    def _whole_beside(self, tree: Tree) -> str:
        """Return a value that is held against a float; a whole column may hold more digits than one has."""
        if self.kind(tree) == "integer" and not isinstance(tree, Constant):
            raise ObstacleError(
                f"whole numbers compared with floats: {write_formula(tree)}",
                f"make it a float: {write_formula(tree)} + 0.0 loses digits beyond 2 to the 53 knowingly",
            )
        return self._as(tree, "number")

    def _arithmetic(self, tree: Arithmetic) -> str:
        dialect, left, right = self.dialect, tree.left, tree.right
        kinds = self.kind(left), self.kind(right)
        if _is_null(left) or _is_null(right):
            return dialect.null(self.kind(tree))
        if kinds == ("date", "date") and tree.sign == "-":
            return dialect.days_between(self.sql(right), self.sql(left))
        if not {*kinds} <= {"integer", "number"}:
            raise ObstacleError(f"{write_formula(tree)}: arithmetic with dates and times")
        if tree.sign == "/":
            by = f"NULLIF({self._as(right, 'number')}, {dialect.floating(0.0)})"
            return dialect.number(f"({self._as(left, 'number')} / {by})")
        if kinds == ("integer", "integer"):
            return dialect.whole_arithmetic(tree.sign, self.sql(left), self.sql(right))
        return dialect.number(f"({self._as(left, 'number')} {tree.sign} {self._as(right, 'number')})")

    def _call(self, tree: Call, name: str, parts: tuple[Tree, ...]) -> str:
        dialect = self.dialect
        kind = self.kind(tree)
        match name, parts:
            case (("IS TRUE" | "IS FALSE"), (part,)):
                return f"({self.sql(part)} {name})"
            case "IS DISTINCT", (left, right):
                return dialect.distinct(*self.compared(left, right))
            case "COALESCE", _:
                return f"COALESCE({', '.join(self._as(one, kind) for one in parts)})"
            case "NULLIF", (left, right) if self.kind(left) == self.kind(right) or _is_null(right):
                return f"NULLIF({self.sql(left)}, {self._as(right, kind)})"
            case (("GREATEST" | "LEAST"), _) if kind in ("integer", "number", "date"):
                return dialect.extreme(name, [self._as(part, kind) for part in parts])
            case "ABS", (part,) if kind == "number":
                return f"ABS({self.sql(part)})"
            case "ABS", (part,):
                given = self.sql(part)
                negative = dialect.whole_arithmetic("-", dialect.whole(0), given)
                return f"CASE WHEN {given} < 0 THEN {negative} ELSE {given} END"
            case "SIGN", (part,):
                given = self._as(part, "number")
                one, none, less = (dialect.whole(n) for n in (1, 0, -1))
                return f"CASE WHEN {given} > 0 THEN {one} WHEN {given} < 0 THEN {less} WHEN {given} = 0 THEN {none} END"
            case (("FLOOR" | "CEILING"), (part,)) if kind == "number":
                made = self.sql(part)
                return dialect.floor(made) if name == "FLOOR" else dialect.ceiling(made)
            case "SQRT", (part,):
                return dialect.square_root(self._as(part, "number"))
            case "MOD", (left, right) if kind == "integer":
                return f"({self.sql(left)} % NULLIF({self.sql(right)}, {dialect.whole(0)}))"
            case "TRIM", (part,):
                return f"NULLIF(TRIM({self.sql(part)}), '')"
            case "CHAR_LENGTH", (part,):
                return dialect.length(self.sql(part))
            case "LEFT", (part, Constant(Decimal() as n)) if n >= 0:
                return f"NULLIF({dialect.substring(self.sql(part), '1', str(int(n)))}, '')"
            case "SUBSTRING", (part, Constant(Decimal() as start), *rest) if start >= 1 and _all_whole(rest):
                length = str(int(rest[0].value)) if rest else None  # type: ignore[union-attr, arg-type]
                return f"NULLIF({dialect.substring(self.sql(part), str(int(start)), length)}, '')"
            case "POSITION", (needle, hay):
                return dialect.position(self.sql(needle), self.sql(hay))
            case "REPLACE", (text, old, new):
                return f"NULLIF(REPLACE({self.sql(text)}, {self.sql(old)}, {self.sql(new)}), '')"
            case "||", (left, right):
                return f"({self.sql(left)} || {self.sql(right)})"
            case "DAYS_BETWEEN", (first, second) if {self.kind(first), self.kind(second)} == {"date"}:
                return dialect.days_between(self.sql(first), self.sql(second))
            case "EXTRACT", (Constant(str() as part), moment) if part in _DAY_PARTS:
                if self.kind(moment) == "date" or dialect.has_moments:
                    return dialect.part_of(part, self.sql(moment))
        raise ObstacleError(f"{name}: {_WHY.get(name, 'it is not known to be the same there')}")

    def _window(self, tree: Window) -> str:
        """Return a function of the rows of a group, of those whose result depends on no order of rows."""
        dialect = self.dialect
        kind = self.kind(tree)
        if tree.frame is not None or tree.within is not None or tree.is_distinct:
            raise ObstacleError(f"{tree.name} over a frame, or of ordered or different values")
        of_whole = tree.name in ("COUNT", "MIN", "MAX", "SUM") and not tree.order
        if tree.name in ("SUM", "AVG") and self.kind(tree.parts[0]) == "number":
            raise ObstacleError(
                f"{tree.name} of floats, whose last digits depend on the order of rows there",
                "sum whole numbers, such as cents",
            )
        if not of_whole and tree.name not in ("RANK", "DENSE_RANK"):
            raise ObstacleError(f"{tree.name} OVER: ties, or the order of rows, are not the same there")
        if tree.name in ("MIN", "MAX") and kind not in ("integer", "number", "date"):
            raise ObstacleError(f"{tree.name} of {kind}s")
        inner = ", ".join(map(self.sql, tree.parts)) or ("*" if tree.name == "COUNT" else "")
        keep = "" if tree.where is None else f" FILTER (WHERE {self.sql(tree.where)})"
        over = []
        if tree.partition or self.among:
            among = [f"({self.among} IS TRUE)"] if self.among else []
            over.append(f"PARTITION BY {', '.join([*among, *map(self.sql, tree.partition)])}")
        if tree.order:
            items = [
                f"{self.sql(one.part)} {'DESC' if one.is_descending else 'ASC'} NULLS {'FIRST' if one.nulls_first else 'LAST'}"
                for one in tree.order
            ]
            over.append(f"ORDER BY {', '.join(items)}")
        made = f"{tree.name}({inner}){keep} OVER ({' '.join(over)})"
        if tree.name == "SUM":
            return dialect.whole_result(made)
        return f"CAST({made} AS {dialect.types['integer']})" if kind == "integer" else made


def _is_null(tree: Tree) -> bool:
    return isinstance(tree, Constant) and tree.value is None


def _all_whole(rest: list[Tree]) -> bool:
    return all(
        isinstance(one, Constant) and isinstance(one.value, Decimal) and one.value >= 0 for one in rest
    )
