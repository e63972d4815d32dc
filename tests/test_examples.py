"""Cases kept with a table or a formula: what comes out otherwise is an error, and names the row that decides."""

from __future__ import annotations

import datetime as dt
import json

import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

import kivvet
from tests.conftest import write_book
from tests.test_compare_meaning import exact, given_by, places, versions

QUALITY = """\
inputs.oxygen = { type = "number", step = 0.1 }
inputs.method = "text"
outputs.verdict = "text"
match = "first"
rows = [
  ["oxygen", "method", "verdict"],
  ["< 4",  "",         "poor"],
  [">= 4", "kit",      "fair"],
  [">= 4", "",         "good"],
]
"""
CASES = 'oxygen,note,method,verdict\n3.9,,kit,poor\n4,just enough,kit,fair\n,,kit,missing\n"4",,"missing","good"\n'


@pytest.fixture
def folder(tmp_path):
    table = QUALITY + 'examples = "cases/quality.csv"\n'
    formulas = (
        'double = { formula = "oxygen * 2", examples = [["oxygen", "double"], ["1.5", "3"], ["", ""]] }\n'
    )
    formulas = formulas.replace('["", ""]', '["", "missing"]')
    source = "id,oxygen,method\n1,3.9,kit\n2,4,kit\n3,9,lab\n"
    book = '[datasets.d]\nsource = "d.csv"\ntarget = "out.csv"\ncolumns = ["verdict", "double"]\n'
    return write_book(
        tmp_path / "b",
        {
            "book.toml": book,
            "tables/ph_class.toml": None,
            "tables/station.toml": None,
            "tables/station.csv": None,
            "tables/verdict.toml": table,
            "tables/cases/quality.csv": CASES,
            "formulas.toml": formulas,
            "d.csv": source,
        },
    )


def change(path, before, after):
    text = path.read_text()
    assert before in text
    path.write_text(text.replace(before, after))


def test_examples_that_hold_say_nothing(folder, run):
    assert run("check", cwd=folder).code == 0
    assert run("apply", cwd=folder).code == 0
    (one, *_) = kivvet.open_book(folder).table("verdict").examples
    assert (one.number, one.values["method"], one.expected, one.place.line) == (
        1,
        "kit",
        {"verdict": "poor"},
        2,
    )


def test_an_example_breaks_where_a_bound_moves(folder, run):
    kivvet.open_book(folder).apply_dataset("d")
    change(folder / "tables/verdict.toml", "4", "4.1")
    said = run("check", "--no-data", cwd=folder)
    assert said.code == 1
    assert "example 2 (just enough): verdict is to be fair and is poor; row 1 decides" in said.out
    assert "at tables/cases/quality.csv:3, tables/verdict.toml:7:3" in said.out
    assert "example 4 (oxygen = 4, method = missing): verdict is to be good and is poor" in said.out
    refused = run("apply", cwd=folder)
    assert refused.code == 1 and "just enough" in refused.err and "nothing was written" in refused.err
    assert "2 errors in verdict, which would stop an apply" in run("status", cwd=folder).out
    assert "decides  row 1" in run("explain", "d", "--row", 2, cwd=folder).out  # why is asked all the more
    compared = run("compare", "verdict", cwd=folder)
    assert "tells them apart: example 2 (just enough): verdict fair -> poor" in compared.out
    book = kivvet.open_book(folder)
    with pytest.raises(kivvet.TableError, match="just enough"):
        book.apply(pd.DataFrame({"oxygen": [1.0], "method": ["kit"]}), ["verdict"])
    with pytest.raises(kivvet.TableError, match="just enough"):
        book.table("verdict").apply(pd.DataFrame({"oxygen": [1.0], "method": ["kit"]}))
    text = (folder / "tables/verdict.toml").read_text()
    (folder / "tables/verdict.toml").write_text(text + 'severity = { example = "warning" }\n')
    assert run("apply", cwd=folder).code == 0


