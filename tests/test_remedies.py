"""Every remedy that can be followed by a machine is: it cures the finding it stands with, and brings no new
one.
"""

from __future__ import annotations

import copy
import datetime as dt
import json
import re
from collections import Counter
from decimal import Decimal

import pyarrow as pa
import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from kivvet.core.classify.compiled import compile_table
from kivvet.core.columns.column import column_from_arrow
from kivvet.core.read.table_parser import parse_table
from kivvet.core.words.condition_parser import parse_condition
from kivvet.core.words.conditions import write_condition
from kivvet.core.words.cures import AddRow, FirstWins, MoveRow, RemoveRow, SetStep, WriteCell, cures_of
from kivvet.rule_table import RuleTable, rule_table, value_of
from tests.conftest import budget
from tests.strategies import KINDS, conditions

_HIDDEN = ("shadowed", "duplicate", "conflict")


def read(definition):
    """Return the table of a definition; None where it cannot be read."""
    parts, faults = parse_table("t", definition)
    return None if parts is None or faults else rule_table(parts)


def told(table):
    """Return what is said of a table, as far as it does not depend on where rows stand: overlaps by the rows
    that meet.
    """
    said = set()
    for one in table.check(budget=20_000):
        if one.kind == "overlap":
            said |= {
                ("overlap", " + ".join(sorted(row_text(table, number) for number in pair.rows)))
                for pair in one.pairs
            }
        elif one.kind not in ("open", "blank-cell"):
            said.add((one.kind, json.dumps(one.region, sort_keys=True)))
    return said


def row_text(table, number):
    row = table.rows[number - 1]
    return f"{[write_condition(one) for one in row.conditions]} {row.when}: {row.results}"


def fell_through(table, finding):
    """Whether the example of a gap was covered by no row of a table: another description of a gap that was
    there.
    """
    columns = {}
    if "when" in (finding.witness or {}):
        return True  # no example was found that could be tried
    for name, about in value_of(table).reads.items():
        text = (finding.witness or {}).get(name, "missing")
        kind = about.type if about is not None else "text" if name == "w" else "number"
        value = getattr(parse_condition(text, kind), "value", None)
        type_ = {
            "text": pa.string(),
            "boolean": pa.bool_(),
            "date": pa.date32(),
            "datetime": pa.timestamp("us"),
        }.get(kind, pa.float64())
        if isinstance(value, (int, Decimal)) and not isinstance(value, bool):
            value = float(value)
        elif kind == "datetime" and isinstance(value, dt.date) and not isinstance(value, dt.datetime):
            value = dt.datetime.combine(value, dt.time())
        columns[name] = column_from_arrow(pa.array([value], type_), name)
    outcome = compile_table(value_of(table)).classify(columns, refuses_overlaps=False).labels[0]
    return outcome in (
        compile_table(value_of(table)).outcomes.unmatched,
        compile_table(value_of(table)).outcomes.missing,
    )


def row_added(made, definition, cells):
    """A definition with a row more; a cell more than there are headings is what `when` asks."""
    if len(cells) > len(made["rows"][0]):  # the region asks something that no column asks yet
        with_when(made, definition)
    made["rows"].append(["NEW" if cell == "..." else cell for cell in cells])


def with_when(made, definition):
    place = len(definition["inputs"])
    made["rows"] = [[*one[:place], "" if n else "when", *one[place:]] for n, one in enumerate(made["rows"])]


def cured(definition, finding):
    """Yield the name of each cure that a finding offers, and the definition after it was followed."""
    for cure in cures_of(finding):
        made = copy.deepcopy(definition)
        match cure:
            case AddRow(cells):
                row_added(made, definition, cells)
                yield "add", made
            case SetStep(name, step):
                made["inputs"][name].update(step=step)
                yield "step", made
            case WriteCell(row, text, heading):
                if heading and heading not in made["rows"][0]:
                    with_when(made, definition)
                made["rows"][row][made["rows"][0].index(heading) if heading else 0] = text
                yield "write", made
            case FirstWins():
                yield "first", {**made, "match": "first"}
            case RemoveRow(row):
                made["rows"].pop(row)
                yield "remove", made
            case MoveRow(row, above):
                made["rows"].insert(above, made["rows"].pop(row))
                yield "move", made


