"""The check is exact: what it finds is there, and what is there it finds. Brute force is the referee."""

from decimal import Decimal

from hypothesis import HealthCheck, given, note, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.space.table_space import open_dimensions
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import Row, Table
from kivvet.core.words.condition_parser import parse_condition
from kivvet.core.words.conditions import Equals, IsMissing, write_condition
from kivvet.rule_table import rule_table, value_of
from tests.conftest import budget
from tests.oracle import accepts, has_shape, telling_values, winner
from tests.strategies import KINDS, SHAPES, conditions


@st.composite
def tables(draw, match):
    kind = draw(st.sampled_from(KINDS))
    step = draw(st.sampled_from([None, None, Decimal("0.5"), Decimal("0.1")])) if kind == "number" else None
    shape = draw(st.sampled_from(SHAPES)) if kind == "text" else None
    about = Input("x", kind, step=step, shape=shape, required=draw(st.booleans()))
    made = draw(st.lists(st.tuples(conditions(kind), st.sampled_from("pq")), min_size=1, max_size=5))
    rows = tuple(Row(number, (condition,), (result,)) for number, (condition, result) in enumerate(made, 1))
    note(f"{about.type} {about.step} {about.shape}: {[write_condition(row.conditions[0]) for row in rows]}")
    return rule_table(Table("t", (about,), (OUTPUT,), rows, match=match))


OUTPUT = kivvet.RuleTable("t", {"x": "text"}, {"y": "text"}, [["a", "p"]]).outputs[0]
exact = settings(max_examples=budget(138), deadline=None, suppress_health_check=[HealthCheck.too_slow])


@exact
@given(tables("one"))
def test_gaps_are_just_what_no_row_accepts(table):
    about, rows = table.inputs[0], [row.conditions[0] for row in table.rows]
    gaps = table.check().of_kind("gap")
    if open_dimensions(value_of(table))[0]:
        assert not gaps
        return
    regions = [parse_condition(gap.region["x"], about.type) for gap in gaps]
    for value in telling_values([*rows, *regions], about):
        if about.shape and not has_shape(value, about):
            continue  # gaps are sought among texts of the shape
        is_covered = winner(rows, value, about) >= 0
        in_gap = any(accepts(region, value, about) for region in regions)
        assert is_covered != in_gap, value
    for gap, region in zip(gaps, regions, strict=True):
        witness = parse_condition(gap.witness["x"], about.type)
        assert isinstance(witness, Equals)
        assert winner(rows, witness.value, about) < 0
        assert accepts(region, witness.value, about)


@exact
@given(tables("one"))
def test_rows_that_meet_and_differ_are_just_those_found(table):
    about, rows = table.inputs[0], [row.conditions[0] for row in table.rows]
    meeting = set()
    for value in [None, *telling_values(rows, about)]:
        live = [number for number, one in enumerate(rows) if accepts(one, value, about)]
        meeting |= {
            late
            for early in live
            for late in live
            if early < late and table.rows[early].results != table.rows[late].results
        }
    found = {
        max(rows_of(one)[:2]) - 1 for kind in ("overlap", "conflict") for one in table.check().of_kind(kind)
    }
    assert found == meeting
    for one in table.check().of_kind("overlap"):
        early, late, witness = *rows_of(one)[:2], parse_condition(one.witness["x"], about.type)
        value = None if isinstance(witness, IsMissing) else witness.value
        assert accepts(rows[early - 1], value, about)
        assert accepts(rows[late - 1], value, about)
        region = parse_condition(one.region["x"], about.type)
        assert accepts(region, value, about)
        for other in telling_values([region, *rows], about):
            if accepts(region, other, about) and (not about.shape or has_shape(other, about)):
                assert accepts(rows[early - 1], other, about) and accepts(rows[late - 1], other, about)


def rows_of(finding):
    return finding.rows


@exact
@given(tables("first"))
def test_rows_that_never_win_are_just_those_found(table):
    about, rows = table.inputs[0], [row.conditions[0] for row in table.rows]
    winners = {winner(rows, value, about) for value in [None, *telling_values(rows, about)]}
    idle = {number for number in range(len(rows)) if number not in winners}
    report = table.check()
    told = {
        one.rows[0] - 1 for kind in ("shadowed", "duplicate", "impossible") for one in report.of_kind(kind)
    }
    told |= {one.rows[1] - 1 for one in report.of_kind("conflict")}
    assert told == idle


@exact
@given(tables("one"))
def test_pasting_the_gaps_as_rows_closes_them(table):
    gaps = table.check().of_kind("gap")
    about = table.inputs[0]
    pasted = [
        Row(len(table.rows) + n, (parse_condition(gap.region["x"], about.type),), ("z",))
        for n, gap in enumerate(gaps, 1)
    ]
    mended = rule_table(Table("t", (about,), (OUTPUT,), (*table.rows, *pasted)))
    assert not mended.check().of_kind("gap")
    if table.check().of_kind("out-of-domain"):
        return  # such a row may meet the region outside the shape
    before = table.check().of_kind("overlap") + table.check().of_kind("conflict")
    after = mended.check().of_kind("overlap") + mended.check().of_kind("conflict")
    assert len(after) == len(before)


