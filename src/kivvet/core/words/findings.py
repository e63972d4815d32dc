"""Findings: what a check says, and the report that holds them."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any, Literal

from kivvet.core.words.places import Place
from kivvet.core.words.printed import Printed
from kivvet.core.words.wording import count

if TYPE_CHECKING:
    import pandas as pd

Severity = Literal["error", "warning", "note"]
SEVERITIES: tuple[Severity, ...] = ("error", "warning", "note")

#: Every kind of finding with the severity it has unless a table or a book says otherwise.
KINDS: Mapping[str, Severity] = {
    "syntax": "error",
    "unknown-column": "error",
    "type": "error",
    "width": "error",
    "cycle": "error",
    "unreadable": "error",
    "impossible": "error",
    "overlap": "error",
    "conflict": "error",
    "blank-key": "error",
    "repeated-key": "error",
    "gap": "error",
    "obstacle": "error",
    "example": "error",
    "promise": "error",
    "shadowed": "warning",
    "duplicate": "warning",
    "unfinished": "warning",
    "unmatched": "warning",
    "out-of-domain": "warning",
    "finer-than-step": "warning",
    "near-miss": "warning",
    "near-edge": "warning",
    "not-proven": "warning",
    "broken-given": "warning",
    "no-result": "warning",
    "no-group": "warning",
    "no-order": "warning",
    "split-ties": "warning",
    "stale": "warning",
    "upstream": "warning",
    "headings": "warning",
    "uneven": "warning",
    "mixed-cells": "warning",
    "secret": "warning",
    "open": "note",
    "blank-cell": "note",
    "missing-input": "note",
    "unused": "note",
    "sheet": "note",
    "not-reviewed": "note",
}

REPORT_VERSION = 1
_LAST = 1 << 62
_MOST_IN_REPR = 12


@dataclass(frozen=True, slots=True)
class Subject:
    """What a finding is about: its kind, and its name, which is empty for the book."""

    kind: Literal["table", "formula", "dataset", "book"]
    name: str


@dataclass(frozen=True, slots=True)
class Pair:
    """Two rows of a table that meet.

    Attributes
    ----------
    rows : tuple of (int, int)
    region, witness : mapping of str to str
        What both hold, and one example of it, by input.
    possible : bool
        True where it is not proven that a value lies there.
    """

    rows: tuple[int, int]
    region: Mapping[str, str]
    witness: Mapping[str, str]
    possible: bool = False

    def as_dict(self) -> dict[str, Any]:
        return {
            "rows": list(self.rows),
            "region": dict(self.region),
            "witness": dict(self.witness),
            "possible": self.possible,
        }


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing a check found.

    Attributes
    ----------
    kind : str
        One of `KINDS`.
    severity : {"error", "warning", "note"}
    message : str
        What is wrong, in a sentence, without the place.
    table : str
        The name of the table, or of the formula where `is_of_formula`; empty for a finding about a book or a dataset.
    rows : tuple of int
        The rows of the table concerned, counted from 1.
    places : tuple of Place
        Where they stand; empty for tables made in code.
    region : mapping of str to str, or None
        The values concerned, by input, in the condition syntax: it can be pasted as a row.
    witness : mapping of str to str, or None
        One example from the region, by input.
    count : int or None
        Data rows affected; None where no data was looked at.
    dataset : str
        The dataset whose data was looked at; empty for a finding about a table alone.
    remedy : str
        What to do.
    possible : bool
        True where the finding is not proven, only not excluded.
    pairs : tuple of Pair
        For an overlap each earlier row that the row meets, the first 100; the finding speaks of the worst of
        them.
    """

    kind: str
    severity: Severity
    message: str
    table: str = ""
    rows: tuple[int, ...] = ()
    places: tuple[Place, ...] = ()
    region: Mapping[str, str] | None = None
    witness: Mapping[str, str] | None = None
    count: int | None = None
    dataset: str = ""
    remedy: str = ""
    possible: bool = False
    pairs: tuple[Pair, ...] = ()
    is_of_formula: bool = False

    @property
    def subject(self) -> Subject:
        """What it is about: a table, a formula, a dataset, or the book."""
        if self.table:
            return Subject("formula" if self.is_of_formula else "table", self.table)
        return Subject("dataset", self.dataset) if self.dataset else Subject("book", "")

    def __str__(self) -> str:
        where = ", ".join(str(place) for place in self.places[:2]) or self.table or self.dataset
        lines = [f"{where}: ".removeprefix(": ") + f"{self.severity} {self.kind}: {self.message}"]
        if self.witness:
            lines.append("  for example " + self.example)
        if self.remedy:
            lines.append(f"  fix       {self.remedy}")
        return "\n".join(lines)

    @property
    def example(self) -> str:
        """The witness as text: ``age = 39.5``."""
        return ", ".join(f"{name} = {value}" for name, value in (self.witness or {}).items())

    def as_dict(self) -> dict[str, Any]:
        """Return the finding as plain values, as they stand in the JSON form."""
        return {
            "kind": self.kind,
            "severity": self.severity,
            "possible": self.possible,
            "table": self.table,
            "dataset": self.dataset,
            "subject": {"kind": self.subject.kind, "name": self.subject.name},
            "rows": list(self.rows),
            "places": [place.as_dict() for place in self.places],
            "region": dict(self.region) if self.region is not None else None,
            "witness": dict(self.witness) if self.witness is not None else None,
            "count": self.count,
            "message": self.message,
            "remedy": self.remedy,
            **({"pairs": [pair.as_dict() for pair in self.pairs]} if self.pairs else {}),
        }


