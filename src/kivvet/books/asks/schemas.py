"""The JSON Schemas of the files of a book, made of the forms that the readers go by, and of what commands print."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from importlib import resources
from pathlib import Path
from typing import Any

from kivvet.books.files.open_book import BOOK_FILE, BOOK_FORM
from kivvet.books.files.pins import PINS_FILE, PINS_FORM
from kivvet.books.files.read_formulas import FORMULAS_FILE, FORMULAS_FORM
from kivvet.books.runs.past_run import RUN_FORM
from kivvet.core.read.forms import document
from kivvet.core.read.table_parser import TABLE_FORM
from kivvet.core.words.errors import BookError
from kivvet.core.words.wording import did_you_mean, listed
from kivvet.io.files import replacing


@dataclass(frozen=True)
class Schema:
    """The JSON Schema (2020-12) of one kind of file.

    Attributes
    ----------
    name : str
    of : str
        The files it is of, in words.
    values : mapping
        The schema itself.
    """

    name: str
    of: str
    values: dict[str, Any]

    @property
    def text(self) -> str:
        """The schema as JSON."""
        return json.dumps(self.values, indent=1, ensure_ascii=False) + "\n"

    @property
    def file_name(self) -> str:
        """What its file is called."""
        return f"{self.name}.schema.json"

    def as_dict(self) -> dict[str, Any]:
        """Return it as plain values."""
        return {"name": self.name, "of": self.of, "file": self.file_name, "schema": self.values}

    def write(self, folder: str | Path) -> Path:
        """Write it into a folder, atomically, and return the path of its file.

        Raises
        ------
        OutputError
            If it cannot be written.
        """
        path = Path(folder) / self.file_name
        with replacing(path) as beside:
            beside.write_text(self.text, encoding="utf-8")
        return path


def _of_output() -> dict[str, Any]:
    text = (resources.files("kivvet") / "schemas" / "output.schema.json").read_text(encoding="utf-8")
    made: dict[str, Any] = json.loads(text)
    return made


_KINDS: dict[str, tuple[str, Callable[[], dict[str, Any]]]] = {
    "book": (BOOK_FILE, lambda: document("A book of rules", BOOK_FORM)),
    "table": ("tables/*.toml", lambda: document("A table of rules", TABLE_FORM)),
    "formulas": (FORMULAS_FILE, lambda: document("The formulas of a book", FORMULAS_FORM)),
    "pins": (PINS_FILE, lambda: document("The pins of a book", PINS_FORM)),
    "run": ("a run in the history that a team keeps", lambda: document("A run", RUN_FORM)),
    "output": ("what commands print with --json", _of_output),
}


def schema(name: str) -> Schema:
    """Return the JSON Schema (2020-12) of a kind of file: book, table, formulas, pins, run or output.

    Raises
    ------
    BookError
        If there is none of that name, with the near one.
    """
    if name not in _KINDS:
        raise BookError(
            f"there is no schema {name!r}",
            expected=f"one of: {listed(_KINDS)}",
            fix=did_you_mean(name, _KINDS),
        )
    of, make = _KINDS[name]
    return Schema(name, of, make())


def schemas() -> tuple[Schema, ...]:
    """Return the JSON Schemas of all kinds of files that a book has, and of what commands print."""
    return tuple(schema(name) for name in _KINDS)