def test_a_formula_keeps_examples_too(folder, run):
    change(folder / "formulas.toml", "* 2", "* 3")
    said = run("check", "--no-data", cwd=folder)
    assert "example 1 (oxygen = 1.5): it is to be 3 and is 4.5" in said.out and "double" in said.out
    assert run("check", cwd=folder).out.count("is to be 3") == 1
    assert "is to be 3" in run("apply", cwd=folder).err
    (folder / "book.toml").write_text(
        'severity = { example = "warning" }\n' + (folder / "book.toml").read_text()
    )
    assert run("apply", cwd=folder).code == 0 and run("check", cwd=folder).code == 0
    (folder / "twice.csv").write_text("oxygen,double\n2,6\n3,8\n")
    change(folder / "formulas.toml", '[["oxygen", "double"], ["1.5", "3"], ["", "missing"]]', '"twice.csv"')
    assert "at twice.csv:3" in run("check", "--no-data", cwd=folder).out


@pytest.mark.parametrize(
    ("examples", "says"),
    [
        ([["oxygem", "verdict"], ["1", "poor"]], "did you mean 'oxygen'?"),
        ([["oxygen", "verdict"], ["1", "por"]], "which the table never gives"),
        ([["oxygen", "verdict"], ["1", "por"]], "did you mean 'poor'?"),
        ([["oxygen", "verdict"], ["x", "poor"]], "in example 1, oxygen is 'x'; expected a number"),
        ([["oxygen", "verdict"], ["1", ""]], "example 1 expects nothing"),
        ([["oxygen", "method"], ["1", "kit"]], "examples expect nothing"),
        ([["oxygen", "verdict"], ["1"]], "1 cell where the headings have 2"),
        ([["oxygen", "verdict", "verdict"], ["1", "poor", "poor"]], "two columns of examples"),
        ("verdict", "examples are rows, headings first"),
    ],
)
def test_examples_that_cannot_be_understood_are_said(examples, says):
    inputs = {"oxygen": "number", "method": "text"}
    rows = [["oxygen", "method", "verdict"], ["< 4", "", "poor"], [">= 4", "", "good"]]
    with pytest.raises(kivvet.TableError, match=says.replace("?", "[?]")):
        made = kivvet.RuleTable("t", inputs, {"verdict": "text"}, rows, examples=examples)
        made.apply(pd.DataFrame({"oxygen": [1.0], "method": ["kit"]}))


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ('examples = "none.csv"', "there is no such file"),
        ('examples = "cases"', "is no file of rows"),
        ('examples = "empty.csv"', "the file is empty"),
    ],
)
def test_a_file_of_examples_that_cannot_be_read_is_said(folder, run, text, says):
    (folder / "tables/empty.csv").write_text("")
    change(folder / "tables/verdict.toml", 'examples = "cases/quality.csv"', text)
    assert says in run("check", "--no-data", cwd=folder).out


def test_a_formula_over_rows_has_no_examples(folder, run):
    change(folder / "formulas.toml", "oxygen * 2", "SUM(oxygen) OVER (PARTITION BY method)")
    assert "looks at other rows" in run("check", "--no-data", cwd=folder).out


ROWS = [["x", "y"], ["< 3", "a"], ["2 to 5", "b"]]


@pytest.mark.parametrize(
    ("combine", "expected", "holds"),
    [
        ("list", ["a; b"], True),
        ("list", ["b; a"], True),
        ("list", ["a"], False),
        ("join", ["a, b"], True),
        ("flags", ["b; a"], True),
        ("count", [2], True),
    ],
)
def test_several_results_are_expected_together(combine, expected, holds):
    kind = {"type": "text", "combine": combine}
    made = kivvet.RuleTable("t", {"x": "number"}, {"y": kind}, ROWS, match="every", examples=[["x", "y"], [2.5, *expected], [9, 0 if combine == "count" else "missing"]])  # fmt: skip
    assert ("example" not in {one.kind for one in made.check().findings}) is holds


# Keeping a case

HEADS = '["oxygen", "method", "verdict"]'


