"""Tables over several inputs: the vectorised ways, the exact check and the explanation against plain loops."""

import itertools
import random
from decimal import Decimal
from fractions import Fraction

import pyarrow as pa
import pytest
from hypothesis import HealthCheck, example, given, note, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.check.check import check_table
from kivvet.core.classify import box_classifier
from kivvet.core.classify.compiled import CompiledTable
from kivvet.core.space.table_space import open_dimensions
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.condition_parser import parse_condition
from kivvet.core.words.conditions import AnyOf, AnyValue, IsMissing, write_condition
from kivvet.core.words.errors import DataError, TableError
from kivvet.rule_table import rule_table, value_of
from tests.conftest import budget
from tests.oracle import accepts, has_shape, holds, telling_values
from tests.strategies import SHAPES, conditions

exact = settings(max_examples=budget(66), deadline=None, suppress_health_check=[HealthCheck.too_slow])
RESULT = kivvet.RuleTable("t", {"x": "text"}, {"y": "text"}, [["a", "p"]]).outputs[0]
ARROW = {
    "number": pa.float64(),
    "integer": pa.int64(),
    "text": pa.string(),
    "boolean": pa.bool_(),
    "date": pa.date32(),
    "datetime": pa.timestamp("us"),
}


@st.composite
def tables(draw, match, kinds=("number", "integer", "date", "text", "boolean"), most_rows=6):
    inputs = []
    for name in "abc"[: draw(st.integers(2, 3))]:
        kind = draw(st.sampled_from(kinds))
        step = draw(st.sampled_from([None, Decimal("0.5")])) if kind == "number" else None
        shape = draw(st.sampled_from(SHAPES)) if kind == "text" else None
        inputs.append(Input(name, kind, step=step, shape=shape, required=draw(st.integers(0, 5)) == 0))
    cell = {
        one.name: st.one_of(st.just(AnyValue()), conditions(one.type), conditions(one.type)) for one in inputs
    }
    made = draw(
        st.lists(st.tuples(*(cell[one.name] for one in inputs), st.sampled_from("pqr")), max_size=most_rows)
    )
    rows = tuple(Row(n, tuple(asked), (result,)) for n, (*asked, result) in enumerate(made, 1))
    note("\n".join(str([*map(write_condition, row.conditions), *row.results]) for row in rows))
    note([(one.type, one.step, one.shape, one.required) for one in inputs])
    return rule_table(Table("t", tuple(inputs), (RESULT,), rows, match=match))


def representatives(table, number):
    """One value of each kind that the rows tell apart on an input, missing among them."""
    about, asked = table.inputs[number], [row.conditions[number] for row in table.rows]
    of_signature = {}
    for value in [None, *telling_values(asked, about)]:
        is_shaped = value is None or not about.shape or has_shape(value, about)
        signature = (value is None, is_shaped, *(accepts(one, value, about) for one in asked))
        of_signature.setdefault(signature, value)
    return list(of_signature.values())


def live(table, values):
    return [
        number
        for number, row in enumerate(table.rows)
        if all(map(accepts, row.conditions, values, table.inputs))
    ]


def places(table):
    return list(itertools.product(*(representatives(table, number) for number in range(len(table.inputs)))))


def is_sought(table, values):
    """Whether a place counts as a gap if no row covers it."""
    for number, (value, about) in enumerate(zip(values, table.inputs, strict=True)):
        asked = [row.conditions[number] for row in table.rows]
        if value is None:
            parts = [part for one in asked for part in (one.parts if isinstance(one, AnyOf) else [one])]
            if about.required or not any(isinstance(part, IsMissing) for part in parts):
                return False
        elif (about.shape and not has_shape(value, about)) or (
            open_dimensions(value_of(table))[number]
            and not any(accepts(one, value, about) for one in asked if not isinstance(one, AnyValue))
        ):
            return False
    return True


