"""Who changed files last, and when, as far as the version control (git) or the file system knows."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from pathlib import Path

from kivvet.books.files.database_rows import rows_in_database
from kivvet.books.files.git import git
from kivvet.core.words.errors import BookError


def last_change(folder: Path, files: Sequence[Path]) -> str:
    """Return in words who changed some files last, and when (UTC); nothing where none of them is there.

    What is committed is told as it was committed; what is not, by the time the file system gives.
    """
    if any(
        file.parent.name == "tables" and file.suffix == ".toml" and rows_in_database(file) for file in files
    ):
        return "its rows lie in a database"
    there = [file.resolve() for file in files if file.is_file()]
    if not there:
        return ""
    is_kept = None
    try:
        is_kept = _are_committed(folder, there)
        if is_kept:
            names = [str(one) for one in there]
            said = git(folder, "log", "-1", "--format=%cI%x00%an", "--no-show-signature", "--", *names)
            when, _, who = (said or b"").decode(errors="replace").strip().partition("\0")
            if when:
                return f"by {who}, {_shown(dt.datetime.fromisoformat(when))}"
    except (BookError, ValueError):
        is_kept = None
    latest = max(one.stat().st_mtime for one in there)
    edited = f"edited {_shown(dt.datetime.fromtimestamp(latest, dt.UTC))}"
    return edited if is_kept is None else f"{edited}, not committed"


def _are_committed(folder: Path, files: Sequence[Path]) -> bool | None:
    """Whether files are as they were committed last, but for ends of lines; None where there is no repository."""
    root = git(folder, "rev-parse", "--show-toplevel")
    if root is None:
        return None
    top = Path(root.decode(errors="surrogateescape").rstrip("\n")).resolve()
    for file in files:
        if not file.is_relative_to(top):
            return None
        kept = git(folder, "cat-file", "blob", f"HEAD:{file.relative_to(top).as_posix()}")
        if kept is None or kept.replace(b"\r\n", b"\n") != file.read_bytes().replace(b"\r\n", b"\n"):
            return False
    return True


def _shown(when: dt.datetime) -> str:
    return f"{when.astimezone(dt.UTC):%Y-%m-%d %H:%M} UTC"
