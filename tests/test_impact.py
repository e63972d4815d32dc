"""What changed rules would move: counted as applying both and comparing by hand counts it, and nothing is written."""

from __future__ import annotations

import json
import subprocess
from collections import Counter

import pandas as pd
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import kivvet
from tests.conftest import budget, write_book

BOOK = """\
[datasets.d]
source  = "d.csv"
target  = "out/d.csv"
columns = [{ table = "band", row = "by" }, "grade", "load", "share"]

[datasets.high]
source  = "d.csv"
target  = "out/high.csv"
columns = ["band", "grade"]
where   = "grade = 'A'"

[summaries.by_band]
from    = "d"
by      = ["band"]
values  = { total = "SUM(load)" }
target  = "out/by_band.csv"
columns = ["size"]
"""
BAND = 'inputs.x = { type = "number", step = 0.5 }\noutputs.band = "text"\nmissing = { band = "none" }\nrows = [\n  ["< 2", "low"],\n  ["2 to <5", "middle"],\n  [">= 5", "high"],\n]\n'
GRADE = 'inputs.band = "text"\noutputs.grade = "text"\nrows = [["low", "C"], ["middle", "B"], ["high", "A"], ["none", "D"]]\n'
SIZE = 'inputs.total = "number"\noutputs.size = "text"\nrows = [["< 8", "small"], [">= 8", "big"]]\n'
FORMULAS = 'load = "x * 2"\nshare = "load / SUM(load) OVER (PARTITION BY band)"\n'
DATA = "id,x\n" + "".join(f"{n},{'' if n == 4 else n / 2}\n" for n in range(14))
FILES = {
    "book.toml": BOOK,
    "tables/band.toml": BAND,
    "tables/grade.toml": GRADE,
    "tables/size.toml": SIZE,
    "formulas.toml": FORMULAS,
    "d.csv": DATA,
    "tables/ph_class.toml": None,
    "tables/station.toml": None,
    "tables/station.csv": None,
}


def change(path, before, after):
    text = path.read_text()
    assert before in text
    path.write_text(text.replace(before, after))


@pytest.fixture
def folder(tmp_path):
    made = write_book(tmp_path / "b", FILES)
    book = kivvet.open_book(made)
    for name in ("d", "high", "by_band"):
        book.apply_dataset(name)
    return made


def of(impact, dataset):
    return next(one for one in impact.datasets if one.dataset == dataset)


def column(impact, dataset, name):
    return next((one for one in of(impact, dataset).columns if one.column == name), None)


def test_without_a_change_nothing_is_read_and_nothing_changes(folder, run):
    made = kivvet.open_book(folder).impact()
    assert made.is_nothing and made.largest_share == 0 and all(one.rows == 0 for one in made.datasets)
    assert run("impact", cwd=folder).out.endswith("nothing changes\n")
    change(
        folder / "tables/band.toml", '["2 to <5", "middle"]', '["2 to <3", "middle"], ["3 to <5", "middle"]'
    )
    ran = run("impact", "high", "by_band", "--fail-if", "moved > 0", cwd=folder)
    assert ran.code == 0 and "nothing changes: rules are written otherwise and mean the same" in ran.out
    assert kivvet.open_book(folder).status()[1].state == "current"
    assert {one.column for one in of(kivvet.open_book(folder).impact(), "d").columns} == {"by"}  # row numbers


def test_a_moved_bound_moves_its_rows_and_what_follows(folder, run):
    change(folder / "tables/band.toml", '"< 2"', '"< 3"')
    change(folder / "tables/band.toml", "2 to <5", "3 to <5")
    before = {path: path.read_bytes() for path in folder.rglob("*") if path.is_file()}
    made = kivvet.open_book(folder).impact()
    band = column(made, "d", "band")
    assert (band.rows, band.changed, band.follows, band.made_by) == (14, 1, False, "band")
    (move,) = band.moves
    assert (move.before, move.after, move.count) == ("middle", "low", 1)
    assert (move.example.row, move.example.values) == (6, {"x": "2.5"})
    assert dict(band.pairs)["low", "low"] == 4 and sum(band.pairs.values()) == 14
    assert band.classes == (("low", 4, 5), ("middle", 5, 4), ("high", 4, 4), ("none", 1, 1))
    grade = column(made, "d", "grade")
    assert grade.follows and grade.changed == 1 and grade.moves[0].example.values == {"band": "low"}
    assert column(made, "d", "share").changed == 8 and column(made, "d", "load") is None
    assert column(made, "d", "by").examples[0].before == "2"
    assert of(made, "high").entering == of(made, "high").leaving == 0
    summed = column(made, "by_band", "total")
    assert summed.changed == 2 and summed.examples[0].values == {"band": "low"}
    assert column(made, "by_band", "size").moves[0].before == "small"
    assert before == {path: path.read_bytes() for path in folder.rglob("*") if path.is_file()}
    said = run("impact", cwd=folder).out
    assert (
        "x 2 to <3: middle -> low" in said and "1  middle -> low" in said and "such as row 6: x = 2.5" in said
    )
    assert "values change in 8 rows of d" in said
    assert run("impact", "--fail-if", "moved > 70 %", cwd=folder).code == 0
    assert run("impact", "--fail-if", "moved > 5 %", cwd=folder).code == 1
    values = json.loads(run("impact", "--json", cwd=folder).out)
    assert values["datasets"][0]["columns"][0]["moves"][0]["example"]["row"] == 6


