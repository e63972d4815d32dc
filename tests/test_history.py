"""What was applied when, by whom and by which rules; and any of it done again, bit for bit."""

import json
import shutil
import sqlite3
from contextlib import closing

import pyarrow.parquet as pq
import pytest

import kivvet
from tests.conftest import write_book
from tests.test_impact import FILES, change


@pytest.fixture
def folder(tmp_path):
    folder = write_book(tmp_path / "b", FILES)
    kivvet.open_book(folder).apply_dataset("d", note="the first")
    return folder


def three_changes(folder):
    """Change a table, a formula and the dataset itself, each followed by a refresh."""
    kept = [(folder / "out/d.csv").read_bytes()]
    for path, before, after in (
        ("tables/band.toml", '"< 2"', '"<= 2.5"'),
        ("formulas.toml", "x * 2", "x * 3"),
        ("book.toml", '"load"', '{ formula = "load", as = "weight" }'),
    ):
        text = (folder / path).read_text()
        if path == "tables/band.toml":
            text = text.replace("2 to <5", ">2.5 to <5")
        (folder / path).write_text(text.replace(before, after))
        kivvet.open_book(folder).refresh(["d"])
        kept.append((folder / "out/d.csv").read_bytes())
    return kept


def told(folder):
    return [one for one in kivvet.open_book(folder).history().runs if one.run.dataset == "d"]


def test_each_run_is_told_with_what_it_changed(folder):
    three_changes(folder)
    first, second, third, fourth = told(folder)
    assert first.is_first and first.run.note == "the first" and first.run.who
    assert [name for name, _ in second.rules] == ["band"]
    assert "band changed: 2 to 2.5: middle -> low" in str(kivvet.open_book(folder).history(["d"]))
    assert ("band", "low", 4, 5) in second.classes and ("band", "middle", 5, 4) in second.classes
    assert [(name, str(one)) for name, (one,) in third.rules] == [("load", "formula: x * 2 -> x * 3")]
    assert not fourth.rules and not fourth.classes
    versions = kivvet.open_book(folder).history(["band"]).versions
    assert [(one.name, one.first.id, one.last.id) for one in versions] == [
        ("band", first.run.id, first.run.id),
        ("band", second.run.id, fourth.run.id),
    ]


@pytest.mark.parametrize("is_lost", [False, True], ids=["journal", "team"])
def test_a_past_run_is_done_again_bit_for_bit_after_three_changes(folder, is_lost):
    if is_lost:
        path = folder / "book.toml"
        path.write_text('history = "runs"\n' + path.read_text())
        kivvet.open_book(folder).apply_dataset("d")
    kept = three_changes(folder)
    if is_lost:
        shutil.rmtree(folder / ".kivvet")
        assert len(list((folder / "runs").glob("*.json"))) == 4
    runs = told(folder)
    for one, content in zip(runs, kept, strict=True):
        done = kivvet.open_book(folder).apply_as_of("d", one.run.id, folder / "out/then.csv")
        assert (
            done.is_same_bytes and done.is_same_source and (folder / "out/then.csv").read_bytes() == content
        )
        done = kivvet.open_book(folder).apply_as_of("d", one.run.id[:6], folder / "out/then.parquet")
        assert done.is_same_counts and pq.read_table(folder / "out/then.parquet").num_rows == one.rows
    assert kivvet.open_book(folder).status(["d"])[0].state == "current"


