"""One change between two versions of a rule, in short."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Change:
    """One change between two versions, in short.

    Attributes
    ----------
    region : str
        In the condition syntax, or the option that changed, such as ``output status``.
    before, after : str
        The results; empty where there were or are none.
    """

    region: str
    before: str
    after: str

    def __str__(self) -> str:
        return f"{self.region}: {self.before or 'no row'} -> {self.after or 'no row'}"

    def as_dict(self) -> dict[str, str]:
        return {"region": self.region, "before": self.before, "after": self.after}
