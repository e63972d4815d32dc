"""Formulas as SQL for a real engine, and the engine's answers: the referee for values, conditions and
windows.

Where ours differ from the engine's habits by decision (docs/formulas.md), the SQL says what ours means: text
of no characters is NULL, a division by zero gives NULL, and rows that are equal in an order stand as in the
source.
"""

from __future__ import annotations

import datetime as dt
import functools
from decimal import Decimal

import duckdb
import pyarrow as pa
from hypothesis import strategies as st

from kivvet.core.formulas.functions import AGGREGATES, OF_GROUPS, ORDERED_SETS
from kivvet.core.formulas.tree import (
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
    Or,
    OrderItem,
    Window,
    write_formula,
)
from kivvet.core.formulas.types import type_of

COLUMNS = {
    "i": ("integer", pa.int64()),
    "j": ("integer", pa.int64()),
    "x": ("number", pa.float64()),
    "y": ("number", pa.float64()),
    "s": ("text", pa.string()),
    "t": ("text", pa.string()),
    "d": ("date", pa.date32()),
    "e": ("date", pa.date32()),
    "m": ("datetime", pa.timestamp("us")),
    "b": ("boolean", pa.bool_()),
}
INTEGERS = st.one_of(st.integers(-3, 3), st.sampled_from([7, -100, 12_345]))
EIGHTHS = st.integers(-40, 40).map(lambda n: n / 8)
TEXTS = st.sampled_from(["a", "A", "ab", "b", "ba", " a", "007", "7", "é", "\U0001f41f", "a%b", "x_y", "-3"])
DATES = st.sampled_from(
    [
        dt.date(2024, 2, 29),
        dt.date(2025, 12, 31),
        dt.date(2026, 1, 1),
        dt.date(2026, 10, 1),
        dt.date(1969, 7, 1),
        dt.date(1900, 3, 1),
    ]
)
TIMES = st.sampled_from(
    [dt.datetime(2026, 1, 1), dt.datetime(2026, 1, 1, 13, 5, 7), dt.datetime(1969, 7, 1, 23, 59, 59, 500_000)]
)
VALUES = {
    "integer": INTEGERS,
    "number": EIGHTHS,
    "text": TEXTS,
    "date": DATES,
    "datetime": TIMES,
    "boolean": st.booleans(),
}


@st.composite
def tables(draw, most=14):
    n_rows = draw(st.integers(0, most))
    return pa.table(
        {
            name: pa.array(
                draw(st.lists(st.one_of(st.none(), VALUES[kind]), min_size=n_rows, max_size=n_rows)), type_
            )
            for name, (kind, type_) in COLUMNS.items()
        }
    )


# Formulas


def _leaves(kind):
    names = [ColumnName(name) for name, (one, _) in COLUMNS.items() if one == kind]
    constant = VALUES[kind].map(lambda v: Constant(Decimal(str(v)) if kind in ("integer", "number") else v))
    return st.one_of(st.sampled_from(names), st.sampled_from(names), constant)


def _whole(low, high):
    return st.integers(low, high).map(lambda n: Constant(Decimal(n)))