def test_the_rules_of_then_may_be_applied_to_the_source_of_today(folder):
    book = folder / "book.toml"
    book.write_text(book.read_text().replace('"load", "share"]', '"load"]'))
    kivvet.open_book(folder).apply_dataset("d")
    with_share, first = (one.run for one in told(folder))
    source = folder / "d.csv"
    source.write_text(source.read_text() + "99,1.0\n")
    grown = kivvet.open_book(folder).apply_as_of("d", first.id, folder / "out/then.csv")
    assert grown.is_same_bytes  # what came after is left out
    shares = kivvet.open_book(folder).apply_as_of("d", with_share.id, folder / "out/then.csv")
    assert shares.is_same_bytes  # of the rows of then alone
    source.write_text("\n".join(source.read_text().splitlines()[:-4]) + "\n")
    with pytest.raises(kivvet.BookError, match="is not what it was on"):
        kivvet.open_book(folder).apply_as_of("d", first.id, folder / "out/then.csv")
    done = kivvet.open_book(folder).apply_as_of("d", first.id, folder / "out/then.csv", any_source=True)
    assert not done.is_same_source and done.report.rows < first.record.rows


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("d", "--as-of", "zzz", "--to", "out/t.csv"), "no run of d is named 'zzz'"),
        (("d", "--as-of", "2001-01-01", "--to", "out/t.csv"), "no run of d until 2001-01-01 is remembered"),
        (("d", "--as-of", "", "--to", "out/t.csv"), "no run of d is named ''"),
        (("d", "--as-of", "20", "--to", "d.csv"), ""),
        (("d", "--as-of", "2999-01-01", "--to", "d.csv"), "is a file of the book"),
        (("d", "--as-of", "2999-01-01", "--to", "out/d.csv"), "is a file of the book"),
        (("d", "--as-of", "2999-01-01", "--to", "t.txt"), "is of a kind this version does not write"),
        (("d", "--as-of", "2999-01-01"), "--as-of RUN and --to FILE go together"),
        (
            ("d", "--as-of", "2999-01-01", "--to", "t.csv", "--note", "x"),
            "takes no --replace, no --note and no --engine",
        ),
        (("nope", "--as-of", "2999-01-01", "--to", "t.csv"), "no dataset 'nope'"),
    ],
)
def test_what_cannot_be_done_again_is_said(run, folder, words, said):
    before = {
        path: path.read_bytes() for path in folder.rglob("*") if path.is_file() and "kivvet" not in path.name
    }
    ran = run("apply", *words, cwd=folder)
    assert ran.code == 2 and said in ran.out + ran.err
    assert all(path.read_bytes() == content for path, content in before.items())


def test_damage_and_later_versions_cost_only_what_they_touch(run, folder):
    path = folder / "book.toml"
    path.write_text('history = "runs"\n' + path.read_text())
    kivvet.open_book(folder).apply_dataset("d", note="kept")
    (folder / "runs/20260101T000000Z-d-00000000.json").write_text("{")
    (folder / "runs/20260101T000001Z-d-00000001.json").write_text(json.dumps({"version": 9, "run": {}}))
    with closing(sqlite3.connect(folder / ".kivvet/journal.sqlite")) as journal:
        journal.execute("UPDATE runs SET record = '{}' WHERE note = 'the first'")
        journal.execute("PRAGMA user_version = 99")
        journal.commit()
    history = kivvet.open_book(folder).history()
    assert [one.run.note for one in history.runs] == ["kept"] and not history.n_earlier
    assert not kivvet.open_book(folder).history(first=1).n_earlier
    assert len(history.problems) == 2 and "2 files cannot be read" in history.problems[1]
    assert "1 of its runs cannot be read" in history.problems[0]
    report = kivvet.open_book(folder).apply_dataset("d")
    assert any("begun by a newer Kivvet" in note for note in report.notes)
    (folder / ".kivvet/journal.sqlite").write_bytes(b"no database")
    assert "cannot be read" in run("history", cwd=folder).out
    assert kivvet.open_book(folder).apply_dataset("d").notes


def test_the_journal_shrinks_when_asked_and_keeps_the_last_runs(run, folder):
    for _ in range(40):
        kivvet.open_book(folder).apply_dataset("d", note="x" * 2_000)
    size = (folder / ".kivvet/journal.sqlite").stat().st_size
    assert run("history", "--shrink-to", f"{size // 4000} KB", cwd=folder).code == 0
    assert (folder / ".kivvet/journal.sqlite").stat().st_size < size / 2
    left = told(folder)
    assert 0 < len(left) < 41
    done = kivvet.open_book(folder).apply_as_of("d", left[0].run.id, folder / "out/then.csv")
    assert done.is_same_bytes
    assert run("history", "--shrink-to", "much", cwd=folder).code == 2


