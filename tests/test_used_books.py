"""Books that use books: pinned, they stay as they were until somebody has seen what a change would move, and takes it."""

import hashlib
import io
import json
import re
import shutil
import subprocess
import zipfile

import pytest

import kivvet
from tests.conftest import write_book

NO_TABLES = dict.fromkeys(["tables/ph_class.toml", "tables/station.toml", "tables/station.csv"])
COMMON = {
    **NO_TABLES,
    "book.toml": 'title = "Common"\n',
    "tables/ph_class.toml": 'inputs.ph = { type = "number", step = 0.1 }\noutputs.ph_class = "text"\nmissing = { ph_class = "none" }\n'
    'rows = [\n  ["< 6.5", "acidic"],\n  ["6.5 to <8.5", "neutral"],\n  [">= 8.5", "alkaline"],\n]\n',
    "tables/station.toml": 'inputs.station = "text"\noutputs.river = "text"\nlookup = "station.csv"\n',
    "tables/station.csv": "station,river\na,Elm\nb,Ash\n",
}
HERE = {
    **NO_TABLES,
    "book.toml": '[uses]\ncommon = "../common"\n[datasets.d]\nsource = "d.csv"\ntarget = "out/d.csv"\n'
    'columns = ["common.ph_class", "grade", "common.station"]\n',
    "tables/grade.toml": 'inputs.ph_class = "text"\noutputs.grade = "text"\n'
    'rows = [["acidic | alkaline", "bad"], ["neutral | none", "good"]]\n',
    "d.csv": "id,ph,station\n1,6.4,a\n2,6.6,b\n3,9,\n4,,a\n",
}


@pytest.fixture
def books(tmp_path):
    return write_book(tmp_path / "common", COMMON), write_book(tmp_path / "here", HERE)


def change(path, before, after):
    text = path.read_text()
    assert before in text
    path.write_text(text.replace(before, after))


def moved(folder):
    change(folder / "tables/ph_class.toml", "6.5", "6.7")


def kinds(folder):
    return sorted(
        (one.kind, one.severity)
        for one in kivvet.open_book(folder).check(data=False)
        if one.severity != "note"
    )


def classes(folder):
    kivvet.open_book(folder).refresh()
    return [line.split(",")[3] for line in (folder / "out/d.csv").read_text().splitlines()[1:]]


def test_a_change_upstream_is_seen_before_it_is_taken(books, run):
    common, here = books
    assert classes(here) == ["acidic", "neutral", "alkaline", "none"]
    (pinned,) = kivvet.open_book(here).pin().books
    assert pinned.state == "not pinned" and pinned.taken and not kinds(here)
    moved(common)
    change(common / "tables/station.csv", "Ash", "Oak")
    assert kinds(here) == [("upstream", "warning")] and kivvet.open_book(here).status()[0].state == "current"
    assert classes(here) == ["acidic", "neutral", "alkaline", "none"]
    before = (here / "pins.json").read_bytes()
    (pinned,) = kivvet.open_book(here).pin().books
    assert pinned.state == "changed" and not pinned.taken and (here / "pins.json").read_bytes() == before
    (dataset,) = pinned.impact.datasets
    assert {one.column: one.changed for one in dataset.columns} == {"ph_class": 1, "grade": 1, "river": 1}
    assert "6.5 to <6.7: neutral -> acidic" in run("pin", cwd=here).out
    assert run("pin", "common", "--take", cwd=here).code == 0
    assert not kinds(here) and kivvet.open_book(here).status()[0].state == "stale"
    assert classes(here) == ["acidic", "acidic", "alkaline", "none"]
    assert kivvet.open_book(here).pin().books[0].state == "as pinned"


def test_pins_serve_where_the_used_book_is_gone(books, tmp_path):
    common, here = books
    kivvet.open_book(here).pin()
    wanted = classes(here)
    common.rename(tmp_path / "elsewhere")
    assert kinds(here) == [("upstream", "warning")] and kivvet.open_book(here).status()[0].state == "current"
    shutil.rmtree(here / "out")
    assert classes(here) == wanted
    (pinned,) = kivvet.open_book(here).pin(take=True).books
    assert pinned.state == "not there" and not pinned.taken
    (here / "pins.json").unlink()
    assert ("unreadable", "error") in kinds(here)
    with pytest.raises(kivvet.TableError, match="the book common cannot be used"):
        kivvet.open_book(here).apply_dataset("d")


