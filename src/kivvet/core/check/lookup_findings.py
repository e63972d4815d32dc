"""What findings about the rows of a lookup have in common."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from kivvet.core.space.lookup_index import RangeCells
from kivvet.core.space.region_text import write_witness
from kivvet.core.tables.lookup_rows import LookupRows
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.regions import HIGH, LOW
from kivvet.core.words.values import Value
from kivvet.core.words.wording import listed

MOST_DESCRIBED = 10_000  # rows that meet others; the rest are counted


def of_lookup_rows(
    table: Table, rows: LookupRows, kind: str, message: str, numbers: Sequence[int], **parts: object
) -> Finding:
    """Return a finding about rows of a lookup, counted from 1, with the places of the first."""
    places = tuple(place for number in numbers[:20] if (place := rows.locate_row(number)) is not None)
    return finding(kind, message, table=table.name, rows=tuple(numbers), places=places, **parts)


def key_region(rows: LookupRows, row: int) -> dict[str, str]:
    """Return the key of a row (from 0) as conditions, by input."""
    return {key.about.name: write_witness(_plain(key.shown[row].as_py())) for key in rows.keys}


def _plain(value: Any) -> Value | None:
    return Decimal(repr(value)) if isinstance(value, float) else value


def key_text(rows: LookupRows, numbers: Sequence[int]) -> str:
    """Return the key of some rows as it reads, with its spellings where they are folded together."""
    shown = rows.shown_key(numbers[0] - 1)
    quoted = (
        repr(shown)
        if len(rows.keys) == 1 and isinstance(rows.keys[0].shown[numbers[0] - 1].as_py(), str)
        else f"({shown})"
        if len(rows.keys) > 1
        else shown
    )
    spellings = {rows.shown_key(number - 1) for number in numbers}
    return f"{quoted} (written {listed(map(repr, sorted(spellings)))})" if len(spellings) > 1 else quoted


def value_in(cells: RangeCells, cell: int) -> Value | None:
    """Return a value that lies in a cell of a range; None where none does."""
    low = LOW if cell == 0 else cells.cuts[cell - 1]
    high = HIGH if cell == len(cells.cuts) else cells.cuts[cell]
    found = (cells.axis.witness(band, low, high) for band in range(cells.axis.n_bands))
    return next((one for one in found if one is not None), None)
