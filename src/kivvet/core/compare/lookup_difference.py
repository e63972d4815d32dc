"""Which keys of a lookup, and which values of its ranges, get other results: columns against columns.

The rows of both versions are numbered together, by key, by results and by the stretches they hold, so that a million
keys are compared without looking at them one by one; only keys that differ are.
"""

from __future__ import annotations

import itertools
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

import numpy as np
import numpy.typing as npt
import pyarrow as pa
import pyarrow.compute as pc

from kivvet.core.compare.comparison import ChangedRegion, Gives
from kivvet.core.compare.versions import NOTHING, Given, Results
from kivvet.core.space.axes import Axis
from kivvet.core.space.lookup_index import LookupIndex, NumberCuts, index_of
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.lookup_rows import LookupRows
from kivvet.core.tables.table import UNFINISHED, Row, Table
from kivvet.core.words.condition_parser import parse_condition
from kivvet.core.words.conditions import Condition, Equals, write_literal
from kivvet.core.words.regions import HIGH, LOW, Cut
from kivvet.core.words.values import Value

#: Lookups of more rows are compared with lookups of the same inputs only.
MOST_ROWS_AS_CONDITIONS = 20_000
_MOST_STRETCHES = 100_000  # of one key with several ranges
_ABSENT, _DISPUTED = -1, -2
_Numbers = npt.NDArray[np.int64]


@dataclass(frozen=True)
class KeyDifferences:
    """The regions that differ, in the order of the newer rows, and how many more there are (None: not known)."""

    regions: tuple[ChangedRegion, ...]
    n_more: int | None


