"""Reviews: marked in the table's file, they hold as long as the table means the same; and reports as Markdown."""

import json
import re

import pytest
from markdown_it import MarkdownIt

import kivvet
from tests.conftest import SMALL_BOOK, write_book
from tests.test_impact import FILES, change


@pytest.fixture
def folder(tmp_path):
    folder = write_book(tmp_path / "b", FILES)
    kivvet.open_book(folder).apply_dataset("d")
    return folder


def kinds(folder):
    return [one.kind for one in kivvet.open_book(folder).check(["band"], data=False)]


def test_a_review_holds_while_the_table_means_the_same(folder, run):
    path = folder / "tables/band.toml"
    assert kivvet.open_book(folder).review("band").reviewed is None and "not-reviewed" not in kinds(folder)
    before = path.read_text()
    review = kivvet.open_book(folder).mark_reviewed("band", reviewer='Ida "I." Ö', note="limits\nof 2027")
    assert (
        path.read_text().replace(
            next(line for line in path.read_text().splitlines(True) if line.startswith("reviewed")), ""
        )
        == before
    )
    assert kivvet.open_book(folder).table("band").apply is not None
    found = kivvet.open_book(folder).review("band")
    assert found.is_current and found.reviewed == review and found.impact is None
    assert kivvet.open_book(folder).status(["d"])[0].state == "current"
    path.write_text("# a comment\n" + path.read_text().replace('"< 2"', '"<  2.0"'))
    assert kivvet.open_book(folder).review("band").is_current and "not-reviewed" not in kinds(folder)
    change(path, "2 to <5", "2 to 4.5")
    assert kivvet.open_book(folder).review("band").is_current  # of halves it is the same
    path.write_text(path.read_text().replace('"<  2.0"', '"< 3"').replace("2 to 4.5", "3 to <5"))
    found = kivvet.open_book(folder).review("band")
    assert not found.is_current and "not-reviewed" in kinds(folder)
    assert str(found.comparison.regions[0]).startswith("x 2 to <3: middle -> low")
    (dataset,) = [one for one in found.impact.datasets if one.dataset == "d"]
    assert next(one.changed for one in dataset.columns if one.column == "band") == 1
    assert "values change in" in run("review", "band", cwd=folder).out
    assert json.loads(run("review", "band", "--json", cwd=folder).out)["current"] is False
    assert "changed since its review" in run("list", cwd=folder).out
    run("review", "band", "--mark", "--note", "again", cwd=folder)
    assert path.read_text().count("reviewed =") == 1 and kivvet.open_book(folder).review("band").is_current


def test_what_was_reviewed_is_remembered_by_the_team(folder):
    (folder / "book.toml").write_text('history = "runs"\n' + (folder / "book.toml").read_text())
    kivvet.open_book(folder).mark_reviewed("band")
    (folder / ".kivvet/journal.sqlite").unlink()
    path = folder / "tables/band.toml"
    path.write_text(path.read_text().replace('"< 2"', '"< 3"').replace("2 to <5", "3 to <5"))
    assert kivvet.open_book(folder).review("band").comparison is not None
    for one in (folder / "runs/meanings").glob("*.json"):
        one.unlink()
    found = kivvet.open_book(folder).review("band")
    assert found.comparison is None and not found.is_current and "not remembered" in str(found)


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("reviewed = true", "reviewed is what kivvet review wrote"),
        ('reviewed = { on = 2026-01-01, version = "abc" }', "it has a day `on`"),
        ('reviewed = { on = 2026-01-01T10:00:00, version = "' + "a" * 64 + '" }', "it has a day `on`"),
        ('reviewed = { on = 2026-01-01, when = 1, version = "' + "a" * 64 + '" }', "'when' is no keyword"),
    ],
)
def test_a_review_in_another_form_is_an_error(tmp_path, line, said, run):
    text = SMALL_BOOK["tables/ph_class.toml"]
    folder = write_book(tmp_path, {"tables/ph_class.toml": f"{line}\n{text}"})
    assert said in str(kivvet.open_book(folder).check(data=False))
    ran = run("review", "ph_class", "--mark", cwd=folder)
    assert ran.code == 0 or "Traceback" not in ran.err


def test_a_file_changed_meanwhile_is_not_marked(folder):
    book = kivvet.open_book(folder)
    change(folder / "tables/band.toml", '"low"', '"lower"')
    with pytest.raises(kivvet.BookError, match="was changed since it was read"):
        book.mark_reviewed("band")
    assert "reviewed" not in (folder / "tables/band.toml").read_text()


def cells(text):
    """The rows of the tables of a Markdown text, as another program reads them."""
    html = MarkdownIt("commonmark").enable("table").render(text)
    rows = re.findall(r"<tr>(.*?)</tr>", html, re.DOTALL)
    return [
        [re.sub(r"<[^>]+>", "", one) for one in re.findall(r"<t[hd][^>]*>(.*?)</t[hd]>", row, re.DOTALL)]
        for row in rows
    ]


def test_markdown_is_read_back_as_what_it_says(folder, run):
    path = folder / "tables/band.toml"
    change(folder / "tables/grade.toml", '"B"', '"_B_ <b> | *x* `q`"')
    ran = run("impact", "--format", "markdown", cwd=folder)
    assert ran.code == 0, ran.err
    head = ["column", "before", "now", "rows", "share", "for example row"]
    rows = cells(ran.out)
    assert rows[rows.index(head) + 1][:5] == ["grade", "B", "_B_ &lt;b&gt; | *x* `q`", "5", "35.7 %"]
    change(path, '"< 2"', '"< 1"')
    ran = run("check", "--format", "markdown", cwd=folder)
    head, *rows = cells(ran.out)
    assert head == ["severity", "kind", "what", "where"] and ran.code == 1
    assert ["error", "gap"] in [row[:2] for row in rows] and "**band**" in ran.out
    assert run("impact", "--json", "--format", "markdown", cwd=folder).code == 2


def test_what_a_table_says_of_itself_is_told_by_list_and_history(folder, run):
    path = folder / "tables/band.toml"
    path.write_text('owner = "desk"\nnote = "from the lab"\n' + path.read_text())
    kivvet.open_book(folder).mark_reviewed("band", reviewer="Ida")
    history = kivvet.open_book(folder).history(["band"])
    assert history.about["band"]["owner"] == "desk" and history.about["band"]["review"].endswith("by Ida")
    told = run("history", "band", cwd=folder).out
    assert "desk" in told and "from the lab" in told and "by Ida" in told
    (listed,) = [one for one in kivvet.open_book(folder).overview().tables if one.name == "band"]
    assert (listed.owner, listed.note) == ("desk", "from the lab") and listed.reviewed.endswith("by Ida")
