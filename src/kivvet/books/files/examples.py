"""Examples that stand in a CSV file beside a table or the formulas."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from kivvet.books.files.readers import read_csv_rows
from kivvet.core.read.options import KeyPath, Locate
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.formats import ROW_ENDINGS


def with_examples(
    definition: Mapping[str, Any],
    path: Path,
    locate: Locate,
    name: str,
    at: KeyPath = ("examples",),
) -> tuple[dict[str, Any], Locate, list[Finding]]:
    """Return a definition whose examples are in a file with the rows of that file, where each stands, and the faults.

    Parameters
    ----------
    definition : mapping
        Its `examples` are the name of a file.
    path : Path
        The file that the definition is in.
    at : tuple
        Where the examples stand in it.
    """
    given = str(definition["examples"])
    rest = {word: value for word, value in definition.items() if word != "examples"}
    place = locate(at)
    places = (place,) if place else ()
    file = path.parent / given.replace("\0", "")
    if not file.name.endswith(ROW_ENDINGS) or not file.is_file():
        is_there = file.name.endswith(ROW_ENDINGS)
        message = (
            f"examples = {given!r}: there is no such file"
            if is_there
            else f"examples = {given!r} is no file of rows"
        )
        fix = (
            "write it, headings first"
            if is_there
            else f"a file of {' or '.join(ROW_ENDINGS)}, or rows in brackets"
        )
        return rest, locate, [finding("unreadable", message, table=name, places=places, remedy=fix)]
    rows, faults = read_csv_rows(file, name)
    if rows is None:
        return rest, locate, faults
    shown, lines = shown_path(file), rows.lines

    def locate_row(path: KeyPath) -> Place | None:
        row = path[len(at)] if len(path) > len(at) else 0
        if path[: len(at)] == at and isinstance(row, int) and row < len(lines):
            return Place(shown, lines[row])
        return locate(path)

    return {**rest, "examples": rows.records}, locate_row, []