class LookupPair:
    """Two lookups of the same keys and ranges, their rows numbered together: those of the old first."""

    def __init__(self, old: Table, new: Table, outputs: Sequence[str]) -> None:
        self.tables = (old, new)
        self.outputs = tuple(outputs)
        self.rows = tuple(_lookup(table) for table in self.tables)
        self.n_rows = tuple(rows.n_rows for rows in self.rows)
        self.keys = [
            [next(key for key in rows.keys if key.about.name == name) for rows in self.rows]
            for name in (key.about.name for key in self.rows[1].keys)
        ]
        self.groups = _combined([_codes(one.values for one in pair) for pair in self.keys], sum(self.n_rows))
        self.results, self.absent = self._results()
        self.is_new: npt.NDArray[np.bool_] = np.arange(sum(self.n_rows)) >= self.n_rows[0]

    def _results(self) -> tuple[_Numbers, tuple[int, int]]:
        """Return a number for the results of each row, and for each version that of a key it does not have."""
        positions = [
            [[output.name for output in table.outputs].index(name) for name in self.outputs]
            for table in self.tables
        ]
        columns = []
        n_all = sum(self.n_rows)
        for number, name in enumerate(self.outputs):
            arrays = [rows.results[place[number]] for rows, place in zip(self.rows, positions, strict=True)]
            ends = pa.array([table.otherwise.get(name) for table in self.tables])
            columns.append(_codes([*arrays, ends]))
        made = _combined(columns, n_all + 2, blanks=True)
        absent = [
            int(made[n_all + version]) if any(name in table.otherwise for name in self.outputs) else _ABSENT
            for version, table in enumerate(self.tables)
        ]
        for version, table in enumerate(self.tables):
            if absent[version] != _ABSENT:  # a row still blank gives what all others get
                start = self.n_rows[0] if version else 0
                part = made[start : start + self.n_rows[version]]
                part[_unfinished(_lookup(table))] = absent[version]
        return made[:n_all], (absent[0], absent[1])

    def differences(self, most: int) -> KeyDifferences:
        """Return the regions that differ, at most so many."""
        if not self.rows[1].ranges:
            return self._keys(most)
        return self._stretches(most)

    def _keys(self, most: int) -> KeyDifferences:
        n_groups = int(self.groups.max(initial=-1)) + 1
        firsts: list[_Numbers] = []
        numbers: list[_Numbers] = []
        for version in (0, 1):
            rows = np.flatnonzero((self.is_new == version) & (self.groups >= 0))
            first = np.full(n_groups, _ABSENT)
            first[self.groups[rows[::-1]]] = rows[::-1]
            firsts.append(first)
            given = np.where(first >= 0, self.results[first], self.absent[version])
            if not _first_wins(self.tables[version]):
                differing = rows[self.results[rows] != given[self.groups[rows]]]
                given[self.groups[differing]] = _DISPUTED
            numbers.append(given)
        is_there = (firsts[0] >= 0) | (firsts[1] >= 0)
        differ = np.flatnonzero(is_there & (numbers[0] != numbers[1]))
        order = np.where(firsts[1][differ] >= 0, firsts[1][differ], sum(self.n_rows) + firsts[0][differ])
        differ = differ[np.argsort(order, kind="stable")]
        regions = []
        for group in differ[:most]:
            old, new = int(firsts[0][group]), int(firsts[1][group])
            region = self.key(new if new >= 0 else old)
            given_by = [
                self.given(self._of_key(int(group), version, row, int(numbers[version][group])), version)
                for version, row in enumerate((old, new))
            ]
            regions.append(self.region(region, region, given_by))
        return KeyDifferences(tuple(regions), max(0, len(differ) - most))

    def _of_key(self, group: int, version: int, first: int, number: int) -> list[int]:
        """Return the rows of a key that decide: the first, or all of them where they disagree."""
        if number != _DISPUTED:
            return [first] if first >= 0 else []
        found: list[int] = np.flatnonzero((self.groups == group) & (self.is_new == version)).tolist()
        return found

    def key(self, row: int) -> dict[str, str]:
        """Return the key of a row as conditions, by input."""
        version = int(row >= self.n_rows[0])
        place = row - self.n_rows[0] * version
        return {pair[version].about.name: _literal(pair[version].values[place].as_py()) for pair in self.keys}

    def given(self, rows: Sequence[int], version: int) -> Given:
        """Return what one version gives where some of its rows hold the values."""
        table = self.tables[version]
        if not rows:
            results: Results = tuple(table.otherwise.get(name, NOTHING) for name in self.outputs)
            return Given(results, "no row" if all(result is NOTHING for result in results) else "otherwise")
        places = [row - self.n_rows[0] * version for row in rows]
        found = [self._results_of(table, place) for place in places]
        numbers = tuple(place + 1 for place in places)
        if len(set(found)) == 1:
            return Given(found[0], "row", numbers[:1])
        return Given((), "disagree", numbers, tuple(map(frozenset, zip(*found, strict=True))))

    def _results_of(self, table: Table, place: int) -> Results:
        lookup = _lookup(table)
        names = [output.name for output in table.outputs]
        values = [lookup.results[names.index(name)][place].as_py() for name in self.outputs]
        is_blank = all(array[place].as_py() is None for array in lookup.results)
        if is_blank:
            return tuple(table.otherwise.get(name, UNFINISHED) for name in self.outputs)
        return tuple(_exact(value) for value in values)

    def region(
        self, region: dict[str, str], witness: dict[str, str], given: Sequence[Given]
    ) -> ChangedRegion:
        before, after = (Gives.of(one, self.outputs) for one in given)
        return ChangedRegion(region, before, after, witness)

    # Ranges

    def _stretches(self, most: int) -> KeyDifferences:
        ranges = [_Stretches.of(self.tables, column.about) for column in self.rows[1].ranges]
        numbers = _combined(
            [self.groups, self.results, *(part for one in ranges for part in (one.starts, one.ends))],
            sum(self.n_rows),
        )
        has_values = np.logical_and.reduce([one.starts < one.ends for one in ranges])
        counted = (self.groups >= 0) & has_values
        only = counted & ~np.where(
            self.is_new,
            np.isin(numbers, numbers[counted & ~self.is_new]),
            np.isin(numbers, numbers[counted & self.is_new]),
        )
        if not self.keys:
            groups: list[int] = [0] if only.any() else []
        else:
            groups = list(
                dict.fromkeys([*self.groups[only & self.is_new].tolist(), *self.groups[only].tolist()])
            )
        order = np.argsort(self.groups, kind="stable")
        order = order[counted[order]]
        sorted_groups = self.groups[order]
        found: list[ChangedRegion] = []
        for group in groups:
            first, end = np.searchsorted(sorted_groups, [group, group + 1])
            for one in self._of_group(order[first:end], ranges):
                if len(found) == most:
                    return KeyDifferences(tuple(found), None)
                found.append(one)
        return KeyDifferences(tuple(found), 0)

    def _of_group(self, rows: _Numbers, ranges: Sequence[_Stretches]) -> Iterator[ChangedRegion]:
        """Yield where the results of one key differ: runs of stretches with one pair of results."""
        key = self.key(int(rows[0]))
        bounds = [
            np.unique(np.concatenate([[0, one.n_cells], one.starts[rows], one.ends[rows]])) for one in ranges
        ]
        *outer, last = bounds
        if int(np.prod([float(len(bound)) for bound in bounds])) > _MOST_STRETCHES:
            raise OverflowError
        for corner in itertools.product(*(itertools.pairwise(one.tolist()) for one in outer)):
            inside = np.ones(len(rows), bool)
            for (start, _), one in zip(corner, ranges, strict=False):
                inside &= (one.starts[rows] <= start) & (start < one.ends[rows])
            held = rows[inside]
            run: tuple[int, int, list[Given]] | None = None
            for start, end in [*itertools.pairwise(last.tolist()), (-1, -1)]:
                there = held[(ranges[-1].starts[held] <= start) & (start < ranges[-1].ends[held])]
                given = [
                    self.given(there[self.is_new[there] == version].tolist(), version) for version in (0, 1)
                ]
                if run is not None and (start < 0 or given != run[2]):
                    made = self._stretch(key, [*corner, run[:2]], ranges, run[2])
                    if made is not None:
                        yield made
                    run = None
                if start >= 0 and len(there) and given[0] != given[1]:  # else an option says what all get
                    run = (start, end, given) if run is None else (run[0], end, given)

    def _stretch(
        self,
        key: dict[str, str],
        corner: Sequence[tuple[int, int]],
        ranges: Sequence[_Stretches],
        given: Sequence[Given],
    ) -> ChangedRegion | None:
        region, witness = dict(key), dict(key)
        for one, (start, end) in zip(ranges, corner, strict=True):
            low, high = one.cut(start), one.cut(end)
            value = next(
                (
                    v
                    for band in range(one.axis.n_bands)
                    if (v := one.axis.witness(band, low, high)) is not None
                ),
                None,
            )
            if value is None:
                return None
            witness[one.about.name] = write_literal(value)
            region[one.about.name] = one.axis.write_interval(low, high)  # a range never holds what is missing
        return self.region(region, witness, given)


