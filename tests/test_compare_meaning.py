"""Two versions of a table mean the same just where no value gets another result; what is told is exactly where one does."""

from __future__ import annotations

import itertools
from dataclasses import replace
from decimal import Decimal

import pyarrow as pa
from hypothesis import HealthCheck, example, given, note, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.compare.compare import compare_tables
from kivvet.core.compare.lookup_difference import rows_of_lookup
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.condition_parser import parse_condition
from kivvet.core.words.conditions import AnyOf, AnyValue, IsMissing, Negation, write_condition
from kivvet.rule_table import rule_table, value_of
from tests.conftest import budget
from tests.oracle import accepts, has_shape, telling_values
from tests.strategies import SHAPES, conditions

exact = settings(max_examples=budget(55), deadline=None, suppress_health_check=[HealthCheck.too_slow])
OUTPUT = kivvet.RuleTable("t", {"x": "text"}, {"y": "text"}, [["a", "p"]]).outputs[0]
ENDS = ({}, {"y": "p"}, {"y": "z"})


@st.composite
def versions(draw, kinds=("number", "integer", "date", "text", "boolean")):
    """Two tables over the same inputs; the second an edited first one, or another altogether."""
    inputs = []
    for name in "abc"[: draw(st.integers(1, 3))]:
        kind = draw(st.sampled_from(kinds))
        step = draw(st.sampled_from([None, Decimal("0.5")])) if kind == "number" else None
        shape = draw(st.sampled_from(SHAPES)) if kind == "text" else None
        inputs.append(Input(name, kind, step=step, shape=shape))
    row = st.tuples(
        st.tuples(*(st.one_of(st.just(AnyValue()), conditions(i.type), conditions(i.type)) for i in inputs)),
        st.sampled_from(["p", "q", "r", None]),
    )
    rows = draw(st.lists(row, max_size=5))
    others = draw(
        st.one_of(
            st.lists(row, max_size=4),
            st.permutations(rows),
            st.tuples(st.integers(0, 5), row).map(lambda t: [*rows[: t[0]], t[1], *rows[t[0] :]]),
            st.integers(0, 5).map(lambda n: [one for k, one in enumerate(rows) if k != n]),
        )
    )
    match = draw(st.sampled_from(["one", "first", "every"]))
    made = []
    for these in (rows, others):
        way = match if match == "every" else draw(st.sampled_from([match, match, "one", "first"]))
        of_inputs = tuple(replace(one, required=draw(st.integers(0, 7)) == 0) for one in inputs)
        of_table = tuple(Row(n, asked, (result,)) for n, (asked, result) in enumerate(these, 1))
        ends = {word: draw(st.sampled_from(ENDS)) for word in ("missing", "otherwise")}
        made.append(Table("t", of_inputs, (OUTPUT,), of_table, match=way, **ends))
        note([(one.type, one.step, one.shape, one.required) for one in of_inputs])
        note((way, ends))
        note("\n".join(str([*map(write_condition, row.conditions), *row.results]) for row in of_table))
    return made


def places(tables):
    """One value for each part of each input that the rows of both tables tell apart, in every combination."""
    of_inputs = []
    for number, about in enumerate(tables[0].inputs):
        asked = [row.conditions[number] for table in tables for row in table.rows]
        of_signature = {}
        for value in [None, *telling_values(asked, about)]:
            is_shaped = value is None or not about.shape or has_shape(value, about)
            signature = (value is None, is_shaped, *(accepts(one, value, about) for one in asked))
            of_signature.setdefault(signature, value)
        of_inputs.append(list(of_signature.values()))
    return itertools.product(*of_inputs)


def given_by(table, values):
    """What a table gives, from the definitions alone."""
    live = [row for row in table.rows if all(map(accepts, row.conditions, values, table.inputs))]
    if not live:
        constrained = [
            about.required
            or len(table.inputs) == 1
            or any(not isinstance(row.conditions[n], AnyValue) for row in table.rows)
            for n, about in enumerate(table.inputs)
        ]
        is_missing = any(one and value is None for one, value in zip(constrained, values, strict=True))
        end = (table.missing if is_missing else table.otherwise).get("y", "no row")
        return "none" if end == "no row" and table.match == "every" and not is_missing else end
    results = [row.results[0] for row in live]
    if table.match == "every":
        return ", ".join(one for one in results if one is not None) or "none"
    if table.match == "first":
        return results[0] or "missing"
    return "disagree" if len(set(results)) > 1 else results[0] or "missing"


