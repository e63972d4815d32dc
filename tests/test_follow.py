"""Columns follow their rules: what is stale and why, refreshed once, and then there is nothing to do."""

import os
import shutil

import pytest

import kivvet
from kivvet.io import files, source_and_target
from kivvet.io.files import state_of
from tests.conftest import SMALL_BOOK, write_book

PH = SMALL_BOOK["tables/ph_class.toml"]


@pytest.fixture
def fresh(tmp_path):
    folder = write_book(tmp_path)
    kivvet.open_book(folder).apply_dataset("samples")
    return folder


def change(folder, name, before, after):
    path = folder / name
    text = path.read_text()
    assert before in text
    path.write_text(text.replace(before, after))


def status(folder):
    (one,) = kivvet.open_book(folder).status()
    return one


def test_a_target_is_current_once_it_is_written(fresh):
    assert status(fresh).state == "current"
    (done,) = kivvet.open_book(fresh).refresh()
    assert done.report is None


@pytest.mark.parametrize(
    ("name", "before", "after"),
    [
        ("tables/ph_class.toml", "rows = [", "# a comment\ntitle = 'Class'\nrows = ["),
        ("tables/ph_class.toml", "6.5 to <8.5", "[6.50, 8.5)"),
        ("tables/ph_class.toml", "step = 0.1", 'step = 0.10, domain = "[0, 14]"'),
        ("tables/station.csv", "keeper,", "warden,"),
        (
            "tables/ph_class.toml",
            '  ["< 6.5",       "acidic"],\n  ["6.5 to <8.5", "neutral"],',
            '  ["6.5 to <7", "neutral"],\n  ["7 to <8.5", "neutral"],\n  ["< 6.5", "acidic"],',
        ),
        ("tables/station.csv", "Ida", "Eve"),
    ],
)
def test_what_does_not_change_the_meaning_makes_nothing_stale(fresh, name, before, after):
    change(fresh, name, before, after)
    assert status(fresh).state == "current"


def test_a_bound_between_two_steps_is_told_as_what_finer_values_would_get(fresh):
    change(fresh, "tables/ph_class.toml", "6.5 to <8.5", "6.5 to 8.4")
    now = status(fresh)
    assert (now.state, now.stale_columns) == ("stale", ("ph_class",))
    assert [str(one) for one in now.reasons[0].changes] == [
        ">8.4 to <8.5: neutral, matched -> nothing, unmatched"
    ]


@pytest.mark.parametrize(
    ("name", "before", "after", "columns", "changes"),
    [
        ("tables/ph_class.toml", "alkaline", "basic", ("ph_class",), [">= 8.5: alkaline -> basic"]),
        ("tables/ph_class.toml", "6.5", "6.6", ("ph_class",), ["6.5 to <6.6: neutral -> acidic"]),
        (
            "tables/ph_class.toml",
            "not measured",
            "none",
            ("ph_class",),
            ["missing: not measured -> none"],
        ),
        ("tables/station.csv", "Ash", "Oak", ("river", "how", "by"), ["008: Ash, missing -> Oak, missing"]),
        (
            "tables/station.toml",
            "unknown",
            "new",
            ("river", "how", "by"),
            ["otherwise river: unknown -> new"],
        ),
        ("book.toml", 'status = "how", ', "", ("how",), []),
        ("book.toml", 'keep = ["river"]', 'keep = ["river", "opened"]', ("opened",), []),
    ],
)
def test_what_changes_the_meaning_is_named_and_refreshed(fresh, name, before, after, columns, changes):
    change(fresh, name, before, after)
    one = status(fresh)
    assert (one.state, one.stale_columns) == ("stale", columns)
    assert [str(each) for reason in one.reasons for each in reason.changes] == changes
    (done,) = kivvet.open_book(fresh).refresh()
    assert done.report.rows == 4
    assert status(fresh).state == "current"
    fresh_again = (fresh / "out/samples.csv").read_bytes()
    kivvet.open_book(fresh).apply_dataset("samples")
    assert (fresh / "out/samples.csv").read_bytes() == fresh_again


def test_a_changed_source_and_changed_ways_of_reading_it_make_all_stale(fresh):
    change(fresh, "data/samples.csv", "6.40", "6.60")
    assert [reason.message for reason in status(fresh).reasons] == [
        "the source data/samples.csv changed".replace("data", str(fresh / "data"))
    ]
    kivvet.open_book(fresh).refresh()
    change(fresh, "book.toml", "types ", 'missing_words = ["n/a"]\ntypes ')
    assert "the way the data is read or written changed: missing_words" in status(fresh).reasons[0].message


def test_a_target_changed_or_made_by_something_else_is_told(fresh):
    target = fresh / "out/samples.csv"
    target.write_text(target.read_text().replace("acidic", "sour"))
    assert "changed by something else" in status(fresh).reasons[0].message
    (fresh / "out/samples.csv.kivvet.json").unlink()
    assert status(fresh).state == "cannot tell"
    target.unlink()
    assert status(fresh).state == "never applied"