@functools.cache
def expressions(kind, depth=3):
    """Formulas that give a type."""
    if depth == 0:
        return _leaves(kind)
    sub = {one: expressions(one, depth - 1) for one in VALUES}
    same = sub[kind]
    found = [
        _leaves(kind),
        st.builds(lambda c, a, b: Case(((c, a),), b), sub["boolean"], same, st.one_of(st.none(), same)),
        st.builds(lambda a, b: Call("COALESCE", (a, b)), same, same),
        st.builds(lambda a, b: Call("NULLIF", (a, b)), same, same),
        st.builds(lambda f, a, b: Call(f, (a, b)), st.sampled_from(["GREATEST", "LEAST"]), same, same),
    ]
    match kind:
        case "integer":
            found += [
                st.builds(Arithmetic, st.sampled_from("+-*"), same, same),
                st.builds(lambda f, a: Call(f, (a,)), st.sampled_from(["ABS", "SIGN"]), same),
                st.builds(lambda a, b: Call("MOD", (a, b)), same, same),
                st.builds(lambda a: Call("CHAR_LENGTH", (a,)), sub["text"]),
                st.builds(lambda a, b: Call("POSITION", (a, b)), sub["text"], sub["text"]),
                st.builds(
                    lambda p, a: Call("EXTRACT", (Constant(p), a)),
                    st.sampled_from(
                        ["YEAR", "MONTH", "DAY", "QUARTER", "WEEK", "DAY_OF_WEEK", "DAY_OF_YEAR"]
                    ),
                    sub["date"],
                ),
                st.builds(
                    lambda p, a: Call("EXTRACT", (Constant(p), a)),
                    st.sampled_from(["HOUR", "MINUTE", "YEAR"]),
                    sub["datetime"],
                ),
                st.builds(lambda a, b: Arithmetic("-", a, b), sub["date"], sub["date"]),
                st.builds(lambda a, b: Call("DAYS_BETWEEN", (a, b)), sub["date"], sub["date"]),
                st.builds(lambda a: Cast(a, "integer"), st.one_of(sub["boolean"], sub["number"])),
            ]
        case "number":
            found += [
                st.builds(Arithmetic, st.sampled_from("+-*/"), same, st.one_of(same, sub["integer"])),
                st.builds(lambda a, b: Arithmetic("/", a, b), sub["integer"], sub["integer"]),
                st.builds(
                    lambda f, a: Call(f, (a,)), st.sampled_from(["ABS", "FLOOR", "CEILING", "SQRT"]), same
                ),
                st.builds(
                    lambda f, a, n: Call(f, (a, n)), st.just("ROUND"), _leaves("number"), _whole(-1, 2)
                ),
                st.builds(lambda a: Cast(a, "number"), sub["integer"]),
            ]
        case "text":
            found += [
                st.builds(lambda a, b: Call("||", (a, b)), same, same),
                st.builds(lambda f, a: Call(f, (a,)), st.sampled_from(["LOWER", "UPPER", "TRIM"]), same),
                st.builds(lambda a, n, m: Call("SUBSTRING", (a, n, m)), same, _whole(1, 3), _whole(0, 3)),
                st.builds(
                    lambda f, a, n: Call(f, (a, n)), st.sampled_from(["LEFT", "RIGHT"]), same, _whole(0, 3)
                ),
                st.builds(lambda a, b, c: Call("REPLACE", (a, b, c)), same, _leaves("text"), _leaves("text")),
                st.builds(
                    lambda f, a, n: Call(f, (a, n, Constant("x"))),
                    st.sampled_from(["LPAD", "RPAD"]),
                    same,
                    _whole(0, 4),
                ),
                st.builds(
                    lambda side, a: Call("TRIM", (Constant(side), Constant("a"), a)),
                    st.sampled_from(["BOTH", "LEADING", "TRAILING"]),
                    same,
                ),
                st.builds(lambda a: Cast(a, "text"), st.one_of(sub["integer"], sub["date"], sub["boolean"])),
            ]
        case "date":
            found += [
                st.builds(Arithmetic, st.sampled_from("+-"), same, _whole(-400, 400)),
                st.builds(lambda a: Cast(a, "date"), sub["datetime"]),
            ]
        case "datetime":
            found += [st.builds(lambda a: Cast(a, "datetime"), sub["date"])]
        case "boolean":
            compared = st.sampled_from(list(VALUES)).flatmap(
                lambda one: st.builds(
                    Comparison, st.sampled_from(["<", "<=", "=", "<>", ">=", ">"]), sub[one], sub[one]
                )
            )
            null = st.sampled_from(list(VALUES)).flatmap(
                lambda one: st.builds(IsNull, sub[one], st.booleans())
            )
            found += [
                compared,
                compared,
                null,
                st.builds(Comparison, st.sampled_from(["<", "=", ">="]), sub["integer"], sub["number"]),
                st.builds(lambda a, b: And((a, b)), same, same),
                st.builds(lambda a, b: Or((a, b)), same, same),
                st.builds(Not, same),
                st.builds(lambda f, a: Call(f, (a,)), st.sampled_from(["IS TRUE", "IS FALSE"]), same),
                st.builds(lambda a, b: Call("IS DISTINCT", (a, b)), sub["number"], sub["number"]),
                st.builds(
                    lambda a, b: Call("LIKE", (a, Constant(b))),
                    sub["text"],
                    st.sampled_from(["a%", "%a", "_", "%b%", "a\\%%", "%"]),
                ),
                st.builds(
                    lambda a, b: Call("LIKE_REGEX", (a, Constant(b))),
                    sub["text"],
                    st.sampled_from(["^a", "[0-9]+", "b$"]),
                ),
            ]
    return st.one_of(*found)