@dataclass(frozen=True)
class _Stretches:
    """One range of both lookups in the cells that the ends of both make; cell c lies beyond just c of the cuts."""

    about: Input
    axis: Axis
    cuts: Sequence[Cut]
    starts: _Numbers
    ends: _Numbers

    @property
    def n_cells(self) -> int:
        return len(self.cuts) + 1

    def cut(self, place: int) -> Cut:
        """Return the cut before a cell."""
        return LOW if place == 0 else HIGH if place > len(self.cuts) else self.cuts[place - 1]

    @classmethod
    def of(cls, tables: Sequence[Table], about: Input) -> _Stretches:
        cells = []
        for table in tables:
            names = [column.about.name for column in _lookup(table).ranges]
            cells.append(index_of(table).ranges[names.index(about.name)])
        old, new = (cell.cuts for cell in cells)
        cuts: Sequence[Cut]
        if isinstance(old, NumberCuts) and isinstance(new, NumberCuts):
            values, sides = (
                np.concatenate([getattr(old, part), getattr(new, part)]) for part in ("values", "sides")
            )
            order = np.lexsort((sides, values))
            is_new = np.ones(len(order), bool)
            is_new[1:] = (np.diff(values[order]) != 0) | (np.diff(sides[order]) != 0)
            ranks = np.empty(len(order), np.int64)
            ranks[order] = np.cumsum(is_new)
            cuts = NumberCuts(values[order][is_new], sides[order][is_new])
        else:
            every = sorted({*old, *new})
            place = {cut: number for number, cut in enumerate(every, 1)}
            ranks = np.array([place[cut] for cut in (*old, *new)], np.int64)
            cuts = tuple(every)
        starts, ends = [], []
        for one, part in zip(cells, np.split(ranks, [len(old)]), strict=True):
            to_joint = np.concatenate([[0], part, [len(cuts) + 1]])
            starts.append(to_joint[one.starts])
            ends.append(to_joint[one.ends])
        return cls(about, cells[1].axis, cuts, np.concatenate(starts), np.concatenate(ends))