@exact
@given(tables("one"))
def test_gaps_are_just_what_no_row_covers(table):
    report = table.check()
    gaps = [one for one in report.of_kind("gap") if one.region is not None]
    regions = [
        [parse_condition(one.region.get(about.name, "any"), about.type) for about in table.inputs]
        for one in gaps
    ]
    is_all = len(gaps) == len(report.of_kind("gap"))
    for values in places(table):
        in_gap = any(all(map(accepts, region, values, table.inputs)) for region in regions)
        is_shaped = all(
            not a.shape or v is None or has_shape(v, a) for v, a in zip(values, table.inputs, strict=True)
        )
        if live(table, values):
            assert not in_gap or not is_shaped, values
        elif is_sought(table, values) and is_all:
            assert in_gap, values
    for one in gaps:
        values = [parse_condition(one.witness[about.name], about.type) for about in table.inputs]
        plain = [None if isinstance(value, IsMissing) else value.value for value in values]
        assert not live(table, plain)


@exact
@given(tables("one"))
def test_rows_that_meet_and_differ_are_just_those_found(table):
    meeting = set()
    for values in places(table):
        alive = live(table, values)
        meeting |= {
            late
            for early, late in itertools.combinations(alive, 2)
            if table.rows[early].results != table.rows[late].results
        }
    found = table.check().of_kind("overlap") + table.check().of_kind("conflict")
    assert {max(one.rows[:2]) - 1 for one in found} == meeting
    for one in table.check().of_kind("overlap"):
        early, late = sorted(one.rows[:2])
        region = [parse_condition(one.region.get(about.name, "any"), about.type) for about in table.inputs]
        for values in places(table):
            is_shared = {early - 1, late - 1} <= set(live(table, values))
            assert is_shared == all(map(accepts, region, values, table.inputs)), values


@exact
@given(tables("first"))
def test_rows_that_never_win_are_just_those_found(table):
    winners = {alive[0] for values in places(table) if (alive := live(table, values))}
    report = table.check()
    told = {
        one.rows[0] - 1 for kind in ("shadowed", "duplicate", "impossible") for one in report.of_kind(kind)
    }
    told |= {one.rows[1] - 1 for one in report.of_kind("conflict")}
    assert told == set(range(len(table.rows))) - winners
    for one in report.of_kind("shadowed"):
        row, *by = (number - 1 for number in one.rows)
        for values in places(table):
            alive = live(table, values)
            assert row not in alive or set(by) & set(alive), "the rows named cover it"


@exact
@given(tables("every"))
def test_under_every_only_rows_that_say_the_same_are_told(table):
    kinds = {one.kind for one in table.check()}
    assert kinds <= {"gap", "open", "duplicate", "impossible", "out-of-domain", "unused"}
    assert all(one.severity == "note" for one in table.check().of_kind("gap"))


def data_of(table, rows):
    columns = {}
    for number, about in enumerate(table.inputs):
        values = [row[number] for row in rows]
        if about.type == "number":
            values = [None if value is None else float(value) for value in values]
        columns[about.name] = pa.array(values, ARROW[about.type])
    return pa.table(columns)


def spoken(table, rows):
    """The data as the oracle sees it: numbers are floats."""
    return [
        tuple(
            float(v) if isinstance(v, (Fraction, Decimal)) and a.type == "number" else v
            for v, a in zip(row, table.inputs, strict=True)
        )
        for row in rows
    ]


def outcome(table, values):
    alive = live(table, values)
    if alive:
        return alive[0]
    constrained = (
        about.required or any(not isinstance(row.conditions[n], AnyValue) for row in table.rows)
        for n, about in enumerate(table.inputs)
    )
    is_missing = any(value is None and one for value, one in zip(values, constrained, strict=True))
    return len(table.rows) + is_missing


