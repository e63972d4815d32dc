"""A table of a book beside another version of it: found by name, counted in data, said as it is."""

from __future__ import annotations

import json
import subprocess

import pyarrow as pa
import pytest

import kivvet
from kivvet.core.columns.made_column import MadeColumn
from kivvet.core.run.differing import differing
from tests.conftest import SMALL_BOOK, write_book

PH = SMALL_BOOK["tables/ph_class.toml"]
LIMITS = """\
inputs.ph = { type = "number", step = 0.1 }
inputs.river = "text"
outputs.kept = "boolean"
match = "first"
rows = [
  ["ph", "river", "kept"],
  ["< 6", "Elm", "false"],
  ["", "", "true"],
]
"""


def git(folder, *arguments):
    names = ("-c", "user.name=w", "-c", "user.email=w@example.org")
    subprocess.run(["git", *names, *arguments], cwd=folder, check=True, capture_output=True)


def change(path, before, after):
    text = path.read_text()
    assert before in text
    path.write_text(text.replace(before, after))


@pytest.fixture
def book(tmp_path):
    """A book applied once, under version control, with a bound moved since."""
    folder = write_book(tmp_path / "book", {"tables/limits.toml": LIMITS})
    kivvet.open_book(folder).apply_dataset("samples")
    git(folder, "init", "-q")
    git(folder, "add", "-A")
    git(folder, "commit", "-qm", "as it was")
    change(folder / "tables/ph_class.toml", "6.5", "6.4")
    change(folder / "tables/station.csv", "Ida,007,2001-02-03,Elm", "Ida,007,2001-02-03,Oak")
    return folder


@pytest.mark.parametrize("other", ["last", "HEAD", "before.toml", "../other", "twin"])
def test_another_version_is_found_wherever_it_is(book, run, other):
    (book / "before.toml").write_text(PH)
    (book / "tables/twin.toml").write_text(PH.replace("outputs.ph_class", "# a copy\noutputs.ph_class"))
    write_book(book.parent / "other")
    ran = run("compare", "ph_class", "--against", other, cwd=book)
    assert ran.code == 1 and "meaning differs: 1 region\n" in ran.out
    assert "ph 6.4 to <6.5  acidic  neutral     1  6.4; samples row 1" in ran.out
    assert "1 row of data with another result; read: 4 of samples" in ran.out
    (one,) = kivvet.open_book(book).compare("ph_class", "last").regions
    assert (one.region, one.witness, one.count, one.example_row) == (
        {"ph": "6.4 to <6.5"},
        {"ph": "6.4"},
        1,
        1,
    )
    assert (one.before.results, one.before.rows, one.after.rows) == ({"ph_class": "acidic"}, (1,), (2,))


def test_a_rewritten_table_is_proved_to_mean_the_same(book, run):
    again = '[">= 8.5", "alkaline"], ["6.4 to <7", "neutral"], ["[7, 8.5)", "neutral"], ["<= 6.3 | < 5", "acidic"]'
    change(book / "tables/ph_class.toml", PH[PH.index('  ["<') : PH.rindex("]")].replace("6.5", "6.4"), again)
    git(book, "stash", "-q")
    change(book / "tables/ph_class.toml", "6.5", "6.4")
    kivvet.open_book(book).apply_dataset("samples")
    git(book, "checkout", "-q", "tables")
    git(book, "stash", "pop", "-q")
    ran = run("compare", "ph_class", cwd=book)
    assert (ran.code, ran.out.splitlines()[1]) == (0, "same meaning: no value gets another result")


