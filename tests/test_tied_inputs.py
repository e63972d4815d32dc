"""Inputs that statements and comparisons tie to each other: what is found of them is what can be, no more and no less."""

from __future__ import annotations

import itertools
import operator
from dataclasses import dataclass
from fractions import Fraction

import pytest
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.linear.simplex import Simplex
from tests.conftest import budget
from tests.elimination import feasible

SIGNS = {"<": operator.lt, "<=": operator.le, "=": operator.eq, ">=": operator.ge, ">": operator.gt, "<>": operator.ne}  # fmt: skip
TOP = 4


@dataclass(frozen=True)
class Bound:
    """A sum of inputs compared with a number."""

    coefficients: tuple[int, ...]
    sign: str
    limit: Fraction

    def holds(self, point):
        """Whether it holds; None where an input that it reads is missing."""
        if any(a and x is None for a, x in zip(self.coefficients, point, strict=True)):
            return None
        value = sum(a * x for a, x in zip(self.coefficients, point, strict=True) if a)
        return SIGNS[self.sign](value, self.limit)

    @property
    def text(self):
        names = "abc"
        parts = [f"{a} * {names[i]}" if a != 1 else names[i] for i, a in enumerate(self.coefficients) if a]
        return f"{' + '.join(parts)} {self.sign} {float(self.limit):g}"

    @property
    def rows(self):
        """It as inequalities: coefficients, limit, whether strict; of ``<>`` one of two."""
        at_most, at_least = (
            (self.coefficients, self.limit),
            (tuple(-a for a in self.coefficients), -self.limit),
        )
        return {
            "<": [[(*at_most, True)]], "<=": [[(*at_most, False)]], "=": [[(*at_most, False), (*at_least, False)]],
            ">=": [[(*at_least, False)]], ">": [[(*at_least, True)]], "<>": [[(*at_most, True)], [(*at_least, True)]],
        }[self.sign]  # fmt: skip


@st.composite
def bounds(draw, n, n_read=2):
    some = draw(st.permutations(range(n)))[: draw(st.integers(1, n_read))]
    coefficients = tuple(draw(st.sampled_from([1, 1, 1, 2, -1, -2])) if i in some else 0 for i in range(n))
    reach = sum(map(abs, coefficients)) * TOP
    limit = Fraction(draw(st.integers(-reach, 2 * reach)), 2)
    return Bound(coefficients, draw(st.sampled_from(["<", "<=", ">=", ">", "<", ">=", "=", "<>"])), limit)


@st.composite
def tied_tables(draw):
    """Inputs, statements and rows: half of them a partition that one bound was changed in."""
    n = draw(st.integers(2, 3))
    stated = draw(st.lists(bounds(n, n), max_size=2))
    rows = draw(st.lists(st.lists(bounds(n), max_size=3), min_size=1, max_size=4))
    if draw(st.booleans()):
        rows = [[]]
        for bound in draw(st.lists(bounds(n), min_size=1, max_size=3)):
            opposite = {"<": ">=", "<=": ">", ">=": "<", ">": "<=", "=": "<>", "<>": "="}[bound.sign]
            chosen = draw(st.integers(0, len(rows) - 1))
            row = rows.pop(chosen)
            rows += [[*row, bound], [*row, Bound(bound.coefficients, opposite, bound.limit)]]
        if draw(st.booleans()):
            del rows[draw(st.integers(0, len(rows) - 1))]
    return n, stated, rows or [[]]


def table_of(n, stated, rows, match, about):
    names = "abc"[:n]
    lines = [[*[""] * n, " AND ".join(one.text for one in row), f"r{k}"] for k, row in enumerate(rows)]
    return kivvet.RuleTable(
        "t", dict.fromkeys(names, about), {"y": "text"}, [[*names, "when", "y"], *lines],
        given=[one.text for one in stated], match=match,
    )  # fmt: skip


