"""Rows of which the first wins, written so that no two meet: as bins and mappings are written."""

from __future__ import annotations

from dataclasses import replace

from kivvet.core.space.boxes import Space
from kivvet.core.tables.table import Table


def texts_apart(table: Table) -> list[str | None] | None:
    """Return what each row of a table over one input asks once the rows above have taken theirs, as the text of its cell: empty
    where that is what it asks already, None for a row that never wins. None at all where a row would be written in more
    parts than it is now.
    """
    if len(table.dimensions) != 1 or table.match != "first" or table.lookup is not None:
        return None
    (dimension,) = Space(
        replace(table, inputs=tuple(replace(input_, domain=None) for input_ in table.inputs))
    ).dimensions
    taken = 0
    made: list[str | None] = []
    for cells in dimension.cells_of_row:
        rest = cells & ~taken
        taken |= cells
        if not rest:
            made.append(None)
        elif rest == cells:
            made.append("")
        else:
            text = dimension.write(rest)
            if text.count(" | ") > dimension.write(cells).count(" | "):
                return None
            made.append(text)
    return made
