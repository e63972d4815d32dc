"""A table drawn by itself, or with a frame in memory."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal, get_args

from kivvet.core.picture.bars import Bars, bars_of_classes
from kivvet.core.picture.histogram import (
    TYPES,
    Histogram,
    HistogramCounter,
    RangeInDays,
    empty_histogram,
)
from kivvet.core.picture.paints import paints_of_output
from kivvet.core.picture.places import output_shown
from kivvet.core.picture.region_map import RegionMap, map_of
from kivvet.core.picture.triangle import Triangle, parts_of, triangle_of
from kivvet.core.run.frames import apply_tables, as_frame
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import Table
from kivvet.core.words.errors import DataError
from kivvet.core.words.wording import did_you_mean, listed

TableChart = Literal["bars", "histogram", "map", "triangle"]


def suits(table: Table, *, has_data: bool) -> TableChart:
    """Return what a table is best drawn as."""
    if table.lookup is not None:
        return "bars"
    if len(table.dimensions) > 1:
        return "bars" if has_data else "map" if parts_of(table) is None else "triangle"
    is_line = not table.computed_inputs and table.inputs[0].type in TYPES
    return "histogram" if is_line else "bars"


def picture_of_table(
    table: Table,
    frame: Any,
    kind: TableChart | None,
    *,
    output: str | None,
    axes: Sequence[str],
    each: str | None,
    fixed: Mapping[str, str],
    title: str,
) -> Bars | Histogram | RegionMap | Triangle:
    """Return a picture of a table; see `RuleTable.chart`."""
    if kind is not None and kind not in get_args(TableChart):
        known = get_args(TableChart)
        raise DataError(
            f"{kind!r} is no kind of chart of a table",
            expected=f"one of: {listed(known)}",
            fix=did_you_mean(kind, known),
        )
    kind = kind or suits(table, has_data=frame is not None)
    shown, title = output_shown(table, output), title or table.title or table.name
    if kind in ("map", "triangle") and frame is not None:
        raise DataError(f"a {kind} shows no data", fix="leave out the frame")
    if kind == "map":
        return map_of(table, shown, title, axes=axes, each=each, fixed=fixed)
    if axes or each:
        raise DataError("axes and each are of a map", found=kind, fix='kind="map"')
    if kind == "triangle":
        return triangle_of(table, shown, title, fixed=fixed)
    if fixed:
        raise DataError("fixed is of a map or a triangle", found=kind, fix='kind="map"')
    if kind == "histogram":
        return (
            empty_histogram(table, shown, title) if frame is None else _histogram(table, shown, frame, title)
        )
    if frame is None:
        raise DataError(f"the classes of {table.name} are counted in data", fix="give a frame")
    report = apply_tables(frame, [table]).report.tables[0]
    if shown.name not in report.classes:
        raise DataError(
            f"{shown.name} of table {table.name!r} has no classes to count", expected="an output of text"
        )
    return bars_of_classes(title, shown.name, report.lines_of(shown.name), paints_of_output(table, shown))


def _histogram(table: Table, output: Output, frame: Any, title: str) -> Histogram:
    given, name = as_frame(frame), table.inputs[0].name
    if name not in given.names:
        raise DataError(
            f"there is no column {name!r}",
            fix=did_you_mean(name, given.names) or "name a column of the frame so",
        )
    column, reach = given.column(name), RangeInDays()
    reach.see(column)
    counter = HistogramCounter(table, output, reach)
    counter.see({name: column})
    return counter.made(title)