ORDERS = st.lists(
    st.builds(
        OrderItem, st.sampled_from([ColumnName(name) for name in COLUMNS]), st.booleans(), st.booleans()
    ),
    min_size=1,
    max_size=2,
).map(tuple)
PARTITIONS = st.lists(st.sampled_from([ColumnName(name) for name in "isbd"]), max_size=2).map(tuple)


@st.composite
def frames(draw, order):
    infinity = Decimal("Infinity")
    unit = draw(st.sampled_from(["rows", "range"]))
    near = [Decimal(0), -infinity, infinity]
    single = order[0].part.name if len(order) == 1 else ""
    if unit == "rows" or single in ("i", "d"):
        near += [Decimal(n) for n in (-3, -1, 1, 2)]
    elif single == "x":
        near += [Decimal("-1.5"), Decimal("0.25")]
    start, end = sorted(draw(st.lists(st.sampled_from(near), min_size=2, max_size=2)))
    if start == infinity or end == -infinity:
        start, end = -infinity, infinity
    return Frame(unit, start, end)


@st.composite
def windows(draw):
    """Window functions of columns, with what they need."""
    name = draw(
        st.sampled_from(
            [
                "SUM",
                "SUM",
                "COUNT",
                "AVG",
                "MIN",
                "MAX",
                "ROW_NUMBER",
                "RANK",
                "DENSE_RANK",
                "PERCENT_RANK",
                "CUME_DIST",
                "NTILE",
                "LAG",
                "LEAD",
                "FIRST_VALUE",
                "LAST_VALUE",
            ]
        )
    )
    partition, order = draw(PARTITIONS), draw(ORDERS)
    number, anything = (
        ColumnName(draw(st.sampled_from(["i", "x"]))),
        ColumnName(draw(st.sampled_from(list(COLUMNS)))),
    )
    parts = {
        "SUM": (number,),
        "AVG": (number,),
        "COUNT": draw(st.sampled_from([(), (anything,)])),
        "MIN": (anything,),
        "MAX": (anything,),
        "NTILE": (Constant(Decimal(draw(st.integers(1, 5)))),),
        "FIRST_VALUE": (anything,),
        "LAST_VALUE": (anything,),
        "LAG": (anything, Constant(Decimal(draw(st.integers(0, 3))))),
        "LEAD": (anything,),
    }.get(name, ())
    frame = None
    if name in ("SUM", "COUNT", "AVG", "MIN", "MAX"):
        if draw(st.booleans()):
            order = ()
        elif draw(st.booleans()):
            frame = draw(frames(order))
    elif name in ("FIRST_VALUE", "LAST_VALUE"):
        frame = draw(frames(order).filter(lambda one: one.unit == "rows"))
    where = draw(st.none() | CONDITIONS) if name in AGGREGATES else None
    return Window(name, parts, partition, order, frame, where=where)


CONDITIONS = st.sampled_from(
    [
        Comparison(">", ColumnName("i"), Constant(Decimal(0))),
        IsNull(ColumnName("x"), True),
        Or(
            (
                Comparison("=", ColumnName("s"), Constant("a")),
                Comparison("<", ColumnName("x"), ColumnName("y")),
            )
        ),
    ]
)


