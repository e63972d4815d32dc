"""A row added to a list of rows in a TOML text; every other character stays as it was."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from kivvet.books.files.toml_places import TomlPlaces
from kivvet.core.words.wording import shown_path


def with_row_added(
    text: str, path: Path, word: str, n_there: int, line: str, more: Sequence[tuple[int, str]] = ()
) -> str:
    """Return a text with a line more at the end of a list that has some rows.

    Parameters
    ----------
    text : str
        With ``\\n`` at the end of lines.
    word : str
        The option that holds the list.
    n_there : int
        How many rows there are, headings counted.
    line : str
        The row and its comma.
    more : sequence of (int, str)
        What else is put in, each at its offset.
    """
    places = TomlPlaces(text, shown_path(path))
    last, closing = places.end((word, n_there - 1)), places.end((word,))
    start = text.rfind("\n", 0, closing) + 1
    is_own_line = not text[start:closing].strip()  # whether the bracket that closes the list stands alone
    spans = [(start, f"{line}\n") if is_own_line else (closing, f"\n{line}\n")]
    if not text[last:closing].lstrip().startswith(","):
        spans.append((last, ","))
    for at, added in sorted([*spans, *more], key=lambda one: (one[0], one[1].startswith("\n")), reverse=True):
        text = text[:at] + added + text[at:]
    return text
