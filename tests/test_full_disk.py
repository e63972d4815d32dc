"""Where a disk is full, whatever was there stands as it was: no command ends in a traceback, leaves half a file or says it wrote."""

from __future__ import annotations

import resource
import shutil
import sys
from contextlib import contextmanager

import pytest

from tests.conftest import kivvet as run
from tests.test_both_faces import WRITING, files_of

#: Commands that write, besides those that have a call of the same form.
MORE = {
    "marked by another": ["review", "method", "--mark", "--reviewer", "Tom"],
    "export a workbook": ["export", "made.xlsx", "quality"],
    "a report": ["report", "--to", "made.html"],
    "a chart": ["chart", "ph_class", "--to", "made.png"],
    "a picture of a dataset": ["chart", "samples", "--by", "river", "--to", "made.svg"],
    "a book of its own": ["new", "another"],
    "a schema": ["schema", "--to", "schemas"],
    "a package": ["pack", "--to", "made.zip"],
}
COMMANDS = {name: command for name, (command, _) in WRITING.items()} | MORE
#: Bytes that a file may have: nothing at all, less than any table needs, and as much as text takes but not what is written of data.
ROOMS = (0, 60, 3_000)


@contextmanager
def room_for(n_bytes):
    """Let no file grow beyond so many bytes: the system refuses the rest, as it does where a disk is full.

    Modules that are loaded for the first time meanwhile are not kept compiled, since they would be kept cut short.
    """
    compiles, sys.dont_write_bytecode = sys.dont_write_bytecode, True
    soft, hard = resource.getrlimit(resource.RLIMIT_FSIZE)
    resource.setrlimit(resource.RLIMIT_FSIZE, (n_bytes, hard))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_FSIZE, (soft, hard))
        sys.dont_write_bytecode = compiles


def contents(folder):
    return {name: path.read_bytes() for name, path in files_of(folder).items()}


#: All commands where little has room; every third where nothing has, and where text has.
CASES = [(what, ROOMS[1]) for what in COMMANDS] + [
    (what, room) for room in (ROOMS[0], ROOMS[2]) for what in [*COMMANDS][::3]
]


@pytest.mark.parametrize(("what", "room"), CASES)
def test_what_was_there_stands_where_the_disk_is_full(changed, tmp_path, what, room):
    folder = tmp_path / "river"
    shutil.copytree(changed, folder)
    before = contents(folder)
    with room_for(room):
        ran = run(*COMMANDS[what], cwd=folder)
    after = contents(folder)
    lost = {name for name, content in before.items() if after.get(name) != content}
    if ran.code == 0:
        assert room, "it said it wrote where nothing could be written"
        return  # what it writes has room
    assert lost == set(), ran.all
    new = set(after) - set(before)
    assert not new, f"left behind: {sorted(new)}\n{ran.all}"
    if room == ROOMS[1]:
        again = run(*COMMANDS[what], cwd=folder)
        assert again.code == 0 and contents(folder) != before, (
            f"not to be had once there is room\n{again.all}"
        )
    assert ran.code == 2 and "cannot be written: File too large" in ran.all and "has room" in ran.all, ran.all