@st.composite
def aggregates(draw):
    """Aggregates of whole groups, other than the totals and extremes among `windows`."""
    name = draw(st.sampled_from(sorted({*OF_GROUPS, "COUNT"})))
    number = ColumnName(draw(st.sampled_from(["i", "x"])))
    anything = ColumnName(draw(st.sampled_from(list(COLUMNS))))
    parts, within = (number,), None
    if name in ORDERED_SETS:
        parts = (Constant(Decimal(draw(st.sampled_from(["0", "0.25", "0.5", "0.75", "1"])))),)
        within = OrderItem(anything if name == "PERCENTILE_DISC" else number)
    elif name == "COUNT":
        parts = (anything,)
    return Window(
        name,
        parts,
        draw(PARTITIONS),
        within=within,
        where=draw(st.none() | CONDITIONS),
        is_distinct=name == "COUNT",
    )


# SQL

_TYPES = {
    "integer": "BIGINT",
    "number": "DOUBLE",
    "text": "VARCHAR",
    "boolean": "BOOLEAN",
    "date": "DATE",
    "datetime": "TIMESTAMP",
}
_PARTS = {"DAY_OF_WEEK": "ISODOW", "DAY_OF_YEAR": "DOY"}
_TEXT = {"||", "LOWER", "UPPER", "TRIM", "SUBSTRING", "LEFT", "RIGHT", "REPLACE", "LPAD", "RPAD"}


def sql(tree):
    """A tree as SQL that means what ours does."""
    match tree:
        case ColumnName(name):
            return name
        case Constant(value) if isinstance(value, (str, bool, dt.date)) or value is None:
            return write_formula(tree)
        case Constant(value):
            return f"CAST({value} AS {'BIGINT' if value == int(value) else 'DOUBLE'})"
        case Arithmetic("/", left, right):
            return f"(CAST({sql(left)} AS DOUBLE) / NULLIF(CAST({sql(right)} AS DOUBLE), 0))"
        case Arithmetic(sign, left, right):
            made = [
                f"CAST({sql(one)} AS INTEGER)"
                if isinstance(one, Constant) and isinstance(one.value, Decimal) and _is_date(other)
                else sql(one)
                for one, other in ((left, right), (right, left))
            ]
            return f"({made[0]} {sign} {made[1]})"
        case Comparison(operator, left, right):
            return f"({sql(left)} {operator} {sql(right)})"
        case IsNull(part, negated):
            return f"({sql(part)} IS {'NOT ' if negated else ''}NULL)"
        case And(parts) | Or(parts):
            return "(" + (" AND " if isinstance(tree, And) else " OR ").join(map(sql, parts)) + ")"
        case Not(part):
            return f"(NOT {sql(part)})"
        case Case(branches, otherwise):
            inner = " ".join(f"WHEN {sql(test)} THEN {sql(value)}" for test, value in branches)
            return f"CASE {inner} {'' if otherwise is None else 'ELSE ' + sql(otherwise)} END"
        case Cast(part, "integer"):
            given = sql(part)
            return f"CASE WHEN CAST({given} AS DOUBLE) = trunc(CAST({given} AS DOUBLE)) THEN CAST({given} AS BIGINT) END"
        case Cast(part, kind):
            return f"CAST({sql(part)} AS {_TYPES[kind]})"
        case Window():
            return _window(tree)
    return _call(tree.name, tree.parts)


def _is_date(tree):
    return type_of(tree, lambda column: COLUMNS[column.name][0]) == "date"