def told(gives):
    return "disagree" if gives.how == "disagree" else gives.results.get("y", "no row")


def regions_at(found, tables, values):
    return [
        one
        for one in found
        if all(
            accepts(parse_condition(one.region.get(about.name, "any"), about.type), value, about)
            for about, value in zip(
                [replace(i, required=False) for i in tables[0].inputs], values, strict=True
            )
        )
    ]


@exact
@given(versions())
def test_what_is_told_is_just_where_results_differ(tables):
    made = compare_tables(*tables, most=10_000)
    assert made.is_settled and made.n_more == 0
    differs = False
    for values in places(tables):
        before, after = (given_by(table, values) for table in tables)
        at = regions_at(made.regions, tables, values)
        assert {(told(one.before), told(one.after)) for one in at} == (
            {(before, after)} if before != after else set()
        ), values
        differs = differs or before != after
    assert made.is_same is not differs
    for one in made.regions:
        values = [
            None
            if one.witness[about.name] == "missing"
            else parse_condition(one.witness[about.name], about.type).value
            for about in tables[0].inputs
        ]
        assert one in regions_at(made.regions, tables, values)


# Ways of writing that mean the same

split_conditions = st.sampled_from(["shuffle", "split", "negate"])


def _takes_missing(condition):
    return isinstance(condition, (AnyValue, IsMissing)) or (
        isinstance(condition, AnyOf) and any(map(_takes_missing, condition.parts))
    )


@exact
@given(versions(), st.data())
def test_a_table_written_otherwise_means_the_same(tables, data):
    """Rows split over an input with a second one that asks the same, shuffled where order does not count."""
    table = tables[0]
    first = replace(table.inputs[0], name="again", required=False)
    inputs = (*table.inputs, first)

    def of(rows):
        made = [Row(n, asked, results) for n, (asked, results) in enumerate(rows, 1)]
        return replace(table, inputs=inputs, rows=tuple(made))

    plain = of([((*row.conditions, AnyValue()), row.results) for row in table.rows])
    rows = []
    for row in table.rows:
        way = data.draw(split_conditions)
        cut = data.draw(conditions(first.type))
        if way == "split" and table.match != "every":
            parts = [AnyValue()] if isinstance(cut, AnyValue) else [cut, Negation(cut), IsMissing()]
            rows += [((*row.conditions, part), row.results) for part in parts]
        elif way == "negate" and not _takes_missing(row.conditions[0]):
            rows.append(
                ((Negation(Negation(row.conditions[0])), *row.conditions[1:], AnyValue()), row.results)
            )
        else:
            rows.append(((*row.conditions, AnyValue()), row.results))
    if table.match == "one":
        rows = data.draw(st.permutations(rows))
    other = of(rows)
    if any(one.kind in ("overlap", "conflict") for one in rule_table(plain).check().findings):
        return  # rows that disagree are refused whatever their order; which of them do is no question of meaning
    # an input that only a split row asks about decides what `missing` is given for
    ends = replace(plain, missing={}, otherwise={}), replace(other, missing={}, otherwise={})
    made = compare_tables(*ends)
    assert made.is_same, "\n".join(map(str, made.regions))


# What `when` asks

WHENS = [
    "",
    "a > b",
    "b < a",
    "a = b",
    "a <> b",
    "a >= b",
    "b = a",
    "c > 1",
    "c <= 1",
    "c IS NULL",
    "c > 1 OR a = 2",
    "a > b AND c > 1",
    "a + b > 3",
    "NOT (a + b > 3)",
    "a > 2",
    "b BETWEEN 1 AND 3",
]


@exact
@given(*[st.lists(st.tuples(st.sampled_from(WHENS), st.sampled_from("pqr")), min_size=1, max_size=4)] * 2)
@example([("a > b", "p"), ("", "q")], [("b < a", "p"), ("a > b", "r"), ("", "q")])
@example([("a = b", "p"), ("a <> b", "q")], [("b <> a", "q"), ("b = a", "p")])
def test_what_when_asks_is_compared_too(old, new):
    """No difference on data where the same is said; every witness that can be tried tells the two apart."""
    tables = [
        kivvet.RuleTable(
            "t",
            {"a": "number"},
            {"y": "text"},
            [["a", "when", "y"], *(["", when, result] for when, result in rows)],
            match="first",
        )
        for rows in (old, new)
    ]
    made = compare_tables(*map(value_of, tables))
    assert made.is_settled
    values = [None, 0.0, 1.0, 2.0, 3.0, 5.0]
    frame = pa.table(dict(zip("abc", zip(*itertools.product(values, repeat=3), strict=True), strict=True)))
    results = [table.apply(frame)["y"].to_pylist() for table in tables]
    if results[0] != results[1]:
        assert made.regions and not made.is_same
    if made.is_same:
        assert results[0] == results[1]
    for one in made.regions:
        if "when" not in one.witness:
            given_values = {
                name: None if text == "missing" else float(text) for name, text in one.witness.items()
            }
            why = [table.explain(given_values) for table in tables]
            assert why[0].results != why[1].results
            assert not one.possible
        else:
            assert one.possible