def point_of(witness, n):
    return tuple(None if witness[name] == "missing" else Fraction(witness[name]) for name in "abc"[:n])


def found_of(table):
    """What is found: rows that nothing meets, pairs that overlap, rows that never win, gaps."""
    report = table.check(budget=2_000_000)
    assert not report.of_kind("not-proven")
    assume(not report.of_kind("out-of-domain"))
    certain = [one for one in report if one.severity != "note"]
    assert not any(one.possible for one in certain)
    pairs = [tuple(sorted(pair.rows)) for one in certain if one.kind == "overlap" for pair in one.pairs]
    pairs += [tuple(sorted(one.rows)) for one in certain if one.kind == "conflict"]
    return (
        {one.rows[0] for one in certain if one.kind == "impossible"},
        set(pairs),
        {one.rows[one.kind == "conflict"] for one in certain if one.kind in ("shadowed", "conflict")},
        [one for one in certain if one.kind == "gap"],
        [one for one in certain if one.kind == "overlap"],
    )


OVERLAP_BESIDE_ROWS_THAT_NOTHING_MEETS = (
    3,
    [],
    [
        [],
        [Bound((1, 0, 0), "<=", Fraction(0))],
        [Bound((1, 1, 0), "<", Fraction(-1, 2))],
        [
            Bound((1, 1, 0), "<", Fraction(0)),
            Bound((1, 1, 0), "<", Fraction(1, 2)),
            Bound((1, 0, 1), "<", Fraction(0)),
        ],
    ],
)


@settings(max_examples=budget(44), deadline=None)
@given(tied_tables(), st.sampled_from(["one", "first"]))
@example(OVERLAP_BESIDE_ROWS_THAT_NOTHING_MEETS, "one")
def test_whole_numbers_are_found_as_counting_all_of_them_finds(parts, match):
    n, stated, rows = parts
    about = {"type": "integer", "domain": f"0 to {TOP}", "required": True}
    points = [p for p in itertools.product(range(TOP + 1), repeat=n) if all(one.holds(p) for one in stated)]
    assume(points)
    impossible, pairs, shadowed, gaps, overlaps = found_of(table_of(n, stated, rows, match, about))
    held = {p: [k + 1 for k, row in enumerate(rows) if all(one.holds(p) for one in row)] for p in points}
    met = {k for each in held.values() for k in each}
    assert impossible == {*range(1, len(rows) + 1)} - met
    if match == "one":
        assert pairs <= {pair for each in held.values() for pair in itertools.combinations(each, 2)}
        told = {k for pair in pairs for k in pair}
        assert told == {k for each in held.values() if len(each) > 1 for k in each}
    else:
        assert shadowed == met - {each[0] for each in held.values() if each}
    assert bool(gaps) == any(not each for each in held.values())
    for gap in gaps:
        assert held[point_of(gap.witness, n)] == []
    for one in overlaps:
        assert {*one.rows[:2]} <= {*held[point_of(one.witness, n)]}


@settings(max_examples=budget(22), deadline=None)
@given(tied_tables())
def test_numbers_are_found_as_elimination_finds(parts):
    """Held against the method of Fourier and Motzkin, over all ways in which bounds come out."""
    n, stated, rows = parts
    box = [Bound(tuple(int(i == k) for i in range(n)), sign, Fraction(limit)) for k in range(n) for sign, limit in ((">=", 0), ("<=", TOP))]  # fmt: skip

    def exists(inside, outside=()):
        """Whether some point meets all of some bounds, and for each other row breaks one of its bounds."""
        opposite = {"<": ">=", "<=": ">", ">=": "<", ">": "<=", "=": "<>", "<>": "="}
        broken = [[Bound(b.coefficients, opposite[b.sign], b.limit) for b in row] for row in outside]
        return any(
            feasible([line for part in parts for line in part], n)
            for chosen in itertools.product(*broken)
            for parts in itertools.product(*(one.rows for one in (*box, *stated, *inside, *chosen)))
        )

    assume(exists([]))
    about = {"type": "number", "domain": f"0 to {TOP}", "required": True}
    impossible, pairs, _, gaps, _ = found_of(table_of(n, stated, rows, "one", about))
    assert impossible == {k + 1 for k, row in enumerate(rows) if not exists(row)}
    meeting = {
        (i + 1, j + 1) for i, j in itertools.combinations(range(len(rows)), 2) if exists([*rows[i], *rows[j]])
    }
    assert pairs <= meeting
    assert {k for pair in pairs for k in pair} == {k for pair in meeting for k in pair}
    assert bool(gaps) == exists([], rows)
    _, _, shadowed, _, _ = found_of(table_of(n, stated, rows, "first", about))
    assert shadowed == {k + 1 for k, row in enumerate(rows) if exists(row) and not exists(row, rows[:k])}


