"""The triangle of three inputs that sum to a constant: at every mix it shows what the table gives, lines included."""

from __future__ import annotations

import json
from fractions import Fraction
from itertools import pairwise

import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from tests.conftest import budget, fits_output, write_book
from tests.test_tied_inputs import BEDS, PART, beds

NAMES = ["gravel", "sand", "mud"]


def holds(face, mix):
    """Whether a mix lies within a face, its border left out."""
    around = [*face["corners"], face["corners"][0]]
    turns = []
    for (a, b, _), (c, d, _) in pairwise(around):
        turns.append((c - a) * (float(mix[1]) - b) - (d - b) * (float(mix[0]) - a))
    return all(one > 1e-9 for one in turns) or all(one < -1e-9 for one in turns)


@settings(max_examples=budget(40), deadline=None)
@given(st.integers(0, 200), st.integers(0, 200), st.integers(0, 11))
def test_every_mix_shows_what_the_table_gives(first, second, dropped):
    gravel = Fraction(first, 2)
    sand = min(Fraction(second, 2), 100 - gravel)
    mix = (gravel, sand, 100 - gravel - sand)
    table = beds([*BEDS[:dropped], *BEDS[dropped + 1 :]])
    picture = table.chart().picture.as_dict()
    inside = [face for face in picture["faces"] if holds(face, mix)]
    assert len(inside) < 2
    for face in inside:
        rows = kivvet.RuleTable(
            "bed", dict.fromkeys(NAMES, PART), {"bed": "text"},
            [[*NAMES, "when", "bed"], *BEDS[:dropped], *BEDS[dropped + 1 :]], match="first", otherwise={"bed": "gap"},
        )  # fmt: skip
        made = rows.apply(pd.DataFrame({name: [float(x)] for name, x in zip(NAMES, mix, strict=True)}))
        assert face["label"] == made["bed"][0]


def test_the_faces_are_all_of_the_triangle_and_a_gap_may_be_a_line():
    rows = [list(one) for one in BEDS]
    rows[7][1] = "> 80"
    whole, thin = beds(BEDS).chart().picture, beds(rows).chart().picture
    for picture in (whole, thin):
        assert sum(face.area for face in picture.faces) == pytest.approx(100 * 100)
    assert (whole.kinds, thin.kinds) == ({"class"}, {"class", "gap"})
    assert not whole.edges
    assert {given.kind for _, given in thin.edges} == {"gap"}
    assert all(mix[1] == 80 for ends, _ in thin.edges for mix in ends)
    assert "on a line gap" in thin.words
    assert whole.words.startswith("bed. Of all mixes of gravel, sand, mud: gravel 4 %")


def test_what_statements_and_domains_exclude_is_a_field_of_its_own():
    inputs = {name: {**PART, "domain": "0 to 60"} for name in NAMES}
    table = kivvet.RuleTable("t", inputs, {"y": "text"}, [[*NAMES, "y"], ["", "", "", "any"]], given="gravel + sand + mud = 100")  # fmt: skip
    assert table.check().is_clean
    assert table.chart().picture.kinds == {"class", "excluded"}
    waves = kivvet.RuleTable("w", {"low": "number", "high": "number"}, {"y": "text"}, [["low", "high", "y"], ["< 5", "", "p"], [">= 5", ">= 5", "q"]], given="low <= high")  # fmt: skip
    panel = waves.chart(kind="map").picture.panels[0]
    assert [[given.kind for given in line] for line in panel.given] == [
        ["class", "excluded"],
        ["class", "class"],
    ]


@pytest.mark.parametrize(
    "stated", [[], "gravel + sand = 100", "gravel + 2 * sand + mud = 100", ["gravel + sand + mud = 100", "sand <= depth"], "gravel + sand + mud BETWEEN 99 AND 101"]
)  # fmt: skip
def test_other_tables_are_drawn_as_maps(stated):
    table = kivvet.RuleTable("t", {**dict.fromkeys(NAMES, PART), "depth": "number"}, {"y": "text"}, [[*NAMES, "depth", "y"], ["", "", "", "", "any"]], given=stated)  # fmt: skip
    assert table.chart().picture.as_dict()["kind"] == "map"
    with pytest.raises(kivvet.DataError, match="no three inputs of table 't' sum to a constant"):
        table.chart(kind="triangle")


BOOK = {
    "book.toml": "",
    "tables/bed.toml": """
inputs.gravel = { type = "number", domain = "0 to 100", required = true }
inputs.sand = { type = "number", domain = "0 to 100", required = true }
inputs.mud = { type = "number", domain = "0 to 100", required = true }
inputs.site = "text"
outputs.bed = "text"
given = ["gravel + sand + mud = 100"]
rows = [
  ["gravel", "sand", "mud", "site", "bed"],
  [">= 50", "", "", "", "stones"],
  ["< 50", ">= 30", "", "weir", "bar"],
  ["< 50", ">= 30", "", "not weir", "sand"],
  ["< 50", "< 30", "", "", "soft"],
]
""",
}


def test_the_command_draws_it_with_other_inputs_fixed_and_the_report_has_it(tmp_path, run):
    folder = write_book(tmp_path / "book", BOOK)
    assert run("check", cwd=folder).code == 0
    told = run("chart", "bed", "--set", "site=weir", "--json", cwd=folder)
    assert '"site": "site = weir"' in told.out and fits_output("chart", json.loads(told.out))
    assert '"label": "bar"' in told.out
    assert '"label": "sand"' not in told.out
    assert (folder / "bed-triangle.png").read_bytes()[:4] == b"\x89PNG"
    assert "has no other input 'sight'" in run("chart", "bed", "--set", "sight=weir", cwd=folder).err
    assert "--panels does not go with a triangle" in run("chart", "bed", "--kind", "triangle", "--panels", "site", cwd=folder).err  # fmt: skip
    assert run("report", "--to", "r.html", cwd=folder).code == 0
    assert "all gravel</text>" in (folder / "r.html").read_text()
