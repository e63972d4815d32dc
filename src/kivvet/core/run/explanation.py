"""Why values get the class they get, as a value: what each row asks, what holds of it, what would change the result."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from kivvet.core.words.places import Place
from kivvet.core.words.printed import ShownInNotebooks
from kivvet.core.words.values import write_plain

EXPLANATION_VERSION = 1


@dataclass(frozen=True, slots=True)
class Verdict:
    """One row of the table held against the values.

    Attributes
    ----------
    number : int
    asks : tuple of str
        Its conditions, as ``oxygen < 4``.
    results : str
    decides, matches : bool
    failed : str
        The first condition that does not hold, and by how much: ``needs oxygen < 4, is 6.1``; empty where all
        hold.
    place : Place or None
        Where the row stands.
    """

    number: int
    asks: tuple[str, ...]
    results: str
    decides: bool
    matches: bool
    failed: str = ""
    place: Place | None = None

    def as_dict(self) -> dict[str, Any]:
        return {
            "row": self.number,
            "asks": list(self.asks),
            "results": self.results,
            "decides": self.decides,
            "matches": self.matches,
            "failed": self.failed,
            "place": None if self.place is None else self.place.as_dict(),
        }


@dataclass(frozen=True, slots=True)
class NearestChange:
    """The nearest change of one input alone that gives another result: `change` as ``ammonia <= 1.5``."""

    change: str
    results: str

    def as_dict(self) -> dict[str, str]:
        return {"change": self.change, "results": self.results}


@dataclass(frozen=True)
class Explanation(ShownInNotebooks):
    """Why values get their results from one table.

    Attributes
    ----------
    table : str
    values : mapping of str to str
        What was explained, by the names the table gives its columns.
    decided : {"matched", "several", "unmatched", "missing", "no-period", "unfinished"}
        How: by one row, by several (``match = "every"``), by none, by none and an input has no value, by none of a
        known key, or by a row whose results are still to be filled in.
    rows : tuple of int
        The rows that decide, counted from 1.
    results : mapping of str to (value or None)
        By output; for several rows a list of values.
    verdicts : tuple of Verdict
        Every row, in order; just those that decide for lookups and very long tables.
    nearest : tuple of NearestChange
    note : str
    without : tuple of str
        Those of the columns that have no value; a text may be "missing" too.
    wanted : Wanted or None
        Where a result was asked for, the least change that gives it.
    promises : tuple of str
        The promises about results that speak of these values.
    """

    table: str
    values: Mapping[str, str]
    decided: str
    rows: tuple[int, ...]
    results: Mapping[str, Any]
    verdicts: tuple[Verdict, ...]
    nearest: tuple[NearestChange, ...]
    note: str = ""
    without: tuple[str, ...] = ()
    wanted: Any = None
    promises: tuple[str, ...] = ()

    def __str__(self) -> str:
        got = ", ".join(f"{name} = {write_plain(value)}" for name, value in self.results.items())
        lines = [f"{got} ({self.decided}{' by row ' + ', '.join(map(str, self.rows)) if self.rows else ''})"]
        for verdict in self.verdicts:
            how = "decides" if verdict.decides else "also matches" if verdict.matches else verdict.failed
            lines.append(f"  row {verdict.number}: {', '.join(verdict.asks) or 'any'}: {how}")
        lines += [f"  {one.change} would give {one.results}" for one in self.nearest]
        if self.wanted is not None:
            lines += [f"  for {self.wanted.result}: {one}" for one in self.wanted.ways or (self.wanted.note,)]
        return "\n".join(lines)

    def as_dict(self) -> dict[str, Any]:
        """Return the explanation as plain values, under a version."""
        return {
            "version": EXPLANATION_VERSION,
            "table": self.table,
            "values": dict(self.values),
            "decided": self.decided,
            "rows": list(self.rows),
            "results": {name: _plain(value) for name, value in self.results.items()},
            "verdicts": [verdict.as_dict() for verdict in self.verdicts],
            "nearest": [one.as_dict() for one in self.nearest],
            "note": self.note,
            "without": list(self.without),
            "promises": list(self.promises),
            **({} if self.wanted is None else {"wanted": self.wanted.as_dict()}),
        }

    def to_json(self) -> str:
        """Return the explanation as JSON text; the form is described in docs/explain.md."""
        return json.dumps(self.as_dict(), indent=2, ensure_ascii=False)


def _plain(value: Any) -> Any:
    if isinstance(value, list):
        return [_plain(one) for one in value]
    return value if value is None or isinstance(value, (str, bool, int)) else write_plain(value)