def test_currency_outlives_the_journal_and_travels_with_the_folder(fresh, tmp_path):
    shutil.rmtree(fresh / ".kivvet")
    shutil.copytree(fresh, tmp_path / "colleague")
    assert status(tmp_path / "colleague").state == "current"
    change(tmp_path / "colleague", "tables/ph_class.toml", "alkaline", "basic")
    one = status(tmp_path / "colleague")
    assert (one.state, list(map(str, one.reasons[0].changes))) == ("stale", [">= 8.5: alkaline -> basic"])


def test_a_column_made_from_a_made_column_follows_both_tables(tmp_path):
    folder = write_book(
        tmp_path,
        {
            "book.toml": SMALL_BOOK["book.toml"].replace('columns = ["ph_class", ', 'columns = ["basin", '),
            "tables/basin.toml": 'inputs.river = "text"\noutputs.basin = "text"\nrows = [["Elm | Ash", "Upper"], ["unknown", "none"]]\n',
        },
    )
    report = kivvet.open_book(folder).apply_dataset("samples")
    assert [one.table for one in report.tables] == ["station", "basin"]
    change(folder, "tables/station.csv", "Ash", "unknown")
    assert status(folder).stale_columns[0] == "basin"


def test_errors_in_the_tables_stop_a_refresh_and_leave_the_target(fresh):
    before = (fresh / "out/samples.csv").read_bytes()
    change(fresh, "tables/ph_class.toml", "6.5 to <8.5", "6.5 to <8")
    with pytest.raises(kivvet.TableError, match=r"8 to <8\.5 is covered by no row"):
        kivvet.open_book(fresh).refresh()
    assert (fresh / "out/samples.csv").read_bytes() == before


def test_a_damaged_journal_or_record_costs_history_and_never_a_traceback(fresh):
    (fresh / ".kivvet/journal.sqlite").write_bytes(b"no database")
    change(fresh, "tables/ph_class.toml", "alkaline", "basic")
    one = status(fresh)
    assert (one.state, list(map(str, one.reasons[0].changes))) == ("stale", [">= 8.5: alkaline -> basic"])
    kivvet.open_book(fresh).refresh()
    for text in ("", "{}", '{"records": [1, {"version": 99}]}', "[]", "[" * 100_000, '{"records": {"a": 1}}'):
        (fresh / "out/samples.csv.kivvet.json").write_text(text)
        assert status(fresh).state == "cannot tell"
    with pytest.raises(kivvet.OutputError, match="was not written by Kivvet"):
        kivvet.open_book(fresh).refresh()
    kivvet.open_book(fresh).refresh(replace=True)
    assert status(fresh).state == "current"
    assert status(fresh).state == "current"


def test_a_severity_chosen_by_the_book_decides_whether_apply_stops(fresh):
    change(fresh, "tables/ph_class.toml", "6.5 to <8.5", "6.5 to <8")
    with pytest.raises(kivvet.TableError):
        kivvet.open_book(fresh).apply_dataset("samples")
    path = fresh / "book.toml"
    path.write_text('severity.gap = "warning"\n' + path.read_text())
    assert kivvet.open_book(fresh).apply_dataset("samples").rows == 4


def test_a_source_that_changes_while_it_is_read_writes_nothing(fresh):
    source = fresh / "data/samples.csv"
    before = (fresh / "out/samples.csv").read_bytes()

    def grow(_):
        source.write_text(source.read_text() + "9,007,7,\n")

    with pytest.raises(kivvet.DataError, match="changed while it was read"):
        kivvet.open_book(fresh).apply_dataset("samples", on_rows=grow)
    assert (fresh / "out/samples.csv").read_bytes() == before


def test_a_source_that_nobody_touched_is_not_read_again(tmp_path, monkeypatch):
    folder = write_book(tmp_path)
    samples = folder / "data" / "samples.csv"
    monkeypatch.setattr(files, "_SECONDS_TO_SETTLE", 0)  # as if the apply had taken long
    kivvet.open_book(folder).apply_dataset("samples")
    hashed = []
    monkeypatch.setattr(source_and_target, "state_of", lambda path: hashed.append(path) or state_of(path))
    assert kivvet.open_book(folder).status()[0].state == "current" and not hashed
    os.utime(samples)
    assert kivvet.open_book(folder).status()[0].state == "current" and hashed == [samples]
    samples.write_text(samples.read_text().replace("6.40", "6.41"))
    assert kivvet.open_book(folder).status()[0].state == "stale"


@pytest.mark.parametrize("seconds", [0, 2])
@pytest.mark.parametrize("behind", [0, 86_400])
def test_a_source_changed_in_place_is_read_again_whatever_its_times_say(
    tmp_path, monkeypatch, seconds, behind
):
    """Its time set back, and by a server whose clock is a day behind."""
    folder = write_book(tmp_path)
    samples = folder / "data" / "samples.csv"
    then = samples.stat().st_mtime - behind
    os.utime(samples, (then, then))
    before = samples.stat()
    monkeypatch.setattr(files, "_SECONDS_TO_SETTLE", seconds)
    kivvet.open_book(folder).apply_dataset("samples")
    with samples.open("r+") as file:  # the same file, of the same size
        file.write(samples.read_text().replace("6.40", "6.41"))
    os.utime(samples, ns=(before.st_atime_ns, before.st_mtime_ns))
    assert kivvet.open_book(folder).status()[0].state == "stale"


