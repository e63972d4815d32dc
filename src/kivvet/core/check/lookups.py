"""Checking a lookup: keys that are blank or repeated, ranges that meet or leave holes, rows still unfinished."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import numpy as np
import pyarrow.compute as pc

from kivvet.core.check.box_gaps import GapSearch
from kivvet.core.check.box_search import DEFAULT_BUDGET
from kivvet.core.read.table_text import input_text
from kivvet.core.space.axes import Axis, make_axis
from kivvet.core.space.cells import row_masks
from kivvet.core.space.lookup_index import RangeCells, index_of
from kivvet.core.space.meeting_ranges import meeting_rows, result_numbers
from kivvet.core.space.region_text import write_witness
from kivvet.core.words.conditions import AnyOf, Condition, Equals
from kivvet.core.words.findings import Finding, Pair, finding
from kivvet.core.words.regions import HIGH, LOW, Region
from kivvet.core.words.values import FOLDS, Value, fold_text, write_value
from kivvet.core.words.wording import count, listed, toml_key

if TYPE_CHECKING:
    from kivvet.core.tables.inputs import Input
    from kivvet.core.tables.lookup_rows import LookupRows
    from kivvet.core.tables.table import Table

#: Lookups with several ranges hold at most so many rows.
MOST_ROWS_OF_BOXES = 20_000
_MOST_FOLDED = 200_000  # different keys that are compared folded
_MOST_BOXES_A_KEY = 10  # gaps described of one key, in lookups with several ranges
_MOST_KEYS = 10_000  # keys described one by one; the rest are counted
_MOST_DESCRIBED = 10_000  # rows that meet others; the rest are counted


def check_lookup(table: Table) -> list[Finding]:
    """Return the findings of a lookup's own rows."""
    rows = table.lookup
    assert rows is not None
    found = [*_blank_keys(table, rows)]
    if len(rows.ranges) > 1 and rows.n_rows > MOST_ROWS_OF_BOXES:
        message = f"a lookup with several ranges has at most {MOST_ROWS_OF_BOXES:,} rows; this one has {rows.n_rows:,}"
        return [*found, finding("syntax", message, table=table.name, remedy="split it, or keep one range")]
    if rows.ranges:
        found += [*_empty_ranges(table, rows), *_meeting_ranges(table, rows), *_holes(table, rows)]
    else:
        found += _repeated_keys(table, rows)
    return [*found, *_near_keys(table, rows), *_keys_and_domains(table, rows), *_unfinished(table, rows)]


def _of_rows(
    table: Table, rows: LookupRows, kind: str, message: str, numbers: Sequence[int], **parts: object
) -> Finding:
    places = tuple(place for number in numbers[:20] if (place := rows.locate_row(number)) is not None)
    return finding(kind, message, table=table.name, rows=tuple(numbers), places=places, **parts)


def _blank_keys(table: Table, rows: LookupRows) -> Iterable[Finding]:
    for key, codes in zip(rows.keys, index_of(table).keys, strict=True):
        blank = [int(index) + 1 for index in np.flatnonzero(codes.codes < 0)]
        if blank:
            yield _of_rows(
                table,
                rows,
                "blank-key",
                f"{count(len(blank), 'row')} without a key in {key.about.name}: row {listed(blank)}",
                blank,
                remedy="fill in the key, or remove the row; a blank key matches nothing",
            )


def _near_keys(table: Table, rows: LookupRows) -> Iterable[Finding]:
    """Tell keys of the table itself that differ only by case, blanks or Unicode form: are they meant to be
    two?
    """
    for key, codes in zip(rows.keys, index_of(table).keys, strict=True):
        if key.about.type != "text" or len(codes.distinct) > _MOST_FOLDED:
            continue
        folded: dict[str, list[str]] = {}
        for text in codes.distinct.to_pylist():
            folded.setdefault(fold_text(text or "", FOLDS), []).append(text)
        for texts in [each for each in folded.values() if len(each) > 1][:_MOST_KEYS]:
            numbers = sorted(
                int(np.flatnonzero(codes.codes == codes.distinct.index(text).as_py())[0]) + 1
                for text in texts
            )
            yield _of_rows(
                table,
                rows,
                "near-miss",
                f"the keys {listed(map(repr, texts), 4)} of {key.about.name} differ only by case, blanks or Unicode form",
                numbers,
                remedy=f"write them alike, or let it not count: inputs.{toml_key(key.about.name)} = {input_text(replace(key.about, fold=FOLDS))}",
            )


