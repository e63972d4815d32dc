"""Names of columns made of the headings of a file: each is there once, whatever the file says."""

from __future__ import annotations

import json
from collections.abc import Sequence

from kivvet.core.words.places import Place
from kivvet.io.source_and_target import SourceNote

_MOST_NAMES_SHOWN = 200
_MOST_TOLD = 4


def names_of_headings(
    headings: Sequence[str], place: Place, line: int, what: str = "column"
) -> tuple[list[str], list[SourceNote]]:
    """Return a name for each column: the heading, or where that is blank or repeated a plain name, which is noted.

    Parameters
    ----------
    place : Place
        Of the headings.
    line : int
        The line or row on which they stand, counted from 1.
    """
    stripped = [heading.strip() for heading in headings]
    taken, names = set(stripped), []
    made: dict[str, str] = {}
    seen: dict[str, int] = {}
    for number, name in enumerate(stripped, 1):
        seen[name] = seen.get(name, 0) + 1
        if name and seen[name] == 1:
            names.append(name)
            continue
        plain = f"column_{number}" if not name else f"{name}_{seen[name]}"
        while plain in taken:
            plain += "_"
        taken.add(plain)
        names.append(plain)
        made[plain] = (
            f"{what} {number} has no heading"
            if not name
            else f"{name!r} is the heading of {what} {number} too"
        )
    if not made:
        return names, []
    said = "; ".join(f"{why}: it is called {plain}" for plain, why in list(made.items())[:_MOST_TOLD])
    more = f"; and {len(made) - _MOST_TOLD} more" if len(made) > _MOST_TOLD else ""
    few = [json.dumps(name, ensure_ascii=False) for name in names[:_MOST_NAMES_SHOWN]]
    shown = ", ".join([*few, *(["..."] if len(names) > len(few) else [])])
    fix = f"to name them otherwise: headings_on_line = {line}, headings = [{shown}]"
    return names, [SourceNote(said + more, place, fix)]
