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
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

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

    def __init__(self, findings: Sequence[Finding]) -> None:
        self.findings = tuple(findings)
        names = sorted(
            {one.table or (f"dataset {one.dataset}" if one.dataset else "book.toml") for one in findings}
        )
        super().__init__(f"{count(len(findings), 'error')} in {', '.join(names)}")

    def __str__(self) -> str:
        shown = [str(finding) for finding in self.findings[:12]]
        if len(self.findings) > len(shown):
            shown.append(f"... and {len(self.findings) - len(shown)} more")
        return "\n".join([self.problem, *shown])


def count(number: int, noun: str, plural: str | None = None) -> str:
    """Return ``1 row``, ``12 rows``, ``3,140 rows``."""
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"


def listed(names: Iterable[object], most: int = 12) -> str:
    """Return the names with commas; after `most` of them, how many more there are."""
    texts = [str(name) for name in names]
    if len(texts) > most:
        texts = [*texts[:most], f"... and {len(texts) - most} more"]
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


def shown_path(path: Path) -> str:
    """Return `path` as a user would type it: relative to where they are, if it lies below."""
    try:
        return str(path.resolve().relative_to(Path.cwd()))
    except (ValueError, OSError):
        return str(path)
