"""The version control (git), by its own command line."""

from __future__ import annotations

import subprocess
from pathlib import Path

from kivvet.core.words.errors import BookError


def git(folder: Path, *arguments: str) -> bytes | None:
    """Return what git prints; None where it fails. `BookError` where it is not installed."""
    try:
        done = subprocess.run(
            ["git", "-C", str(folder), *arguments], capture_output=True, check=False, stdin=subprocess.DEVNULL
        )
    except FileNotFoundError as error:
        raise BookError("git is not installed, so revisions cannot be read") from error
    return done.stdout if done.returncode == 0 else None
