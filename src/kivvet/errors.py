"""What Kivvet raises.

KivvetError                 the question could not be answered
 ├─ TableError              a table has errors; carries all its findings
 ├─ BookError               a book or one of its files is not usable
 ├─ DataError               data that does not fit the tables, or is broken
 │   └─ UnopenableError     data that cannot be opened at all
 └─ OutputError             a target that cannot be written

A failed check is no exception: it is a `Report`.
"""

from __future__ import annotations

import difflib
import itertools
import json
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from kivvet.core.findings import Finding


@dataclass(frozen=True, slots=True)
class Place:
    """A place in a file; lines and columns count from 1, and `None` is not known."""

    file: str
    line: int | None = None
    column: int | None = None

    def __str__(self) -> str:
        return ":".join(str(part) for part in (self.file, self.line, self.column) if part is not None)


class KivvetError(Exception):
    """The base of all: what is wrong, where, what was expected, what was found and what to do.

    `exit_code` is what the command line ends with: 1 errors in rules or data, 2 nothing to work on.
    """

    exit_code = 1

    def __init__(
        self,
        problem: str,
        *,
        place: Place | None = None,
        expected: str | None = None,
        found: str | None = None,
        fix: str | None = None,
    ) -> None:
        self.problem = problem
        self.place = place
        self.expected = expected
        self.found = found
        self.fix = fix
        super().__init__(problem)

    def __str__(self) -> str:
        head = f"{self.place}: {self.problem}" if self.place else self.problem
        details = (("expected", self.expected), ("found", self.found), ("fix", self.fix))
        return "\n".join([head, *(f"  {label:<9} {text}" for label, text in details if text)])

    def as_dict(self) -> dict[str, Any]:
        """Return the error as plain values: ``{"version": 1, "error": {...}}``."""
        place = self.place
        return {
            "version": 1,
            "error": {
                "problem": self.problem,
                "expected": self.expected,
                "found": self.found,
                "fix": self.fix,
                "place": None
                if place is None
                else {"file": place.file, "line": place.line, "column": place.column},
            },
        }

    def to_json(self) -> str:
        """Return the error as JSON text; the form is described in docs/json.md."""
        return json.dumps(self.as_dict(), indent=2, ensure_ascii=False)


class BookError(KivvetError):
    """A book, or a file of it, is missing or cannot be used."""

    exit_code = 2


class DataError(KivvetError):
    """Data that is broken, or that does not fit the tables."""


class UnopenableError(DataError):
    """Data that cannot be opened: no such file, no permission, a kind that is not read."""

    exit_code = 2


class OutputError(KivvetError):
    """A target that cannot be written; whatever was there before is still there."""

    exit_code = 2


class TableError(KivvetError):
    """One or more tables have errors; `findings` lists them all."""

    def __init__(self, findings: Sequence[Finding], where: str = "book.toml") -> None:
        self.findings = tuple(findings)
        names = sorted(
            {one.table or (f"dataset {one.dataset}" if one.dataset else where) for one in findings}
        )
        super().__init__(f"{count(len(findings), 'error')} in {', '.join(names)}")

    def __str__(self) -> str:
        shown = [str(finding) for finding in self.findings[:12]]
        if len(self.findings) > len(shown):
            shown.append(f"... and {len(self.findings) - len(shown)} more")
        return "\n".join([self.problem, *shown])

    def as_dict(self) -> dict[str, Any]:
        """Return the error as plain values, its findings as in a report."""
        made = super().as_dict()
        return {**made, "findings": [finding.as_dict() for finding in self.findings]}


def count(number: int, noun: str, plural: str | None = None) -> str:
    """Return ``1 row``, ``12 rows``, ``3,140 rows``."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"


def listed(names: Iterable[object], most: int = 12, n_all: int | None = None) -> str:
    """Return the names with commas; after `most` of them, how many more there are.

    `n_all` is their number, where `names` gives just the first of very many.
    """
    texts = [str(name) for name in (names if n_all is None else itertools.islice(names, most + 1))]
    number = len(texts) if n_all is None else n_all
    if number > most:
        texts = [*texts[:most], f"... and {number - most:,} more"]
    return ", ".join(texts) if texts else "none"


def near_name(name: str, names: Iterable[str]) -> str | None:
    """Return the one of `names` closest in spelling to `name`, if any is close."""
    by_folded = {other.casefold(): other for other in names}
    close = difflib.get_close_matches(name.casefold(), by_folded, n=1, cutoff=0.6)
    return by_folded[close[0]] if close else None


def did_you_mean(name: str, names: Iterable[str]) -> str | None:
    """Return the question to print after an unknown name, if there is a near one."""
    near = near_name(name, names)
    return f"did you mean {near!r}?" if near else None


def repeated(names: Iterable[str]) -> list[str]:
    """Return the names that stand more than once, in order."""
    return sorted(name for name, n in Counter(names).items() if n > 1)


def toml_key(name: str) -> str:
    """Return a name as a key of TOML: in quotes where it is not bare."""
    is_bare = bool(name) and name.isascii() and name.replace("_", "").replace("-", "").isalnum()
    return name if is_bare else json.dumps(name, ensure_ascii=False)


def shown_path(path: Path) -> str:
    """Return `path` as a user would type it: relative to where they are, if it lies below."""
    try:
        return str(path.resolve().relative_to(Path.cwd()))
    except (ValueError, OSError, RuntimeError):
        return str(path)
