"""The rows of a lookup: keys and results as columns, from file to result; there may be millions."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.words.places import Place
from kivvet.core.words.values import Value

if TYPE_CHECKING:
    from kivvet.core.tables.inputs import Input

#: Gives the place of a row of a lookup, counted from 1; None where it is not known. A value: it can be
#: copied.
LocateRow = Callable[[int], Place | None]


def no_place(_: int) -> Place | None:
    """Return the place of a row of a lookup made in code: none."""
    return None


@dataclass(frozen=True)
class KeyColumn:
    """One key: values as compared (folded, where the input says so; null where blank), and as written."""

    about: Input
    values: pa.Array
    shown: pa.Array


@dataclass(frozen=True)
class RangeColumn:
    """One range: where it starts and ends (null: open; `end` None: until the next start), and which ends are
    in.
    """

    about: Input
    start: pa.Array
    end: pa.Array | None
    start_closed: bool | pa.Array
    end_closed: bool | pa.Array

    def is_closed(self, row: int, *, at_start: bool) -> bool:
        """Whether an end of a row's range is in."""
        closed = self.start_closed if at_start else self.end_closed
        return closed if isinstance(closed, bool) else closed[row].as_py() is not False


@dataclass(frozen=True)
class LookupRows:
    """Keys, ranges and results, one array each, all of the same length.

    Attributes
    ----------
    keys : tuple of KeyColumn
        For each input that is an exact key.
    ranges : tuple of RangeColumn
        For each input that is a range.
    results : tuple of pyarrow.Array
        One for each output, typed; null where blank.
    locate_row : callable
        Gives the place of a row, counted from 1, or None.
    """

    keys: tuple[KeyColumn, ...]
    ranges: tuple[RangeColumn, ...]
    results: tuple[pa.Array, ...]
    locate_row: LocateRow = field(default=no_place, compare=False)

    @property
    def n_rows(self) -> int:
        return len(self.results[0])

    @property
    def arrays(self) -> dict[str, pa.Array]:
        """Everything that decides a match, by a name of its own."""
        made = {key.about.name: key.values for key in self.keys}
        for range_ in self.ranges:
            parts = {
                "from": range_.start,
                "to": range_.end,
                "from_closed": range_.start_closed,
                "to_closed": range_.end_closed,
            }
            made |= {
                f"{range_.about.name} {name}": part
                for name, part in parts.items()
                if isinstance(part, pa.Array)
            }
        return made

    def shown_key(self, row: int, *, as_compared: bool = False) -> str:
        """Return the key of a row (from 0) as it reads, or as compared: ``0007``, or ``site = 0007, year =
        2026``.
        """
        parts = [
            (key.about.name, (key.values if as_compared else key.shown)[row].as_py()) for key in self.keys
        ]
        if len(parts) == 1:
            return str(parts[0][1])
        return ", ".join(f"{name} = {'blank' if value is None else value}" for name, value in parts)

    def distinct_results(self, position: int) -> list[Value]:
        """Return the different results of one output in the order of the rows."""
        return [value for value in pc.unique(self.results[position]).to_pylist() if value is not None]
