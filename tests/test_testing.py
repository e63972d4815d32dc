"""Helpers for other people's tests: what they assert, the rows they draw, and a book collected as tests."""

from __future__ import annotations

import subprocess
import sys

import pandas as pd
import pytest
from hypothesis import find, given, settings
from hypothesis import strategies as st

import kivvet
from kivvet.testing import (
    assert_classified,
    assert_clean,
    assert_moves_at_most,
    assert_same_meaning,
    rows_for,
)
from tests.conftest import budget, write_book

ROWS = [["oxygen", "method", "status"], ["< 4", "", "poor"], ["4 to 8", "probe", "good"], ["4 to 8", "kit | strip", "watch"], ["> 8", "", "good"]]  # fmt: skip
INPUTS = {
    "oxygen": {"type": "number", "domain": "0 to 14"},
    "method": {"type": "text", "domain": "probe | kit | strip", "required": True},
}


def status(rows=ROWS, **more):
    return kivvet.RuleTable("status", INPUTS, {"status": "text"}, rows, **more)


def test_a_clean_table_is_one_and_faults_are_shown():
    assert_clean(status())
    with pytest.raises(AssertionError, match="oxygen 4 to 8, method = probe is covered by no row"):
        assert_clean(status([ROWS[0], ROWS[1], *ROWS[3:]]))


def test_a_frame_is_classified_or_its_values_are_named():
    frame = pd.DataFrame({"oxygen": [1, 5, 9], "method": ["probe", "kit", "strip"]})
    assert_classified(status(), frame)
    with pytest.raises(AssertionError, match="oxygen 4 to 14 is covered by no row"):
        assert_classified(status([ROWS[0], ROWS[1]]), frame)
    named = kivvet.RuleTable("method", {"method": "text"}, {"how": "text"}, [["probe", "p"], ["kit", "k"]])
    with pytest.raises(AssertionError, match=r"method: no row of method holds strip \(1\); 1 rows of data"):
        assert_classified(named, frame)


def test_two_versions_mean_the_same_for_all_values_or_not():
    other = status([*ROWS[:3], ["4 to 8", "strip | kit", "watch"], ROWS[4]])
    assert_same_meaning(status(), other)
    with pytest.raises(AssertionError, match="meaning differs"):
        assert_same_meaning(status(), status([*ROWS[:4], ["> 8", "", "very good"]]))


@settings(max_examples=budget(60), deadline=None)
@given(st.data())
def test_drawn_rows_are_rows_of_the_table_and_edges_come_soon(data):
    table = status()
    row = data.draw(rows_for(table))
    assert set(row) == {"oxygen", "method"}
    assert row["method"] in ("probe", "kit", "strip")
    assert row["oxygen"] is None or 0 <= row["oxygen"] <= 14
    explained = table.explain(row)
    assert explained.decided == ("missing" if row["oxygen"] is None else "matched")


@pytest.mark.parametrize("edge", [0, 4, 8, 14, None])
def test_every_edge_of_a_table_is_drawn(edge):
    assert find(rows_for(status()), lambda row: row["oxygen"] == edge, settings=settings(max_examples=2_000))


@pytest.mark.parametrize(
    ("about", "kind"),
    [("integer", int), ("date", object), ("boolean", bool), ({"type": "number", "step": 0.5}, float)],
)
def test_rows_are_drawn_of_every_type(about, kind):
    cells = {"date": ["< 2026-01-01", ">= 2026-01-01"], "boolean": ["true", "false"]}.get(
        str(about), ["< 3", ">= 3"]
    )
    table = kivvet.RuleTable(
        "t", {"a": about}, {"y": "text"}, [[one, f"c{n}"] for n, one in enumerate(cells)]
    )

    @settings(max_examples=20, deadline=None)
    @given(rows_for(table))
    def check(row):
        assert row["a"] is None or isinstance(row["a"], kind)
        assert table.explain(row).decided in ("matched", "missing")

    check()


BOOK = {
    "book.toml": '[datasets.d]\nsource = "d.csv"\ntarget = "o.csv"\ncolumns = ["status"]\n',
    "tables/status.toml": """
inputs.oxygen = "number"
outputs.status = { type = "text", order = ["poor", "good"] }
promises = ["as oxygen rises, status never falls"]
examples = [["oxygen", "status"], ["3", "poor"], ["9", "good"]]
rows = [["oxygen", "status"], ["< 4", "poor"], [">= 4", "good"]]
""",
    "d.csv": "oxygen\n3\n9\n",
}


def collected(folder, *options):
    done = subprocess.run(
        [sys.executable, "-m", "pytest", "-p", "no:cacheprovider", "-p", "no:xdist", "-v", "--no-header", "-c", "/dev/null", "--rootdir", str(folder), *options],
        cwd=folder, capture_output=True, text=True, check=False, timeout=120,
    )  # fmt: skip
    return done.returncode, done.stdout + done.stderr


def test_a_book_is_collected_as_tests_one_each(tmp_path):
    folder = write_book(
        tmp_path / "book", {**BOOK, "tables/ph_class.toml": None, "tables/station.toml": None}
    )
    names = [path.stem for path in (folder / "tables").glob("*.toml")]
    code, told = collected(folder, "--kivvet", "--kivvet-data")
    assert code == 0, told
    for one in ("can be read", "check[status]", "example[status-1]", "example[status-2]", "promise[status: as oxygen rises, status never falls]", "data[d]"):  # fmt: skip
        assert f"{one} PASSED" in told, (one, told, names)
    table = folder / "tables/status.toml"
    table.write_text(
        table.read_text()
        .replace('["< 4", "poor"]', '["< 4", "good"]')
        .replace('[">= 4", "good"]', '[">= 4", "poor"]')
    )
    code, told = collected(folder, "--kivvet")
    assert code == 1
    assert "check[status] PASSED" in told
    assert "example[status-1] FAILED" in told
    assert "example 1 (oxygen = 3): status is to be poor and is good" in told
    assert "promise[status: as oxygen rises, status never falls] FAILED" in told
    assert "Traceback" not in told


def test_nothing_is_collected_unless_asked(tmp_path):
    folder = write_book(tmp_path / "book", BOOK)
    assert "no tests ran" in collected(folder)[1]
    (folder / "pytest.ini").write_text(f"[pytest]\nkivvet_books = {folder}\n")
    _, told = collected(folder, "-c", str(folder / "pytest.ini"))
    assert "example[status-1] PASSED" in told, told


def test_a_change_moves_at_most_a_share(tmp_path):
    folder = write_book(tmp_path / "book", BOOK)
    kivvet.open_book(folder).apply_dataset("d")
    assert_moves_at_most(folder, 0)
    table = folder / "tables/status.toml"
    table.write_text(table.read_text().replace("4", "2").replace('["3", "poor"]', '["1", "poor"]'))
    assert_moves_at_most(folder, 0.5, ["status"])
    with pytest.raises(AssertionError, match="poor -> good"):
        assert_moves_at_most(folder, 0.1)
