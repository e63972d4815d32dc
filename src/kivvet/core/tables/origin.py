"""What a table of ranges was drafted from, so that later data can be held against it."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass, replace

from kivvet.core.words.conditions import Condition, write_condition
from kivvet.core.words.wording import count

HOW = {
    "counts": "bins of equal counts",
    "width": "bins of equal width",
    "round": "round bounds",
    "natural": "natural breaks",
    "deviations": "bins one standard deviation wide about the mean",
    "quantiles": "bounds at quantiles",
}


@dataclass(frozen=True, slots=True)
class Origin:
    """What the bounds of a table were drafted from; they stay as they are, whatever later data holds.

    Attributes
    ----------
    method : str
        One of `HOW`.
    column : str
    rows, missing : int
        Rows with a value, and without.
    counts : tuple of int
        The rows that fell into each row of the table.
    shape : str
        Of the conditions then (see `shape_of`): the counts are of these.
    lowest, highest : str
        The range of the values.
    source, on : str
        Where the data was, and the day (ISO 8601); empty for data in memory.
    remark : str
        What came out otherwise than asked for; the note tells it.
    """

    method: str
    column: str
    rows: int
    missing: int
    counts: tuple[int, ...]
    shape: str
    lowest: str = ""
    highest: str = ""
    source: str = ""
    on: str = ""
    remark: str = ""

    def note(self) -> str:
        """Return it as a sentence."""
        said = f"{HOW.get(self.method, self.method)}, from {count(self.rows, 'value')} of {self.column}"
        said += f" in {self.source}" if self.source else ""
        said += f" on {self.on}" if self.on else ""
        return f"{said}; {self.remark}" if self.remark else said

    def of_source(self, source: str, on: str) -> Origin:
        """Return it with the place and the day."""
        return replace(self, source=source, on=on)


def shape_of(conditions: Iterable[Condition]) -> str:
    """Return a short hash of the conditions of a table's rows: it changes when a bound does, not when a class does."""
    texts = "\n".join(map(write_condition, conditions))
    return hashlib.sha256(texts.encode()).hexdigest()[:12]
