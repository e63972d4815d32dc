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

import json
from collections.abc import Sequence
from typing import Any

from kivvet.core.words.findings import Finding
from kivvet.core.words.places import Place
from kivvet.core.words.wording import count


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
                "place": None if place is None else place.as_dict(),
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
            {found.table or (f"dataset {found.dataset}" if found.dataset else where) for found in findings}
        )
        self._where = where
        super().__init__(f"{count(len(findings), 'error')} in {', '.join(names)}")

    def __reduce__(self) -> tuple[type[TableError], tuple[Sequence[Finding], str]]:
        return type(self), (self.findings, self._where)

    def __str__(self) -> str:
        shown = [str(finding) for finding in self.findings[:12]]
        if len(self.findings) > len(shown):
            shown.append(f"... and {len(self.findings) - len(shown)} more")
        return "\n".join([self.problem, *shown])

    def as_dict(self) -> dict[str, Any]:
        """Return the error as plain values, its findings as in a report."""
        made = super().as_dict()
        return {**made, "findings": [finding.as_dict() for finding in self.findings]}