@settings(max_examples=budget(44), deadline=None)
@given(tied_tables(), st.lists(st.sampled_from(["", "", "", "missing", "present"]), min_size=12, max_size=12))
def test_a_missing_input_switches_off_what_reads_it_and_only_that(parts, cells):
    """Told as a note where it is so only because an input is missing."""
    n, stated, rows = parts
    rows = [(row, cells[k * 3 : k * 3 + n]) for k, row in enumerate(rows[:4])]
    names = "abc"[:n]
    lines = [[*asked, " AND ".join(one.text for one in row), f"r{k}"] for k, (row, asked) in enumerate(rows)]
    about = {"type": "integer", "domain": f"0 to {TOP}"}
    table = kivvet.RuleTable(
        "t", dict.fromkeys(names, about), {"y": "text"}, [[*names, "when", "y"], *lines],
        given=[one.text for one in stated],
    )  # fmt: skip
    points = [
        p
        for p in itertools.product([*range(TOP + 1), None], repeat=n)
        if all(one.holds(p) is not False for one in stated)
    ]
    assume(any(None not in p for p in points))

    def matches(row, asked, point):
        fits = {"": lambda _: True, "missing": lambda x: x is None, "present": lambda x: x is not None}
        return all(one.holds(point) for one in row) and all(
            fits[cell](x) for cell, x in zip(asked, point, strict=True)
        )

    held = {p: [k + 1 for k, one in enumerate(rows) if matches(*one, p)] for p in points}
    must = {
        k + 1: {i for i, cell in enumerate(asked) if cell == "missing"} for k, (_, asked) in enumerate(rows)
    }

    stated_inputs = {i for one in stated for i, a in enumerate(one.coefficients) if a}

    def is_plain(point, *numbers):
        """Whether no statement is off there but where rows ask for it."""
        off = {i for i, x in enumerate(point) if x is None} & stated_inputs
        return off <= set().union(*(must[k] for k in numbers))

    report = table.check(budget=2_000_000)
    assume(not report.of_kind("out-of-domain"))
    errors = {one.rows[0] for one in report.of_kind("impossible") if one.severity == "error"}
    assert errors == {*range(1, len(rows) + 1)} - {k for each in held.values() for k in each}
    noted = {one.rows[0] for one in report.of_kind("impossible") if one.severity == "note"}
    assert noted == {k for each in held.values() for k in each} - {
        k for p, each in held.items() for k in each if is_plain(p, k)
    }
    meeting = {
        pair for p, each in held.items() for pair in itertools.combinations(each, 2) if is_plain(p, *pair)
    }
    told = [one for one in report if one.kind in ("overlap", "conflict") and one.severity == "error"]
    assert {k for one in told for pair in ([p.rows for p in one.pairs] or [one.rows]) for k in pair} == {
        k for pair in meeting for k in pair
    }
    named = {  # a row whose bounds on an input itself exclude missing does not ask for it
        i
        for row, asked in rows
        for i, cell in enumerate(asked)
        if cell == "missing"
        and not any(one.coefficients == tuple(int(k == i) for k in range(n)) for one in row)
    }
    gaps = {p for p, each in held.items() if not each and {i for i, x in enumerate(p) if x is None} <= named}
    assert bool(report.of_kind("gap")) == bool(gaps)
    for gap in report.of_kind("gap"):
        if len(gap.witness) == n and "when" not in gap.witness:
            assert point_of(gap.witness, n) in gaps


