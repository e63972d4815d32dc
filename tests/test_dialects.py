"""What is written for each database means there what it means here: literals to the last bit, and every operation, tried in it."""

from __future__ import annotations

import datetime as dt
import math
from decimal import Decimal

import pytest

from kivvet.core.sql.dialect import DIALECTS, ObstacleError

TEXTS = [
    "",
    "a",
    "O'K",
    "''",
    '"',
    "\\",
    "%_",
    "Größe",
    "日本",
    "\U0001f30a",
    "a\nb",
    "--",
    "/* x */",
    ";",
    "NULL",
    " x ",
    "e\u0301",
]
FLOATS = [
    0.0,
    1.0,
    -1.5,
    0.1,
    1 / 3,
    1e300,
    -1e-300,
    5e-324,
    2.0**53 + 2,
    1.7976931348623157e308,
    123456789.125,
    -0.3,
]
WHOLES = [0, 1, -1, 2**31, -(2**31) - 1, 2**53 + 1, 2**63 - 1, -(2**63) + 1]
DAYS = [
    dt.date(1970, 1, 1),
    dt.date(2026, 2, 28),
    dt.date(2024, 2, 29),
    dt.date(2026, 12, 31),
    dt.date(1901, 3, 1),
    dt.date(2027, 1, 3),
]


def asked(held, expressions):
    """What a database gives for each of some expressions."""
    made = []
    for start in range(0, len(expressions), 40):
        some = expressions[start : start + 40]
        made += held.run("SELECT " + ", ".join(f"{sql} AS c{n}" for n, sql in enumerate(some)))[0]
    return made


@pytest.fixture
def dialect(held):
    return DIALECTS[held.engine]


def test_texts_are_those_that_are_meant(held, dialect):
    assert asked(held, [dialect.text(text) for text in TEXTS]) == TEXTS
    assert [int(one) for one in asked(held, [dialect.length(dialect.text(text)) for text in TEXTS])] == list(
        map(len, TEXTS)
    )
    with pytest.raises(ObstacleError, match="NUL"):
        dialect.text("a\0b")


def test_names_are_those_that_are_meant(held, dialect):
    names = [text for text in TEXTS if text.strip() and "\n" not in text]
    held.run(f"CREATE TABLE odd ({', '.join(f'{dialect.quoted(name)} INTEGER' for name in names)})")
    held.run(f"INSERT INTO odd VALUES ({', '.join(map(str, range(len(names))))})")
    for number, name in enumerate(names):
        assert held.run(f"SELECT {dialect.quoted(name)} FROM odd")[0] == (number,)


def test_floats_are_the_same_bit_by_bit(held, dialect):
    assert [float(one).hex() for one in asked(held, [dialect.floating(one) for one in FLOATS])] == [
        one.hex() for one in FLOATS
    ]
    assert [float(one) for one in asked(held, [dialect.value(one, "number") for one in FLOATS])] == FLOATS


def test_whole_numbers_are_the_same(held, dialect):
    assert asked(held, [dialect.whole(one) for one in WHOLES]) == WHOLES
    assert asked(held, [dialect.value(Decimal(one), "integer") for one in WHOLES]) == WHOLES


def test_whole_arithmetic_beyond_64_bits_has_no_result(held, dialect):
    work = {"+": lambda a, b: a + b, "-": lambda a, b: a - b, "*": lambda a, b: a * b}
    cases = [(sign, a, b) for sign in work for a in WHOLES for b in (1, -1, 3, 2**40, 2**63 - 1)]
    made = asked(
        held, [dialect.whole_arithmetic(sign, dialect.whole(a), dialect.whole(b)) for sign, a, b in cases]
    )
    for (sign, a, b), value in zip(cases, made, strict=True):
        exact = work[sign](a, b)
        assert value == (exact if -(2**63) <= exact < 2**63 else None), (sign, a, b)


def test_nothing_is_nothing_of_every_type(held, dialect):
    kinds = ["integer", "number", "text", "boolean", "date", "datetime"]
    assert asked(held, [dialect.value(None, kind) for kind in kinds]) == [None] * len(kinds)
    assert asked(held, [f"{dialect.null(kind)} IS NULL" for kind in kinds]) == [1] * len(kinds)
    assert [bool(one) for one in asked(held, [dialect.truth(one) for one in (True, False)])] == [True, False]


