"""What a check says of data: each kind of finding, with the true number of rows."""

import pytest

import kivvet
from tests.conftest import write_book


def findings(tmp_path, table, fields, **files):
    """Check a book of one table `t` and a column `x` with these fields; return {kind: finding}."""
    book = '[datasets.d]\nsource = "x.csv"\ntarget = "out.csv"\ncolumns = ["t"]\n'
    rows = "".join(f"{n},{field}\n" for n, field in enumerate(fields))
    nothing = dict.fromkeys(
        ("tables/ph_class.toml", "tables/station.toml", "tables/station.csv", "data/samples.csv")
    )
    folder = write_book(
        tmp_path, {**nothing, "book.toml": book, "tables/t.toml": table, "x.csv": "n,x\n" + rows, **files}
    )
    return {one.kind: one for one in kivvet.open_book(folder).check()}


BINS = 'inputs.x = { type = "number"%s }\noutputs.y = "text"\nrows = [["< 1", "low"], [">= 1", "high"]]\n'
VALUES = (
    'inputs.x = { type = "text"%s }\noutputs.y = "text"\nrows = [["North | South", "p"], ["East", "q"]]\n'
)

CASES = [
    # table, fields, kind, rows, words of the message
    (BINS % "", ["", "2", " "], "missing-input", 2, "their results are missing"),
    (BINS % ', domain = "[0, 2]"', ["-1", "0", "2", "7", "7"], "out-of-domain", 3, "7 (2), -1 (1)"),
    (BINS % ", step = 0.5", ["0.25", "0.5", "1.25"], "finer-than-step", 2, "finer than the step 0.5"),
    (BINS % "", ["1.0000000000000002", "0.9999999999999999", "1"], "near-edge", 2, "within rounding error"),
    (BINS % "", ["0.5", "0.6"], "unused", 0, "row 2: >= 1"),
    (VALUES % "", ["North", "north", "SOUTH ", "East"], "near-miss", 2, "upper and lower case and blanks"),
    (VALUES % "", ["North", "Nort", "West", "West"], "unmatched", 3, "'West' (2), 'Nort' (1)"),
    (VALUES % ', domain = ["North", "South", "East"]', ["West", "North"], "out-of-domain", 1, "'West' (1)"),
    (VALUES % ', shape = "Aaaa"', ["North", "7", "?"], "out-of-domain", 2, "outside the shape"),
    (VALUES % ', fold = ["case", "space"]', [" NORTH", "West"], "unmatched", 1, "'West' (1)"),
]


@pytest.mark.parametrize(("table", "fields", "kind", "rows", "said"), CASES)
def test_what_data_shows_is_told_with_its_rows(tmp_path, table, fields, kind, rows, said):
    finding = findings(tmp_path, table, fields)[kind]
    assert finding.count == rows
    assert said in finding.message


@pytest.mark.parametrize(
    ("table", "fields", "absent"),
    [
        (BINS % ", step = 0.1", ["0.30000000000000004", "1"], "finer-than-step"),
        (BINS % ", step = 0.5", ["1.0000000000000002", "1"], "near-edge"),
        (VALUES % ', fold = ["case", "space"]', ["north ", "East"], "near-miss"),
        (VALUES % "", ["North", "", "East"], "unmatched"),
        (BINS % "", ["0", "1"], "unused"),
    ],
)
def test_what_is_as_it_should_be_is_not_told(tmp_path, table, fields, absent):
    assert absent not in findings(tmp_path, table, fields)


def test_a_gap_has_the_rows_that_fall_into_it_and_they_are_not_told_twice(tmp_path):
    table = (
        'inputs.x = "number"\noutputs.y = "text"\nrows = [["< 20", "a"], ["20 to 39", "b"], ["> 40", "c"]]\n'
    )
    found = findings(tmp_path, table, ["39.5", "40", "39", "41", "39.2"])
    assert (found["gap"].count, found["gap"].dataset) == (3, "d")
    assert "unmatched" not in found


def test_otherwise_makes_the_unmatched_a_note_that_says_what_they_get(tmp_path):
    found = findings(tmp_path, VALUES % "" + 'otherwise = { y = "rest" }\n', ["West"])["unmatched"]
    assert found.severity == "note" and "otherwise gives y = rest" in found.message


def test_a_missing_result_that_never_applies_is_told(tmp_path):
    table = 'inputs.x = "number"\noutputs.y = "text"\nmissing = { y = "none" }\nmatch = "first"\nrows = [["< 1", "a"], ["any", "b"]]\n'
    assert (
        "row 2 (any: b) holds missing values too" in findings(tmp_path, table, ["1", "0"])["unused"].message
    )


def test_a_stale_target_is_a_warning_and_severities_may_be_chosen(tmp_path):
    table = BINS % ""
    findings(tmp_path, table, ["0", "1"])
    kivvet.open_book(tmp_path).apply_dataset("d")
    found = findings(tmp_path, table.replace("high", "top"), ["0", "1"])
    assert "y of" in found["stale"].message and found["stale"].severity == "warning"
    own = table.replace("high", "top") + '[severity]\nmissing-input = "error"\n'
    assert findings(tmp_path, own, ["0", "", "1"])["missing-input"].severity == "error"


def test_a_source_that_cannot_be_read_is_a_finding_of_its_dataset(tmp_path):
    found = findings(tmp_path, BINS % "", ["0"], **{"x.csv": "n,x\n1\n"})
    assert found["unreadable"].dataset == "d" and found["unreadable"].places[0].line == 2