@exact
@given(tables("first"), st.sampled_from(["product", "diagram", "masks"]))
def test_all_ways_to_classify_give_what_a_loop_over_the_rows_gives(table, way):
    rows = [row for row in places(table) if all(abs(v) < 2**63 for v in row if isinstance(v, int))][:3000]
    limits = {"product": (10**7, 10**7), "diagram": (0, 10**7), "masks": (0, 0)}[way]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(box_classifier, "MOST_COMBINATIONS", limits[0])
        patch.setattr(box_classifier, "MOST_TRANSITIONS", limits[1])
        compiled, again = CompiledTable(value_of(table)), CompiledTable(value_of(table))
        columns = columns_of(data_of(table, rows))
        made = compiled.classify(columns, with_counts=True)
        assert made.labels.tolist() == [outcome(table, row) for row in spoken(table, rows)]
        assert made.counts.tolist() == [
            made.labels.tolist().count(n) for n in range(compiled.outcomes.number)
        ]
        assert again.classify(columns).labels.tolist() == made.labels.tolist()
        assert type(compiled.boxes.way).__name__.lower().strip("_") == way


def columns_of(frame):
    from kivvet.core.columns.column import column_from_arrow

    return {name: column_from_arrow(frame.column(name).combine_chunks(), name) for name in frame.column_names}


@exact
@given(tables("every"), st.booleans())
def test_every_match_is_gathered(table, by_masks):
    rows = [row for row in places(table) if all(abs(v) < 2**63 for v in row if isinstance(v, int))][:500]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(box_classifier, "MOST_TRANSITIONS", 0 if by_masks else 10**7)
        compiled = CompiledTable(value_of(table))
        labels = compiled.classify(columns_of(data_of(table, rows))).labels.tolist()
    for label, row in zip(labels, spoken(table, rows), strict=True):
        alive = tuple(live(table, row))
        if len(alive) > 1:
            assert compiled.outcomes.rows_of(label) == alive
        else:
            assert label == outcome(table, row)


@exact
@given(tables("first", most_rows=5), st.data())
def test_the_explanation_names_the_row_that_decides_and_changes_that_would_change_it(table, data):
    rows = places(table)
    if any(abs(v) > 2**52 for row in rows for v in row if isinstance(v, (int, Fraction))):
        return  # where two numbers are one float, a change is told in exact numbers
    row = data.draw(st.sampled_from(rows))
    values = {
        about.name: float(value) if isinstance(value, Fraction) else value
        for about, value in zip(table.inputs, row, strict=True)
    }
    said = table.explain(values)
    alive = live(table, spoken(table, [row])[0])
    assert said.rows == tuple(number + 1 for number in alive[:1])
    assert [one.number - 1 for one in said.verdicts if one.matches] == alive
    assert all(bool(one.failed) is not one.matches for one in said.verdicts)
    for change in said.nearest:
        name, _, text = change.change.partition(" ")
        number = next(n for n, about in enumerate(table.inputs) if about.name == name)
        asked = parse_condition(text.removeprefix("= "), table.inputs[number].type)
        moved = [
            value for value in representatives(table, number) if accepts(asked, value, table.inputs[number])
        ]
        for value in moved:
            other = [*row[:number], value, *row[number + 1 :]]
            now = live(table, spoken(table, [other])[0])
            assert (table.rows[now[0]].results[0] if now else "no class") == change.results


@pytest.mark.parametrize(
    ("when", "decides"),
    [
        ("flow > capacity", {(2, 1), (3, 1), (3, 2)}),
        ("capacity < flow", {(2, 1), (3, 1), (3, 2)}),
        ("NOT (flow <= capacity)", {(2, 1), (3, 1), (3, 2)}),
        (
            "flow = capacity OR flow IS NULL",
            {(1, 1), (2, 2), (3, 3), (None, 1), (None, 2), (None, 3), (None, None)},
        ),
        ("flow BETWEEN 2 AND 2.5 AND capacity IS NOT NULL", {(2, 1), (2, 2), (2, 3)}),
        ("flow NOT IN (1, 2) AND capacity = 1", {(3, 1)}),
        ("flow + capacity >= 5", {(2, 3), (3, 2), (3, 3)}),
        ("flow * 2 - capacity < 0", {(1, 3)}),
        ("flow = NULL", set()),
    ],
)
def test_a_row_matches_where_its_when_is_true(when, decides):
    table = kivvet.RuleTable(
        "t",
        {"kind": "text"},
        {"y": "text"},
        [["kind", "when", "y"], ["x", when, "yes"], ["", "", "no"]],
        match="first",
        severity={"impossible": "note"},
    )
    pairs = list(itertools.product([1, 2, 3, None], repeat=2))
    frame = pa.table(
        {
            "kind": ["x"] * len(pairs),
            "flow": pa.array([a for a, _ in pairs], pa.int64()),
            "capacity": pa.array([b for _, b in pairs], pa.float64()),
        }
    )
    made = table.apply(frame)["y"].to_pylist()
    assert {pair for pair, one in zip(pairs, made, strict=True) if one == "yes"} == decides


