"""A table prints as its file, and its file reads as the table."""

import tomllib
from decimal import Decimal

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.read.table_parser import parse_table
from kivvet.core.space.make_axis import holds_nothing
from kivvet.core.tables.inputs import Input, Output
from kivvet.core.tables.table import UNFINISHED, Row, Table
from kivvet.core.words.conditions import write_condition
from kivvet.rule_table import rule_table
from tests.conftest import budget
from tests.strategies import KINDS, conditions

names = st.one_of(
    st.sampled_from(["x", "type", "rows", "größe", "two words", 'q"uote', "a.b"]),
    st.text("ab_", min_size=1, max_size=3),
)
labels = st.one_of(
    st.sampled_from(["missing", "= sum", '"quoted"', " padded ", "a,b", "p\tq", "\\", "\x7f"]),
    st.text(min_size=1, max_size=4).filter(lambda t: t.isprintable() and t.strip()),
)


@st.composite
def tables(draw):
    kind = draw(st.sampled_from(KINDS))
    about = Input(
        draw(names),
        kind,
        step=draw(st.sampled_from([None, Decimal("0.1"), Decimal(5)])) if kind == "number" else None,
        step_offset=Decimal(0),
        domain=draw(st.one_of(st.none(), conditions(kind, missing=False))),
        shape=draw(st.sampled_from([None, "A99"])) if kind == "text" else None,
        fold=draw(st.sampled_from([(), ("case", "space")])) if kind == "text" else (),
        required=draw(st.booleans()),
    )
    assume(not holds_nothing(about))  # refused, as it says nothing
    makes = [Output(name, "text") for name in draw(st.lists(names, min_size=1, max_size=2, unique=True))]
    results = st.one_of(labels, st.none(), st.just(UNFINISHED))
    rows = draw(
        st.lists(st.tuples(conditions(kind), st.tuples(*[results] * len(makes))), min_size=1, max_size=4)
    )
    missing = {makes[0].name: draw(labels)} if draw(st.booleans()) else {}
    return rule_table(
        Table(
            "t",
            (about,),
            tuple(makes),
            tuple(Row(n, (c,), r, note="a note") for n, (c, r) in enumerate(rows, 1)),
            match=draw(st.sampled_from(["one", "first"])),
            missing=missing,
            title=draw(st.sampled_from(["", 'A "title"'])),
        )
    )


@settings(max_examples=budget(82), deadline=None)
@given(tables())
def test_the_file_of_a_table_reads_as_the_table(table):
    if table.inputs[0].name in [one.name for one in table.outputs]:
        return
    if len(table.outputs) == 1 and (
        write_condition(table.rows[0].conditions[0]),
        table.rows[0].results[0],
    ) == (table.inputs[0].name, table.outputs[0].name):
        return  # such a first row is a header
    parts, findings = parse_table("t", tomllib.loads(str(table), parse_float=Decimal))
    assert findings == [], str(table)
    again = rule_table(parts)
    assert (again.inputs, again.outputs, again.match, again.missing) == (
        table.inputs,
        table.outputs,
        table.match,
        table.missing,
    )
    assert [(row.conditions, row.results) for row in again.rows] == [
        (row.conditions, row.results) for row in table.rows
    ]


def test_it_reads_well():
    table = kivvet.RuleTable(
        "ph",
        {"ph": {"type": "number", "step": 0.1, "domain": "[0, 14]"}},
        {"c": {"type": "text", "width": 9, "order": ["low", "high"]}, "n": "integer"},
        [["ph", "c", "n"], ["< 6.5", "low", 1], [">= 6.5", "high", 2]],
        missing={"c": "low"},
        owner="desk",
    )
    assert str(table) == (
        'owner = "desk"\n'
        'inputs.ph = { type = "number", step = 0.1, domain = "0 to 14" }\n'
        'outputs.c = { type = "text", width = 9, order = ["low", "high"] }\n'
        'outputs.n = "integer"\n'
        'missing = { c = "low" }\n'
        "\n"
        "rows = [\n"
        '  ["ph",     "c",    "n"],\n'
        '  ["< 6.5",  "low",  "1"],\n'
        '  [">= 6.5", "high", "2"],\n'
        "]\n"
    )


def test_a_table_does_not_change():
    table = kivvet.RuleTable("t", {"x": "text"}, {"y": "text"}, [["a", "p"]])
    with pytest.raises(AttributeError):
        table.name = None
    with pytest.raises(KeyError):
        table.classes("z")
    assert repr(table) == "<RuleTable t: x -> y, 1 rows, match one>"


@given(st.lists(st.tuples(st.one_of(st.none(), st.sampled_from("abc")), st.sampled_from("pq")), max_size=10))
def test_repeated_keys_of_a_lookup_are_just_those_found(pairs):
    import pyarrow as pa

    table = kivvet.RuleTable(
        "t",
        {"k": "text"},
        {"r": "text"},
        lookup=pa.table(
            {
                "k": pa.array([k for k, _ in pairs], pa.string()),
                "r": pa.array([r for _, r in pairs], pa.string()),
            }
        ),
    )
    found = {(one.kind, one.rows) for one in table.check()}
    wanted = set()
    for key in {k for k, _ in pairs if k is not None}:
        rows = tuple(n for n, (k, _) in enumerate(pairs, 1) if k == key)
        if len(rows) > 1:
            wanted.add(("conflict" if len({pairs[n - 1][1] for n in rows}) > 1 else "duplicate", rows))
    if blank := tuple(n for n, (k, _) in enumerate(pairs, 1) if k is None):
        wanted.add(("blank-key", blank))
    assert found == wanted