def follow_all(definition):
    """Follow every remedy of a table, one at a time; return how many there were."""
    # Examples are tried as floats, which tell huge numbers apart only by their neighbours.
    assume(not re.search(r"\d{15}|e-?\d", json.dumps(definition["rows"])))
    table = read(definition)
    assume(table is not None)
    before = told(table)
    before_by = Counter(
        (one.kind, json.dumps(one.region, sort_keys=True)) for one in table.check(budget=20_000)
    )
    duplicates = [set(one.rows) for one in table.check(budget=20_000).of_kind("duplicate")]
    n_followed = 0
    for finding in table.check(budget=20_000):
        this = finding.kind, json.dumps(finding.region, sort_keys=True)
        if finding.kind == "overlap":
            this = "overlap", " + ".join(sorted(row_text(table, number) for number in finding.pairs[0].rows))
        for name, made in cured(definition, finding):
            after_table = read(made)
            said = f"{finding}\n{name}: {made['rows']}"
            assert after_table is not None, said
            after = told(after_table)
            # Under a first match, rows that meet are looked at in another way, and a row that comes before others may
            # hide them: which of them is to win, only their author knows.
            new = {
                one
                for one in after - before
                if not (name in ("first", "move") and one[0] in ("shadowed", "duplicate", "conflict"))
            }
            # A row that an equal one hid is then hidden by another.
            twins = {one[1] for one in before if one[0] in _HIDDEN}
            new = {one for one in new if one[0] not in _HIDDEN or one[1] not in twins}
            # Of two rows that were duplicates, the one that was narrowed may now be the one to go.
            new -= {
                ("duplicate", json.dumps(one.region, sort_keys=True))
                for one in after_table.check(budget=20_000).of_kind("duplicate")
                if name.startswith("write") and set(one.rows) in duplicates
            }
            # A cell outside the domain stays one, whatever else its row asks now.
            outside = {one.rows for one in table.check(budget=20_000).of_kind("out-of-domain")}
            new -= {
                ("out-of-domain", json.dumps(one.region, sort_keys=True))
                for one in after_table.check(budget=20_000).of_kind("out-of-domain")
                if one.rows in outside
            }
            gaps = {
                json.dumps(one.region, sort_keys=True): one
                for one in after_table.check(budget=20_000)
                if one.kind == "gap"
            }
            # That more gaps remain than are listed is said of no place: those that are there now were before.
            new = {one for one in new if one != ("gap", "null")}
            new = {one for one in new if one[0] != "gap" or not fell_through(table, gaps[one[1]])}
            # A row that says nothing new once another was added, or that a wider one now holds, was there
            # before.
            assert this not in after or name == "remove" or before_by[this] > 1, said
            assert not new, f"{said}\nnew: {new}"
            n_followed += 1
    return n_followed


def follow_together(definition):
    """Follow all that a check says to write and to add, at once: nothing meets that did not, no gap opens."""
    assume(not re.search(r"\d{15}|e-?\d", json.dumps(definition["rows"])))
    table = read(definition)
    assume(table is not None)
    findings = table.check(budget=20_000)
    made, added, cures = copy.deepcopy(definition), [], set()
    for finding in findings:
        for cure in cures_of(finding):
            match cure:
                case AddRow(cells) if len(cells) == len(definition["rows"][0]):
                    added.append(["NEW" if cell == "..." else cell for cell in cells])
                case WriteCell(row, text, heading) if finding.kind == "overlap":
                    if not heading or heading in made["rows"][0]:
                        made["rows"][row][made["rows"][0].index(heading) if heading else 0] = text
                        cures.add(frozenset(finding.pairs[0].rows))
    assume(added or cures)
    made["rows"] += added
    after = read(made).check(budget=20_000)

    def meeting(found):
        return {frozenset(pair.rows) for one in found.of_kind("overlap") for pair in one.pairs}

    assert meeting(after) <= meeting(findings) - cures, f"{findings}\n{made['rows']}\n{after}"
    for gap in after.of_kind("gap"):
        assert fell_through(table, gap), f"{findings}\n{made['rows']}\n{gap}"


