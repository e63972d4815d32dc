"""What changed between two versions of a table, in values and results: not in how it is written."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator
from dataclasses import dataclass

from kivvet.core.check.row_findings import RowFindings
from kivvet.core.space.cells import NO_ROW, CellCut
from kivvet.core.space.lookup_index import index_of
from kivvet.core.space.make_axis import make_axis
from kivvet.core.space.region_text import write_region, write_results
from kivvet.core.tables.table import Table
from kivvet.core.words.regions import Cut, Region
from kivvet.core.words.values import write_value


@dataclass(frozen=True, slots=True)
class Change:
    """One region whose results changed, or another change of meaning.

    Attributes
    ----------
    region : str
        In the condition syntax, or words such as ``otherwise``.
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


def changes_between(old: Table, new: Table) -> list[Change]:
    """Return the regions on which two versions of a table give different results, in order."""
    options = list(_option_changes(old, new))
    if (
        (old.lookup is None) != (new.lookup is None)
        or [(input_.name, input_.type) for input_ in old.inputs]
        != [(input_.name, input_.type) for input_ in new.inputs]
        or _output_names(old) != _output_names(new)
    ):
        return options
    if new.lookup is not None:
        return [*options, *_key_changes(old, new)]
    if len(old.dimensions) == len(new.dimensions) == 1 and "every" not in (old.match, new.match):
        return [*options, *_region_changes(old, new)]
    return [*options, *_row_changes(old, new)]


def _output_names(table: Table) -> list[str]:
    return [output.name for output in table.outputs]


def _option_changes(old: Table, new: Table) -> Iterator[Change]:
    if len(old.inputs) != len(new.inputs):
        names = [", ".join(input_.name for input_ in table.inputs) for table in (old, new)]
        yield Change("inputs", *names)
    for before, after in zip(old.inputs, new.inputs, strict=False):
        which = "input" if len(old.inputs) == len(new.inputs) == 1 else f"input {after.name}"
        for name in ("name", "type", "step", "step_offset", "shape", "fold", "required", "tz"):
            if (was := getattr(before, name)) != (now := getattr(after, name)):
                yield Change(f"{which} {name}", str(was or "none"), str(now or "none"))
    if _output_names(old) != _output_names(new):
        yield Change("outputs", ", ".join(_output_names(old)), ", ".join(_output_names(new)))
    if old.match != new.match:
        yield Change("match", old.match, new.match)
    for word in ("missing", "otherwise"):
        was, now = getattr(old, word), getattr(new, word)
        for name in dict.fromkeys([*was, *now]):
            if was.get(name) != now.get(name):
                yield Change(
                    f"{word} {name}",
                    *("" if one.get(name) is None else write_value(one[name]) for one in (was, now)),
                )
    for was, now in zip(old.outputs, new.outputs, strict=False):
        if was.name == now.name and (was.order != now.order or was.type != now.type):
            yield Change(
                f"output {was.name}",
                f"{was.type} {' < '.join(was.order)}".strip(),
                f"{now.type} {' < '.join(now.order)}".strip(),
            )


def _key_changes(old: Table, new: Table) -> Iterator[Change]:
    assert old.lookup is not None and new.lookup is not None
    before, after = (_results_by_key(table) for table in (old, new))
    for key in dict.fromkeys([*after, *before]):
        if before.get(key) != after.get(key):
            yield Change(str(key), before.get(key, ""), after.get(key, ""))


def _results_by_key(table: Table) -> dict[object, str]:
    rows = table.lookup
    assert rows is not None
    results = list(zip(*(array.to_pylist() for array in rows.results), strict=True))
    made: dict[object, str] = {}
    ranges = index_of(table).ranges
    for row, values in enumerate(results):
        key = rows.shown_key(row, as_compared=True) if rows.keys else ""
        parts = [key] if key else []
        parts += [
            f"{column.about.name} {cells.write(int(cells.starts[row]), int(cells.ends[row]))}"
            for column, cells in zip(rows.ranges, ranges, strict=True)
            if cells.starts[row] < cells.ends[row]
        ]
        written = ", ".join("missing" if value is None else str(value) for value in values)
        made.setdefault(", ".join(parts), written)
    return made


