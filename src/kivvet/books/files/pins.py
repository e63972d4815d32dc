"""Which content of the books it uses a book goes by: ``pins.json``, which holds the rules themselves, so that they are there
on every machine.
"""

from __future__ import annotations

import hashlib
import json
import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from kivvet.core.read.forms import ANYTHING, NOTHING, TEXT, Keywords, by_name, options_of, whole
from kivvet.core.read.meaning import definition_of, table_fingerprint, table_of
from kivvet.core.tables.table import Table
from kivvet.core.words.conditions import write_condition
from kivvet.core.words.errors import BookError
from kivvet.core.words.places import Place
from kivvet.core.words.wording import shown_path
from kivvet.io.files import replacing

PINS_FILE = "pins.json"
PINS_VERSION = 1
_PINNED_TABLE: Keywords = {
    "fingerprint": TEXT.says("of what the table means"),
    "definition": (by_name(ANYTHING) | NOTHING).says("the rules themselves; none of very large lookups"),
}
_PINNED: Keywords = {
    "hash": TEXT.says("of the meaning of all tables"),
    "on": TEXT.says("the day"),
    "by": TEXT.says("whoever pinned it"),
    "tables": by_name(options_of(_PINNED_TABLE, *_PINNED_TABLE, is_open=True)),
}
#: Of pins.json.
PINS_FORM = options_of(
    {
        "version": whole(1, PINS_VERSION),
        "books": by_name(options_of(_PINNED, *_PINNED, is_open=True)).says("by name under [uses]"),
    },
    *("version", "books"),
    is_open=True,
)
_LIKE_A_COLUMN = re.compile(r"[^\s.]+\.[^\s.]+")  # of another table, which a domain may name


@dataclass(frozen=True)
class Pin:
    """The content of a used book that is gone by.

    Attributes
    ----------
    hash : str
        Of the meaning of all its tables.
    on, by : str
        The day, and whoever pinned it.
    fingerprints : mapping of str to str
        By table.
    definitions : mapping of str to mapping
        By table; very large lookups have none.
    """

    hash: str
    on: str
    by: str
    fingerprints: Mapping[str, str]
    definitions: Mapping[str, Mapping[str, Any]]

    @classmethod
    def of(cls, tables: Mapping[str, Table], on: str, by: str) -> Pin:
        made = {name: _whole(table) for name, table in tables.items()}
        return cls(
            content_hash(tables),
            on,
            by,
            {name: table_fingerprint(table) for name, table in tables.items()},
            {name: one for name, one in made.items() if one is not None},
        )

    def table(self, name: str, called: str) -> Table | None:
        """Return a table as it was pinned; None where its definition is too large to be kept."""
        definition = self.definitions.get(name)
        return None if definition is None else table_of(called, dict(definition))

    def as_dict(self) -> dict[str, Any]:
        return {
            "hash": self.hash,
            "on": self.on,
            "by": self.by,
            "tables": {
                name: {"fingerprint": key, "definition": self.definitions.get(name)}
                for name, key in self.fingerprints.items()
            },
        }


def _whole(table: Table) -> dict[str, Any] | None:
    """Return the definition of a table with what decides no result but is asked of it: domains, statements, severities, and
    what it says of itself; None for a lookup of very many rows.
    """
    definition = definition_of(table)
    if definition is None:
        return None
    for about in table.inputs:
        if about.domain is not None:
            text = write_condition(about.domain)
            definition["inputs"][about.name]["domain"] = [text] if _LIKE_A_COLUMN.fullmatch(text) else text
    more = {
        "title": table.title,
        "owner": table.owner,
        "note": table.note,
        "severity": dict(table.severity),
        "given": [one.text for one in table.given],
    }
    return {**definition, **{word: said for word, said in more.items() if said}}


def content_hash(tables: Mapping[str, Table]) -> str:
    """Return the SHA-256 of what tables mean, and of their names."""
    meanings = {name: table_fingerprint(table) for name, table in sorted(tables.items())}
    return hashlib.sha256(json.dumps(meanings, sort_keys=True, ensure_ascii=False).encode()).hexdigest()


def read_pins(folder: Path) -> dict[str, Pin]:
    """Return by used book what is pinned; nothing where there is no such file.

    Raises
    ------
    BookError
        If it cannot be read, or is of a newer version.
    """
    path = folder / PINS_FILE
    if not path.is_file():
        return {}
    place = Place(shown_path(path))
    try:
        given = json.loads(path.read_text(encoding="utf-8"))
        if given["version"] > PINS_VERSION:
            raise BookError("was written by a newer Kivvet", place=place, fix="update Kivvet, or pin anew")
        return {
            name: Pin(
                one["hash"],
                one["on"],
                one["by"],
                {table: each["fingerprint"] for table, each in one["tables"].items()},
                {
                    table: each["definition"]
                    for table, each in one["tables"].items()
                    if each["definition"] is not None
                },
            )
            for name, one in given["books"].items()
        }
    except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError) as error:
        raise BookError(
            "cannot be read as the pins of a book",
            place=place,
            fix="take it from the version control, or pin anew",
        ) from error


def write_pins(folder: Path, pins: Mapping[str, Pin]) -> None:
    """Write what is pinned, atomically; the same pins are the same bytes."""
    values = {"version": PINS_VERSION, "books": {name: pin.as_dict() for name, pin in sorted(pins.items())}}
    with replacing(folder / PINS_FILE) as beside:
        text = json.dumps(values, indent=1, ensure_ascii=False)  # the order of columns counts
        beside.write_text(text + "\n", encoding="utf-8")