@exact
@given(tables("one"))
def test_the_canonical_writing_of_rows_changes_no_finding(table):
    if any(write_condition(row.conditions[0]).strip() == "" for row in table.rows):
        return
    about = table.inputs[0]
    rows = tuple(
        Row(row.number, (parse_condition(write_condition(row.conditions[0]), about.type),), row.results)
        for row in table.rows
    )
    again = rule_table(Table("t", (about,), (OUTPUT,), rows))
    assert again.check().as_dict() == table.check().as_dict()


# Named examples


def regions(kind, rows, find="gap", **options):
    table = kivvet.RuleTable(
        "t", {"x": {"type": kind, **options}}, {"y": "text"}, [[row, f"r{n}"] for n, row in enumerate(rows)]
    )
    return [one.region["x"] for one in table.check().of_kind(find)]


def test_whole_number_bounds_leave_gaps_for_decimals():
    assert regions("number", ["< 20", "20 to 39", ">= 40"]) == [">39 to <40"]


def test_a_step_closes_the_gap_between_its_multiples():
    assert regions("number", ["< 20", "20 to 39", ">= 40"], step=1) == []
    assert regions("integer", ["< 20", "20 to 39", ">= 40"]) == []
    assert regions("number", ["< 20", "20 to 39", ">= 40"], step={"size": 1, "offset": 0.5}) == [">39 to <40"]


def test_a_step_of_five_leaves_only_its_multiples_to_be_covered():
    assert regions("integer", ["< 10", "15", "> 20"], step=5) == ["10 to 14", "16 to 20"]


def test_gaps_are_sought_in_the_domain_only():
    assert regions("number", ["2 to 4"], domain="[0, 10)") == ["0 to <2", ">4 to <10"]


def test_a_half_open_day_leaves_no_gap_in_dates_and_days_hold_all_their_times():
    assert regions("date", ["< 2026-01-01", ">= 2026-01-02"]) == ["2026-01-01"]
    assert regions("datetime", ["<= 2026-01-01", "> 2026-01-01"]) == []
    assert regions("datetime", ["<= 2026-01-01", "> 2026-01-02"]) == ["2026-01-02"]


def test_nothing_lies_between_neighbouring_codes_of_a_shape():
    assert regions("text", ["A00* to B99*", "C00* to Z99*"], shape="A99") == []
    assert regions("text", ["A00* to B89*", "C00* to Y99*"], shape="A99") == ["B90* to B99*", "Z00* to Z99*"]


def test_without_a_shape_there_is_text_between_codes():
    (region,) = regions("text", ["A00* to B99*", "C00* to Z99*"])
    assert region == "not (A00* to B99* | C00* to Z99*)"


def test_listed_values_are_open_without_a_domain_and_checked_against_one():
    assert regions("text", ["a", "b | c"]) == []
    assert regions("text", ["a", "b | c"], domain=["a", "b", "c", "d"]) == ["d"]
    assert regions("boolean", ["true"]) == ["false"]


def test_an_exact_code_within_a_prefix_overlaps_it():
    assert regions("text", ["C3*", "C30"], find="overlap") == ["C30"]


def test_two_bounds_beyond_the_precision_of_floats_are_still_two():
    assert regions("number", ["< 9007199254740993", "> 9007199254740993"]) == ["9007199254740993"]


def test_a_row_shadowed_by_the_union_of_two_is_found_with_both():
    table = kivvet.RuleTable(
        "t", {"x": "number"}, {"y": "text"}, [["< 5", "a"], ["> 3", "b"], ["0 to 9", "c"]], match="first"
    )
    (finding,) = table.check().of_kind("shadowed")
    assert finding.rows == (3, 1, 2)


def test_a_table_without_rows_is_one_gap():
    table = kivvet.RuleTable("t", {"x": "number"}, {"y": "text"}, [])
    assert [one.region["x"] for one in table.check().of_kind("gap")] == ["present"]


def test_severities_follow_match_and_otherwise_and_may_be_chosen():
    def severity(**options):
        return (
            kivvet.RuleTable("t", {"x": "number"}, {"y": "text"}, [["< 5", "a"]], **options)
            .check()
            .of_kind("gap")[0]
            .severity
        )

    assert severity() == "error"
    assert severity(match="first") == "warning"
    assert severity(otherwise={"y": "rest"}) == "note"
    assert severity(severity={"gap": "note"}) == "note"


def test_a_report_is_json_frame_and_text():
    report = kivvet.RuleTable("t", {"x": "number"}, {"y": "text"}, [["< 5", "a"]]).check()
    assert report.as_dict()["findings"][0]["region"] == {"x": ">= 5"}
    assert list(report.to_frame()["kind"]) == ["gap"]
    assert repr(report).split("\n")[:2] == [
        "<Report: 1 error, 0 warnings in 1 table>",
        "t: error gap: x >= 5 is covered by no row",
    ]


def test_a_gap_that_nobody_would_paste_has_a_cure_that_can_be_read(tmp_path):
    rows = [["x", "y"], *([f"k{number:03}*", "known"] for number in range(200))]
    made = kivvet.RuleTable("t", {"x": "text"}, {"y": "text"}, rows)
    (gap,) = made.check().of_kind("gap")
    assert gap.severity == "error" and len(gap.remedy) < 200 and 'otherwise = { y = "..." }' in gap.remedy
    cured = kivvet.RuleTable("t", {"x": "text"}, {"y": "text"}, rows, otherwise={"y": "other"})
    assert not cured.check().has_errors and cured.check().is_clean