def test_a_table_that_came_or_went_upstream_is_told(books):
    common, here = books
    kivvet.open_book(here).pin()
    (common / "tables/station.toml").unlink()
    shutil.copy(common / "tables/ph_class.toml", common / "tables/more.toml")
    (pinned,) = kivvet.open_book(here).pin().books
    assert (pinned.came, pinned.gone) == (("more",), ("station",)) and not pinned.tables
    assert classes(here)[0] == "acidic"  # what was pinned has it still
    kivvet.open_book(here).pin(take=True)
    with pytest.raises(kivvet.TableError, match=r"no table has that name"):
        kivvet.open_book(here).apply_dataset("d")


def test_books_that_use_each_other_are_told_with_the_way_round(books, tmp_path, run):
    common, _ = books
    (common / "book.toml").write_text('[uses]\nthird = "../third"\n')
    write_book(tmp_path / "third", {**NO_TABLES, "book.toml": '[uses]\nhere = "../here"\n', "d.csv": None})
    ran = run("check", "--no-data", cwd=common)
    assert ran.code == 1 and "cycle" in ran.out and "books use each other in a circle" in ran.out
    assert ran.out.count(" -> ") == 3  # common, third, here, common


@pytest.mark.parametrize(
    ("content", "said"),
    [
        ("{", "cannot be read as the pins"),
        ('{"version": 1, "books": {"common": {}}}', "cannot be read as the pins"),
        ('{"version": 9, "books": {}}', "was written by a newer Kivvet"),
        ("[]", "cannot be read as the pins"),
    ],
)
def test_pins_that_cannot_be_read_are_an_error(books, content, said, run):
    _, here = books
    (here / "pins.json").write_text(content)
    assert said in run("check", "--no-data", cwd=here).out
    ran = run("pin", cwd=here)
    assert ran.code == 2 and said in ran.err and (here / "pins.json").read_text() == content


@pytest.mark.parametrize(
    ("uses", "said"),
    [
        ('common = "../nowhere"', "the book common cannot be used"),
        ("common = 5", "uses gives the folder of a book"),
        ('"a b" = "../common"', "'a b' is no name for a book"),
        ('common = "."', "in a circle"),
        ('common = "d.csv"', "the book common cannot be used"),
    ],
)
def test_what_is_no_book_is_said(books, uses, said, run):
    _, here = books
    change(here / "book.toml", 'common = "../common"', uses)
    ran = run("check", "--no-data", cwd=here)
    assert ran.code == 1 and said in ran.out and "Traceback" not in ran.err


def test_a_used_table_is_edited_and_reviewed_where_it_belongs(books, run):
    _, here = books
    for words in (("review", "common.ph_class", "--mark"), ("simplify", "common.ph_class", "--write")):
        ran = run(*words, cwd=here)
        assert ran.code == 2 and "Traceback" not in ran.err
    with pytest.raises(kivvet.BookError, match="belongs to the book common"):
        kivvet.open_book(here).edit("common.ph_class")


def test_a_pack_is_the_same_bytes_and_serves_as_a_book(books, run):
    common, here = books
    assert run("pack", "--to", "../one.zip", cwd=common).code == 0
    for path in (common / "tables").iterdir():
        path.touch()
    assert kivvet.open_book(common).pack(common.parent / "two.zip") == ("book.toml", "tables/ph_class.toml", "tables/station.csv", "tables/station.toml")  # fmt: skip
    assert (common.parent / "one.zip").read_bytes() == (common.parent / "two.zip").read_bytes()
    change(here / "book.toml", "../common", "../one.zip")
    shutil.rmtree(common)
    assert classes(here) == ["acidic", "neutral", "alkaline", "none"]
    assert kivvet.open_book(here).pin().books[0].taken
    assert run("pack", "--to", "rules.tar", cwd=here).code == 2


def packed(common, edit):
    """A pack of the common book whose entries were changed by a function of a dict."""
    kivvet.open_book(common).pack(common.parent / "p.zip")
    with zipfile.ZipFile(common.parent / "p.zip") as archive:
        contents = {one: archive.read(one) for one in archive.namelist()}
    edit(contents)
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as archive:
        for name, content in contents.items():
            archive.writestr(name, content)
    (common.parent / "p.zip").write_bytes(made.getvalue())