@pytest.mark.parametrize(
    ("before", "after"),
    [
        ("", '\nexamples = [\n  ["oxygen", "method", "verdict"],\n  ["3.9", "kit", "poor"],\n]\n'),
        ("[severity]\ngap = 'note'\n", '\nexamples = [\n  ["oxygen", "method", "verdict"],\n  ["3.9", "kit", "poor"],\n]\n\n[severity]\ngap = \'note\'\n'),
        ("examples = []  # none\n", 'examples = [\n  ["oxygen", "method", "verdict"],\n  ["3.9", "kit", "poor"],\n]  # none\n'),
        (f'examples = [{HEADS}, ["9", "", "good"]]', f'examples = [{HEADS}, ["9", "", "good"],\n  ["3.9", "kit", "poor"],\n]'),
        (f'examples = [\n {HEADS},  # h\n ["9", "", "good"] # c\n]', f'examples = [\n {HEADS},  # h\n ["9", "", "good"], # c\n  ["3.9", "kit", "poor"],\n]'),
        ('examples = [\n ["oxygen", "verdict"],\n ["3", "poor",],\n]', 'examples = [\n ["oxygen", "verdict", "method"],\n ["3", "poor", ""],\n  ["3.9", "poor", "kit"],\n]'),
        ('examples = "c.csv"', 'examples = "c.csv"'),
    ],
)  # fmt: skip
def test_the_row_explained_is_kept_as_an_example(folder, run, before, after):
    path, rows = folder / "tables/verdict.toml", folder / "tables/c.csv"
    path.write_text(QUALITY + before)
    rows.write_text("verdict,oxygen,method\ngood,9,lab")
    added = run("explain", "d", "--row", 1, "--as-example", cwd=folder)
    assert added.out.rstrip().split("\n")[-1].startswith("added as example ")
    assert path.read_text() == QUALITY + after
    if "c.csv" in before:
        assert rows.read_text() == "verdict,oxygen,method\ngood,9,lab\npoor,3.9,kit\n"
    assert "is there already" in run("explain", "d", "--row", 1, "--as-example", cwd=folder).out
    assert run("check", "--no-data", cwd=folder).code == 0
    noted = run("explain", "verdict", "--set", "oxygen=", "--as-example", "--note", "x", "--json", cwd=folder)
    assert json.loads(noted.out)["example"]["cells"] == {
        "oxygen": "",
        "method": "",
        "verdict": "missing",
        "note": "x",
    }
    assert kivvet.open_book(folder).table("verdict").examples[-1].note == "x"


def test_the_text_missing_is_no_missing_value(tmp_path, run):
    table = 'inputs.x = "text"\noutputs.y = "text"\nrows = [["a", "\\"missing\\""], ["\\"missing\\"", "q"]]\n'
    folder = write_book(tmp_path / "b", {"tables/odd.toml": table})
    for value in ("a", "missing", ""):
        assert run("explain", "odd", "--set", f"x={value}", "--as-example", cwd=folder).code == 0
    examples = kivvet.open_book(folder).table("odd").examples
    assert [one.values.get("x") for one in examples] == ["a", "missing", None]
    assert [one.expected["y"] for one in examples] == ["missing", "q", None]
    assert run("check", "odd", "--no-data", cwd=folder).code == 0


@exact
@given(versions(), st.data())
def test_examples_hold_just_where_the_definitions_say_so(tables, data):
    """Each place of the table as an example, expecting what a loop over the rows gives, or something else."""
    from dataclasses import replace

    from kivvet.core.run.examples import run_examples
    from kivvet.core.words.examples import Example

    table = replace(tables[0], inputs=tuple(replace(one, shape=None) for one in tables[0].inputs))
    if table.match == "every":
        return
    cases = [
        values
        for values in places((table, table))
        if all(one is None or isinstance(one, (str, dt.date)) or abs(one) <= 2**53 for one in values)
    ][:40]
    examples = []
    for number, values in enumerate(cases, 1):
        expected = given_by(table, values)
        wanted = None if expected in ("missing", "no row") else expected
        read = {one.name: value for one, value in zip(table.inputs, values, strict=True)}
        examples.append(Example(number, read, {"y": wanted}))
    for one in run_examples(table, examples):
        assert one.example.expected["y"] == "disagree" or not one.broken, one