# Lookups

key_rows = st.lists(
    st.tuples(
        st.sampled_from(["a", "b", "c", "007", None]),
        st.integers(-2, 4) | st.none(),
        st.integers(-2, 4) | st.none(),
        st.sampled_from(["x", "y", None]),
    ),
    max_size=7,
)


@exact
@given(key_rows, key_rows, st.sampled_from(["keys", "range", "range alone", "until next"]), st.data())
def test_lookups_are_compared_key_by_key_and_stretch_by_stretch(old, new, shape, data):
    if data.draw(st.booleans()):
        new = data.draw(st.permutations(old)) + new[:1]
    tables = [a_lookup(rows, shape, data.draw(st.sampled_from(ENDS))) for rows in (old, new)]
    made = compare_tables(*tables)
    by_rows = compare_tables(*map(rows_of_lookup, tables))
    values = itertools.product([*"abc", "007", "zz"], [n / 2 for n in range(-7, 11)])
    for key, number in values:
        case = {"k": key, "n": number}
        before, after = (looked_up(table, case, shape) for table in tables)
        keys_differ = any(
            all(
                accepts(
                    parse_condition(text, "text" if name == "k" else "number"),
                    case[name],
                    NUMBER if name == "n" else TEXT,
                )
                for name, text in one.region.items()
            )
            for one in made.regions
        )
        differs = before[0] != after[0]
        if (
            before[1] and after[1]
        ):  # told once, as an option; with a key whose stretches beside it differ likewise
            assert differs or not keys_differ, case
        else:
            assert keys_differ == differs, case
    if not made.options:
        assert made.is_same is by_rows.is_same


TEXT, NUMBER = Input("k", "text"), Input("n", "number")


def a_lookup(rows, shape, otherwise):
    inputs = {"k": "text", "n": {"type": "number", "from": "low", "to": "high"}}
    if shape == "keys":
        inputs = {"k": "text"}
    elif shape == "range alone":
        del inputs["k"]
    elif shape == "until next":
        inputs["n"] = {"type": "number", "from": "low"}
    made = kivvet.RuleTable(
        "t",
        inputs,
        {"y": "text"},
        lookup=pa.table(
            {
                "k": pa.array([row[0] for row in rows], pa.string()),
                "low": pa.array([row[1] for row in rows], pa.float64()),
                "high": pa.array([row[2] for row in rows], pa.float64()),
                "y": pa.array([row[3] for row in rows], pa.string()),
            }
        ),
        otherwise=otherwise,
    )
    return value_of(made)


def looked_up(table, case, shape):
    """What a lookup gives, row by row, and whether that is what it gives where no row holds the values."""
    rows = list(
        zip(
            *(
                [None] * table.lookup.n_rows if column is None else column.to_pylist()
                for column in (
                    table.lookup.keys[0].values if table.lookup.keys else None,
                    table.lookup.ranges[0].start if table.lookup.ranges else None,
                    table.lookup.ranges[0].end if table.lookup.ranges else None,
                    table.lookup.results[0],
                )
            ),
            strict=True,
        )
    )
    found = []
    for key, low, high, result in rows:
        if shape != "range alone" and key != case["k"]:
            continue
        if shape == "until next":
            later = [
                one[1]
                for one in rows
                if one[0] == key and one[1] is not None and one[1] > (low if low is not None else -1e9)
            ]
            inside = (low is None or case["n"] >= low) and (not later or case["n"] < min(later))
        else:
            inside = shape == "keys" or (
                (low is None or case["n"] >= low) and (high is None or case["n"] <= high)
            )
        if inside:
            found.append(
                "blank" if result is None and "y" not in table.otherwise else result or table.otherwise["y"]
            )
    if not found:
        return table.otherwise.get("y", "no row"), True
    return "disagree" if len(set(found)) > 1 else found[0], False
