"""Promises about results: proved over all values, held against trying every value there is."""

import itertools

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.core.check.box_search import BudgetSpentError
from kivvet.core.promises.decide import check_promises
from kivvet.core.promises.propose import proposed
from tests.conftest import budget, write_book
from tests.oracle import accepts

VALUES = [None, 0, 1, 2, 3, 4, 5]
CLASSES = ["low", "mid", "high", "top"]
CELLS = [
    "",
    "any",
    "present",
    "missing",
    "0",
    "3",
    "< 2",
    "<= 3",
    "> 1",
    ">= 4",
    "1 to 3",
    "2 to <5",
    "0 | 4",
    "not 2",
    "missing | > 3",
]
REST = [
    {},
    {"otherwise": {"k": "mid"}},
    {"missing": {"k": "top"}},
    {"missing": {"k": "low"}, "otherwise": {"k": "high"}},
]
QUIET = {"gap": "note", "shadowed": "note", "impossible": "note", "overlap": "note", "conflict": "note"}


@st.composite
def tables(draw):
    """Return what makes a table of one to three whole numbers from 0 to 5, and its result."""
    names = ["x", "y", "z"][: draw(st.integers(1, 3))]
    cells = st.tuples(*(st.sampled_from(CELLS) for _ in names), st.sampled_from(CLASSES))
    rows = draw(st.lists(cells, min_size=1, max_size=6))
    return {
        "inputs": {name: {"type": "integer", "domain": "0 to 5"} for name in names},
        "outputs": {"k": {"type": "text", "order": CLASSES}},
        "rows": [[*names, "k"], *map(list, rows)],
        "match": "first",
        "severity": QUIET,
        **draw(st.sampled_from(REST)),
    }


def result_of(table, values):
    """Return what a table gives for values, row by row; and whether it is what it says of missing ones."""
    for row in table.rows:
        if all(
            accepts(asked, value, about)
            for asked, value, about in zip(row.conditions, values, table.inputs, strict=True)
        ):
            return row.results[0], False
    # what is said of missing inputs holds where one that any row asks about is missing
    asked = [
        len(table.inputs) == 1
        or any(
            not accepts(row.conditions[at], None, about)
            or not accepts(row.conditions[at], 0, about)
            or type(row.conditions[at]).__name__ != "AnyValue"
            for row in table.rows
        )
        for at, about in enumerate(table.inputs)
    ]
    if any(value is None and one for value, one in zip(values, asked, strict=True)):
        return table.missing.get("k"), True
    return table.otherwise.get("k"), False


def broken(table, promise):
    """Try every value; whether the promise is broken."""
    kind, *parts = promise
    n = len(table.inputs)
    everything = {at: result_of(table, at)[0] for at in itertools.product(VALUES, repeat=n)}
    if kind == "where":
        asked, keeps = parts
        return any(
            result is not None and not keeps(result)
            for at, result in everything.items()
            if all(accepted(value) for value, accepted in zip(at, asked, strict=True))
        )
    if kind == "occurs":
        return not set(CLASSES) <= set(everything.values())
    at, is_falling = parts
    for values, result in everything.items():
        if None in values or result is None:
            continue
        for higher in range(values[at] + 1, 6):
            other = everything[(*values[:at], higher, *values[at + 1 :])]
            if other is None:
                continue
            low, high = CLASSES.index(result), CLASSES.index(other)
            if low < high if is_falling else low > high:
                return True
    return False


ASKED = {
    "is present": lambda value: value is not None,
    "< 2": lambda value: value is not None and value < 2,
    "is 1 to 3": lambda value: value is not None and 1 <= value <= 3,
    "is missing": lambda value: value is None,
    ">= 4": lambda value: value is not None and value >= 4,
    None: lambda _: True,
}
DEMANDED = {
    "is low": lambda result: result == "low",
    "is low | top": lambda result: result in ("low", "top"),
    "is never high": lambda result: result != "high",
    "is at least mid": lambda result: result != "low",
    "is at most mid": lambda result: result in ("low", "mid"),
}


@settings(max_examples=budget(66), deadline=None)
@given(given=tables(), data=st.data())
def test_a_promise_is_broken_just_where_trying_every_value_breaks_it(given, data):
    names = list(given["inputs"])
    made = []
    for _ in range(4):
        asked = [data.draw(st.sampled_from(list(ASKED))) for _ in names]
        demand = data.draw(st.sampled_from(list(DEMANDED)))
        said = " and ".join(f"{name} {one}" for name, one in zip(names, asked, strict=True) if one)
        made.append(
            (
                f"{f'where {said}, ' if said else ''}k {demand}",
                ("where", [ASKED[one] for one in asked], DEMANDED[demand]),
            )
        )
    for at, name in enumerate(names):
        made += [
            (f"as {name} rises, k never {way}", ("order", at, way == "rises")) for way in ("falls", "rises")
        ]
    made.append(("every class of k can occur", ("occurs",)))
    table = kivvet.RuleTable("t", **given, promises=[text for text, _ in made])
    found = {
        one.message.split('"')[1]: one
        for one in table.check().findings
        if one.kind in ("promise", "not-proven")
    }
    for text, promise in made:
        is_broken = broken(table._table, promise)
        assert (text in found and "is broken" in found[text].message) == is_broken, (text, found.get(text))
        if is_broken and promise[0] == "where":  # the witness can be tried
            values = [found[text].witness.get(name, "missing") for name in names]
            tried = tuple(None if one == "missing" else int(one) for one in values)
            result, _ = result_of(table._table, tried)
            assert not promise[2](result)
            assert f"gives {result}" in found[text].message
            assert all(accepted(value) for value, accepted in zip(tried, promise[1], strict=True))


