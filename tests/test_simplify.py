"""A simpler table means the same, is never longer, and its file keeps what stays, to the letter."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given

import kivvet
from kivvet.core.compare.simplify import simplify
from kivvet.core.words.errors import TableError
from kivvet.rule_table import rule_table, value_of
from tests.conftest import write_book
from tests.test_compare_meaning import exact, given_by, places, versions


@exact
@given(versions())
def test_a_simpler_table_gives_every_value_the_same_and_is_never_longer(tables):
    table = tables[0]
    doubled = [*table.rows, *table.rows[:2]]
    rows = tuple(replace(row, number=number) for number, row in enumerate(doubled, 1))
    table = replace(table, rows=rows)
    try:
        made = simplify(table)
    except TableError:
        return
    assert made.after.n_rows <= table.n_rows and made.is_smaller is (made.after != table)
    for values in places((table, table)):
        assert given_by(table, values) == given_by(made.after, values), values
    numbers = [number for one in made.kept for number in (one.number, *one.took)]
    assert sorted([*numbers, *made.dropped]) == [row.number for row in table.rows]
    assert rule_table(made.after).simplified() == rule_table(made.after) or made.after.match == "every"


WORDY = """\
# a table that grew
inputs.oxygen = { type = "number", step = 0.1 }
inputs.method = "text"
outputs.verdict = "text"
match = "first"

rows = [
  ["oxygen",  "method",     "verdict"],
  ["< 4",     "kit",        "poor"],    # from the field #1
  ["4 to <6", "kit",        "fair"],
  ["< 4",     "strip",      "poor"],    # strips too
  # above all this is good
  [">= 6",    "",           "good"], ["< 3", "kit", "bad"],     # never
  ["6",       "kit",        "good"],
  ["",        "",           "unsure"] ]
title = "Kept"
"""
SIMPLER = """\
# a table that grew
inputs.oxygen = { type = "number", step = 0.1 }
inputs.method = "text"
outputs.verdict = "text"
match = "first"

rows = [
  ["oxygen",  "method",     "verdict"],
  ["< 4",     "kit | strip", "poor"],    # from the field #1; strips too
  ["4 to <6", "kit",        "fair"],
  # above all this is good
  [">= 6",    "",           "good"],     # never
  ["",        "",           "unsure"] ]
title = "Kept"
"""


@pytest.mark.parametrize("line_end", ["\n", "\r\n"])
def test_in_its_file_what_stays_is_as_it_was(tmp_path, run, line_end):
    folder = write_book(tmp_path / "b", {"tables/wordy.toml": WORDY.replace("\n", line_end).encode()})
    path = folder / "tables/wordy.toml"
    shown = run("simplify", "wordy", cwd=folder)
    assert "wordy: 7 rows -> 4; the same meaning, which is proved" in shown.out
    assert "joined   row 1 takes in row 3" in shown.out and "dropped  rows 5, 6, which never" in shown.out
    assert '-  ["< 4",     "strip",      "poor"],    # strips too' in shown.out
    assert path.read_bytes() == WORDY.replace("\n", line_end).encode()
    before = kivvet.open_book(folder).table("wordy")
    assert run("simplify", "wordy", "--write", cwd=folder).out.endswith("written\n")
    assert path.read_bytes() == SIMPLER.replace("\n", line_end).encode()
    assert kivvet.open_book(folder).table("wordy").same_meaning(before)
    assert "nothing to simplify" in run("simplify", "wordy", "--write", cwd=folder).out


def test_rows_in_a_file_beside_it_keep_their_lines_and_join_their_notes(tmp_path, run):
    rows = '\ufeffverdict,oxygen,note\n"po""or",< 2,field\n"po""or",2 to <4,"strips, too"\ngood,>= 4,\nbad,< 1,\n'
    table = 'inputs.oxygen = "number"\noutputs.verdict = "text"\nmatch = "first"\nrows = "deep/wordy.csv"\n'
    folder = write_book(
        tmp_path / "b", {"tables/wordy.toml": table, "tables/deep/wordy.csv": rows.encode("utf-8")}
    )
    assert run("simplify", "wordy", "--write", cwd=folder).code == 0
    assert (folder / "tables/deep/wordy.csv").read_text(encoding="utf-8") == (
        '\ufeffverdict,oxygen,note\n"po""or",< 4,"field; strips, too"\ngood,>= 4,\n'
    )


@pytest.mark.parametrize(
    ("rows", "simpler"),
    [
        ([["< 5", "a"], ["5 to <6", "a"], ["6 to <7", "b"], [">= 7", "c"], ["missing", "c"]], ["< 6", "6 to <7", ">= 7 | missing"]),
        ([["< 5", "a"], ["> 9", "a"], ["5 to 9", "b"]], ["< 5", "> 9", "5 to 9"]),
        ([["1", "a"], ["3", "a"], ["2", "b"]], ["1 | 3", "2"]),
        ([["< 5", "a"], [">= 5", "a"], ["missing", "a"]], ["any"]),
    ],
)  # fmt: skip
def test_stretches_are_joined_where_they_touch(rows, simpler):
    made = kivvet.RuleTable("t", {"x": "number"}, {"y": "text"}, rows).simplified()
    assert [line.split('"')[1] for line in str(made).split("\n") if line.startswith("  [")] == simpler


def test_what_cannot_be_simplified_is_said(tmp_path, run):
    torn = 'inputs.x = "number"\noutputs.y = "text"\nrows = [["< 5", "a"], ["< 3", "b"]]\n'
    folder = write_book(tmp_path / "b", {"tables/torn.toml": torn})
    assert "is a lookup" in run("simplify", "station", cwd=folder).err
    assert "overlap" in run("simplify", "torn", cwd=folder).err
    assert "did you mean 'torn'" in run("simplify", "tron", cwd=folder).err
    made = kivvet.RuleTable("t", {"x": "number"}, {"y": "text"}, [["< 5", "a"], [">= 5", "b"]])
    assert made.simplified() == made and value_of(made.simplified()) == value_of(made)