@pytest.mark.parametrize("start", [1, 2, 3, 9])
@pytest.mark.parametrize("length", [None, 0, 1, 2, 9])
def test_parts_of_texts_are_those_of_a_slice(held, dialect, start, length):
    made = asked(
        held,
        [
            dialect.substring(dialect.text(text), str(start), None if length is None else str(length))
            for text in TEXTS
        ],
    )
    end = None if length is None else start - 1 + length
    assert made == [text[start - 1 : end] for text in TEXTS]


def test_where_a_text_stands_in_another_and_how_it_begins(held, dialect):
    pairs = [(needle, hay) for hay in TEXTS for needle in ("a", "'", "ß", "x", "日", "b") if hay]
    made = asked(held, [dialect.position(dialect.text(needle), dialect.text(hay)) for needle, hay in pairs])
    assert [int(one) for one in made] == [hay.find(needle) + 1 for needle, hay in pairs]
    made = asked(held, [dialect.starts_with(dialect.text(hay), needle) for needle, hay in pairs])
    assert [bool(one) for one in made] == [hay.startswith(needle) for needle, hay in pairs]


def test_numbers_are_rounded_and_rooted_as_here(held, dialect):
    if held.engine == "sqlite":
        for work in (dialect.floor, dialect.ceiling, dialect.square_root):
            with pytest.raises(ObstacleError, match="not every SQLite has"):
                work("1.5")
        return
    some = [one for one in FLOATS if abs(one) < 1e15]
    assert asked(held, [dialect.floor(dialect.floating(one)) for one in some]) == [
        math.floor(one) for one in some
    ]
    assert asked(held, [dialect.ceiling(dialect.floating(one)) for one in some]) == [
        math.ceil(one) for one in some
    ]
    made = asked(held, [dialect.square_root(dialect.floating(one)) for one in some])
    assert made == [math.sqrt(one) if one >= 0 else None for one in some]


def test_the_greatest_and_the_least_of_several(held, dialect):
    rows = [(1.5, -2.0, 7.25), (None, 1.0, 2.0), (3.0, None, None), (0.1, 0.1, 0.1)]
    for word, work in (("GREATEST", max), ("LEAST", min)):
        sql = [dialect.extreme(word, [dialect.value(one, "number") for one in row]) for row in rows]
        assert asked(held, sql) == [None if None in row else work(row) for row in rows]


def test_what_is_distinct_counts_nothing_as_a_value(held, dialect):
    values = [None, 1, 2]
    pairs = [(one, other) for one in values for other in values]
    made = asked(
        held,
        [
            dialect.distinct(dialect.value(one, "integer"), dialect.value(other, "integer"))
            for one, other in pairs
        ],
    )
    assert [bool(one) for one in made] == [one != other for one, other in pairs]


def test_days_are_counted_and_taken_apart_as_here(held, dialect):
    pairs = [(one, other) for one in DAYS for other in DAYS]
    made = asked(held, [dialect.days_between(dialect.day(one), dialect.day(other)) for one, other in pairs])
    assert made == [(other - one).days for one, other in pairs]
    parts = {
        "YEAR": lambda day: day.year,
        "MONTH": lambda day: day.month,
        "DAY": lambda day: day.day,
        "QUARTER": lambda day: (day.month + 2) // 3,
        "DAY_OF_WEEK": dt.date.isoweekday,
        "DAY_OF_YEAR": lambda day: day.timetuple().tm_yday,
    }
    for part, work in parts.items():
        assert asked(held, [dialect.part_of(part, dialect.day(day)) for day in DAYS]) == list(
            map(work, DAYS)
        ), part


def test_what_is_no_number_and_a_text_of_no_characters_are_missing(held, dialect):
    made = asked(held, [dialect.clean(dialect.text(text), "text", is_floating=False) for text in TEXTS])
    assert made == [text or None for text in TEXTS]
    whole = asked(held, [dialect.clean(dialect.whole(7), "integer", is_floating=False)])
    assert whole == [7]
    if held.engine != "sqlite":  # which has no such number
        gone = dialect.clean("CAST('NaN' AS DOUBLE PRECISION)", "number", is_floating=True)
        assert asked(held, [gone, dialect.clean(dialect.floating(2.5), "number", is_floating=True)]) == [
            None,
            2.5,
        ]