@st.composite
def one_input(draw):
    kind = draw(st.sampled_from(KINDS))
    about = {"type": kind}
    if kind == "number" and draw(st.booleans()):
        about["step"] = draw(st.sampled_from(["0.1", "1"]))
    if kind == "text" and draw(st.integers(0, 2)) == 0:
        about["shape"] = draw(st.sampled_from(["A9", "A"]))
    if kind in ("number", "integer") and draw(st.integers(0, 3)) == 0:
        about["domain"] = draw(st.sampled_from([">= 0", "0 to 5", "-3 to <4"]))
    cells = draw(st.lists(conditions(kind), min_size=1, max_size=5))
    rows = [[write_condition(cell), draw(st.sampled_from("abc"))] for cell in cells]
    return {
        "inputs": {"x": about},
        "outputs": {"y": "text"},
        "rows": [["x", "y"], *rows],
        "match": draw(st.sampled_from(["one", "one", "first"])),
    }


@st.composite
def several_inputs(draw):
    kinds = draw(
        st.lists(st.sampled_from(["number", "integer", "text", "boolean", "date"]), min_size=2, max_size=3)
    )
    names = [f"x{n}" for n in range(len(kinds))]
    numbers = [name for name, kind in zip(names, kinds, strict=True) if kind in ("number", "integer")]
    whens = ["", "", "z > 3", "z <= 3 AND w = 'a'", "w LIKE 'a%'"]
    if len(numbers) > 1:
        whens += [
            f"{numbers[0]} < {numbers[1]}",
            f"{numbers[0]} + {numbers[1]} < 10",
            f"{numbers[0]} >= {numbers[1]}",
        ]
    header = [*names, "when", "y"]
    cells = [st.one_of(st.just(""), conditions(kind).map(write_condition)) for kind in kinds]
    rows = [
        [*(draw(cell) for cell in cells), draw(st.sampled_from(whens)), draw(st.sampled_from("abc"))]
        for _ in range(draw(st.integers(1, 5)))
    ]
    about = {name: {"type": kind} for name, kind in zip(names, kinds, strict=True)}
    for name in numbers:
        if draw(st.integers(0, 2)) == 0:
            about[name]["domain"] = draw(st.sampled_from([">= 0", "0 to 5", "-3 to <4"]))
    return {
        "inputs": about,
        "outputs": {"y": "text"},
        "rows": [header, *rows],
        "match": draw(st.sampled_from(["one", "one", "first"])),
    }


@settings(deadline=None)
@given(one_input())
def test_remedies_of_tables_of_one_input_cure_and_break_nothing(definition):
    follow_all(definition)


@settings(max_examples=budget(24), deadline=None)
@given(several_inputs())
@example(  # rows 1 and 2 cover the last one too: above row 3 it never wins either
    {
        "inputs": {"x0": {"type": "boolean"}, "x1": {"type": "number"}},
        "outputs": {"y": "text"},
        "rows": [
            ["x0", "x1", "when", "y"],
            *(["true", "", "", "a"], ["false", "", "", "a"], ["", "", "", "a"], ["not missing", "", "", "a"]),
        ],
        "match": "first",
    }
)
def test_remedies_of_tables_of_several_inputs_cure_and_break_nothing(definition):
    follow_all(definition)


@settings(deadline=None)
@given(st.one_of(one_input(), several_inputs(), several_inputs()))
def test_all_that_one_check_says_to_write_and_to_add_can_be_followed_together(definition):
    follow_together(definition)


@pytest.mark.parametrize(
    ("rows", "remedies"),
    [
        (
            [["< 5", "a"], ["5", "b"], [">5 to <6", "c"], [">6 to 7", "d"], ["> 7", "e"]],
            ['add  ["6", "..."]'],
        ),
        (
            [["<= 24", "a"], ["25 to 49", "b"], [">= 50", "c"]],
            [
                'add  [">24 to <25", "..."]  or, if all values of x are whole numbers, set step = 1',
                'add  [">49 to <50", "..."]  or, if all values of x are whole numbers, set step = 1',
            ],
        ),
        (
            [["< 1", "a"], ["1 to 1.5", "b"], [">1.6 to <1.7", "b"], [">= 1.7", "c"]],
            ['add  [">1.5 to 1.6", "..."]'],
        ),
    ],
)
def test_a_step_is_offered_only_where_no_row_is_finer(rows, remedies):
    table = RuleTable("t", {"x": "number"}, {"y": "text"}, rows)
    assert [one.remedy for one in table.check().of_kind("gap")] == remedies