def _row_changes(old: Table, new: Table) -> Iterator[Change]:
    """Yield the rows that came, went, moved or got other results, by what they ask."""
    before, after = _rows_by_region(old), _rows_by_region(new)
    common = [region for region in after if region in before]
    kept = _longest_increasing([before[region][0] for region in common])
    for region, (number, results) in after.items():
        if region not in before:
            yield Change(f"row {number}, {region}", "", results)
        elif before[region][1] != results:
            yield Change(region, before[region][1], results)
        elif before[region][0] not in kept and "first" in (old.match, new.match):
            yield Change(f"{region}, now row {number} and not {before[region][0]}", results, results)
    for region, (number, results) in before.items():
        if region not in after:
            yield Change(f"row {number} before, {region}", results, "")


def _rows_by_region(table: Table) -> dict[str, tuple[int, str]]:
    words = RowFindings(table)
    made: dict[str, tuple[int, str]] = {}
    for index, row in enumerate(table.rows):
        made.setdefault(
            write_region(words.region_of(index)) or "any", (row.number, write_results(row.results))
        )
    return made


def _longest_increasing(numbers: list[int]) -> set[int]:
    """Return the members of a longest increasing subsequence: the rows that did not move."""
    tails: list[int] = []
    previous: dict[int, int | None] = {}
    for number in numbers:
        place = bisect_left(tails, number)
        previous[number] = tails[place - 1] if place else None
        tails[place:] = [number] if place == len(tails) else [number, *tails[place + 1 :]]
    kept: set[int] = set()
    at = tails[-1] if tails else None
    while at is not None:
        kept.add(at)
        at = previous[at]
    return kept


def _region_changes(old: Table, new: Table) -> Iterator[Change]:
    conditions = [table.asked(row, 0) for table in (old, new) for row in table.rows]
    axis = make_axis(new.inputs[0], conditions)
    regions = []
    for table in (old, new):
        made = [axis.region(table.asked(row, 0)) for row in table.rows]
        regions.append([one.without_missing() for one in made] if table.inputs[0].required else made)
    nowhere = Region(((),) * axis.n_bands)
    cut = CellCut.of(axis, [*regions[0], *regions[1]], nowhere)
    winners = []
    for table_regions, spans in (
        (regions[0], cut.spans[: len(regions[0])]),
        (regions[1], cut.spans[len(regions[0]) :]),
    ):
        alone = CellCut(cut.cells, spans, tuple(one.missing for one in table_regions))
        winners.append([lowest for *_, lowest in alone.live_rows()])
    runs: dict[tuple[str, str, str], None] = {}  # texts of several lengths may share their bounds
    open_run: tuple[int, Cut, Cut, str, str] | None = None

    def close() -> None:
        if open_run is not None:
            runs[(axis.write_interval(open_run[1], open_run[2]), open_run[3], open_run[4])] = None

    for cell, was, now in zip(cut.cells, *winners, strict=True):
        before, after = _result_of(old, was), _result_of(new, now)
        if before == after:
            close()
            open_run = None
        elif open_run is not None and open_run[0] == cell.band and open_run[3:] == (before, after):
            open_run = (cell.band, open_run[1], cell.high, before, after)
        else:
            close()
            open_run = (cell.band, cell.low, cell.high, before, after)
    close()
    for region, before, after in runs:
        yield Change(region, before, after)
    missing = [next((row for row, one in enumerate(each) if one.missing), NO_ROW) for each in regions]
    before, after = _result_of(old, missing[0]), _result_of(new, missing[1])
    if before != after:
        yield Change("missing", before, after)


def _result_of(table: Table, row: int) -> str:
    return "" if row == NO_ROW else write_results(table.rows[row].results)