def test_rows_written_anew_are_current_but_for_columns_that_name_the_row(tmp_path):
    """Refreshed, the record knows the new rows; what reads the table is current too."""
    book = SMALL_BOOK["book.toml"].replace('"ph_class"', '{ table = "ph_class", row = "ph_row" }, "sour"')
    sour = 'inputs.ph_class = "text"\noutputs.sour = "boolean"\nmatch = "first"\nrows = [["acidic", "true"], ["any", "false"]]\n'
    folder = write_book(tmp_path, {"book.toml": book, "tables/sour.toml": sour})
    kivvet.open_book(folder).apply_dataset("samples")
    change(
        folder,
        "tables/ph_class.toml",
        '["< 6.5",       "acidic"],',
        '["5 to <6.5", "acidic"], ["< 5", "acidic"],',
    )
    found = status(folder)
    assert (found.state, found.stale_columns) == ("stale", ("ph_row",))
    (done,) = kivvet.open_book(folder).refresh()
    assert done.report is not None and "2" in (folder / "out/samples.csv").read_text()
    assert status(folder).state == "current"
    change(folder, "tables/ph_class.toml", '["5 to <6.5", "acidic"]', '["5 to <6.5", "acid"]')
    assert set(status(folder).stale_columns) == {"ph_class", "ph_row", "sour"}


# Datasets that read what others write

CHAIN = """\
[datasets.last]
source  = "out/second.csv"
target  = "out/last.csv"
columns = ["sour"]

[datasets.second]
source  = "out/samples.parquet"
target  = "out/second.csv"
types   = { station = "text" }
columns = [{ table = "ph_class", keep = [{ ph_class = "again" }] }]

[datasets.samples]
source  = "data/samples.csv"
target  = "out/samples.parquet"
types   = { station = "text" }
columns = ["ph_class"]
"""
SOUR = 'inputs.ph_class = "text"\noutputs.sour = "boolean"\nmatch = "first"\nrows = [["acidic", "true"], ["any", "false"]]\n'


@pytest.fixture
def chain(tmp_path):
    return write_book(tmp_path, {"book.toml": CHAIN, "tables/sour.toml": SOUR})


def states(folder):
    return {one.dataset: one.state for one in kivvet.open_book(folder).status()}


def test_what_one_dataset_writes_another_reads_each_in_its_turn(chain, run):
    assert set(states(chain).values()) == {"never applied"}
    assert run("apply", cwd=chain).code == 0
    assert set(states(chain).values()) == {"current"}
    assert "sour" in (chain / "out/last.csv").read_text()
    change(chain, "data/samples.csv", "6.40", "6.60")
    found = {one.dataset: one for one in kivvet.open_book(chain).status()}
    assert [found[name].state for name in ("samples", "second", "last")] == ["stale"] * 3
    assert found["last"].reasons[0].message == "its source is the target of second, which is stale"
    change(chain, "tables/sour.toml", '["any", "false"]', '["any", "maybe"]')
    assert "last  would not be written" in run("refresh", "--dry-run", cwd=chain).out
    change(chain, "tables/sour.toml", '["any", "maybe"]', '["any", "false"]')
    plan = run("refresh", "--dry-run", cwd=chain)
    assert plan.out.count("would be written") == 3 and set(states(chain).values()) == {"stale"}
    done = kivvet.open_book(chain).refresh(["last"])
    assert [(one.dataset, one.report is not None) for one in done] == [
        ("samples", True),
        ("second", True),
        ("last", True),
    ]
    assert set(states(chain).values()) == {"current"}
    assert not any(one.report for one in kivvet.open_book(chain).refresh())
    assert all(one.report for one in kivvet.open_book(chain).refresh(anew=True))


def test_datasets_that_read_each_other_in_a_circle_are_told(chain, run):
    change(chain, "book.toml", '"data/samples.csv"', '"out/last.csv"')
    checked = run("check", "--no-data", cwd=chain)
    assert checked.code == 1 and checked.out.count("datasets read what each other writes") == 3
    assert "last <- second <- samples <- last" in checked.out
    assert run("apply", cwd=chain).code == 1 and "what each other writes" in run("apply", cwd=chain).err
    assert run("status", cwd=chain).code == 1


@pytest.mark.parametrize("command", ["apply", "refresh"])
def test_a_target_that_somebody_edited_is_not_written_over_unasked(fresh, run, command):
    target = fresh / "out/samples.csv"
    edited = target.read_bytes() + b"5,008,7,by hand,neutral,Ash,matched,2\n"
    target.write_bytes(edited)
    refused = run(command, cwd=fresh)
    assert refused.code != 0 and "was changed by something else since Kivvet wrote it" in refused.err
    assert "--replace-edited" in refused.err and target.read_bytes() == edited
    assert run(command, "--replace-edited", cwd=fresh).code == 0
    assert b"by hand" not in target.read_bytes() and status(fresh).state == "current"