operands = st.one_of(st.sampled_from(["a", "b", "c"]), st.integers(-2, 3).map(str), st.just("a + b"))
tests = st.one_of(
    st.tuples(operands, st.sampled_from(["<", "<=", "=", "<>", ">=", ">"]), operands).map(" ".join),
    st.sampled_from(["a IS NULL", "b IS NOT NULL", "a IN (1, 2)", "b BETWEEN 0 AND c"]),
)
formulas = st.recursive(
    tests,
    lambda inner: st.one_of(
        inner.map(lambda text: f"NOT ({text})"),
        st.tuples(inner, st.sampled_from(["AND", "OR"]), inner).map(lambda t: f"({t[0]}) {t[1]} ({t[2]})"),
    ),
    max_leaves=5,
)


@exact
@given(st.lists(formulas, min_size=1, max_size=4))
@example(
    ["a + b < a + b", "b < a + b", "0 < a"]
)  # where b is missing the last one wins, though b falls out of the others
def test_when_is_what_three_valued_logic_says(whens):
    from kivvet.core.formulas.parser import parse_condition_formula
    from kivvet.core.formulas.tree import columns_read, write_formula

    trees = [parse_condition_formula(text) for text in whens]
    for tree in trees:
        assert parse_condition_formula(write_formula(tree)) == tree
    try:
        table = kivvet.RuleTable(
            "t",
            {"a": "integer"},
            {"y": "integer"},
            [["a", "when", "y"], *(["", text, number] for number, text in enumerate(whens))],
            match="first",
            severity={"impossible": "note"},
        )
    except TableError as error:
        assert "names no column" in str(error)
        return
    combinations = list(itertools.product([-1, 0, 1, 2, 3, None], repeat=3))
    frame = pa.table(
        {name: pa.array([row[n] for row in combinations], pa.int64()) for n, name in enumerate("abc")}
    )
    wanted = []
    for row in combinations:
        values = dict(zip("abc", row, strict=True))
        wanted.append(next((n for n, tree in enumerate(trees) if holds(tree, values)), None))
    assert table.apply(frame)["y"].to_pylist() == wanted
    assert any(True for tree in trees for _ in columns_read(tree))
    # What is proven of rows is so in the data: a row told to be covered by others never wins.
    for one in table.check().of_kind("shadowed") + table.check().of_kind("impossible"):
        assert one.rows[0] - 1 not in wanted


# Named examples


def four_rows(match="one", **options):
    return kivvet.RuleTable(
        "status",
        {"oxygen": "number", "ammonia": "number"},
        {"status": "text"},
        [
            ["oxygen", "ammonia", "status"],
            ["< 4", "", "poor"],
            [">= 4", "> 2", "watch"],
            [">= 4", "<= 1", "good"],
        ],
        match=match,
        **options,
    )


def test_a_gap_over_two_inputs_is_one_row_to_paste():
    (gap,) = four_rows().check().of_kind("gap")
    assert gap.region == {"oxygen": ">= 4", "ammonia": ">1 to 2"}
    assert gap.remedy.startswith('add  [">= 4", ">1 to 2", "..."]')
    assert gap.severity == "error"


def test_otherwise_turns_a_gap_into_a_note():
    (gap,) = four_rows(otherwise={"status": "unclear"}).check().of_kind("gap")
    assert gap.severity == "note"


