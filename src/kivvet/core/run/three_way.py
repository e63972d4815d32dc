"""Two versions of a table that both come from a third: where both changed what the third gave, and differ; and whether a
merged version gives everywhere what whoever changed it wanted.

Over one or a few inputs every case there is is tried: the inputs are cut at all ends of all conditions of all versions, and
between two cuts no version changes its result. Elsewhere the regions in which two versions differ are held against each
other.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import pyarrow as pa

from kivvet.core.compare.compare import compare_tables
from kivvet.core.compare.comparison import Comparison, Gives
from kivvet.core.run.entries import Entry
from kivvet.core.run.frames import apply_entries
from kivvet.core.space.cells import CellCut
from kivvet.core.space.make_axis import make_axis
from kivvet.core.space.table_space import asked_of
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import Computed, Table
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.findings import KINDS
from kivvet.core.words.values import Instant, write_plain

MOST_CASES = 200_000
_MOST_CLASHES = 100
_HOW = "how each case is decided"
_NO_ROW = "no row"
#: What a version gives, by output, as texts.
Results = tuple[str, ...]


@dataclass(frozen=True)
class Clash:
    """A region that both changed, to different results.

    Attributes
    ----------
    region : mapping of str to str
        By input, in the condition syntax.
    before, ours, theirs : str
        What the common version gives there, and what the two do.
    """

    region: Mapping[str, str]
    before: str
    ours: str
    theirs: str

    @property
    def where(self) -> str:
        """The region as it reads in a message."""
        return _region_text(self.region)

    def __str__(self) -> str:
        return f"{self.where}: {self.before} -> {self.ours}, and -> {self.theirs}"

    def as_dict(self) -> dict[str, Any]:
        return {"region": dict(self.region), "before": self.before, "ours": self.ours, "theirs": self.theirs}


@dataclass(frozen=True)
class ThreeWay:
    """What came of it.

    Attributes
    ----------
    clashes : tuple of Clash
    is_proven : bool
        Whether it is certain that a merged version gives just what was wanted wherever there is no clash, and that there
        are no other clashes.
    wrong : str
        Where a merged version gives what nobody wanted; empty where that is nowhere, or not known.
    """

    clashes: tuple[Clash, ...] = ()
    is_proven: bool = False
    wrong: str = ""


def three_way(base: Table, ours: Table, theirs: Table, merged: Table | None) -> ThreeWay:
    """Return where two versions clash, and whether a merged one is right.

    Parameters
    ----------
    merged : Table or None
        None where there is no merged version: only clashes are sought.
    """
    tables = [base, ours, theirs, *([] if merged is None else [merged])]
    shapes = {
        (
            tuple((input_.name, input_.type) for input_ in table.inputs),
            tuple((output.name, output.type) for output in table.outputs),
        )
        for table in tables
    }
    if len(shapes) > 1:
        return ThreeWay()
    try:
        cases = _Cases.of(tables)
        return _by_regions(base, ours, theirs, merged) if cases is None else cases.judged(tables)
    except (KivvetError, ArithmeticError, pa.ArrowInvalid):
        return ThreeWay()


@dataclass(frozen=True)
class _Cases:
    """A value of each input, or missing, for each case in which some versions may give different results."""

    inputs: tuple[Input, ...]
    values: tuple[tuple[Any, ...], ...]
    texts: tuple[tuple[str, ...], ...]

    @classmethod
    def of(cls, tables: Sequence[Table]) -> _Cases | None:
        """Return the cases; None where they are too many, or not all there is."""
        if any(table.lookup is not None or table.computed_inputs for table in tables):
            return None
        if any(
            isinstance(result, Computed) for table in tables for row in table.rows for result in row.results
        ):
            return None
        first = tables[0]
        values, texts = [], []
        for number, about in enumerate(first.inputs):
            others = [table.inputs[number] for table in tables]
            if any((other.step, other.step_offset, other.shape, other.fold, other.tz) != (about.step, about.step_offset, about.shape, about.fold, about.tz) for other in others):  # fmt: skip
                return None
            asked = [condition for table in tables for condition in asked_of(table, number)]
            axis = make_axis(replace(about, domain=None), asked)
            cut = CellCut.of(axis, [axis.region(one) for one in dict.fromkeys(asked)], axis.domain)
            # Between two microseconds no time of data lies.
            cells = [cell for cell in cut.cells if not isinstance(cell.witness, Instant)]
            values.append((*(cell.witness for cell in cells), None))
            texts.append((*(axis.write_interval(cell.low, cell.high) for cell in cells), "missing"))
            if math.prod(map(len, values)) > MOST_CASES:
                return None
        return cls(first.inputs, tuple(values), tuple(texts))

    def judged(self, tables: Sequence[Table]) -> ThreeWay:
        places = list(itertools.product(*(range(len(value)) for value in self.values)))
        arrays = [
            pa.array([self.values[number][place[number]] for place in places])
            for number in range(len(self.inputs))
        ]
        frame = pa.table(dict(zip((input_.name for input_ in self.inputs), arrays, strict=True)))
        given = [_results(table, frame) for table in tables]
        names = [output.name for output in tables[0].outputs]
        clashes: dict[tuple[Results, Results, Results], list[tuple[int, ...]]] = {}
        wrong = ""
        for row, place in enumerate(places):
            before, ours, theirs, *merged = (one[row] for one in given)
            wanted = _wanted(before, ours, theirs)
            if wanted is None:
                clashes.setdefault((before, ours, theirs), []).append(place)
            elif merged and merged[0] != wanted and not wrong:
                region = _region_text(self._region([place]))
                wrong = f"{region} gives {_said(names, merged[0])}, and {_said(names, wanted)} was wanted"
        found = [
            Clash(self._region(run), *(_said(names, one) for one in three))
            for three, all_of_them in clashes.items()
            for run in self._runs(all_of_them)
        ]
        return ThreeWay(tuple(found[:_MOST_CLASHES]), not wrong, wrong)

    def _runs(self, places: list[tuple[int, ...]]) -> list[list[tuple[int, ...]]]:
        """Return places that follow each other along the last input together."""
        runs: list[list[tuple[int, ...]]] = []
        last = len(self.values[-1]) - 1  # missing, which follows no other
        for place in places:
            if runs and runs[-1][-1] == (*place[:-1], place[-1] - 1) and place[-1] != last:
                runs[-1].append(place)
            else:
                runs.append([place])
        return runs

    def _region(self, run: Sequence[tuple[int, ...]]) -> dict[str, str]:
        """Return a region by input, in the condition syntax."""
        return {
            about.name: " | ".join(dict.fromkeys(self.texts[number][place[number]] for place in run))
            for number, about in enumerate(self.inputs)
        }


def _wanted(before: Results, ours: Results, theirs: Results) -> Results | None:
    """Return what each side wanted of each output: what it changed, else what was given; None where both changed one, to
    different results.
    """
    made = []
    for was, one, two in zip(before, ours, theirs, strict=True):
        if was not in (one, two) and one != two:
            return None
        made.append(one if two == was else two)
    return tuple(made)


def _said(names: Sequence[str], results: Results) -> str:
    """Return results as they read: of several outputs by name."""
    if len(set(results)) == 1 and results[0] == _NO_ROW:
        return _NO_ROW
    if len(names) == 1:
        return results[0]
    return ", ".join(f"{name} {one}" for name, one in zip(names, results, strict=True))


def _region_text(region: Mapping[str, str]) -> str:
    return ", ".join(f"{name} {text}" for name, text in region.items())


def _results(table: Table, frame: pa.Table) -> list[Results]:
    """Return what a table gives in each case, by output, as texts; where rows that differ meet, what the earlier gives.

    That no row holds it is another thing than a row that says missing.
    """
    lowered = replace(table, severity=dict.fromkeys(KINDS, "note"), given=(), examples=())
    entry = Entry(table.name, status=_HOW)
    made = apply_entries(frame, [entry], {table.name: lowered}, with_report=False).frame
    held = made.column_names[len(frame.column_names) :]
    columns = [made.column(name).to_pylist() for name in held if name != _HOW]
    is_none = [how in ("unmatched", "missing", "no-period") for how in made.column(_HOW).to_pylist()]
    return [
        tuple(_NO_ROW if value is None and none else write_plain(value) for value in row)
        for none, row in zip(is_none, zip(*columns, strict=True), strict=True)
    ]


def _by_regions(base: Table, ours: Table, theirs: Table, merged: Table | None) -> ThreeWay:
    """Judge by the regions in which versions differ, which of lookups are their keys."""
    names = [output.name for output in base.outputs]
    of_ours, of_theirs = compare_tables(base, ours), compare_tables(base, theirs)
    by_ours, by_theirs = _regions(of_ours), _regions(of_theirs)
    clashes = []
    wanted: dict[tuple[tuple[str, str], ...], tuple[Results, Results]] = {}
    for region in {**by_ours, **by_theirs}:
        before, one = by_ours.get(region) or (by_theirs[region][0],) * 2
        two = by_theirs.get(region, (before, before))[1]
        both = _wanted(before, one, two)
        if both is None:
            clashes.append(Clash(dict(region), *(_said(names, each) for each in (before, one, two))))
        elif both != before:
            wanted[region] = before, both
    is_whole = all(one.is_settled and not one.n_more and not one.options for one in (of_ours, of_theirs))
    if merged is None or not is_whole or clashes:
        return ThreeWay(tuple(clashes[:_MOST_CLASHES]))
    made = compare_tables(base, merged)
    if not made.is_settled or made.n_more or made.options:
        return ThreeWay()
    given = _regions(made)
    if given == wanted:
        return ThreeWay(is_proven=True)
    # Regions of several inputs may be cut in other ways; those of lookups are keys.
    if any(table.lookup is None for table in (base, ours, theirs, merged)):
        return ThreeWay()
    region = next(one for one in {**wanted, **given} if wanted.get(one) != given.get(one))
    before = (given.get(region) or wanted[region])[0]
    is_given, was_wanted = (pairs.get(region, (before, before))[1] for pairs in (given, wanted))
    said = f"{_region_text(dict(region))} gives {_said(names, is_given)}, and {_said(names, was_wanted)} was wanted"
    return ThreeWay(wrong=said)


def _regions(made: Comparison) -> dict[tuple[tuple[str, str], ...], tuple[Results, Results]]:
    """Return by region what was given there by output, and what is."""
    return {
        tuple(region.region.items()): (
            _texts(region.before, region.after),
            _texts(region.after, region.before),
        )
        for region in made.regions
    }


def _texts(gives: Gives, other: Gives) -> Results:
    return tuple(gives.results.values()) or (_NO_ROW,) * len(other.results)
