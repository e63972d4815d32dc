"""That somebody looked a table through, and which version of it that was."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Review:
    """A review of a table.

    Attributes
    ----------
    on : str
        The day (ISO 8601).
    version : str
        The hash of the table's meaning then: while it is today's, the review holds.
    by, note : str
        Whoever looked it through, and what they wrote about it.
    """

    on: str
    version: str
    by: str = ""
    note: str = ""

    def __str__(self) -> str:
        return f"{self.on} by {self.by}" if self.by else self.on
