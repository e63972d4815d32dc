"""How figures, places and errors read."""

import pytest

from kivvet.core.words.errors import BookError, KivvetError, TableError
from kivvet.core.words.findings import KINDS, Report, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count, did_you_mean, listed
from kivvet.show.findings import places_text
from kivvet.show.terminal import bar, percent


@pytest.mark.parametrize(
    ("part", "whole", "text"),
    [
        (0, 10, "0.0 %"),
        (1, 3, "33.3 %"),
        (1, 10_000, "< 0.1 %"),
        (3, 3, "100.0 %"),
        (0, 0, "0.0 %"),
        (2999, 3000, "100.0 %"),
    ],
)
def test_shares_never_read_as_nothing_where_there_is_something(part, whole, text):
    assert percent(part, whole) == text


@pytest.mark.parametrize(("share", "text"), [(0, ""), (1, "████"), (0.5, "██"), (0.125, "▌"), (1 / 32, "▏")])
def test_bars_are_drawn_in_eighths(share, text):
    assert bar(share, 4) == text


def test_numbers_and_lists_are_written_for_people():
    assert (count(1, "row"), count(1200, "row"), count(2, "class", "classes")) == (
        "1 row",
        "1,200 rows",
        "2 classes",
    )
    assert listed(range(5), 3) == "0, 1, 2, ... and 2 more"
    assert listed([]) == "none"
    assert did_you_mean("oxigen", ["ph", "Oxygen"]) == "did you mean 'Oxygen'?"
    assert did_you_mean("zzz", ["ph"]) is None


def test_places_name_each_file_once():
    places = (Place("a.toml", 3, 1), Place("a.toml", 9, 1), Place("b.csv", 2), Place("c"))
    assert places_text(places) == "a.toml:3, 9, b.csv:2, c"
    assert places_text(tuple(Place("a", n) for n in range(1, 8))) == "a:1, 2, 3, 4 and 3 more"


def test_an_error_says_where_what_was_expected_what_was_found_and_what_to_do():
    error = KivvetError("has no rows", place=Place("x.csv", 1), expected="a row", found="none", fix="add one")
    assert str(error) == "x.csv:1: has no rows\n  expected  a row\n  found     none\n  fix       add one"
    assert BookError("x").exit_code == 2


def test_a_table_error_lists_its_findings_and_ends_a_long_list():
    error = TableError([finding("gap", f"g{n}", table="t") for n in range(15)])
    assert error.problem == "15 errors in t"
    assert str(error).endswith("... and 3 more")


def test_a_report_is_sorted_and_refuses_to_be_true_or_false():
    report = Report.of(
        [
            finding("open", "o", table="b"),
            finding("gap", "g", table="b"),
            finding("gap", "g", table="a", rows=(2,)),
            finding("gap", "g", table="a", rows=(1,)),
        ],
        ["a", "b"],
    )
    assert [(one.table, one.kind, one.rows) for one in report] == [
        ("a", "gap", (1,)),
        ("a", "gap", (2,)),
        ("b", "gap", ()),
        ("b", "open", ()),
    ]
    assert (report.has_errors, report.is_clean, len(report)) == (True, False, 4)
    with pytest.raises(TypeError, match="is_clean"):
        bool(report)


def test_every_kind_of_finding_is_described_in_the_docs():
    from pathlib import Path

    page = (Path(__file__).parents[1] / "docs/findings.md").read_text(encoding="utf-8")
    assert [
        kind
        for kind in KINDS
        if f"`{kind}`" not in page
        and f"### {kind}" not in page
        and f"{kind}," not in page
        and f"{kind} (" not in page
    ] == []
