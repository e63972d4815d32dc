"""Files that Kivvet made for people to look at: written whole, and only over what it made itself."""

from __future__ import annotations

from pathlib import Path

from kivvet.core.words.errors import OutputError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.files import replacing

_SEARCHED = 4096  # bytes at the beginning of a file, in which the mark stands


def refuse_other(path: Path, mark: str, what: str) -> None:
    """Raise where a file is there already that does not hold the mark by which Kivvet knows its own.

    Parameters
    ----------
    path : Path
    mark : str
        Stands near the beginning of each file that was made so.
    what : str
        What such a file is called, such as "chart".

    Raises
    ------
    OutputError
    """
    if not path.is_file():
        return
    with path.open("rb") as file:
        if mark.encode() in file.read(_SEARCHED):
            return
    raise OutputError(
        f"is there already, and is no {what} that Kivvet made",
        place=Place(shown_path(path)),
        fix="name another file, or say that it may go: --replace (replace=True)",
    )


def refuse_ending(path: Path, endings: tuple[str, ...], what: str) -> None:
    """Raise where a file does not end as its kind is written.

    Raises
    ------
    OutputError
    """
    if path.suffix.lower() not in endings:
        raise OutputError(
            f"a {what} is written as {' or '.join(endings)}",
            place=Place(shown_path(path)),
            found=path.suffix or "no ending",
            fix=f"for example {path.stem or what}{endings[0]}",
        )


def write_whole(path: Path, content: bytes) -> None:
    """Write a file, whole or not at all; `OutputError` if it cannot be written."""
    with replacing(path) as beside:
        beside.write_bytes(content)