@settings(max_examples=budget(44), deadline=None)
@given(tied_tables(), st.permutations(range(4)), st.sampled_from(["one", "first"]), st.data())
def test_promises_are_kept_where_counting_all_whole_numbers_finds_so(parts, ranks, match, data):
    n, stated, rows = parts
    rows, names = rows[:4], "abc"[:n]
    about = {"type": "integer", "domain": f"0 to {TOP}", "required": True}
    bound, x = data.draw(bounds(n, 1)), data.draw(st.integers(0, n - 1))
    asked = next(i for i, a in enumerate(bound.coefficients) if a)
    bound = Bound(
        tuple(int(i == asked) for i in range(n)), "<" if bound.sign == "<>" else bound.sign, bound.limit
    )
    where = f"{names[asked]} {bound.sign.replace('=', '', bound.sign == '=')} {float(bound.limit):g}".replace(
        "  ", " is "
    )
    order = [f"r{k}" for k in ranks]
    promises = [
        f"as {names[x]} rises, y never falls",
        f"as {names[x]} rises, y never rises",
        f"where {where}, y is at least r1",
        "every class of y can occur",
    ]
    lines = [[*[""] * n, " AND ".join(one.text for one in row), f"r{k}"] for k, row in enumerate(rows)]
    table = kivvet.RuleTable(
        "t", dict.fromkeys(names, about), {"y": {"type": "text", "order": order}}, [[*names, "when", "y"], *lines],
        given=[one.text for one in stated], match=match, otherwise={"y": "r3"}, promises=promises,
    )  # fmt: skip
    points = [p for p in itertools.product(range(TOP + 1), repeat=n) if all(one.holds(p) for one in stated)]
    assume(points)
    held = {p: [k for k, row in enumerate(rows) if all(one.holds(p) for one in row)] or [3] for p in points}
    report = table.check(budget=2_000_000)
    assume(not report.of_kind("out-of-domain"))
    if match == "one" and any(len(each) > 1 for each in held.values()):
        return  # rows that disagree are told as such
    ranked = {p: order.index(f"r{each[0]}") for p, each in held.items()}
    pairs = [
        (ranked[p], ranked[q])
        for p in points
        for q in points
        if p[x] < q[x] and p[:x] + p[x + 1 :] == q[:x] + q[x + 1 :]
    ]
    asked_of = [p for p in points if bound.holds(p)]
    wanted = [
        any(high < low for low, high in pairs) or not pairs,
        any(high > low for low, high in pairs) or not pairs,
        any(ranked[p] < order.index("r1") for p in asked_of),
        {*range(4)} != {each[0] for each in held.values()},
    ]
    told = [
        any(f'promise "{text}" ' in one.message and one.severity != "note" for one in report)
        for text in promises
    ]
    empty = [any(f'promise "{text}" speaks of nothing' in one.message for one in report) for text in promises]
    assert told[2] == (wanted[2] or empty[2])
    assert [*told[:2], told[3]] == [*wanted[:2], wanted[3]]
    for one in report.of_kind("promise"):
        if "gives" in one.message and one.witness:
            assert point_of(one.witness, n) in held


