"""The table of what benchmarks measure, and the page that is made of it."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from benchmarks import lines
from benchmarks.lines import Line

ROOT = Path(__file__).parents[1]


@pytest.mark.parametrize(
    ("line", "cells"),
    [
        (
            Line("w", 1.5, "s", "polars", 2.0, 0.7),
            ("w", "1.5 s", "polars", "2 s", "0.75", "0.7", "", "reached"),
        ),
        (
            Line("w", 1.5, "s", "polars", 1.0, 1.2),
            ("w", "1.5 s", "polars", "1 s", "1.50", "1.2", "", "MISSED"),
        ),
        (
            Line("w", 1.5, "s", "polars", 1.0, 1.2, 1.3, "a"),
            ("w", "1.5 s", "polars", "1 s", "1.50", "1.2", "1.3 s: a", "at its floor"),
        ),
        (
            Line("w", 1.5, "s", "polars", 1.0, 1.2, 1.2, "a"),
            ("w", "1.5 s", "polars", "1 s", "1.50", "1.2", "1.2 s: a", "MISSED"),
        ),
        (
            Line("w", 1.5, "s", "polars", 1.0, 1.5, 1.2, "a"),
            ("w", "1.5 s", "polars", "1 s", "1.50", "1.5", "", "reached"),
        ),
        (Line("w", 0.6), ("w", "0.6 s", "", "", "", "", "", "")),
        (Line("w", 0.6, target=0.5), ("w", "0.6 s", "", "", "", "0.5 s", "", "reached")),  # a fifth is noise
        (Line("w", 0.61, target=0.5), ("w", "0.61 s", "", "", "", "0.5 s", "", "MISSED")),
        (Line("w", 12_345.6, "ms", "x", 10.0), ("w", "12,346 ms", "x", "10 ms", "1234.56", "", "", "")),
        (Line("w", 1.04, "n^", target=1.2), ("w", "n^1.04", "", "", "", "n^1.20", "", "reached")),
        (Line("w", 3, "s", "nothing", 0.0, 1.0), ("w", "3 s", "nothing", "0 s", "", "1 s", "", "MISSED")),
    ],
)
def test_a_line_tells_the_ratio_where_something_stands_beside_it(line, cells):
    assert line.cells() == cells
    *_, row = lines.table([line]).splitlines()
    assert [cell.strip() for cell in row.strip("|").split("|")] == list(cells)


def test_what_was_measured_is_kept_by_group_and_put_in_its_places(tmp_path, monkeypatch):
    monkeypatch.setattr(lines, "KEPT", tmp_path / "build/kept.json")
    monkeypatch.setattr(lines, "PAGE", tmp_path / "speed.md")
    page = "3 of 9 targets are reached\n<!-- measured: a -->\nold\n<!-- end -->\nand why\n<!-- measured: b -->\n<!-- end -->\n"
    lines.PAGE.write_text(page)
    lines.keep("a", [Line("first", 1.0, target=2.0), Line("second", 5.0, target=2.0)])
    lines.keep("b", [Line("third", 2.0, "MB")])
    lines.keep("c", [Line("fourth", 2.0)])
    lines.keep("b", [Line("third", 3.0, "MB")])
    assert lines.write_page() == ["c"]
    written = lines.PAGE.read_text()
    assert "1 of 2 targets are reached" in written and "old" not in written and "and why" in written
    assert "3 MB" in written and "2 MB" not in written and "fourth" not in written
    assert lines.write_page() == ["c"] and lines.PAGE.read_text() == written


def test_every_group_has_a_place_on_the_page_and_lines_there():
    named = re.findall(
        r'^    "(\w+)": \w+\.(?:comparisons|figures),', (ROOT / "benchmarks/__main__.py").read_text(), re.M
    )
    page = (ROOT / "docs/speed.md").read_text(encoding="utf-8")
    places = dict(re.findall(r"<!-- measured: (\w+) -->\n(.*?)<!-- end -->", page, re.DOTALL))
    assert sorted(named) == sorted(places) and len(named) > 20
    shown = [row for table in places.values() for row in table.splitlines()[2:]]
    assert all(places.values()) and all(row.count("|") == 9 for row in shown)
    verdicts = [row.rsplit("|", 2)[1].strip() for row in shown]
    wanted = [one for one in verdicts if one]
    assert set(wanted) <= {"reached", "at its floor", "MISSED"}
    assert f"{wanted.count('reached')} of {len(wanted)} targets are reached" in page
    assert f"{wanted.count('at its floor')} more stand at a floor" in page
