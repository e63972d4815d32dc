"""Statements that always hold, and inputs fed from one column: linear statements are decided, of others what is found is possible
until data shows it.
"""

import pytest

import kivvet
from tests.conftest import write_book

GAP = [["a", "b", "y"], ["< 5", "", "p"], [">= 5", "< 5", "q"]]


def gaps(given, rows=GAP, inputs=None):
    inputs = inputs or {"a": "number", "b": "number"}
    table = kivvet.RuleTable("t", inputs, {"y": "text"}, rows, given=given)
    return [(one.possible, one.severity) for one in table.check().of_kind("gap")]


PROVEN, POSSIBLE = [(False, "error")], [(True, "warning")]


@pytest.mark.parametrize(
    ("given", "wanted"),
    [
        (None, PROVEN),
        ("a <= b", PROVEN),
        ("a > b", PROVEN),
        ("a + b = 100", PROVEN),
        ("a + b < 10", []),
        (["a <= c", "c + b < 11"], PROVEN),
        (["a <= c", "c + b < 10", "a >= c"], []),  # tied through a third column
        ("a <= c", PROVEN),  # there is always such a c
        ("a < 5", []),  # of one column alone
        ("c < d", PROVEN),
        ("a * b = 25", POSSIBLE),
        (["a * c = 1", "c <= b"], POSSIBLE),
        ("a * c = 1", PROVEN),  # of which the place constrains one column
        (["a * c = 1", "a + b < 10"], []),
    ],
)
def test_linear_statements_are_decided_and_others_leave_possible(given, wanted):
    assert gaps(given) == wanted


@pytest.mark.parametrize(
    ("given", "told"),
    [
        (["a < b", "b < c", "c <= a", "a > 0"], "a < b, b < c, c <= a: they contradict each other"),
        (["a + b > 10", "a < 3"], "a + b > 10 and the domains of its inputs: they contradict"),
        ("2 * a = 2 * b + 1", "2 * a = 2 * b + 1: it contradicts itself"),  # of whole numbers
    ],
)
def test_statements_that_contradict_each_other_are_told_the_fewest_that_do(given, told):
    inputs = {name: {"type": "integer", "domain": "-5 to 5"} for name in "abc"}
    table = kivvet.RuleTable(
        "t", inputs, {"y": "text"}, [["a", "b", "c", "y"], ["", "", "", "x"]], given=given
    )
    (clash,) = table.check()
    assert clash.severity == "error"
    assert told in clash.message


def test_a_part_that_is_not_linear_is_named_and_the_rest_counts():
    table = kivvet.RuleTable(
        "t", {"a": "number", "b": "number"}, {"y": "text"}, GAP, given="a + b < 10 AND a * b <> 3"
    )
    (note,) = table.check()
    assert (note.kind, note.severity) == ("not-proven", "note")
    assert note.message.startswith("what a * b <> 3, a part of a + b < 10 AND a * b <> 3, excludes")


def test_a_domain_counts_as_a_constraint_of_its_column():
    rows = [["a", "b", "y"], ["< 5", "", "p"]]
    limited = {"a": "number", "b": {"type": "number", "domain": "< 3"}}
    assert gaps("a <= b", rows, limited) == []
    assert gaps("a <= b", rows, {**limited, "b": {"type": "number", "domain": "< 9"}}) == PROVEN
    assert gaps("a <= b", rows) == PROVEN


def test_a_table_of_one_input_heeds_a_statement_of_its_column():
    rows = [["< 5", "p"]]
    assert gaps("a < 5", rows, {"a": "number"}) == []
    assert gaps("a <= 5", rows, {"a": "number"}) == PROVEN
    assert gaps("a < c", rows, {"a": "number"}) == PROVEN
    overlapping = kivvet.RuleTable(
        "t", {"a": "number"}, {"y": "text"}, [["< 5", "p"], [">= 4", "q"]], given="a <> 4.5"
    )
    assert [(one.possible, one.severity) for one in overlapping.check().of_kind("overlap")] == PROVEN