def _lookup(table: Table) -> LookupRows:
    assert table.lookup is not None
    return table.lookup


def _first_wins(table: Table) -> bool:
    """Whether rows of one key that differ are allowed, the first of them deciding."""
    return table.severity.get("conflict", "error") != "error"


def _unfinished(rows: LookupRows) -> npt.NDArray[np.bool_]:
    made = np.ones(rows.n_rows, bool)
    for array in rows.results:
        made &= pc.is_null(array).to_numpy(zero_copy_only=False)
    return made


def _codes(arrays: Any) -> _Numbers:
    """Return a number for each value of some arrays, taken as one; -1 where there is none."""
    parts = list(arrays)
    kinds = {part.type for part in parts if not pa.types.is_null(part.type)}
    if len(kinds) > 1:
        kind = pa.float64() if any(map(pa.types.is_floating, kinds)) else pa.string()
        parts = [part.cast(kind) for part in parts]
    elif kinds:
        parts = [part.cast(next(iter(kinds))) for part in parts]
    encoded = pc.dictionary_encode(pa.concat_arrays(parts))
    codes: _Numbers = pc.fill_null(encoded.indices, -1).to_numpy(zero_copy_only=False).astype(np.int64)
    if pa.types.is_floating(encoded.dictionary.type):
        nan = np.flatnonzero(pc.is_nan(encoded.dictionary).to_numpy(zero_copy_only=False))
        codes[np.isin(codes, nan)] = -1
    return codes


def _combined(columns: Sequence[_Numbers], n_rows: int, *, blanks: bool = False) -> _Numbers:
    """Return a number for each different row of some columns of numbers; without `blanks`, -1 where one is."""
    made = np.zeros(n_rows, np.int64)
    for codes in columns:
        size = int(codes.max(initial=0)) + 2
        joined = made * size + codes + 1
        made = pc.dictionary_encode(pa.array(joined)).indices.to_numpy().astype(np.int64)
    if not blanks:
        for codes in columns:
            made[codes < 0] = -1
    return made


def _literal(value: Any) -> str:
    return write_literal(_exact(value))  # type: ignore[arg-type]


def _exact(value: Any) -> Value | None:
    return Decimal(repr(value)) if isinstance(value, float) else value


def rows_of_lookup(table: Table) -> Table:
    """Return a lookup as a table of conditions: one row for each of its own that has a key."""
    lookup, index = _lookup(table), LookupIndex(_lookup(table))
    columns: dict[str, list[Condition | None]] = {
        key.about.name: [None if value is None else Equals(_exact(value)) for value in key.values.to_pylist()]  # type: ignore[arg-type]
        for key in lookup.keys
    }
    for column, cells in zip(lookup.ranges, index.ranges, strict=True):
        columns[column.about.name] = [
            parse_condition(cells.write(int(start), int(end)), column.about.type) if start < end else None
            for start, end in zip(cells.starts, cells.ends, strict=True)
        ]
    results = [
        [UNFINISHED if value is None else _exact(value) for value in each.to_pylist()]
        for each in lookup.results
    ]
    rows = []
    for place in range(lookup.n_rows):
        conditions = tuple(columns[input_.name][place] for input_ in table.inputs)
        of_row = tuple(each[place] for each in results)
        if any(one is not UNFINISHED for one in of_row):
            of_row = tuple(None if one is UNFINISHED else one for one in of_row)
        if all(condition is not None for condition in conditions):
            rows.append(Row(place + 1, conditions, of_row))  # type: ignore[arg-type]
    inputs = tuple(  # no row of a lookup holds a missing value
        Input(
            input_.name,
            input_.type,
            input_.step,
            input_.step_offset,
            fold=input_.fold,
            required=True,
            tz=input_.tz,
        )
        for input_ in table.inputs
    )
    return Table(
        table.name, inputs, table.outputs, tuple(rows), missing=table.missing, otherwise=table.otherwise
    )
