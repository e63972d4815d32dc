"""A target is known by its marks where the book noted what it held; what changes it is found as if its bytes were read."""

import json
import os
import shutil

import pytest

import kivvet
from kivvet.books.runs import noted_content
from kivvet.books.runs.record import read_record
from kivvet.io import csv_target, parquet_files
from tests.conftest import SMALL_BOOK, write_book


@pytest.fixture(params=["csv", "parquet"])
def target(request, tmp_path, monkeypatch):
    """Return a target that was just written, and noted although it is small."""
    monkeypatch.setattr(noted_content, "_WORTH_NOTING", 0)
    text = SMALL_BOOK["book.toml"].replace("out/samples.csv", f"out/samples.{request.param}")
    kivvet.open_book(write_book(tmp_path, {"book.toml": text})).apply_dataset("samples")
    return tmp_path / f"out/samples.{request.param}"


@pytest.fixture
def looked_at(monkeypatch):
    """Return the list of targets whose bytes are looked at."""
    found = []
    for module, name in ((csv_target, "hash_bytes_of"), (parquet_files, "digest_of")):
        real = getattr(module, name)
        monkeypatch.setattr(
            module, name, lambda path, *more, real=real: (found.append(path), real(path, *more))[1]
        )
    return found


def state_of(target):
    (status,) = kivvet.open_book(target.parent.parent).status("samples")
    return status.state


def note_of(target):
    (note,) = (target.parent.parent / ".kivvet/targets").iterdir()
    return note


def test_bytes_of_a_target_whose_marks_stand_are_not_looked_at(target, looked_at):
    assert state_of(target) == "current" and not looked_at
    note_of(target).unlink()
    assert state_of(target) == "current" and looked_at == [target]


def another_byte(target):
    content = bytearray(target.read_bytes())
    content[-30 if target.suffix == ".csv" else 20] ^= 1
    return bytes(content)


def in_place(target):
    with target.open("r+b") as file:
        file.write(another_byte(target))


def in_place_with_its_times(target):
    stat = target.stat()
    in_place(target)
    os.utime(target, ns=(stat.st_atime_ns, stat.st_mtime_ns))


def by_another_with_its_times(target):
    other = target.with_name("other")
    other.write_bytes(another_byte(target))
    shutil.copystat(target, other)
    other.replace(target)


def by_the_same_content(target):
    target.write_bytes(target.read_bytes())


def by_fewer_bytes(target):
    os.truncate(target, target.stat().st_size - 1)


def by_touching(target):
    target.touch()


@pytest.mark.parametrize(
    "change",
    [
        in_place,
        in_place_with_its_times,
        by_another_with_its_times,
        by_the_same_content,
        by_fewer_bytes,
        by_touching,
    ],
)
def test_whatever_changes_a_target_is_found_as_if_its_bytes_were_read(target, change):
    change(target)
    folder = target.parent.parent
    noted = state_of(target)
    is_true = read_record(target, folder).is_true
    if not is_true:
        with pytest.raises(kivvet.KivvetError):
            kivvet.open_book(folder).apply_dataset("samples")
    shutil.rmtree(folder / ".kivvet/targets")
    assert (is_true, noted) == (read_record(target).is_true, state_of(target))
    assert is_true == (change in (by_the_same_content, by_touching))


@pytest.mark.parametrize("text", ["", "{", "[]", '{"hash": 3}', '{"marks": [], "hash": "x"}', "\0"])
def test_a_note_that_tells_nothing_is_as_none(target, text, looked_at):
    note_of(target).write_text(text)
    assert state_of(target) == "current" and looked_at


def test_a_note_of_other_content_makes_no_target_current(target):
    values = json.loads(note_of(target).read_text())
    note_of(target).write_text(json.dumps({**values, "hash": "0" * 32}))
    assert state_of(target) == "stale"


def test_nothing_is_noted_of_what_somebody_changed_as_it_was_put_in_its_place(target):
    note = note_of(target)
    note.unlink()
    written = noted_content.FileMarks.of(target)
    by_touching(target)
    noted_content.note_content(target.parent.parent, target, "0" * 32, written)
    assert not note.exists() and not note.with_suffix(".part").exists()


def test_a_folder_that_cannot_be_written_keeps_no_note_and_stops_nothing(target):
    folder = target.parent.parent
    shutil.rmtree(folder / ".kivvet/targets")
    (folder / ".kivvet/targets").write_text("a file, not a folder")
    assert kivvet.open_book(folder).apply_dataset("samples").rows == 4
    assert state_of(target) == "current"