def _keys_and_domains(table: Table, rows: LookupRows) -> Iterable[Finding]:
    """Hold keys against a domain that lists values: keys outside it, and values of it that no row has."""
    for key in rows.keys:
        about = next(one for one in table.inputs if one.name == key.about.name)
        listed_values = _single_values(about.domain)
        if listed_values is None:
            continue
        known = {fold_text(v, key.about.fold) if isinstance(v, str) else v: v for v in listed_values}
        values = key.values.to_pylist()
        outside = [
            number for number, value in enumerate(values, 1) if value is not None and value not in known
        ]
        if outside:
            shown = listed(dict.fromkeys(_shown(key.shown[number - 1].as_py()) for number in outside), 5)
            yield _of_rows(
                table,
                rows,
                "out-of-domain",
                f"{count(len(outside), 'row')} of {key.about.name} {'lies' if len(outside) == 1 else 'lie'} outside the domain: {shown}",
                outside,
                remedy="correct the keys, or widen the domain",
            )
        there = set(values)
        absent = [value for compared, value in known.items() if compared not in there]
        if absent and len(rows.keys) == 1:
            yield finding(
                "gap",
                f"{count(len(absent), 'value')} of the domain of {key.about.name} {'has' if len(absent) == 1 else 'have'} no row: {listed(map(_shown, absent), 5)}",
                table=table.name,
                region={key.about.name: _shown(absent[0])},
                severity="note" if table.otherwise else "warning",
                remedy="add rows for them",
            )


def _single_values(domain: Condition | None) -> list[Value] | None:
    """Return the values of a domain that lists them; None for any other."""
    parts = domain.parts if isinstance(domain, AnyOf) else (domain,)
    values = [part.value for part in parts if isinstance(part, Equals)]
    return values if len(values) == len(parts) else None


def _shown(value: Value) -> str:
    return repr(value) if isinstance(value, str) else write_value(value)


def _repeated_keys(table: Table, rows: LookupRows) -> Iterable[Finding]:
    index = index_of(table)
    counts = np.bincount(index.groups[index.groups >= 0], minlength=index.n_groups)
    repeated = np.flatnonzero(counts > 1)
    described = sorted(
        (np.sort(one) for one in index.rows_of_groups(repeated[:_MOST_KEYS].tolist())),
        key=lambda one: int(one[0]),
    )
    for places in described:
        numbers = [int(place) + 1 for place in places]
        yield _said_twice(
            table, rows, numbers, f"the key {_key(rows, numbers)} stands in rows {listed(numbers)}", {}
        )
    if len(repeated) > _MOST_KEYS:
        yield finding(
            "conflict" if table.match == "one" else "duplicate",
            f"{count(len(repeated) - _MOST_KEYS, 'more key')} repeated",
            table=table.name,
            remedy="keep one row of each key",
        )


def _said_twice(
    table: Table,
    rows: LookupRows,
    numbers: Sequence[int],
    what: str,
    more: Mapping[str, str],
    kind: str = "conflict",
    also: str = "",
) -> Finding:
    """Return a finding about rows that hold the same values: whether their results differ decides which."""
    results = [tuple(array[number - 1].as_py() for array in rows.results) for number in numbers]
    differing = [
        output.name
        for output, values in zip(table.outputs, zip(*results, strict=True), strict=True)
        if any(value != values[0] for value in values)
    ]
    region = _key_region(rows, numbers[0] - 1) | dict(more)
    says = f"and differs in {listed(differing)}" if differing else "with the same results"
    return _of_rows(
        table,
        rows,
        kind if differing else "duplicate",
        f"{what} {says}{also}",
        numbers,
        region=region,
        witness=region,
        remedy="keep one row of each key"
        + ("" if differing and table.match == "one" else "; the first is used")
        if not more
        else "let one range end before the next begins",
        **({"severity": "warning"} if table.match == "first" else {}),
    )


def _key_region(rows: LookupRows, row: int) -> dict[str, str]:
    """Return the key of a row (from 0) as conditions, by input."""
    return {one.about.name: write_witness(_plain(one.shown[row].as_py())) for one in rows.keys}


def _plain(value: Any) -> Value | None:
    return Decimal(repr(value)) if isinstance(value, float) else value


def _key(rows: LookupRows, numbers: Sequence[int]) -> str:
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


def _empty_ranges(table: Table, rows: LookupRows) -> Iterable[Finding]:
    for column, cells in zip(rows.ranges, index_of(table).ranges, strict=True):
        empty = [int(row) + 1 for row in np.flatnonzero(cells.starts >= cells.ends)]
        if column.end is None:
            empty = []  # the same start twice; told as such
        if empty:
            first = empty[0] - 1
            ends = f"{column.start[first].as_py()} to {column.end[first].as_py() if column.end is not None else ''}"
            yield _of_rows(
                table,
                rows,
                "impossible",
                f"{count(len(empty), 'row')} of {column.about.name} hold no value, such as {ends} in row {empty[0]}",
                empty,
                remedy="swap the ends, or correct them",
            )


def _meeting_ranges(table: Table, rows: LookupRows) -> Iterable[Finding]:
    """Tell rows of one key whose ranges share values."""
    described = untold = 0
    for late, earlier in meeting_rows(index_of(table), result_numbers(rows)):
        described += 1
        if described > _MOST_DESCRIBED:
            untold += 1
            continue
        yield _meeting(table, rows, late, earlier)
    if untold:
        yield finding(
            "overlap",
            f"{count(untold, 'more row')} {'meets' if untold == 1 else 'meet'} others",
            table=table.name,
            remedy="let each range end before the next begins",
            **({"severity": "warning"} if table.match == "first" else {}),
        )


