"""Hypothesis strategies for conditions, inputs and tables; they favour edges, small worlds and extremes."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

from hypothesis import strategies as st

from kivvet.core.words.conditions import (
    AnyOf,
    AnyValue,
    Between,
    CodeRange,
    Equals,
    IsMissing,
    IsPresent,
    Negation,
    StartsWith,
)

small_numbers = st.integers(-60, 60).map(lambda n: Decimal(n) / 10)
extreme_numbers = st.sampled_from(
    [Decimal(2**53 + 1), Decimal(2**63 - 1), Decimal(-(2**63)), Decimal("1e300"), Decimal("-1e-9")]
)
numbers = st.one_of(small_numbers, small_numbers, small_numbers, extreme_numbers)
whole_numbers = st.one_of(st.integers(-6, 6), st.sampled_from([2**53 + 1, -(2**63)])).map(Decimal)
dates = st.integers(0, 12).map(lambda n: dt.date(2026, 2, 25) + dt.timedelta(n))
moments = st.one_of(
    dates, st.integers(0, 30).map(lambda n: dt.datetime(2026, 2, 27) + dt.timedelta(hours=5 * n))
)
texts = st.text(st.sampled_from("AB1"), min_size=1, max_size=3)
odd_texts = st.sampled_from(
    [
        "to",
        "any",
        "missing",
        "not x",
        "a | b",
        'say "x"',
        "é",
        "e\u0301",
        "0",
        "007",
        "NA",
        " x",
        "x*",
        "ß",
        "\U0001f30a",
        "(a)",
        "<5 mg",
    ]
)

BOUNDS = {
    "number": numbers,
    "integer": st.one_of(whole_numbers, small_numbers),
    "date": dates,
    "datetime": moments,
}


def conditions(kind: str, *, missing: bool = True):
    """Conditions on an input of a type."""
    words = [AnyValue(), IsPresent(), *([IsMissing()] if missing else [])]
    leaves = [st.sampled_from(words), st.builds(Equals, _values(kind))]
    if kind in BOUNDS:
        leaves += [_between(BOUNDS[kind])] * 4
    if kind == "text":
        code = st.integers(1, 2).flatmap(
            lambda k: st.tuples(*[st.text(st.sampled_from("AB1"), min_size=k, max_size=k)] * 2)
        )
        leaves += [
            _between(texts),
            st.builds(StartsWith, texts),
            st.tuples(code, st.booleans(), st.booleans()).map(
                lambda t: CodeRange(t[0][0], t[1], t[0][1], t[2])
            ),
        ]
    leaf = st.one_of(leaves)
    return st.one_of(
        leaf,
        leaf,
        leaf,
        leaf.map(Negation),
        st.lists(st.one_of(leaf, leaf.map(Negation)), min_size=2, max_size=3).map(
            lambda parts: AnyOf(tuple(parts))
        ),
    )


def _values(kind: str):
    return {"text": st.one_of(texts, odd_texts), "boolean": st.booleans(), **BOUNDS}[kind]


def _between(bounds):
    def build(pair, low_closed, high_closed, ends):
        low, high = pair
        if ends and not any(isinstance(one, dt.date) for one in pair):
            low, high = min(pair), max(pair)
        if ends == 1:
            return Between(None, False, high, high_closed)
        if ends == 2:
            return Between(low, low_closed, None, False)
        return Between(low, low_closed, high, high_closed)

    return st.builds(build, st.tuples(bounds, bounds), st.booleans(), st.booleans(), st.integers(0, 3))


KINDS = ("number", "integer", "date", "datetime", "text", "boolean")
SHAPES = (None, "A9", "A")
