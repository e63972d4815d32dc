"""Where a book lies, where it is asked from, when and in which zone: none of that changes what is told of it."""

from __future__ import annotations

import json
import os
import shutil
import time

import pytest

from tests.conftest import kivvet as run
from tests.test_odd_names import differing

#: What is asked; all of it without a terminal's width.
ASKED = {
    "check": ["check"],
    "check of one": ["check", "quality", "ph_class"],
    "status": ["status"],
    "unmatched": ["unmatched"],
    "list": ["list"],
    "impact": ["impact"],
    "history": ["history", "samples"],
    "look": ["look", "samples"],
    "show": ["show", "samples", "--first", "7"],
    "show where": ["show", "samples", "--where", "ph < 6", "--sort", "ph"],
    "summary": ["summary", "samples", "--by", "river", "--across", "ph_class", "--value", "AVG(ph) AS mean"],
    "explain": ["explain", "samples", "--row", "812"],
    "formula": ["formula", "taken + 30", "--on", "samples"],
    "simplify": ["simplify", "method"],
    "review": ["review", "quality"],
    "mend": ["mend", "quality"],
    "compare": ["compare", "quality", "--against", "tables/quality.toml"],
}


def contents(folder):
    files = (path for path in folder.rglob("*") if path.is_file() and ".kivvet" not in path.parts)
    return {path.relative_to(folder).as_posix(): path.read_bytes() for path in files}


def settled(value, folder, cwd):
    """What was told, with files called as from the book's own folder."""
    if isinstance(value, dict):
        return {key: one if key == "source" else settled(one, folder, cwd) for key, one in value.items()}
    if isinstance(value, list):
        return [settled(one, folder, cwd) for one in value]
    if isinstance(value, str) and value.rpartition(".")[2] in ("toml", "csv", "parquet", "md"):
        path = (cwd / value).resolve()
        return os.path.relpath(path, folder.resolve()) if path.exists() else value
    if isinstance(value, str) and value.startswith("--- "):
        return value.partition("@@")[2]  # a difference begins with the names of its files
    return value


def asked(what, folder, cwd, *book):
    command = [str(folder / word) if word.endswith(".toml") else word for word in ASKED[what]]
    ran = run(*command, *book, "--json", cwd=cwd)
    assert ran.code in (0, 1), (what, ran.all)
    return settled(json.loads(ran.out), folder, cwd)


@pytest.fixture(scope="module")
def book(river, tmp_path_factory):
    folder = tmp_path_factory.mktemp("here") / "river"
    shutil.copytree(river, folder)
    return folder


@pytest.fixture(scope="module")
def told(book):
    """What is told from within the book's folder."""
    return {what: asked(what, book, book) for what in ASKED}


def from_below(book, _):
    return book, book / "tables", ()


def by_name(book, tmp_path):
    return book, tmp_path, ("--book", book)


def by_a_way_up(book, _):
    return book, book / "data", ("--book", "..")


def by_a_link(book, tmp_path):
    link = tmp_path / "link"
    link.symlink_to(book, target_is_directory=True)
    return link, tmp_path, ("--book", link)


def moved(book, tmp_path):
    there = tmp_path / "Größe of all, 'here'"
    shutil.copytree(book, there)
    return there, there, ()


WAYS = {way.__name__: way for way in (from_below, by_name, by_a_way_up, by_a_link, moved)}


@pytest.mark.parametrize("way", WAYS)
def test_it_is_told_the_same_from_wherever_it_is_asked(book, told, tmp_path, way):
    folder, cwd, given = WAYS[way](book, tmp_path)
    before = contents(folder)
    for what in ASKED:
        assert list(differing(asked(what, folder, cwd, *given), told[what])) == [], what
    assert {name for name, content in contents(folder).items() if before.get(name) != content} == set()


@pytest.mark.parametrize("zone", ["Pacific/Kiritimati", "America/St_Johns", "Europe/Dublin"])
def test_it_is_told_the_same_in_every_zone(book, told, monkeypatch, zone):
    monkeypatch.setenv("TZ", zone)
    time.tzset()
    try:
        for what in ASKED:
            assert list(differing(asked(what, book, book), told[what])) == [], what
    finally:
        monkeypatch.undo()
        time.tzset()


@pytest.mark.parametrize("way", ["moved", "by_a_link"])
def test_targets_are_written_the_same_from_wherever_it_is_asked(book, tmp_path, way):
    here = tmp_path / "plain"
    shutil.copytree(book, here)
    assert run("apply", "--replace-edited", cwd=here).code == 0
    (tmp_path / "away").mkdir()
    folder, cwd, given = WAYS[way](here, tmp_path / "away")
    assert run("apply", "--replace-edited", *given, cwd=cwd).code == 0
    assert run("status", "--fail-if", "stale", *given, cwd=cwd).code == 0
    texts = sorted(path.relative_to(here) for path in (here / "out").glob("*.csv"))
    assert texts
    for path in texts:
        assert (folder / path).read_bytes() == (here / path).read_bytes()