def test_a_row_shadowed_by_two_others_together_names_both():
    table = kivvet.RuleTable(
        "t",
        {"a": "integer", "b": "integer"},
        {"y": "text"},
        [["a", "b", "y"], ["< 5", "", "p"], [">= 5", "< 3", "q"], ["present", "< 3", "r"], ["", "", "s"]],
        match="first",
    )
    (one,) = table.check().of_kind("shadowed")
    assert one.rows == (3, 1, 2)
    assert "rows 1, 2 above together cover all of it" in one.message


@pytest.mark.parametrize(("given", "n_gaps"), [("low <= high", 0), ("low <= high + 1", 1)])
def test_inputs_that_depend_on_each_other_leave_what_can_be(given, n_gaps):
    rows = [["low", "high", "when", "y"], ["< 5", "", "", "p"], [">= 5", ">= 5", "low <= high", "q"]]
    table = kivvet.RuleTable("t", {"low": "number", "high": "number"}, {"y": "text"}, rows, given=given)
    gaps = table.check().of_kind("gap")
    assert len(gaps) == n_gaps
    assert not any(gap.possible for gap in gaps)


def test_a_condition_taken_as_a_whole_leaves_possible_findings():
    rows = [
        ["a", "when", "y"],
        ["< 5", "b > 1 OR c > 1", "p"],
        ["", "b > 1 OR c > 1", "q"],
        [">= 5", "", "r"],
    ]
    table = kivvet.RuleTable("t", {"a": "number"}, {"y": "text"}, rows)
    overlap, other = table.check().of_kind("overlap")
    assert overlap.possible and other.possible and overlap.severity == "warning"
    assert overlap.region == {"a": "< 5", "when": "(b > 1 OR c > 1)"} or overlap.region == {
        "a": "< 5",
        "when": "b > 1 OR c > 1",
    }
    frame = pa.table({"a": [1.0], "b": [2], "c": [0]})
    with pytest.raises(DataError, match="which rows 1, 2 match"):
        table.apply(frame)
    assert table.apply(frame.set_column(1, "b", pa.array([0])))["y"].to_pylist() == [None]


def test_ten_gaps_are_listed_and_more_said_to_remain():
    rows = [["a", "b", "y"], *([str(2 * n), str(2 * n), "p"] for n in range(12))]
    table = kivvet.RuleTable(
        "t",
        {"a": {"type": "number", "domain": ">= 0"}, "b": {"type": "number", "domain": ">= 0"}},
        {"y": "text"},
        rows,
    )
    gaps = table.check().of_kind("gap")
    assert len(gaps) == 11
    assert gaps[-1].region is None and "more gaps remain" in gaps[-1].message


def test_a_budget_that_ends_leaves_the_question_open_and_says_so():
    rows = [["a", "b", "c", "y"]]
    rows += [["< 5", "", "", "p"], [">= 5", "< 3", "", "q"], ["present", "< 3", "", "r"], ["", "", "", "s"]]
    table = kivvet.RuleTable("t", dict.fromkeys("abc", "number"), {"y": "text"}, rows, match="first")
    (question,) = [one.message for one in check_table(value_of(table), budget=0) if one.kind == "not-proven"]
    assert question == "whether earlier rows cover all of rows 3, 4 is not settled within 0 steps"
    (question,) = [one for one in check_table(value_of(four_rows()), budget=0) if one.kind == "not-proven"]
    assert question.message == "whether rows leave a gap is not settled within 0 steps"
    assert question.severity == "warning" and "--budget" in question.remedy
    assert "not-proven" not in {one.kind for one in [*table.check(), *four_rows().check()]}


