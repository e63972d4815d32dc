"""What changed between two versions is just where results differ; a meaning reads back as the same table."""

from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.compare.compare import changes_between
from kivvet.core.read.meaning import definition_of, fingerprint, meaning_of, table_of
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.condition_parser import parse_condition
from kivvet.rule_table import value_of
from tests.conftest import budget
from tests.oracle import accepts, telling_values, winner
from tests.strategies import KINDS, conditions

OUTPUT = kivvet.RuleTable("t", {"x": "text"}, {"y": "text"}, [["a", "p"]]).outputs[0]


@st.composite
def table_pairs(draw):
    kind = draw(st.sampled_from(KINDS))
    about = Input("x", kind, required=draw(st.booleans()))

    def rows():
        made = draw(st.lists(st.tuples(conditions(kind), st.sampled_from("pq")), min_size=1, max_size=4))
        return tuple(Row(number, (one,), (result,)) for number, (one, result) in enumerate(made, 1))

    return tuple(Table("t", (about,), (OUTPUT,), rows(), match="first") for _ in range(2))


@settings(max_examples=budget(110), deadline=None)
@given(table_pairs())
def test_the_changed_regions_are_just_where_results_differ(pair):
    about = pair[0].inputs[0]
    rows = [[row.conditions[0] for row in table.rows] for table in pair]
    changes = changes_between(*pair)
    words = {"everything": "any"}  # which is no condition, but how all values are told
    regions = [
        (parse_condition(words.get(change.region, change.region), about.type), change) for change in changes
    ]

    def result(version, value):
        found = winner(rows[version], value, about)
        return "" if found < 0 else pair[version].rows[found].results[0]

    is_exact = about.type != "text"  # regions of text of several lengths are told by their bounds alone
    for value in [None, *telling_values([*rows[0], *rows[1]], about)]:
        before, after = result(0, value), result(1, value)
        told = [change for region, change in regions if accepts(region, value, Input("x", about.type))]
        if before != after:
            assert any((one.before, one.after) == (before, after) for one in told), value
        elif is_exact:
            assert told == [], value


@settings(max_examples=budget(82), deadline=None)
@given(table_pairs())
def test_a_meaning_reads_back_as_the_same_table_with_the_same_hash(pair):
    table = pair[0]
    again = table_of("t", definition_of(table))
    assert meaning_of(again) == meaning_of(table)
    assert changes_between(table, again) == ()
    assert fingerprint(meaning_of(again)) == fingerprint(meaning_of(table))


def lookup(rows, **options):
    made = kivvet.RuleTable(
        "t",
        {"k": "text"},
        {"r": "text", "n": "integer"},
        lookup=[dict(zip("krn", row, strict=True)) for row in rows],
        **options,
    )
    return value_of(made)


def test_keys_that_changed_came_or_went_are_told():
    old = lookup([("a", "x", 1), ("b", "y", 2), ("c", "z", 3)])
    new = lookup([("c", "z", 3), ("a", "x", 4), ("d", None, 5)])
    assert [str(change) for change in changes_between(old, new)] == [
        "a: x, 1 -> x, 4",
        "d: no row -> missing, 5",
        "b: y, 2 -> no row",
    ]


def test_the_order_of_a_lookups_rows_is_part_of_its_meaning_only_as_values_are():
    one, two = lookup([("a", "x", 1), ("b", "y", 2)]), lookup([("b", "y", 2), ("a", "x", 1)])
    assert changes_between(one, two) == ()
    assert table_of("t", definition_of(one)).lookup.keys[0].values.to_pylist() == ["a", "b"]
    assert meaning_of(lookup([("ab", "c", 1)])) != meaning_of(lookup([("a", "bc", 1)]))
    assert (
        meaning_of(lookup([("a", None, 1)])) != meaning_of(lookup([("a", "", 1)]))
        or lookup([("a", "", 1)]).lookup.results[0].null_count == 1
    )


def test_changed_options_are_told_in_words():
    def table(**options):
        given = {
            "inputs": {"x": "number"},
            "outputs": {"y": "text"},
            "rows": [["< 5", "a"], [">= 5", "b"]],
            **options,
        }
        return value_of(kivvet.RuleTable("t", *map(given.pop, ("inputs", "outputs", "rows")), **given))

    def told(**options):
        return [str(change) for change in changes_between(table(), table(**options))]

    assert told(match="first") == ["match: one -> first"]
    assert told(otherwise={"y": "c"}) == ["otherwise y: no row -> c"]
    assert told(inputs={"x": {"type": "number", "step": 1}}) == ["input step: none -> 1"]
    assert told(outputs={"y": {"type": "text", "order": ["b", "a"]}}) == ["output y: text -> text b < a"]
    assert told(title="other", severity={"gap": "note"}) == []