def test_fields_carry_the_table_and_the_version_that_made_them(tmp_path):
    folder = write_book(
        tmp_path, {**FILES, "book.toml": FILES["book.toml"].replace("out/d.csv", "out/d.parquet")}
    )
    kivvet.open_book(folder).apply_dataset("d")

    def versions():
        schema = pq.read_schema(folder / "out/d.parquet")
        return {
            field.name: (field.metadata[b"rules"].decode(), field.metadata[b"rules_version"].decode())
            for field in schema
            if field.metadata and b"rules" in field.metadata
        }

    before = versions()
    change(folder / "formulas.toml", "x * 2", "x * 3")
    kivvet.open_book(folder).refresh(["d"])
    after = versions()
    assert before["band"] == after["band"] and before["band"][0] == "band"
    assert before["load"][1] != after["load"][1] and "x" not in after
    versions_told = kivvet.open_book(folder).history(["load"]).versions
    assert [one.fingerprint for one in versions_told] == [before["load"][1], after["load"][1]]


def test_a_definition_reads_again_as_the_table_whatever_its_columns_are_called():
    from kivvet.core.read.meaning import definition_of, table_fingerprint, table_of
    from kivvet.core.read.table_parser import parse_table

    outputs = {"a": {"type": "text", "column": "z"}, "b": {"type": "text", "column": "y"}}
    rows = [["in b", "in a", "z", "y"], ["x", "1", "p", "r"], ["any", "missing", "q", "s"]]
    inputs = {"b": {"type": "text", "column": "in b"}, "a": {"type": "integer", "column": "in a"}}
    given = {"inputs": inputs, "outputs": outputs, "rows": rows, "match": "first"}
    table, faults = parse_table("t", given)
    assert not faults and len(table.rows) == 2
    again = table_of("t", json.loads(json.dumps(definition_of(table))))
    assert table_fingerprint(again) == table_fingerprint(table) and len(again.rows) == 2


def test_a_book_whose_own_folder_cannot_be_written_is_applied_and_says_what_is_not_noted(small_book, run):
    (small_book / ".kivvet").write_text("in the way")
    done = run("apply", cwd=small_book)
    assert done.code == 0 and "note  the run is not noted in .kivvet/journal.sqlite" in done.out
    assert (small_book / "out/samples.csv").exists()
    for command in (["status"], ["check"], ["history"], ["impact"], ["explain", "samples", "--row", "1"]):
        said = run(*command, cwd=small_book)
        assert said.code == 0 and "Traceback" not in said.out + said.err
    assert (small_book / ".kivvet").read_text() == "in the way"


@pytest.mark.parametrize("where", ["journal", "team", "both"])
def test_the_last_runs_alone_are_those_of_all_runs(run, folder, where):
    """What is read of thousands of runs to show a few is held against reading all of them."""
    book = folder / "book.toml"
    text = book.read_text()
    if where != "journal":
        book.write_text('history = "runs"\n' + text)
    three_changes(folder)
    for number, (before, now) in enumerate((("x * 3", "x * 4"), ("", ""), ("x * 4", "x * 3"))):
        change(folder / "formulas.toml", before, now)
        kivvet.open_book(folder).apply_dataset("d", note=str(number))
    if where == "team":
        shutil.rmtree(folder / ".kivvet")
    every = kivvet.open_book(folder).history()
    assert not every.n_earlier
    for first in range(1, len(every.runs) + 2):
        some = kivvet.open_book(folder).history(first=first)
        assert some.runs == every.runs[-first:] and some.problems == every.problems
        assert some.n_earlier == ({"d": len(every.runs) - first} if first < len(every.runs) else {})
        named = kivvet.open_book(folder).history(["d", "band"], first=first)
        assert named.runs == some.runs and named.n_earlier == some.n_earlier
        assert named.versions == kivvet.open_book(folder).history(["band"]).versions
    said = run("history", "--first", "2", cwd=folder).out
    assert f"... {len(every.runs) - 2} earlier runs; more with --first" in said
    told = json.loads(run("history", "--first", "2", "--json", cwd=folder).out)
    assert len(told["runs"]) == 2 and told["n_earlier"] == {"d": len(every.runs) - 2}
