"""How data falls into the rows of a table, then and now: whether bounds that were drawn once still fit."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np

from kivvet.core.columns.column import CodedColumn, Column, TextColumn, missing_mask
from kivvet.core.words.printed import Printed
from kivvet.core.words.values import days_since_epoch
from kivvet.core.words.wording import count, values_with_rows

if TYPE_CHECKING:
    import pandas as pd

#: What values of one column of numbers or dates can be held against.
Limit = float | int


@dataclass(frozen=True, slots=True)
class Fall:
    """How some data falls into the rows of a table.

    Attributes
    ----------
    source : str
    counts : tuple of int
        Rows of data by row of the table.
    missing, unmatched : int
        Rows of data without a value that no row names, and those with a value that no row holds.
    on : str
        The day it was counted, where that was not now.
    lowest, highest : float or int or None
        The range of the values, of a table that reads one column of numbers or dates (as days since 1970).
    """

    source: str
    counts: tuple[int, ...]
    missing: int
    unmatched: int
    on: str = ""
    lowest: Limit | None = None
    highest: Limit | None = None

    @property
    def valued(self) -> int:
        """The rows that have a value: what shares are of."""
        return sum(self.counts) + self.unmatched


@dataclass(frozen=True)
class Shares(Printed):
    """How data falls into the rows of a table, beside how other data did.

    Attributes
    ----------
    table : str
    conditions, results : tuple of str
        Of each row, as the table writes them; several inputs or outputs with commas between.
    now : Fall
    then : Fall or None
        None: nothing is known to hold it against, for the reason `why`.
    below, above : int
        Rows whose values lie beyond the range that the values had then.
    unmatched_values : tuple of (str, int)
        Values now that no row holds, with their rows, most frequent first.
    """

    table: str
    conditions: tuple[str, ...]
    results: tuple[str, ...]
    now: Fall
    then: Fall | None = None
    why: str = ""
    below: int = 0
    above: int = 0
    unmatched_values: tuple[tuple[str, int], ...] = field(default=())

    def share(self, fall: Fall, row: int) -> float:
        """Return the share of the rows with a value that fall into a row of the table (from 0)."""
        return fall.counts[row] / fall.valued if fall.valued else 0.0

    @property
    def moved(self) -> float:
        """The share of the rows that would have to change their row for the shares to be those of then; 0 to 1."""
        if self.then is None or not self.now.valued or not self.then.valued:
            return 0.0
        gaps = [self.share(self.now, row) - self.share(self.then, row) for row in range(len(self.conditions))]
        gaps.append(self.now.unmatched / self.now.valued - self.then.unmatched / self.then.valued)
        return sum(map(abs, gaps)) / 2

    @property
    def told(self) -> tuple[tuple[str, str], ...]:
        """What there is to say of values that lie elsewhere: what is told, and the words."""
        made = []
        if self.now.unmatched:
            n_beyond = self.now.unmatched - sum(n for _, n in self.unmatched_values)
            made.append(("in no row", values_with_rows(self.unmatched_values, n_beyond)))
        if self.then is None:
            return tuple(made)
        ends = [
            f"{count(n, 'value')} {what} {'' if end is None else f'{end:.10g}'}".rstrip()
            for n, what, end in (
                (self.below, "below", self.then.lowest),
                (self.above, "above", self.then.highest),
            )
            if n
        ]
        if ends:
            of = "ends of what was" if len(ends) > 1 else "lowest" if self.below else "highest"
            made.append(("outside", f"{' and '.join(ends)}, the {of} seen then"))
        moved = f"{100 * self.moved:.1f} % of the values would have to be in another row for the shares to be as then"
        return (*made, ("moved", moved))

    def as_dict(self) -> dict[str, Any]:
        """Return it as plain values."""
        falls = {"now": self.now, "then": self.then}
        return {
            "version": 1,
            "table": self.table,
            **{
                name: None
                if fall is None
                else {
                    "source": fall.source,
                    "on": fall.on,
                    "valued": fall.valued,
                    "missing": fall.missing,
                    "unmatched": fall.unmatched,
                }
                for name, fall in falls.items()
            },
            "why": self.why,
            "moved": self.moved,
            "below": self.below,
            "above": self.above,
            "unmatched_values": [{"value": value, "rows": n} for value, n in self.unmatched_values],
            "rows": self._records(),
        }

    def _records(self) -> list[dict[str, Any]]:
        return [
            {
                "row": row + 1,
                "condition": condition,
                "result": result,
                "then": None if self.then is None else self.then.counts[row],
                "then_share": None if self.then is None else self.share(self.then, row),
                "now": self.now.counts[row],
                "now_share": self.share(self.now, row),
            }
            for row, (condition, result) in enumerate(zip(self.conditions, self.results, strict=True))
        ]

    def to_frame(self) -> pd.DataFrame:
        """Return a pandas frame, one row a row of the table: condition, result, rows and shares, then and now."""
        import pandas as pd

        return pd.DataFrame(self._records())


class RangeSeen:
    """The range of the values of one column, and how many lie beyond another range.

    Parameters
    ----------
    lowest, highest : float or int or None
        The other range.
    """

    def __init__(self, lowest: Limit | None = None, highest: Limit | None = None) -> None:
        self.limits = lowest, highest
        self.lowest: Limit | None = None
        self.highest: Limit | None = None
        self.below = self.above = 0

    def see(self, column: Column) -> None:
        """Look at the values of a batch."""
        if isinstance(column, (TextColumn, CodedColumn)) or column.kind not in ("integer", "number", "date"):
            return
        values = column.values[~missing_mask(column)]
        if not len(values):
            return
        low, high = values.min().item(), values.max().item()
        self.lowest = low if self.lowest is None else min(low, self.lowest)
        self.highest = high if self.highest is None else max(high, self.highest)
        lowest, highest = self.limits
        if lowest is not None and low < lowest:
            self.below += int(np.count_nonzero(values < lowest))
        if highest is not None and high > highest:
            self.above += int(np.count_nonzero(values > highest))


def limit_of(text: str) -> Limit | None:
    """Return the end of a range as values are compared; None where it is none."""
    try:
        return float(text)
    except ValueError:
        pass
    try:
        return days_since_epoch(dt.date.fromisoformat(text))
    except ValueError:
        return None
