"""What targets were left holding, noted with their marks, so that a large one whose marks stand need not be read to be known.

A note is taken once the clock of the file system has passed the time at which the target was put in its place: whatever
changes it from then on leaves other marks. Without a note, or with other marks, the target's bytes are looked at.
"""

from __future__ import annotations

import json
import time
from contextlib import suppress
from dataclasses import astuple
from pathlib import Path

import xxhash

from kivvet.io.files import FileMarks
from kivvet.io.locations import Location, identity_of

_WORTH_NOTING = 16 << 20  # smaller ones are read in the time that a note takes
_TICKS = 40  # milliseconds at most: clocks of file systems pass on every 1 to 10


def key_of_target(target: Location) -> str:
    """Return what stands for a target in names of files."""
    return xxhash.xxh3_64_hexdigest(str(identity_of(target)).encode())


def noted_content(folder: Path, target: Location, marks: FileMarks | None) -> str | None:
    """Return the hash of what a target holds, where the book's folder has a note of it and its marks are those noted."""
    if marks is None or marks.size < _WORTH_NOTING:
        return None
    try:
        values = json.loads(_note_of(folder, target).read_text(encoding="utf-8"))
        return str(values["hash"]) if values["marks"] == list(astuple(marks)) else None
    except (OSError, ValueError, KeyError, TypeError):
        return None


def note_content(folder: Path, target: Location, content_hash: str, written: FileMarks | None) -> None:
    """Note what a target holds that was just put in its place; nothing where it is no large file, or cannot be noted.

    Parameters
    ----------
    written : FileMarks or None
        The marks of the file before it was put there.
    """
    if not isinstance(target, Path) or written is None or written.size < _WORTH_NOTING:
        return
    marks = FileMarks.of(target)
    if marks is None:
        return
    if (marks.inode, marks.modified_ns, marks.size) != (written.inode, written.modified_ns, written.size):
        return  # somebody was quicker
    note = _note_of(folder, target)
    beside = note.with_suffix(".part")
    with suppress(OSError):
        note.parent.mkdir(parents=True, exist_ok=True)
        for _ in range(_TICKS):
            beside.write_text(json.dumps({"hash": content_hash, "marks": astuple(marks)}), encoding="utf-8")
            if beside.stat().st_dev != target.stat().st_dev:
                break
            if beside.stat().st_mtime_ns > max(marks.changed_ns, marks.modified_ns):
                beside.replace(note)
                return
            time.sleep(0.001)
        beside.unlink()


def _note_of(folder: Path, target: Location) -> Path:
    return folder / ".kivvet" / "targets" / f"{key_of_target(target)}.json"
