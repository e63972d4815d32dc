"""Who changed files last, and when, as far as the version control (git) or the file system knows."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from pathlib import Path

from kivvet.books.files.git import git
from kivvet.core.words.errors import BookError


def last_change(folder: Path, files: Sequence[Path]) -> str:
    """Return in words who changed some files last, and when (UTC); nothing where none of them is there.

    What is committed is told as it was committed; what is not, by the time the file system gives.
    """
    there = [one.resolve() for one in files if one.is_file()]
    if not there:
        return ""
    try:
        names = [str(one) for one in there]
        changed = git(folder, "status", "--porcelain", "--", *names)
        if changed == b"":
            said = git(folder, "log", "-1", "--format=%cI%x00%an", "--", *names)
            when, _, who = (said or b"").decode(errors="replace").strip().partition("\0")
            if when:
                return f"by {who}, {_shown(dt.datetime.fromisoformat(when))}"
    except (BookError, ValueError):
        changed = None
    latest = max(one.stat().st_mtime for one in there)
    edited = f"edited {_shown(dt.datetime.fromtimestamp(latest, dt.UTC))}"
    return edited if changed is None else f"{edited}, not committed"


def _shown(when: dt.datetime) -> str:
    return f"{when.astimezone(dt.UTC):%Y-%m-%d %H:%M} UTC"