@pytest.mark.parametrize(
    ("edit", "said"),
    [
        (
            lambda c: c.update({"tables/ph_class.toml": c["tables/ph_class.toml"] + b"\n"}),
            "was altered since it was packed",
        ),
        (lambda c: c.update({"tables/new.toml": b""}), "was altered since it was packed"),
        (lambda c: c.pop("tables/station.csv"), "was altered since it was packed"),
        (lambda c: c.update({"../evil.toml": b""}), "would not stay in its folder"),
        (lambda c: c.update({"/tmp/evil.toml": b""}), "would not stay in its folder"),
        (lambda c: c.update({"tables\\..\\evil.toml": b""}), "would not stay in its folder"),
        (lambda c: c.pop("pack.json"), "is no pack of a book"),
        (
            lambda c: c.update({"pack.json": json.dumps({"version": 9, "files": {}}).encode()}),
            "is no pack of a book",
        ),
        (lambda c: c.update({f"tables/{n}.txt": b"" for n in range(10_001)}), "which no book has"),
    ],
)
def test_a_pack_that_is_not_as_it_was_packed_is_refused(books, edit, said, run):
    common, here = books
    packed(common, edit)
    change(here / "book.toml", "../common", "../p.zip")
    ran = run("check", "--no-data", cwd=here)
    assert ran.code == 1 and said in ran.out and not (here.parent / "evil.toml").exists()


def test_a_pack_that_unpacks_to_an_absurd_size_is_refused(books, run, monkeypatch):
    common, here = books
    kivvet.open_book(common).pack(common.parent / "p.zip")
    change(here / "book.toml", "../common", "../p.zip")
    monkeypatch.setattr("kivvet.books.files.packs._MOST_BYTES", 100)
    assert "which no book has" in run("check", "--no-data", cwd=here).out
    (here.parent / "p.zip").write_bytes(b"PK\x03\x04 no archive")
    assert "cannot be read as a pack" in run("check", "--no-data", cwd=here).out


def test_tables_of_one_name_and_names_with_dots(books):
    _, here = books
    shutil.copy(here / "tables/grade.toml", here / "tables/common.ph_class.toml")
    (found,) = [one for one in kivvet.open_book(here).check(data=False) if one.kind == "syntax"]
    assert "is the name of a table of the book common, and of one here" in found.message
    (here / "tables/common.ph_class.toml").rename(here / "tables/v1.grade.toml")
    assert not kinds(here)
    kivvet.open_book(here).mark_reviewed("v1.grade")  # which is its own
    assert "reviewed" in (here / "tables/v1.grade.toml").read_text()


def test_an_impact_against_a_revision_goes_by_the_pins_of_then(books):
    common, here = books
    kivvet.open_book(here).pin()
    for words in (("init", "-q"), ("add", "."), ("commit", "-qm", "all")):
        subprocess.run(
            ["git", "-c", "user.name=Ida", "-c", "user.email=i@example.org", *words],
            cwd=here,
            check=True,
            capture_output=True,
        )
    moved(common)
    kivvet.open_book(here).pin(take=True)
    made = kivvet.open_book(here).impact(against="HEAD")
    assert [one.table for one in made.tables] == ["common.ph_class"] and not made.new
    assert {one.column: one.changed for one in made.datasets[0].columns} == {"ph_class": 1, "grade": 1}


def _zipped(path, files):
    """A pack of some files, by bytes, with a manifest that fits."""
    hashes = {name: hashlib.sha256(content).hexdigest() for name, content in files.items()}
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("pack.json", json.dumps({"version": 1, "files": hashes}))
        for name, content in files.items():
            archive.writestr(name, content)


_LOOKUP = b'inputs.k = "text"\noutputs.y = "text"\nlookup = "../../../../secret.csv"\n'


@pytest.mark.parametrize(
    ("files", "said"),
    [
        ({"book.toml": b"", "tables/h.toml": _LOOKUP}, "h names a file outside the pack: secret.csv"),
        (
            {"book.toml": b"", "formulas.toml": b'[f]\nformula = "1"\nexamples = "/etc/e.csv"\n'},
            "outside the pack",
        ),
        ({"book.toml": b"", "book.toml/x": b""}, "'book.toml' as a file too"),
        ({"book.toml": b"", "tables/g.toml": b"", "TABLES/g.toml": b""}, "which are one file"),
        ({"book.toml": b"", "tables/a\nb.toml": b""}, "would not stay in its folder"),
        ({"book.toml": b"", "./x": b""}, "would not stay in its folder"),
    ],
)
def test_a_pack_stays_in_its_folder(tmp_path, files, said):
    (tmp_path / "secret.csv").write_text("k,y\na,TOP SECRET\n")
    _zipped(tmp_path / "p.zip", files)
    folder = tmp_path / "mine"
    (folder / "tables").mkdir(parents=True)
    (folder / "book.toml").write_text('[uses]\nc = "../p.zip"\n')
    (fault,) = kivvet.open_book(folder).check().of_kind("unreadable")
    assert said in fault.message
    assert not kivvet.open_book(folder).tables