def test_keys_of_a_lookup_are_compared_and_rows_beside_it_are_taken_from_the_revision(book, run):
    ran = run("compare", "station", "--against", "HEAD", cwd=book)
    assert "station = 007  river Elm  river Oak     2  007; samples row 1" in ran.out
    assert "2 rows of data with another result" in ran.out
    made = json.loads(run("compare", "station", "--against", "HEAD", "--no-data", "--json", cwd=book).out)
    assert made["rows_changed"] is None and made["regions"][0]["count"] is None and not made["same"]


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["ph_clas"], "did you mean 'ph_class'?"),
        (["ph_class", "--against", "HEAD~7"], "nothing called 'HEAD~7'"),
        (["ph_class", "--against", "--output=x"], "nothing called"),
        (["ph_class", "--against", ""], "nothing called ''"),
        (["ph_class", "--against", "lats"], "did you mean 'last'?"),
        (["limits"], "not applied yet"),
        (["limits", "--against", "ph_class"], "share no output"),
        (["later", "--against", "HEAD"], "there was no "),
        (["wider", "--against", "limits"], "input river, only in limits"),
        (["ph_class", "--against", "texts"], "input ph is text in one and number in the other"),
        (["ph_class", "--against", "broken"], "8.5.5"),
        (["ph_class", "--against", ".git"], "nothing called '.git'"),
    ],
)
def test_what_cannot_be_compared_is_said(book, run, arguments, says):
    (book / "tables/later.toml").write_text(LIMITS)
    (book / "tables/wider.toml").write_text(LIMITS.replace("river", "water"))
    (book / "tables/texts.toml").write_text(
        PH[: PH.index("rows")].replace('"number", step = 0.1', '"text"') + "rows = []"
    )
    (book / "tables/broken.toml").write_text(PH.replace(">= 8.5", ">= 8.5.5"))
    ran = run("compare", *arguments, cwd=book)
    assert ran.code in (1, 2) and not ran.out and says in ran.err


def test_a_book_in_no_repository_has_no_revisions(tmp_path, run):
    ran = run("compare", "ph_class", "--against", "HEAD", cwd=write_book(tmp_path / "b"))
    assert ran.code == 2 and "lies in no git repository" in ran.err


def test_what_two_tables_share_is_compared_if_asked(book, run):
    (book / "tables/wider.toml").write_text(
        LIMITS.replace('inputs.river = "text"', 'inputs.water = "text"').replace("river", "water")
    )
    ran = run("compare", "wider", "--against", "limits", "--shared", cwd=book)
    assert ran.code == 1 and "not compared  input river, only in limits" in ran.out
    assert "ph < 6, water not Elm, river = Elm" in ran.out


def test_a_search_that_ends_early_says_that_nothing_is_proven(tmp_path):
    inputs = dict.fromkeys("abcd", "integer")
    heads = [*inputs, "y"]
    rows = [[*(f">= {(n * k) % 7}" for k in range(1, 5)), f"r{n % 3}"] for n in range(40)]
    one, other = (
        kivvet.RuleTable("t", inputs, {"y": "text"}, [heads, *rows, [*[""] * 4, "z"]][:cut], match="first")
        for cut in (42, 41)
    )
    made = other.compare(one, budget=0)
    assert not made.is_same and not made.is_different and "not proven" in str(made)
    with pytest.raises(kivvet.DataError, match="is not proven"):
        other.same_meaning(one, budget=0)
    assert not other.same_meaning(one)
    assert one != other and one.same_meaning(one)


def test_data_that_cannot_be_read_is_said_and_nothing_else_is_lost(book, run):
    (book / "data/samples.csv").unlink()
    ran = run("compare", "ph_class", "--against", "HEAD", cwd=book)
    assert ran.code == 1 and "not counted  samples: " in ran.out and "6.4 to <6.5" in ran.out


@pytest.mark.parametrize(
    ("old", "new", "differs"),
    [
        (pa.array([1.5, None, float("nan"), float("nan")]), pa.array([1.5, None, float("nan"), None]), [3]),
        (pa.array([[1], [1, 2], None, []]), pa.array([[1], [1, 3], [], []]), [1, 2]),
        (pa.array([1, 2, None, 3]), pa.array([1.0, 2.5, None, None]), [1, 3]),
        (pa.array(["1", "x", None, ""]), pa.array([1, 2, None, None]), [1, 3]),
        (pa.array([True, False, None, True]), pa.array([True, True, None, None]), [1, 3]),
    ],
)
def test_values_that_differ_are_told_from_those_that_do_not(old, new, differs):
    pair = [MadeColumn("y", values=values) for values in (old, new)]
    assert differing(*pair).nonzero()[0].tolist() == differs
