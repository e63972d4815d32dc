"""How tables lie on the sheets of a workbook of rules: what writes them and what takes them back both go by this."""

from __future__ import annotations

import base64
import json
import re
import zlib
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

#: The sheet that lists the tables, and the hidden one that holds what they were.
TABLES_SHEET, ORIGIN_SHEET, CLASSES_SHEET = "tables", "kivvet", "classes"
#: Headings of what stands beside the cells of a table.
ROW, COMMENT, COUNT, FOUND = "row", "comment", "rows of data", "found"
#: The row of the headings on a table's sheet, from 1; the title and what was found of the whole table stand above.
HEADINGS_ROW = 3
_LONGEST_NAME = 31
_CHUNK = 30_000  # characters in a cell
_MOST_ORIGIN = 64 << 20
_VERSION = 1


@dataclass(frozen=True)
class Origin:
    """What a table on a sheet was when it went out.

    Attributes
    ----------
    table, sheet : str
    file : str
        The file that holds its rows, from the book's folder.
    text : str
        What that file held.
    headings : tuple of str
        Of the columns that stand in it.
    """

    table: str
    sheet: str
    file: str
    text: str
    headings: tuple[str, ...]


def sheet_names(tables: Sequence[str]) -> dict[str, str]:
    """Return by table the name of its sheet: no two are alike but for case, and none has a sign that no sheet has."""
    taken = {TABLES_SHEET, ORIGIN_SHEET, CLASSES_SHEET}
    made = {}
    for table in tables:
        plain = re.sub(r"[\[\]:*?/\\']", "_", table)[:_LONGEST_NAME] or "table"
        name, number = plain, 1
        while name.casefold() in taken:
            number += 1
            end = f"_{number}"
            name = plain[: _LONGEST_NAME - len(end)] + end
        taken.add(name.casefold())
        made[table] = name
    return made


def packed(origins: Sequence[Origin]) -> list[str]:
    """Return what tables were as texts that fit into cells, whatever a program does to blanks and line ends in them."""
    values = json.dumps({"version": _VERSION, "tables": [asdict(origin) for origin in origins]})
    text = base64.b64encode(zlib.compress(values.encode(), 9)).decode()
    return [text[start : start + _CHUNK] for start in range(0, len(text), _CHUNK)]


def unpacked(parts: Sequence[str]) -> list[Origin]:
    """Return what tables were, of texts that `packed` made; `ValueError` where they are something else."""
    try:
        unpacker = zlib.decompressobj()
        text = unpacker.decompress(base64.b64decode("".join(parts), validate=True), _MOST_ORIGIN)
        if unpacker.unconsumed_tail:
            raise ValueError("it is larger than it can be")
        values: dict[str, Any] = json.loads(text)
        if values["version"] != _VERSION:
            raise ValueError("it was written by another version of Kivvet")
        return [Origin(**{**one, "headings": tuple(one["headings"])}) for one in values["tables"]]
    except (zlib.error, KeyError, TypeError, UnicodeDecodeError, RecursionError) as error:
        raise ValueError(str(error)) from error
