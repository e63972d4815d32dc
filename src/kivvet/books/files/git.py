"""The version control (git), by its own command line: only read, and so that what a repository says of itself runs nothing."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

from kivvet.core.words.errors import BookError

# Settings of a repository that name programs, and would run them as it is read.
_SAFELY = [
    word
    for setting in (
        "core.fsmonitor=false",
        f"core.hooksPath={os.devnull}",
        "core.pager=cat",
        "core.askPass=",
        "log.showSignature=false",
        "protocol.allow=never",
    )
    for word in ("-c", setting)
]
_ENVIRONMENT = {
    "GIT_NO_LAZY_FETCH": "1",
    "GIT_TERMINAL_PROMPT": "0",
    "GIT_OPTIONAL_LOCKS": "0",
    "GIT_SSH_COMMAND": "false",
    "LC_ALL": "C",
}


def git(folder: Path, *arguments: str) -> bytes | None:
    """Return what git prints; None where it fails. `BookError` where it is not installed.

    Commands that compare files with what is committed are not to be asked: they run filters that the repository names.
    """
    try:
        done = subprocess.run(
            ["git", "--no-pager", *_SAFELY, "-C", str(folder), *arguments],
            capture_output=True,
            check=False,
            stdin=subprocess.DEVNULL,
            env={**os.environ, **_ENVIRONMENT},
        )
    except FileNotFoundError as error:
        raise BookError("git is not installed, so revisions cannot be read") from error
    except (ValueError, OSError):  # a name that no argument can be
        return None
    return done.stdout if done.returncode == 0 else None