@settings(max_examples=budget(82), deadline=None)
@given(st.data())
def test_a_clash_of_bounds_is_proven_by_bounds_none_of_which_could_be_left_out(data):
    """What the simplex says is held against elimination, both ways."""
    n = data.draw(st.integers(1, 4))
    forms = [tuple(int(i == k) for i in range(n)) for k in range(n)]
    forms += data.draw(st.lists(st.tuples(*[st.integers(-4, 4)] * n), max_size=6))
    low, high = {}, {}
    for number in range(len(forms)):
        at = data.draw(st.integers(-15, 15))
        if data.draw(st.booleans()):
            low[number] = at
        if data.draw(st.booleans()):
            high[number] = at + data.draw(st.integers(0, 12))
    lines = {(k, -1): (tuple(-a for a in forms[k]), Fraction(-at), False) for k, at in low.items()}
    lines |= {(k, 1): (forms[k], Fraction(at), False) for k, at in high.items()}
    simplex = Simplex(forms, n)
    clash = simplex.clash(low, high)
    if clash is None:
        point = [Fraction(value, simplex.scale) for value in simplex.point]
        assert all(
            sum(a * x for a, x in zip(line[0], point, strict=True)) <= line[1] for line in lines.values()
        )
        return
    assert not feasible([lines[one] for one in clash], n)
    for one in clash:
        assert feasible([lines[other] for other in clash if other != one], n)


PART = {"type": "number", "domain": "0 to 100", "required": True}
BEDS = [
    [">= 80", "", "", "", "gravel"],
    ["50 to <80", "", "", "sand >= 4 * mud", "sandy gravel"],
    ["50 to <80", "", "", "sand < 4 * mud AND sand >= mud", "mixed gravel"],
    ["50 to <80", "", "", "sand < mud", "muddy gravel"],
    ["20 to <50", "", "", "sand >= 3 * mud", "gravelly sand"],
    ["20 to <50", "", "", "sand < 3 * mud AND mud <= 3 * sand", "gravelly mix"],
    ["20 to <50", "", "", "mud > 3 * sand", "gravelly mud"],
    ["< 20", ">= 80", "", "", "sand"],
    ["< 20", "50 to <80", "", "gravel + mud > 20", "muddy sand"],
    ["< 20", "20 to <50", "> 40", "gravel + sand < 60", "sandy mud"],
    ["< 20", "< 50", "<= 40", "", "loam"],
    ["< 20", "< 20", "> 40", "", "mud"],
]


def beds(rows):
    names = ["gravel", "sand", "mud"]
    return kivvet.RuleTable(
        "bed", dict.fromkeys(names, PART), {"bed": "text"}, [[*names, "when", "bed"], *rows],
        given="gravel + sand + mud = 100",
    )  # fmt: skip


def test_twelve_rules_over_three_parts_that_sum_to_a_hundred_check_clean():
    assert beds(BEDS).check().is_clean


@pytest.mark.parametrize("dropped", range(12))
def test_a_rule_that_is_left_out_leaves_a_gap_there(dropped):
    gaps = beds([*BEDS[:dropped], *BEDS[dropped + 1 :]]).check().of_kind("gap")
    empty = (
        dropped == 10
    )  # what remains for it is nothing: gravel below 20, sand below 50 and mud up to 40 make 110
    whole = beds(BEDS)
    assert bool(gaps) or empty
    for gap in gaps:
        values = {name: [float(text)] for name, text in gap.witness.items()}
        assert sum(one[0] for one in values.values()) == pytest.approx(100)
        assert whole.apply(kivvet_frame(values))["bed"].tolist() == [BEDS[dropped][-1]]


def kivvet_frame(values):
    import pandas as pd

    return pd.DataFrame(values)