def finding(kind: str, message: str, **parts: Any) -> Finding:
    """Return a finding of `kind` with the severity that kind has by default."""
    return Finding(kind, parts.pop("severity", KINDS[kind]), message, **parts)


@dataclass(frozen=True)
class Report(Printed):
    """The findings of one check, most serious first within each table.

    Iterating gives the findings. ``bool(report)`` is refused: ask `is_clean` or `has_errors`.
    """

    findings: tuple[Finding, ...]
    tables: tuple[str, ...] = ()
    datasets: tuple[str, ...] = ()
    rows_read: Mapping[str, int] = field(default_factory=dict)
    formulas: tuple[str, ...] = ()

    @classmethod
    def of(
        cls,
        findings: Iterable[Finding],
        tables: Iterable[str] = (),
        rows_read: Mapping[str, int] | None = None,
        formulas: Iterable[str] = (),
    ) -> Report:
        """Return the report of `findings`, sorted by table, then severity, then row; gaps in which rows of data fall first."""
        names = tuple(tables)
        all_formulas = tuple(formulas)
        position = {name: index for index, name in enumerate(sorted((*names, *all_formulas)))}

        def order(item: Finding) -> tuple[int, int, int, int]:
            at = position.get(item.table, len(position) if item.table else -1)
            # What only counts the rest of others stands after them.
            row = item.rows[0] if item.rows else 0 if item.region is not None else _LAST
            in_gap = item.count or 0 if item.kind == "gap" and item.region is not None else 0
            return at, SEVERITIES.index(item.severity), -in_gap, row

        return cls(
            tuple(sorted(findings, key=order)),
            names,
            tuple(rows_read or {}),
            dict(rows_read or {}),
            all_formulas,
        )

    def __iter__(self) -> Iterator[Finding]:
        return iter(self.findings)

    def __len__(self) -> int:
        return len(self.findings)

    def __bool__(self) -> bool:
        raise TypeError("a Report is neither true nor false; ask report.is_clean or report.has_errors")

    def __repr__(self) -> str:
        """Return a line, and the first findings that are no notes: what a failed ``assert report.is_clean, report`` shows."""
        told = [str(item) for item in self.findings if item.severity != "note"]
        more = [f"... and {len(told) - _MOST_IN_REPR} more"] if len(told) > _MOST_IN_REPR else []
        return "\n".join([f"<Report: {self.summary}>", *told[:_MOST_IN_REPR], *more])

    def of_severity(self, severity: Severity) -> tuple[Finding, ...]:
        """Return the findings of one severity."""
        return tuple(item for item in self.findings if item.severity == severity)

    def of_kind(self, kind: str) -> tuple[Finding, ...]:
        """Return the findings of one kind."""
        return tuple(item for item in self.findings if item.kind == kind)

    @property
    def has_errors(self) -> bool:
        """Whether any finding is an error."""
        return any(item.severity == "error" for item in self.findings)

    @property
    def is_clean(self) -> bool:
        """Whether there is no error and no warning; notes are allowed."""
        return all(item.severity == "note" for item in self.findings)

    @property
    def summary(self) -> str:
        """``1 error, 0 warnings in 4 tables``, with the notes where there are any."""
        parts = [
            count(len(self.of_severity("error")), "error"),
            count(len(self.of_severity("warning")), "warning"),
        ]
        if notes := self.of_severity("note"):
            parts.append(count(len(notes), "note"))
        looked_at = [count(len(self.tables), "table")] if self.tables or not self.formulas else []
        looked_at += [count(len(self.formulas), "formula")] if self.formulas else []
        return f"{', '.join(parts)} in {' and '.join(looked_at)}"

    def as_dict(self) -> dict[str, Any]:
        """Return the report as plain values: ``{"version": 1, "findings": [...], ...}``."""
        return {
            "version": REPORT_VERSION,
            "tables": list(self.tables),
            "formulas": list(self.formulas),
            "rows_read": dict(self.rows_read),
            "findings": [item.as_dict() for item in self.findings],
        }

    def to_json(self) -> str:
        """Return the report as JSON text; the form is described in docs/findings.md."""
        return json.dumps(self.as_dict(), indent=2, ensure_ascii=False)

    def to_frame(self) -> pd.DataFrame:
        """Return a pandas frame, one row a finding, one column an attribute."""
        import pandas as pd

        columns = [name for name in finding("syntax", "").as_dict() if name != "pairs"]
        return pd.DataFrame([item.as_dict() for item in self.findings], columns=columns)


def with_severity(findings: Iterable[Finding], chosen: Mapping[str, Severity]) -> list[Finding]:
    """Return the findings with the severities that a table or book has chosen by kind."""
    return [replace(item, severity=chosen[item.kind]) if item.kind in chosen else item for item in findings]