def _meeting(table: Table, rows: LookupRows, late: int, earlier: Sequence[int]) -> Finding:
    """Return the finding about a row and those it meets, which all have its results or all have others."""
    pairs = []
    for early in earlier:
        common = {
            column.about.name: cells.write(
                int(max(cells.starts[early], cells.starts[late])),
                int(min(cells.ends[early], cells.ends[late])),
            )
            for column, cells in zip(rows.ranges, index_of(table).ranges, strict=True)
        }
        numbers = sorted((early + 1, late + 1))
        region = _key_region(rows, late) | common
        witness = _key_region(rows, late) | {
            column.about.name: write_witness(
                _value_in(cells, int(max(cells.starts[early], cells.starts[late])))
            )
            for column, cells in zip(rows.ranges, index_of(table).ranges, strict=True)
        }
        pairs.append(Pair((numbers[0], numbers[1]), region, witness))
    numbers = list(pairs[0].rows)
    key = f"of the key {_key(rows, numbers[:1])} " if rows.keys else ""
    shared = ", ".join(f"{column.about.name} {pairs[0].region[column.about.name]}" for column in rows.ranges)
    others = [early + 1 for early in earlier[1:]]
    more = (
        f"; row {late + 1} also meets {'row' if len(others) == 1 else 'rows'} {listed(others)}"
        if others
        else ""
    )
    said = f"rows {listed(numbers)} {key}both hold {shared}"
    common = {column.about.name: pairs[0].region[column.about.name] for column in rows.ranges}
    return replace(
        _said_twice(table, rows, numbers, said, common, "overlap", more),
        pairs=tuple(pairs),
        witness=pairs[0].witness,
    )


def _holes(table: Table, rows: LookupRows) -> Iterable[Finding]:
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
        if told > _MOST_DESCRIBED:
            continue
        key = _key_region(rows, row)
        value = next(
            (_value_in(cells, cell) for cell in range(start, end) if cells.has_value(cell, cell + 1)), None
        )
        witness = {} if value is None or domain is not None else key | {about.name: write_witness(value)}
        of_key = f" of the key {_key(rows, [row + 1])}" if rows.keys else ""
        yield _of_rows(
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
    if told > _MOST_DESCRIBED:
        yield finding(
            "gap",
            f"{count(told - _MOST_DESCRIBED, 'more gap')} between ranges of one key",
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
        of_key = f" of the key {_key(rows, [first + 1])}" if rows.keys else ""
        key = _key_region(rows, first)
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
                column.about.name: write_witness(_value_in(cells, cell))
                for column, cells, cell in zip(rows.ranges, index.ranges, place, strict=True)
            }
            what = ", ".join(f"{name} {text}" for name, text in region.items())
            yield _of_rows(
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
            yield _of_rows(
                table,
                rows,
                "gap",
                f"more gaps{of_key} remain beyond the {_MOST_BOXES_A_KEY} listed",
                [first + 1],
                severity="note" if table.otherwise else "warning",
                remedy="fill those first",
            )
        if not search.is_settled:
            unsettled.append(_key(rows, [first + 1]) if rows.keys else "the whole table")
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


def _value_in(cells: RangeCells, cell: int) -> Value | None:
    low = LOW if cell == 0 else cells.cuts[cell - 1]
    high = HIGH if cell == len(cells.cuts) else cells.cuts[cell]
    found = (cells.axis.witness(band, low, high) for band in range(cells.axis.n_bands))
    return next((one for one in found if one is not None), None)


def _hole(cells: RangeCells, domain: Axis | None, start: int, end: int) -> str:
    """Return a hole as a condition, cut to the domain; empty where no value lies in it."""
    if domain is None:
        return cells.write(start, end) if cells.has_value(start, end) else ""
    low = LOW if start == 0 else cells.cuts[start - 1]
    high = HIGH if end > len(cells.cuts) else cells.cuts[end - 1]
    hole = Region((((low, high),),) * domain.n_bands) & domain.domain
    return domain.write_region(hole)


def _unfinished(table: Table, rows: LookupRows) -> Iterable[Finding]:
    is_blank = np.logical_and.reduce(
        [pc.is_null(array).to_numpy(zero_copy_only=False) for array in rows.results]
    )
    blank = [int(index) + 1 for index in np.flatnonzero(is_blank & (index_of(table).groups >= 0))]
    if blank:
        keys = [_key(rows, [number]) for number in blank[:5]] if rows.keys else []
        yield _of_rows(
            table,
            rows,
            "unfinished",
            f"{count(len(blank), 'row')} with a key and no results: {listed(keys, 5)}",
            blank,
            remedy="fill in the results",
        )
