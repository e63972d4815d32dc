"""`kivvet explain`: rows of a dataset, values that somebody types in, and what careless questions get."""

import json

import pytest

import kivvet
from tests.conftest import golden, write_book
from tests.conftest import kivvet as run

RULES = """\
inputs.ph = { type = "number", step = 0.1 }
inputs.river = "text"
outputs.ph_class = { type = "text", order = ["fine", "odd"] }
match = "first"
missing = { ph_class = "odd" }
rows = [
  ["ph", "river", "when", "ph_class"],
  ["< 6.5", "", "", "odd"],
  ["", "Ash", "id >= 2 AND id < seen", "odd"],
  ["present", "", "", "fine"],
]
"""


@pytest.fixture
def folder(tmp_path):
    return write_book(
        tmp_path,
        {
            "tables/ph_class.toml": RULES,
            "data/samples.csv": "id,station,ph,remark,seen\n1,007,6.40,x,4\n2,008,7.1,,4\n3,9,,,4\n",
        },
    )


def test_a_row_of_a_dataset(folder):
    golden("explain/row.txt", run("explain", "samples", "--row", "2", cwd=folder).out)


def test_a_row_with_a_missing_input(folder):
    golden("explain/missing.txt", run("explain", "samples", "--row", "3", cwd=folder).out)


def test_values_for_a_table_and_for_a_dataset(folder):
    ran = run(
        "explain",
        "ph_class",
        "--set",
        "ph=7",
        "--set",
        "river=Ash",
        "--set",
        "id=3",
        "--set",
        "seen=3",
        cwd=folder,
    )
    golden("explain/values.txt", ran.out)
    made = json.loads(
        run("explain", "samples", "--set", "station=008", "--set", "ph=6.4", "--json", cwd=folder).out
    )["explanations"]
    assert [(one["table"], one["decided"], one["rows"], one["results"]) for one in made] == [
        ("station", "matched", [2], {"river": "Ash", "opened": None}),
        ("ph_class", "matched", [1], {"ph_class": "odd"}),
    ]


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["samples"], "say which row"),
        (["samples", "--row", "1", "--set", "ph=3"], "say which row"),
        (["samples", "--row", "4"], "there is no row 4"),
        (["samples", "--row", "0"], "there is no row 0"),
        (["sample", "--row", "1"], "did you mean 'samples'?"),
        (["samples", "--row", "1", "--table", "statoin"], "did you mean 'station'?"),
        (["ph_class", "--set", "ph=acid"], "ph = 'acid' is no number"),
        (["ph_class", "--set", "pH=3"], "reads no column 'pH'"),
        (["ph_class", "--set", "ph"], "is not NAME=VALUE"),
    ],
)
def test_careless_questions_are_answered_in_words(folder, arguments, says):
    ran = run("explain", *arguments, cwd=folder)
    assert ran.code in (1, 2)
    assert says in ran.err.replace("\n", " ")
    assert not ran.out


def test_errors_of_the_table_come_first(folder):
    (folder / "tables" / "ph_class.toml").write_text(RULES.replace('"< 6.5"', '"9 to 5"'))
    ran = run("explain", "samples", "--row", "1", "--table", "ph_class", cwd=folder)
    assert ran.code == 1
    assert "no value meets ph 9 to 5" in ran.err


def test_plain_values_in_code():
    table = kivvet.RuleTable(
        "t",
        {"a": "integer", "b": "date"},
        {"y": "number"},
        [["a", "b", "y"], ["> 3", "", 0.5]],
        otherwise={"y": 1},
    )
    said = table.explain({"a": 2, "b": None, "other": 7})
    assert (said.decided, said.rows, said.results) == ("unmatched", (), {"y": 1})
    assert (
        str(said)
        == "y = 1 (unmatched)\n  row 1: a > 3: needs a > 3, is 2, 2 too low\n  a >= 4 would give 0.5"
    )
    with pytest.raises(kivvet.DataError, match="reads column 'a', which has another type"):
        table.explain({"a": "2"})
    with pytest.raises(kivvet.DataError, match="no value that a table reads"):
        table.explain({"a": object()})