@settings(max_examples=budget(33), deadline=None)
@given(tables())
def test_what_is_proposed_is_kept(given):
    texts = proposed(kivvet.RuleTable("t", **given)._table)
    assert not [
        one
        for one in kivvet.RuleTable("t", **given, promises=texts).check().findings
        if one.kind == "promise"
    ]


NUMBERS = {
    "inputs": {
        "x": {"type": "number", "step": "0.1", "domain": ">= 0"},
        "s": {"type": "text", "domain": "a | b"},
    },
    "outputs": {"rate": "number", "note": "text"},
    "rows": [
        ["x", "s", "rate", "note"],
        ["< 2", "", 0.1, "p"],
        ["2 to <4", "a", 0.4, "q"],
        ["2 to <4", "b", 0.2, "p"],
        [">= 4", "", 0.3, "r"],
    ],
}


@pytest.mark.parametrize(
    ("promise", "said"),
    [
        ("rate <= 0.4", None),
        ("rate <= 0.39", 'is broken: x = 2, s = a gives 0.4 (row 2)'),
        ("where s is b, rate is 0.1 to 0.3", None),
        ("as x rises, rate never falls", "is broken: with s = a, x = 2 gives 0.4 (row 2), and x = 4 gives 0.3 (row 4)"),
        ("where x is 2 to 4 and s is a, note is q", "is broken: x = 4, s = a gives r (row 4)"),
        ("note is never \"p\" | q | r", "is broken"),
        ("every class of note can occur", None),
        ("where x < 0, rate <= 1", "speaks of nothing"),
        ("as s rises, rate never falls", "s is text, which does not rise"),
        ("as x rises, note never falls", "the classes of note have no order"),
        ("where y < 1, rate <= 1", "'y' is no input of the table"),
        ("note is qq", "'qq' is no class of note"),
        ("note means good", "no class of note means 'good'"),
        ("where x < 1 rate <= 1", "after `where` the conditions end with a comma"),
        ("rate goes up", "says nothing of a result"),
        ("where x < 1 and x > 0, rate <= 1", "x is asked twice"),
        ("rate <= high", "is no condition on rate"),
    ],
)  # fmt: skip
def test_each_kind_of_promise_says_what_breaks_it(promise, said):
    try:
        found = kivvet.RuleTable("t", **NUMBERS, promises=[promise]).check().findings
    except kivvet.TableError as error:
        found = error.findings
    told = " ".join(one.message for one in found if promise in one.message)
    assert said in told if said else not told


def test_results_that_are_worked_out_and_when_are_not_proven():
    worked = {
        **NUMBERS,
        "outputs": {"rate": "number"},
        "rows": [["x", "s", "rate"], ["< 2", "", "= x / 2"], [">= 2", "", 0.3]],
    }
    found = kivvet.RuleTable("t", **worked, promises=["rate <= 1"]).check().findings
    assert [one.kind for one in found] == ["not-proven"]
    compared = {
        "inputs": {"x": "number"},
        "outputs": {"rate": "number"},
        "rows": [["x", "when", "rate"], ["present", "x < y", 0.1], ["present", "x >= y", 0.3]],
    }
    found = (
        kivvet.RuleTable("t", **compared, promises=["as x rises, rate never falls", "rate <= 0.2"])
        .check()
        .findings
    )
    (told,) = (one for one in found if "promise" in one.message)
    assert '"rate <= 0.2" is broken' in told.message
    assert "gives 0.3 (row 2)" in told.message
    whole = {
        **compared,
        "rows": [["x", "when", "rate"], ["present", "x < y OR x > 9", 0.3], ["present", "x >= y", 0.1]],
    }
    found = kivvet.RuleTable("t", **whole, promises=["as x rises, rate never falls"]).check().findings
    (told,) = (one for one in found if "promise" in one.message)
    assert (told.kind, "are not linear" in told.message) == ("not-proven", True)


def test_a_question_that_takes_too_long_is_not_proven(monkeypatch):
    table = kivvet.RuleTable("t", **NUMBERS, promises=["as x rises, rate never falls"])._table
    from kivvet.core.promises import decide

    def spent(*_, **__):
        raise BudgetSpentError

    monkeypatch.setattr(decide._Promised, "place", spent)
    (found,) = check_promises(table, 7)
    assert found.kind == "not-proven"
    assert "--budget 70" in found.remedy


BOOK = {
    "tables/k.toml": 'inputs.x = { type = "number", domain = ">= 0" }\noutputs.k = { type = "text", order = ["low", "high"] }\n'
    'promises = ["as x rises, k never falls"]\nrows = [\n  ["< 2", "low"],\n  [">= 2", "high"],\n]\n',
    "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "out.csv"\ncolumns = ["k"]\n',
    "d.csv": "x\n1\n3\n",
}


def test_a_broken_promise_stops_an_apply_and_an_edit(tmp_path, run):
    folder = write_book(tmp_path, BOOK)
    assert run("apply", "d", cwd=folder).code == 0
    path = folder / "tables" / "k.toml"
    before = path.read_text()
    edit = kivvet.open_book(folder).edit("k").set(2, {"k": "low"}).set(1, {"k": "high"})
    with pytest.raises(kivvet.KivvetError, match="never falls"):
        edit.save()
    path.write_text(before.replace('promises = ["as x rises, k never falls"]\n', ""))
    assert "as x rises, k never falls" in run("check", "k", "--propose-promises", cwd=folder).out
    assert run("check", "k", "--propose-promises", "--no-data", cwd=folder).code == 2