def test_every_combines_results_as_each_output_says():
    outputs = {
        "names": {"type": "text", "combine": "join", "separator": "+"},
        "all": {"type": "integer", "combine": "list"},
        "total": {"type": "number", "combine": "sum"},
        "least": {"type": "integer", "combine": "min"},
        "most": {"type": "integer", "combine": "max"},
        "n": {"type": "integer", "combine": "count"},
        "is": {"type": "text", "combine": "flags"},
    }
    rows = [
        ["x", *outputs],
        ["< 5", "low", 1, 0.5, 1, 1, 1, "low"],
        ["3 to 9", "mid", 2, 0.25, 2, 2, 2, "mid"],
        ["3", "low", 3, "missing", 3, 3, "missing", "low"],
    ]
    table = kivvet.RuleTable("t", {"x": "integer"}, outputs, rows, match="every", otherwise={"names": "none"})
    made = table.apply(pa.table({"x": [1, 3, 7, 20, None]}))
    assert made["names"].to_pylist() == ["low", "low+mid", "mid", "none", None]
    assert made["all"].to_pylist() == [[1], [1, 2, 3], [2], [], None]
    assert made["total"].to_pylist() == [0.5, 0.75, 0.25, None, None]
    assert made["least"].to_pylist() == [1, 1, 2, None, None]
    assert made["most"].to_pylist() == [1, 3, 2, None, None]
    assert made["n"].to_pylist() == [1, 2, 1, 0, None]
    assert made["is_low"].to_pylist() == [True, True, False, False, None]
    assert made["is_mid"].to_pylist() == [False, True, True, False, None]


@pytest.mark.parametrize("rows", [[], [["", "", "p"]], [["< 5", "", "p"]]])
def test_tables_of_no_row_and_of_one_row_are_checked_and_applied(rows):
    table = kivvet.RuleTable(
        "t", {"a": "number", "b": "text"}, {"y": "text"}, [["a", "b", "y"], *rows], severity={"gap": "note"}
    )
    gaps = table.check().of_kind("gap")
    assert len(gaps) == (0 if rows and not rows[0][0] else 1)
    made = table.apply(pa.table({"a": [1.0, 9.0, None], "b": ["x", "x", None]}))["y"].to_pylist()
    assert (
        made == [None] * 3 if not rows else made == ["p"] * 3 if not rows[0][0] else made == ["p", None, None]
    )


def test_the_region_that_rows_share_leaves_out_missing_where_one_of_them_does():
    table = kivvet.RuleTable(
        "t",
        {"a": "text", "b": {"type": "number", "required": True}},
        {"y": "text"},
        [["a", "b", "y"], ["1*", "", "p"], ["missing | 1", "", "q"], [">11* to <11*", "", "p"]],
    )
    (overlap,) = table.check().of_kind("overlap")
    assert overlap.region == {"a": "1", "b": "present"} and overlap.witness == {"a": "1", "b": "0"}


@settings(deadline=None, max_examples=budget(16))
@given(st.integers(0, 2**32), st.integers(2, 14))
def test_every_row_that_meets_earlier_ones_says_how_many_and_where(seed, n_rows):
    """Overlaps are counted all and written out for some: held against each pair of rows by itself."""
    draw = random.Random(seed)
    names = ["a", "b", "c"]
    rows = [
        [
            *(
                draw.choice(["any", f"{low} to <{low + draw.randint(1, 6)}"])
                for low in draw.choices(range(9), k=3)
            ),
            draw.choice("pq"),
        ]
        for _ in range(n_rows)
    ]
    table = kivvet.RuleTable("t", dict.fromkeys(names, "number"), {"y": "text"}, [[*names, "y"], *rows])

    def parted(one, other):
        return any(
            "any" not in (x, y)
            and (int(x.split()[0]) >= int(y.split("<")[1]) or int(y.split()[0]) >= int(x.split("<")[1]))
            for x, y in zip(one[:3], other[:3], strict=True)
        )

    found = {one.rows[1]: one for one in table.check().of_kind("overlap")}
    for late, row in enumerate(rows):
        met = [
            early + 1 for early in range(late) if rows[early][3] != row[3] and not parted(rows[early], row)
        ]
        differing = [number for number in met if rows[number - 1][:3] != row[:3]]
        assert (late + 1 in found) == bool(differing)
        if differing:
            told = found[late + 1]
            assert sorted(pair.rows[0] for pair in told.pairs) == differing
            assert ("it also meets" in told.message) == (len(differing) > 1)
            assert all(pair.witness for pair in told.pairs)