def _call(name, parts):
    given = [sql(one) for one in parts]
    match name:
        case "IS TRUE" | "IS FALSE":
            return f"(({given[0]}) {name})"
        case "IS DISTINCT":
            return f"({given[0]} IS DISTINCT FROM {given[1]})"
        case "LIKE":
            return f"({given[0]} LIKE {given[1]})"
        case "LIKE_REGEX":
            return f"regexp_matches({given[0]}, {given[1]})"
        case "GREATEST" | "LEAST":
            return f"CASE WHEN {given[0]} IS NOT NULL AND {given[1]} IS NOT NULL THEN {name}({given[0]}, {given[1]}) END"
        case "MOD":
            return f"({given[0]} % NULLIF({given[1]}, 0))"
        case "SQRT":
            return f"CASE WHEN {given[0]} >= 0 THEN SQRT({given[0]}) END"
        case "EXTRACT":
            return f"EXTRACT({_PARTS.get(parts[0].value, parts[0].value)} FROM {given[1]})"
        case "POSITION":
            return f"POSITION({given[0]} IN {given[1]})"
        case "DAYS_BETWEEN":
            return f"date_diff('day', {given[0]}, {given[1]})"
        case "TRIM" if len(parts) == 3:
            return f"NULLIF(TRIM({parts[0].value} {given[1]} FROM {given[2]}), '')"
        case "||":
            return f"({given[0]} || {given[1]})"
        case "CHAR_LENGTH":
            return f"LENGTH({given[0]})"
        case "SUBSTRING" | "LEFT" | "RIGHT" | "LPAD" | "RPAD" | "ROUND":
            given[1:] = [
                f"CAST({one} AS INTEGER)"
                if not isinstance(part, Constant) or not isinstance(part.value, str)
                else one
                for one, part in zip(given[1:], parts[1:], strict=True)
            ]
    made = f"{name}({', '.join(given)})"
    return f"NULLIF({made}, '')" if name in _TEXT else made


def _window(tree):
    order = [
        f"{sql(one.part)} {'DESC' if one.is_descending else 'ASC'} NULLS {'FIRST' if one.nulls_first else 'LAST'}"
        for one in tree.order
    ]
    by_rows = tree.frame is not None and tree.frame.unit == "rows"
    if by_rows or tree.name in ("ROW_NUMBER", "NTILE", "LAG", "LEAD"):
        order.append("row_number_ ASC")  # where the standard leaves ties open, rows stand as in the source
    inner = f"PARTITION BY {', '.join(map(sql, tree.partition))} " if tree.partition else ""
    inner += f"ORDER BY {', '.join(order)} " if order else ""
    if tree.frame is not None:
        inner += f"{tree.frame.unit} BETWEEN {_bound(tree.frame.start)} AND {_bound(tree.frame.end)}"
        if tree.frame.unit == "range" and tree.order[0].part.name == "d":
            inner = inner.replace("DAYS ", "")
    return f"{aggregate(tree)} OVER ({inner})"


_ENGINE_NAMES = {"PERCENTILE_CONT": "quantile_cont", "PERCENTILE_DISC": "quantile_disc"}


def aggregate(tree):
    """An aggregate or a window function as SQL, without OVER."""
    called = ", ".join(map(sql, tree.parts)) or ("*" if tree.name == "COUNT" else "")
    if tree.within is not None:
        called = f"{sql(tree.within.part)}, {tree.parts[0].value}"
    made = f"{_ENGINE_NAMES.get(tree.name, tree.name)}({'DISTINCT ' if tree.is_distinct else ''}{called})"
    return made if tree.where is None else f"{made} FILTER (WHERE {sql(tree.where)})"


def _bound(distance):
    if distance.is_infinite():
        return f"UNBOUNDED {'PRECEDING' if distance < 0 else 'FOLLOWING'}"
    return (
        "CURRENT ROW" if not distance else f"{abs(distance)} {'PRECEDING' if distance < 0 else 'FOLLOWING'}"
    )


_ENGINE = duckdb.connect(config={"threads": 1})


def answer(tree, frame):
    """What the engine gives for each row."""
    table = frame.append_column("row_number_", pa.array(range(len(frame)), pa.int64()))
    _ENGINE.register("frame_", table)
    try:
        query = f"SELECT {sql(tree)} AS made FROM frame_ ORDER BY row_number_"
        return [row[0] for row in _ENGINE.execute(query).fetchall()]
    finally:
        _ENGINE.unregister("frame_")