BOOK = {
    "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "o.csv"\ncolumns = ["both"]\n',
    "tables/place.toml": 'inputs.code = "text"\noutputs.river = "text"\noutputs.kind = "text"\nlookup = "place.csv"\n',
    "tables/place.csv": "code,river,kind\n1,Elm,stream\n2,Fen,drain\n",
    "tables/both.toml": """
inputs.river = { type = "text", domain = ["Elm", "Fen"] }
inputs.kind = { type = "text", domain = ["stream", "drain"] }
outputs.both = "text"
rows = [["river", "kind", "both"], ["Elm", "stream", "x"], ["Fen", "drain", "y"]]
""",
    "d.csv": "code\n1\n2\n",
    "tables/station.toml": None,  # which has an output of the same name
}


def test_two_outputs_of_one_lookup_leave_possible_gaps_until_data_falls_there(tmp_path):
    folder = write_book(tmp_path, BOOK)
    book = kivvet.open_book(folder)
    found = book.check(["both"]).of_kind("gap")
    assert {(one.possible, one.severity, one.count) for one in found} == {(True, "warning", 0)}
    assert book.apply_dataset("d").rows == 2, "a possible gap stops nothing"
    (folder / "tables/place.csv").write_text("code,river,kind\n1,Elm,stream\n2,Elm,drain\n")
    found = kivvet.open_book(folder).check(["both"]).of_kind("gap")
    assert (False, "error", 1) in {(one.possible, one.severity, one.count) for one in found}


def test_two_columns_of_the_source_leave_proven_gaps(tmp_path):
    folder = write_book(tmp_path, {**BOOK, "d.csv": "river,kind\nElm,stream\n"})
    assert {one.possible for one in kivvet.open_book(folder).check(["both"]).of_kind("gap")} == {False}


def test_the_row_of_data_that_two_rows_match_is_counted_over_batches(tmp_path, monkeypatch):
    from kivvet.io import csv_source

    monkeypatch.setattr(csv_source, "_BLOCK_BYTES", 256)
    rows = "".join(f"{number},0\n" for number in range(300))
    folder = write_book(
        tmp_path,
        {
            "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "o.csv"\ncolumns = ["t"]\n',
            "tables/t.toml": 'inputs.a = "integer"\noutputs.t = "text"\notherwise = { t = "none" }\nrows = [["a", "when", "t"], ["> 5", "b > 0 OR b > a", "x"], ["> 7", "b > 0 OR b > a", "y"]]\n',
            "d.csv": f"a,b\n{rows}9,1\n",
        },
    )
    with pytest.raises(kivvet.DataError, match="the first is row 301, which rows 1, 2 match"):
        kivvet.open_book(folder).apply_dataset("d")
    assert not (folder / "o.csv").exists()


@pytest.mark.parametrize(
    ("given", "inputs", "rows"),
    [
        ("b IN (2, 4)", {"a": "integer", "b": "integer"}, [["3", "missing"], ["4", "present"]]),
        ("a < b", {"a": "integer", "b": "integer"}, [["< 3", "> 0"]]),
        ("b >= 7.5", {"a": "number", "b": "number"}, [["< 3", "< 9"], [">= 3", "> 9"]]),
    ],
)
def test_an_example_breaks_no_statement_of_its_table(given, inputs, rows):
    named = [["a", "b", "y"], *([*row, f"r{n}"] for n, row in enumerate(rows))]
    table = kivvet.RuleTable("t", inputs, {"y": "text"}, named, given=[given])
    gaps = [one for one in table.check() if one.kind == "gap"]
    assert gaps
    for gap in gaps:
        values = {name: None if text == "missing" else float(text) for name, text in gap.witness.items()}
        a, b = values["a"], values["b"]
        broken = {"b IN (2, 4)": b not in (2, 4, None), "a < b": a is not None and b is not None and not a < b, "b >= 7.5": b is not None and b < 7.5}  # fmt: skip
        assert not broken[given], (gap.message, gap.witness)
