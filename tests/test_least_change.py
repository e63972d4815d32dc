"""The least change of a row that gives a wanted class: as few inputs as counting all values finds, and all that is said gives it."""

from __future__ import annotations

import itertools
from fractions import Fraction

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import kivvet
from tests.conftest import budget
from tests.test_tied_inputs import TOP, tied_tables


@settings(max_examples=budget(60), deadline=None)
@given(tied_tables(), st.sampled_from(["one", "first"]), st.integers(0, 3), st.data())
def test_as_few_inputs_change_as_counting_all_values_finds(parts, match, wanted, data):
    n, stated, rows = parts
    rows, names = rows[:4], "abc"[:n]
    lines = [[*[""] * n, " AND ".join(one.text for one in row), f"r{k}"] for k, row in enumerate(rows)]
    table = kivvet.RuleTable(
        "t",
        {name: {"type": "integer", "domain": f"0 to {TOP}"} for name in names},
        {"y": "text"},
        [[*names, "when", "y"], *lines],
        given=[one.text for one in stated],
        match=match,
        otherwise={"y": "r3"},
        severity=dict.fromkeys(("impossible", "overlap", "conflict"), "warning"),
    )
    points = [p for p in itertools.product(range(TOP + 1), repeat=n) if all(one.holds(p) for one in stated)]
    assume(points and any(f"r{k}" == f"r{wanted}" for k in [*range(len(rows)), 3]))
    result = {
        p: next((k for k, row in enumerate(rows) if all(one.holds(p) for one in row)), 3) for p in points
    }
    if match == "one":
        held = {p: {k for k, row in enumerate(rows) if all(one.holds(p) for one in row)} for p in points}
        assume(all(len(each) < 2 for each in held.values()))
    at = data.draw(st.sampled_from(points))
    assume(result[at] != wanted)
    explained = table.explain(dict(zip(names, at, strict=True)), wanted=f"r{wanted}")
    found = explained.wanted
    changed = {
        frozenset(name for name, x, y in zip(names, at, p, strict=True) if x != y)
        for p in points
        if result[p] == wanted
    }
    fewest = min(map(len, changed), default=None)
    if fewest is None:
        assert (found.ways, found.note) == ((), f"no values of its inputs give r{wanted}")
        return
    assert {frozenset(way.values) for way in found.ways} == {one for one in changed if len(one) == fewest}
    for way in found.ways:
        moved = tuple(
            int(Fraction(way.values[name])) if name in way.values else x
            for name, x in zip(names, at, strict=True)
        )
        assert result.get(moved) == wanted, (way, moved)


NAMES = ["oxygen", "nitrate", "method"]
RULES = [
    ["oxygen", "nitrate", "method", "status"],
    ["< 4", "", "", "poor"],
    ["4 to <8", "<= 20", "", "watch"],
    [">= 8", "<= 20", "probe | kit", "good"],
    [">= 8", "<= 20", "not (probe | kit)", "watch"],
    [">= 4", "> 20", "", "poor"],
]


def rules(**more):
    inputs = {
        "oxygen": "number",
        "nitrate": "number",
        "method": {"type": "text", "domain": "probe | kit | strip"},
    }
    return kivvet.RuleTable("status", inputs, {"status": "text"}, RULES, **more)


@pytest.mark.parametrize(
    ("values", "wanted", "said"),
    [
        ({"oxygen": 3, "nitrate": 5, "method": "kit"}, "good", "oxygen >= 8, for example oxygen = 8"),
        ({"oxygen": 3, "nitrate": 5, "method": "strip"}, "good", "oxygen >= 8, method "),
        ({"oxygen": 9, "nitrate": 5, "method": "kit"}, "watch", "oxygen 4 to <8"),
        ({"oxygen": 9, "nitrate": 30, "method": "kit"}, "good", "nitrate <= 20, for example nitrate = 20"),
        ({"oxygen": None, "nitrate": 5, "method": "kit"}, "poor", "oxygen < 4"),
        ({"oxygen": 9, "nitrate": 5, "method": "kit"}, "status=good", "status is good already"),
    ],
)  # fmt: skip
def test_the_nearest_values_are_said(values, wanted, said):
    found = rules().explain(values, wanted=wanted).wanted
    assert any(said in text for text in [*map(str, found.ways), found.note])


def test_what_is_no_result_is_told_with_the_near_one_and_what_has_none_is_refused():
    with pytest.raises(kivvet.DataError, match="'god' is no result of status"):
        rules().explain({"oxygen": 3}, wanted="god")
    every = kivvet.RuleTable(
        "t", {"a": "number"}, {"y": {"type": "text", "combine": "list"}}, [["< 1", "p"]], match="every"
    )
    with pytest.raises(kivvet.DataError, match="no change is sought"):
        every.explain({"a": 3}, wanted="p")


def test_the_command_says_it_of_one_table(river, run):
    asked = ["explain", "samples", "--row", "812", "--wanted", "good"]
    told = run(*asked, "--table", "quality", cwd=river)
    assert "wanted   good: " in told.out
    both = run(*asked, cwd=river)
    assert both.code == 1
    assert "say of which with --table" in both.err