@pytest.mark.parametrize(
    ("row", "column", "cell", "kind"),
    [
        (0, 0, "> 80", "gap"),
        (1, 3, "sand >= 3 * mud", "overlap"),
        (2, 3, "sand < 4 * mud AND sand > mud", "gap"),
        (4, 3, "sand > 3 * mud", "gap"),
        (7, 1, "> 80", "gap"),
        (8, 3, "gravel + mud >= 20", None),  # sand is below 80: it says the same
        (9, 3, "gravel + sand <= 60", None),  # mud is above 40: it says the same
        (9, 3, "gravel + sand < 55", "gap"),
        (10, 0, "< 30", "overlap"),
        (11, 3, "gravel + sand > 70", "impossible"),
    ],
)
def test_a_bound_that_is_moved_is_found_and_nothing_else(row, column, cell, kind):
    rows = [list(one) for one in BEDS]
    rows[row][column] = cell
    assert {one.kind for one in beds(rows).check() if one.severity != "note"} - {"gap"} == (
        {kind} - {"gap", None}
    )
    assert (kind == "gap") <= bool(beds(rows).check().of_kind("gap"))


def test_a_tolerance_means_what_it_says():
    """In check and in data: sums from 99.9 to 100.1, both ends in."""
    names = ["gravel", "sand", "mud"]
    rows = [["gravel", "sand", "mud", "when", "y"], ["", "", "", "gravel + sand + mud > 100.1", "over"], ["", "", "", "gravel + sand + mud BETWEEN 99.9 AND 100.1", "sum"]]  # fmt: skip
    table = kivvet.RuleTable(
        "t",
        dict.fromkeys(names, PART),
        {"y": "text"},
        rows,
        given="gravel + sand + mud BETWEEN 99.9 AND 100.1",
    )
    (never,) = table.check()
    assert (never.kind, never.rows) == ("impossible", (1,))
    assert not table.check().of_kind("gap")


@pytest.mark.parametrize(
    ("rows", "stated", "kinds"),
    [
        (
            ["x - y <= 0", "x - y >= 0.0000000000000000000001"],
            "",
            {"gap"},
        ),  # far thinner than floats can tell
        (["x - y <= 0", "x - y > 0"], "", set()),
        (["x < 50", "y <= 50"], "x + y = 100", set()),
        (["x < 50", "y < 50"], "x + y = 100", {"gap"}),
        (["3 * x < 1", "3 * x > 1"], "", {"gap"}),  # a third lies on no decimal
        (["x + y < 1 AND x >= 0 AND y >= 0", "x >= 1 AND y >= 0 AND x - y <= 1"], "", {"gap"}),
        (["x + y <= 1 AND x >= 0 AND y >= 0", "x >= 1 AND y >= 0 AND x - y <= 1"], "", {"gap", "overlap"}),
        (["x + y <= 2 AND x >= 1 AND y >= 1"], "", {"gap"}),  # a point
        (["x + y < 2 AND x >= 1 AND y >= 1"], "", {"gap", "impossible"}),
    ],
)
def test_thin_regions_are_there_or_not(rows, stated, kinds):
    inputs = {name: {"type": "number", "required": True} for name in "xy"}
    lines = [["", "", one, f"r{k}"] for k, one in enumerate(rows)]
    table = kivvet.RuleTable(
        "t", inputs, {"y_": "text"}, [["x", "y", "when", "y_"], *lines], given=[stated] if stated else []
    )
    assert {one.kind for one in table.check()} == kinds


def test_dates_are_tied_as_numbers_are():
    inputs = {name: {"type": "date", "required": True} for name in ("begun", "ended")}
    rows = [["begun", "ended", "when", "y"], ["< 2026-03-01", "", "", "early"], ["", "< 2026-03-01", "", "never so"], [">= 2026-03-01", "", "ended - begun <= 30", "short"], [">= 2026-03-01", "", "ended >= begun + 31", "long"]]  # fmt: skip
    table = kivvet.RuleTable("t", inputs, {"y": "text"}, rows, given="begun <= ended")
    overlap, *notes = table.check()
    assert {one.kind for one in notes} == {"blank-cell"}
    assert (overlap.kind, overlap.rows) == ("overlap", (1, 2))
    assert overlap.witness["begun"] <= overlap.witness["ended"] < "2026-03-01"
