"""Files that belong together are written all or none, in their order, and what was half written is gone."""

from __future__ import annotations

import errno
import tempfile

import pytest

from kivvet.books.asks.draft_table import write_files
from kivvet.books.files.entry_text import with_entry
from kivvet.core.words.errors import BookError, OutputError
from kivvet.io.files import replacing, replacing_all, unwritable
from kivvet.io.scratch import scratch_folder


def contents(folder):
    return {
        path.relative_to(folder).as_posix(): path.read_text() for path in folder.rglob("*") if path.is_file()
    }


class StoppedError(Exception):
    """What stops in the midst of writing."""


@pytest.mark.parametrize("stops_at", range(4))
def test_none_takes_its_place_before_all_are_written(tmp_path, stops_at):
    (tmp_path / "a.txt").write_text("old")
    before = contents(tmp_path)
    paths = [tmp_path / name for name in ("a.txt", "below/b.txt", "c.txt")]

    def written():
        with replacing_all(paths) as parts:
            for number, part in enumerate(parts):
                if number == stops_at:
                    raise StoppedError
                part.write_text(f"new {number}")
                assert contents(tmp_path)["a.txt"] == "old"

    if stops_at < len(paths):
        with pytest.raises(StoppedError):
            written()
        assert contents(tmp_path) == before
    else:
        written()
        assert contents(tmp_path) == {"a.txt": "new 0", "below/b.txt": "new 1", "c.txt": "new 2"}


def test_they_take_their_places_in_the_order_given(tmp_path, monkeypatch):
    placed, kept = [], type(tmp_path).replace

    def noted(self, target):
        placed.append(target.name)
        return kept(self, target)

    monkeypatch.setattr(type(tmp_path), "replace", noted)
    with replacing_all([tmp_path / name for name in "cab"]) as parts:
        for part in parts:
            part.write_text("x")
    assert placed == ["c", "a", "b"]
    placed.clear()
    texts = {
        tmp_path / "t.toml": "rows = 't.csv'",
        tmp_path / "t.csv": "a",
        tmp_path / "formulas.toml": "f = 'a'",
    }
    assert write_files(texts) == tuple(texts)
    assert placed == ["t.csv", "t.toml", "formulas.toml"]  # what a table names is there before it


def test_a_place_that_cannot_be_written_stops_all(tmp_path):
    (tmp_path / "file").write_text("in the way")
    with pytest.raises(OutputError, match="file is a file, not a folder"):
        write_files({tmp_path / "a.toml": "x", tmp_path / "file/b.csv": "y"})
    with pytest.raises(OutputError, match="is a folder"), replacing_all([tmp_path / "c", tmp_path]):
        pass
    assert contents(tmp_path) == {"file": "in the way"}


def test_a_copy_is_written_with_the_texts(tmp_path):
    (tmp_path / "rows.csv").write_bytes(b"\xff\x00 as it is\r\n")
    write_files({tmp_path / "t.toml": "x", tmp_path / "tables/rows.csv": tmp_path / "rows.csv"})
    assert (tmp_path / "tables/rows.csv").read_bytes() == b"\xff\x00 as it is\r\n"
    with pytest.raises(OutputError, match="cannot be written"):
        write_files({tmp_path / "u.toml": "x", tmp_path / "u.csv": tmp_path / "nowhere.csv"})
    assert not (tmp_path / "u.toml").exists()


@pytest.mark.parametrize(
    ("error", "said"),
    [
        (OSError(errno.ENOSPC, "No space left on device"), "cannot be written: No space left on device"),
        (OSError(errno.EFBIG, "Error writing bytes to file. Detail: [errno 27] File too large"), "cannot be written: File too large"),
        (OSError("something else"), "cannot be written: something else"),
        (PermissionError(errno.EACCES, "Permission denied"), "cannot be written: Permission denied"),
    ],
)  # fmt: skip
def test_why_a_target_cannot_be_written_is_said_in_the_systems_words(tmp_path, error, said):
    told = unwritable(tmp_path / "t.parquet", error)
    assert said in str(told) and "nothing was changed" in str(told)
    with pytest.raises(OutputError, match="cannot be written"), replacing(tmp_path / "t.parquet"):
        raise error
    assert contents(tmp_path) == {}


@pytest.mark.parametrize("code", [errno.ENOSPC, errno.EFBIG, errno.EDQUOT, errno.EROFS])
def test_where_temporary_files_have_no_room_their_folder_is_named(code):
    with pytest.raises(OutputError, match="TMPDIR") as told, scratch_folder() as folder:
        assert folder.is_dir()
        raise OSError(code, "no room")
    assert tempfile.gettempdir() in str(told.value) and "no room" in str(told.value)
    assert not folder.exists()


def test_any_other_fault_beside_temporary_files_is_told_as_what_it_is(monkeypatch):
    with pytest.raises(FileNotFoundError), scratch_folder() as folder:
        (folder / "nowhere").read_text()
    assert not folder.exists()
    monkeypatch.setattr(tempfile, "TemporaryDirectory", lambda **_: (_ for _ in ()).throw(FileNotFoundError(2, "No usable temporary directory")))  # fmt: skip
    with pytest.raises(OutputError, match="No usable temporary directory"), scratch_folder():
        pass


@pytest.mark.parametrize(
    ("before", "after"),
    [
        (None, "a = 1\n"),
        ("", "a = 1\n"),
        ("b = 2\n", "b = 2\n\na = 1\n"),
        ("b = 2", "b = 2\n\na = 1\n"),
        ("b = 2\r\n", "b = 2\r\n\r\na = 1\r\n"),
        ("\ufeffb = 2\n", "\ufeffb = 2\n\na = 1\n"),
        ("# words\n", "# words\n\na = 1\n"),
    ],
)
def test_an_entry_comes_at_the_end_of_a_file_as_the_file_is_written(tmp_path, before, after):
    path = tmp_path / "formulas.toml"
    if before is not None:
        path.write_bytes(before.encode())
    assert with_entry(path, ["a = 1"]) == after


def test_an_entry_that_does_not_fit_leaves_the_file(tmp_path):
    path = tmp_path / "formulas.toml"
    path.write_text("a = 1\n")
    with pytest.raises(BookError, match="does not fit into the file"):
        with_entry(path, ["a = 2"])
    path.write_text("a = [\n")
    with pytest.raises(BookError):
        with_entry(path, ["b = 2"])
    assert path.read_text() == "a = [\n"
