"""Where two versions of a table of one input differ: one walk over the cells of both."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from kivvet.core.compare.box_difference import Pair, Side
from kivvet.core.space.axes import Axis
from kivvet.core.space.cells import Cell, CellCut
from kivvet.core.words.regions import Cut, Region


def line_differences(
    axis: Axis, regions: Sequence[Region], old: Side, new: Side, cells_that_count: Region
) -> Iterator[tuple[str, Cell | None, Pair]]:
    """Yield the stretches on which both give one result each, and these differ: as a condition, the first cell, and
    the results. The missing value comes last, its cell None.

    Parameters
    ----------
    axis : Axis
    regions : sequence of Region
        What each row accepts; rows are numbered for both.
    old, new : Side
    cells_that_count : Region
        Where the two may differ; the rest is passed over.
    """
    cut = CellCut.of(axis, [*regions, cells_that_count], axis.domain)
    counts = len(regions)
    run: tuple[Cell, Cut, Pair] | None = None
    for number, _, live, _ in cut.live_rows():
        cell = cut.cells[number]
        pair = _pair(live, old, new) if counts in live else None
        if pair is not None and pair[0] == pair[1]:
            pair = None
        if run is not None and pair == run[2] and cell.band == run[0].band:
            run = (run[0], cell.high, run[2])
            continue
        if run is not None:
            yield axis.write_interval(run[0].low, run[1]), run[0], run[2]
        run = None if pair is None else (cell, cell.high, pair)
    if run is not None:
        yield axis.write_interval(run[0].low, run[1]), run[0], run[2]
    if cells_that_count.missing:
        live = {row: None for row, region in enumerate(regions) if region.missing}
        before, after = _pair(live, old, new)
        if before != after:
            yield "missing", None, (before, after)


def _pair(live: dict[int, None], old: Side, new: Side) -> Pair:
    alive = 0
    for row in live:
        alive |= 1 << row
    return old.at(alive), new.at(alive)
