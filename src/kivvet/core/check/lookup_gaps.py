"""Gaps of lookups: what lies between the ranges of one key."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from kivvet.core.check.box_gaps import GapSearch
from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.check.lookup_findings import MOST_DESCRIBED, key_region, key_text, of_lookup_rows, value_in
from kivvet.core.space.axes import Axis
from kivvet.core.space.cells import row_masks
from kivvet.core.space.lookup_index import RangeCells, index_of
from kivvet.core.space.make_axis import make_axis
from kivvet.core.space.region_text import write_witness
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.lookup_rows import LookupRows
from kivvet.core.tables.table import Table
from kivvet.core.words.findings import Finding, finding
from kivvet.core.words.regions import HIGH, LOW, Region
from kivvet.core.words.wording import count, listed

_MOST_BOXES_A_KEY = 10  # gaps described of one key, in lookups with several ranges


def gaps_between_ranges(table: Table, rows: LookupRows) -> Iterable[Finding]:
    """Tell what lies between the ranges of one key, for lookups with one range; the outer ends too where
    there is a domain.
    """
    if len(rows.ranges) > 1:
        yield from _holes_of_boxes(table, rows)
        return
    index, (cells,) = index_of(table), index_of(table).ranges
    about = rows.ranges[0].about
    domain = make_axis(about, [about.domain]) if about.domain is not None else None
    order = index.by_group
    order = order[cells.starts[order] < cells.ends[order]]
    groups, starts, ends = index.groups[order], cells.starts[order], cells.ends[order]
    reached = np.maximum.accumulate(ends + groups * (cells.n_cells + 1)) - groups * (cells.n_cells + 1)
    found: list[tuple[int, int, int]] = []
    same = groups[1:] == groups[:-1]
    for place in np.flatnonzero(same & (starts[1:] > reached[:-1])):
        found.append((int(order[place]), int(reached[place]), int(starts[place + 1])))
    if domain is not None:
        is_first, is_last = np.append(True, ~same), np.append(~same, True)
        found += [(int(order[p]), 0, int(starts[p])) for p in np.flatnonzero(is_first & (starts > 0))]
        found += [
            (int(order[p]), int(reached[p]), cells.n_cells)
            for p in np.flatnonzero(is_last & (reached < cells.n_cells))
        ]
    told = 0
    for row, start, end in sorted(found):
        region = _hole(cells, domain, start, end)
        if not region:
            continue
        told += 1
        if told > MOST_DESCRIBED:
            continue
        key = key_region(rows, row)
        value = next(
            (value_in(cells, cell) for cell in range(start, end) if cells.has_value(cell, cell + 1)), None
        )
        witness = {} if value is None or domain is not None else key | {about.name: write_witness(value)}
        of_key = f" of the key {key_text(rows, [row + 1])}" if rows.keys else ""
        yield of_lookup_rows(
            table,
            rows,
            "gap",
            f"{about.name} {region}{of_key} is covered by no row",
            [row + 1],
            region={**key, about.name: region},
            witness=witness or None,
            severity="note" if table.otherwise else "warning",
            remedy="add a row for it, or let a range end later",
        )
    if told > MOST_DESCRIBED:
        yield finding(
            "gap",
            f"{count(told - MOST_DESCRIBED, 'more gap')} between ranges of one key",
            table=table.name,
            severity="note" if table.otherwise else "warning",
            remedy="add rows for them",
        )


def _holes_of_boxes(table: Table, rows: LookupRows) -> Iterable[Finding]:
    """Tell what the rows of one key leave out of the space they span, for lookups with several ranges.

    Each range spans from the least start to the greatest end of the key's rows; where the input declares a domain, the
    domain.
    """
    index = index_of(table)
    is_empty = np.logical_or.reduce([cells.starts >= cells.ends for cells in index.ranges])
    unsettled: list[str] = []
    for group in range(index.n_groups):
        of_group = next(index.rows_of_groups([group]))
        of_group = np.sort(of_group[~is_empty[of_group]])
        if not len(of_group):
            continue
        masks, sought = [], []
        for column, cells in zip(rows.ranges, index.ranges, strict=True):
            starts, ends = cells.starts[of_group], cells.ends[of_group]
            masks.append(
                row_masks(
                    tuple(((int(a), int(b)),) for a, b in zip(starts, ends, strict=True)), cells.n_cells
                )
            )
            sought.append(_cells_sought(cells, column.about, int(starts.min()), int(ends.max())))
        search = GapSearch(
            masks, sought, len(of_group), [True] * len(masks), [-1] * len(masks), DEFAULT_BUDGET // 10
        )
        first = int(of_group[0])
        of_key = f" of the key {key_text(rows, [first + 1])}" if rows.keys else ""
        key = key_region(rows, first)
        for box, place in search.boxes(_MOST_BOXES_A_KEY):
            whole = [
                sum(1 << cell for cell in each) == cells for cells, each in zip(box, sought, strict=True)
            ]
            region = {
                column.about.name: _run_text(cells, bits, column.about)
                for column, cells, bits, is_whole in zip(rows.ranges, index.ranges, box, whole, strict=True)
                if not is_whole or all(whole)
            }
            witness = key | {
                column.about.name: write_witness(value_in(cells, cell))
                for column, cells, cell in zip(rows.ranges, index.ranges, place, strict=True)
            }
            what = ", ".join(f"{name} {text}" for name, text in region.items())
            yield of_lookup_rows(
                table,
                rows,
                "gap",
                f"{what}{of_key} is covered by no row",
                [int(row) + 1 for row in of_group[:20]],
                region={**key, **region},
                witness=witness,
                severity="note" if table.otherwise else "warning",
                remedy="add a row for it, or let a range reach further",
            )
        if search.has_more:
            yield of_lookup_rows(
                table,
                rows,
                "gap",
                f"more gaps{of_key} remain beyond the {_MOST_BOXES_A_KEY} listed",
                [first + 1],
                severity="note" if table.otherwise else "warning",
                remedy="fill those first",
            )
        if not search.is_settled:
            unsettled.append(key_text(rows, [first + 1]) if rows.keys else "the whole table")
    if unsettled:
        yield finding(
            "not-proven",
            f"whether rows leave a gap is not settled for {listed(unsettled, 5)}",
            table=table.name,
            remedy="values that fall through are still found in the data",
        )


def _cells_sought(cells: RangeCells, about: Input, start: int, end: int) -> list[int]:
    """Return the cells in which a value lies, of a run of cells, or of the domain that an input declares."""
    if about.domain is None:
        return [cell for cell in range(start, end) if cells.has_value(cell, cell + 1)]
    domain = make_axis(about, [about.domain])
    return [cell for cell in range(cells.n_cells) if _hole(cells, domain, cell, cell + 1)]


def _run_text(cells: RangeCells, bits: int, about: Input) -> str:
    """Return a run of cells as a condition."""
    start, end = (bits & -bits).bit_length() - 1, bits.bit_length()
    if about.domain is None:
        return cells.write(start, end)
    return _hole(cells, make_axis(about, [about.domain]), start, end)


def _hole(cells: RangeCells, domain: Axis | None, start: int, end: int) -> str:
    """Return a hole as a condition, cut to the domain; empty where no value lies in it."""
    if domain is None:
        return cells.write(start, end) if cells.has_value(start, end) else ""
    low = LOW if start == 0 else cells.cuts[start - 1]
    high = HIGH if end > len(cells.cuts) else cells.cuts[end - 1]
    hole = Region((((low, high),),) * domain.n_bands) & domain.domain
    return domain.write_region(hole)