def test_what_was_unpacked_is_held_against_the_pack_each_time(books):
    common, here = books
    kivvet.open_book(common).pack(common.parent / "p.zip")
    text = (here / "book.toml").read_text()
    (here / "book.toml").write_text(text.replace('"../common"', '"../p.zip"'))
    first = kivvet.open_book(here).table("common.ph_class")
    (unpacked,) = (here / ".kivvet/packs").iterdir()
    table = unpacked / "tables/ph_class.toml"
    table.write_text(table.read_text().replace("acidic", "poison"))
    (unpacked / "tables/extra.toml").write_text("nonsense")
    assert kivvet.open_book(here).table("common.ph_class").rows == first.rows
    assert not (unpacked / "tables/extra.toml").exists()


def test_a_book_that_many_lead_to_is_opened_once(tmp_path, monkeypatch):
    from kivvet.books.files import open_book

    for number in range(12):
        (tmp_path / f"level{number}/tables").mkdir(parents=True)
        uses = f'a = "../level{number - 1}"\nb = "../level{number - 1}"\n' if number else ""
        (tmp_path / f"level{number}/book.toml").write_text(f"[uses]\n{uses}")
    opened = []
    real = open_book.read_book
    monkeypatch.setattr(
        open_book, "read_book", lambda path, *more, **given: opened.append(path) or real(path, *more, **given)
    )
    kivvet.open_book(tmp_path / "level11")
    assert len(opened) == 11


@pytest.mark.parametrize("name", ["x/" * 3000, "a\x00b"])
def test_a_name_that_no_folder_has_is_said_plainly(tmp_path, name):
    (tmp_path / "tables").mkdir()
    (tmp_path / "book.toml").write_text(f"[uses]\nc = {json.dumps(name)}\n")
    (fault,) = kivvet.open_book(tmp_path).check().of_kind("unreadable")
    assert "the book c cannot be used" in fault.message and len(fault.message) < 300


def test_a_repository_runs_nothing_of_its_own(tmp_path):
    """As it is read for who changed what: monitors, filters and the like that its settings name are not run."""
    git = ["git", "-C", str(tmp_path), "-c", "user.name=Ida", "-c", "user.email=ida@example.org"]
    folder = write_book(tmp_path)
    for words in (["init", "-q"], ["add", "-A"], ["commit", "-qm", "rules"]):
        subprocess.run([*git, *words], check=True)
    kivvet.open_book(folder).apply_dataset("samples")
    run = f"touch {tmp_path}/RUN; cat"
    for setting in (
        "core.fsmonitor",
        "filter.x.clean",
        "filter.x.process",
        "diff.x.textconv",
        "core.sshCommand",
        "gpg.program",
    ):
        subprocess.run([*git, "config", setting, run], check=True)
    subprocess.run([*git, "config", "log.showSignature", "true"], check=True)
    (tmp_path / ".gitattributes").write_text("* filter=x diff=x\n")
    table = folder / "tables/ph_class.toml"
    table.write_text(table.read_text().replace("acidic", "sour"))
    (status,) = kivvet.open_book(folder).status()
    assert status.reasons[0].last_change.endswith("not committed")
    assert kivvet.open_book(folder).impact(against="HEAD").tables
    table.write_text(table.read_text().replace("sour", "acidic"))
    (folder / "tables/station.csv").write_text((folder / "tables/station.csv").read_text())
    assert not (tmp_path / "RUN").exists()


def test_findings_of_a_used_table_are_told_in_every_form(books, run):
    common, here = books
    change(common / "tables/ph_class.toml", "6.5 to <8.5", "6.5 to <8")
    for form in ("sarif", "markdown", "junit"):
        ran = run("check", "--format", form, cwd=here)
        assert ran.code == 1 and re.search(r"8 to \S{1,4}8\.5", ran.out), (form, ran.out)
    made = json.loads(run("check", "--format", "sarif", cwd=here).out)
    assert any(one["level"] == "error" for one in made["runs"][0]["results"])
