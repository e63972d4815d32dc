"""Checking a lookup: keys that are blank or repeated, ranges that meet or leave holes, rows still unfinished."""

from __future__ import annotations

import itertools
import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
import pyarrow.compute as pc

from kivvet.core.check.lookup_findings import MOST_DESCRIBED, key_region, key_text, of_lookup_rows, value_in
from kivvet.core.check.lookup_gaps import gaps_between_ranges
from kivvet.core.read.table_text import input_text
from kivvet.core.space.lookup_index import index_of
from kivvet.core.space.meeting_ranges import meeting_rows, result_numbers
from kivvet.core.space.region_text import write_witness
from kivvet.core.words.conditions import AnyOf, Condition, Equals
from kivvet.core.words.findings import Finding, Pair, finding
from kivvet.core.words.values import FOLDS, Value, fold_text, write_value
from kivvet.core.words.wording import count, listed, toml_key

if TYPE_CHECKING:
    from kivvet.core.tables.lookup_rows import LookupRows
    from kivvet.core.tables.table import Table

#: Lookups with several ranges hold at most so many rows.
MOST_ROWS_OF_BOXES = 20_000
_MOST_FOLDED = 200_000  # different keys that are compared folded
_MOST_KEYS = 10_000  # keys described one by one; the rest are counted


def check_lookup(table: Table) -> list[Finding]:
    """Return the findings of a lookup's own rows."""
    rows = table.lookup
    assert rows is not None
    found = [*_blank_keys(table, rows)]
    if len(rows.ranges) > 1 and rows.n_rows > MOST_ROWS_OF_BOXES:
        message = f"a lookup with several ranges has at most {MOST_ROWS_OF_BOXES:,} rows; this one has {rows.n_rows:,}"
        return [*found, finding("syntax", message, table=table.name, remedy="split it, or keep one range")]
    if rows.ranges:
        found += [
            *_empty_ranges(table, rows),
            *_meeting_ranges(table, rows),
            *gaps_between_ranges(table, rows),
        ]
    else:
        found += _repeated_keys(table, rows)
    return [*found, *_near_keys(table, rows), *_keys_and_domains(table, rows), *_unfinished(table, rows)]


def _blank_keys(table: Table, rows: LookupRows) -> Iterable[Finding]:
    for key, codes in zip(rows.keys, index_of(table).keys, strict=True):
        blank = [int(index) + 1 for index in np.flatnonzero(codes.codes < 0)]
        if blank:
            yield of_lookup_rows(
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
            yield of_lookup_rows(
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
        about = next(input_ for input_ in table.inputs if input_.name == key.about.name)
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
            yield of_lookup_rows(
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
        (np.sort(group) for group in index.rows_of_groups(repeated[:_MOST_KEYS].tolist())),
        key=lambda one: int(one[0]),
    )
    for places in described:
        numbers = [int(place) + 1 for place in places]
        yield _said_twice(
            table, rows, numbers, f"the key {key_text(rows, numbers)} stands in rows {listed(numbers)}", {}
        )
    if len(repeated) > _MOST_KEYS:
        yield finding(
            "conflict" if table.match == "one" else "duplicate",
            f"{count(len(repeated) - _MOST_KEYS, 'more key')} repeated",
            table=table.name,
            remedy="keep one row of each key",
        )


def _as_period(table: Table, rows: LookupRows, numbers: Sequence[int]) -> str:
    """Return how two outputs are the ends of ranges, where rows of one key do not meet by them; else nothing."""
    ordered = [
        (output, [array[number - 1].as_py() for number in numbers])
        for output, array in zip(table.outputs, rows.results, strict=True)
        if output.type in ("integer", "number", "date", "datetime")
    ]
    for (start, lows), (end, highs) in itertools.permutations(ordered, 2):
        if start.type != end.type or not any(low is not None for low in lows):
            continue
        bounds = [
            (-1 if low is None else 0, low, 1 if high is None else 0, high)
            for low, high in zip(lows, highs, strict=True)
        ]
        if any(low is not None and high is not None and low > high for _, low, _, high in bounds):
            continue
        if sum(low is None for low in lows) > 1 or sum(high is None for high in highs) > 1:
            continue
        in_order = sorted(bounds, key=lambda one: (one[0], one[1] if one[1] is not None else 0))
        if all(
            before[3] is not None and after[1] is not None and before[3] <= after[1]
            for before, after in itertools.pairwise(in_order)
        ):
            heads = (start.column or start.name, end.column or end.name)
            kind = start.type
            about = f'{{ type = "{kind}", from = {json.dumps(heads[0])}, to = {json.dumps(heads[1])} }}'
            what = "period" if kind in ("date", "datetime") else "range"
            return (
                f"if {heads[0]} and {heads[1]} are the ends of a {what}, make it an input instead of two outputs: "
                f"inputs.{'day' if what == 'period' else 'value'} = {about}; else keep one row of each key"
            )
    return ""


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
    region = key_region(rows, numbers[0] - 1) | dict(more)
    says = f"and differs in {listed(differing)}" if differing else "with the same results"
    return of_lookup_rows(
        table,
        rows,
        kind if differing else "duplicate",
        f"{what} {says}{also}",
        numbers,
        region=region,
        witness=region,
        remedy=_as_period(table, rows, numbers)
        or "keep one row of each key" + ("" if differing and table.match == "one" else "; the first is used")
        if not more
        else "let one range end before the next begins",
        **({"severity": "warning"} if table.match == "first" else {}),
    )


def _empty_ranges(table: Table, rows: LookupRows) -> Iterable[Finding]:
    for column, cells in zip(rows.ranges, index_of(table).ranges, strict=True):
        empty = [int(row) + 1 for row in np.flatnonzero(cells.starts >= cells.ends)]
        if column.end is None:
            empty = []  # the same start twice; told as such
        if empty:
            first = empty[0] - 1
            ends = f"{column.start[first].as_py()} to {column.end[first].as_py() if column.end is not None else ''}"
            yield of_lookup_rows(
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
        if described > MOST_DESCRIBED:
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
        region = key_region(rows, late) | common
        witness = key_region(rows, late) | {
            column.about.name: write_witness(
                value_in(cells, int(max(cells.starts[early], cells.starts[late])))
            )
            for column, cells in zip(rows.ranges, index_of(table).ranges, strict=True)
        }
        pairs.append(Pair((numbers[0], numbers[1]), region, witness))
    numbers = list(pairs[0].rows)
    key = f"of the key {key_text(rows, numbers[:1])} " if rows.keys else ""
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


def _unfinished(table: Table, rows: LookupRows) -> Iterable[Finding]:
    is_blank = np.logical_and.reduce(
        [pc.is_null(array).to_numpy(zero_copy_only=False) for array in rows.results]
    )
    blank = [int(index) + 1 for index in np.flatnonzero(is_blank & (index_of(table).groups >= 0))]
    if blank:
        keys = [key_text(rows, [number]) for number in blank[:5]] if rows.keys else []
        yield of_lookup_rows(
            table,
            rows,
            "unfinished",
            f"{count(len(blank), 'row')} with a key and no results: {listed(keys, 5)}",
            blank,
            remedy="fill in the results",
        )