def test_rows_that_are_kept_come_and_go(folder):
    change(folder / "tables/grade.toml", '["high", "A"]', '["high", "B"]')
    change(folder / "tables/grade.toml", '["middle", "B"]', '["middle", "A"]')
    high = of(kivvet.open_book(folder).impact(), "high")
    assert (high.entering, high.leaving) == (5, 4) and not high.is_nothing


def test_a_formula_changes_its_column_and_not_by_rounding(folder, run):
    change(folder / "formulas.toml", "x * 2", "x * 4")
    made = kivvet.open_book(folder).impact(["load"])
    load = column(made, "d", "load")
    assert load.changed == 12 and [one.before for one in load.examples] == ["1", "2", "3"]
    assert column(made, "d", "share").changed == 0  # both parts of the share double
    assert made.formulas[0].before == "x * 2" and not made.tables
    assert kivvet.open_book(folder).impact(["band"]).is_nothing
    assert "x * 2 -> x * 4" in run("impact", "d", cwd=folder).out


@pytest.mark.parametrize("against", ["HEAD", "../other", "before.toml"])
def test_rules_are_held_against_a_revision_a_book_or_a_file(folder, run, against):
    for arguments in (
        ["init", "-q"],
        ["add", "-A"],
        ["-c", "user.name=w", "-c", "user.email=w@x", "commit", "-qm", "1"],
    ):
        subprocess.run(["git", *arguments], cwd=folder, check=True, capture_output=True)
    write_book(folder.parent / "other", FILES)
    (folder / "before.toml").write_text(BAND)
    change(folder / "tables/band.toml", '"< 2"', '"< 3"')
    change(folder / "tables/band.toml", "2 to <5", "3 to <5")
    (folder / "tables/later.toml").write_text(GRADE.replace("grade", "later"))
    (folder / "out/d.csv").unlink()
    names = ["band"] if against.endswith(".toml") else []
    made = kivvet.open_book(folder).impact(names, against=folder / against if "." in against else against)
    assert column(made, "d", "band").changed == 1 and column(made, "d", "grade").follows
    assert made.new == (() if names else ("later",))
    assert "cannot be told: it was not applied yet" in run("impact", "d", cwd=folder).out


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["bnad"], "did you mean 'band'?"),
        (["--against", "lsat"], "did you mean 'last'?"),
        (["--against", "HEAD"], "in no git repository"),
        (["--fail-if", "many"], "is nothing to fail by"),
        (["--fail-if", "moved > 200 %"], "is nothing to fail by"),
        (["--against", "broken.toml", "band"], "9.9.9"),
    ],
)
def test_what_cannot_be_asked_is_said(folder, run, arguments, says):
    (folder / "broken.toml").write_text(BAND.replace("< 2", "< 9.9.9"))
    ran = run("impact", *arguments, cwd=folder)
    assert ran.code in (1, 2) and says in ran.err


def test_what_keeps_a_dataset_from_being_told_is_said_and_the_others_are_told(folder, run):
    change(folder / "tables/band.toml", '"< 2"', '"< 3"')  # an overlap
    ran = run("impact", "--fail-if", "moved > 1 %", cwd=folder)
    assert ran.code == 1 and "cannot be told: 1 error: kivvet check" in ran.out
    change(folder / "tables/band.toml", "2 to <5", "3 to <5")
    (folder / "d.csv").write_text("id,x\n1,many\n")
    assert "cannot be told" in run("impact", cwd=folder).out


def test_a_type_that_changed_is_a_difference_like_any_other(folder, run):
    change(folder / "tables/size.toml", 'inputs.total = "number"', 'inputs.total = "text"')
    change(folder / "tables/size.toml", '["< 8", "small"], [">= 8", "big"]', '["none", "small"]')
    ran = run("impact", cwd=folder)
    assert ran.code == 0 and "input total is number in one and text in the other" in ran.out
    assert kivvet.open_book(folder).impact().tables[0].options[0].region == "types"


bounds = st.lists(st.integers(0, 12), min_size=2, max_size=2, unique=True).map(sorted)


@settings(max_examples=budget(22), deadline=None)
@given(bounds, bounds, st.lists(st.one_of(st.none(), st.integers(0, 14)), min_size=1, max_size=30))
def test_pairs_of_classes_are_those_that_applying_both_gives(tmp_path_factory, old, new, values):
    folder = write_book(tmp_path_factory.mktemp("b"), {**FILES, "d.csv": "id,x\n" + "".join(f"1,{'' if v is None else v / 2}\n" for v in values)})  # fmt: skip

    def write(low, high):
        rows = [[f"< {low / 2}", "low"], [f"{low / 2} to <{high / 2}", "middle"], [f">= {high / 2}", "high"]]
        (folder / "tables/band.toml").write_text(BAND[: BAND.index("rows")] + f"rows = {json.dumps(rows)}\n")
        return kivvet.open_book(folder)

    frame = pd.DataFrame({"x": [None if v is None else v / 2 for v in values]}, dtype=float)
    then = list(write(*old).apply(frame, ["band"])["band"])
    kivvet.open_book(folder).apply_dataset("d")
    book = write(*new)
    now = list(book.apply(frame, ["band"])["band"])
    found = column(book.impact(), "d", "band")
    if found is None:
        assert then == now
    else:
        assert Counter(dict(found.pairs)) == Counter(zip(then, now, strict=True))
        assert found.changed == sum(a != b for a, b in zip(then, now, strict=True))
        for move in found.moves:
            row = move.example.row - 1
            assert (then[row], now[row]) == (move.before, move.after)
            assert row == next(n for n, pair in enumerate(zip(then, now, strict=True)) if pair == (move.before, move.after))  # fmt: skip
