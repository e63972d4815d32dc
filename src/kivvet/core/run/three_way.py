"""Two versions of a table that both come from a third: where both changed what the third gave, and differ; and whether a
merged version gives everywhere what whoever changed it wanted.

Over one or a few inputs every case there is is tried: the inputs are cut at all ends of all conditions of all versions, and
between two cuts no version changes its result. Elsewhere the regions in which two versions differ are held against each
other.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import pyarrow as pa

from kivvet.core.compare.compare import compare_tables
from kivvet.core.compare.comparison import Comparison, Gives
from kivvet.core.run.frames import apply_tables
from kivvet.core.space.cells import CellCut
from kivvet.core.space.make_axis import make_axis
from kivvet.core.space.table_space import asked_of
from kivvet.core.tables.inputs import Input
from kivvet.core.tables.table import Computed, Table
from kivvet.core.words.errors import KivvetError
from kivvet.core.words.findings import KINDS
from kivvet.core.words.values import write_plain

MOST_CASES = 200_000
_MOST_CLASHES = 100


@dataclass(frozen=True)
class Clash:
    """A region that both changed, to different results.

    Attributes
    ----------
    region : str
        In the condition syntax, by input where there are several.
    before, ours, theirs : str
        What the common version gives there, and what the two do.
    """

    region: str
    before: str
    ours: str
    theirs: str

    def __str__(self) -> str:
        return f"{self.region}: {self.before} -> {self.ours}, and -> {self.theirs}"

    def as_dict(self) -> dict[str, str]:
        return {"region": self.region, "before": self.before, "ours": self.ours, "theirs": self.theirs}


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
            tuple((one.name, one.type) for one in table.inputs),
            tuple((one.name, one.type) for one in table.outputs),
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
        if any(isinstance(one, Computed) for table in tables for row in table.rows for one in row.results):
            return None
        first = tables[0]
        values, texts = [], []
        for number, about in enumerate(first.inputs):
            others = [table.inputs[number] for table in tables]
            if any((one.step, one.step_offset, one.shape, one.fold, one.tz) != (about.step, about.step_offset, about.shape, about.fold, about.tz) for one in others):  # fmt: skip
                return None
            asked = [condition for table in tables for condition in asked_of(table, number)]
            axis = make_axis(replace(about, domain=None), asked)
            cut = CellCut.of(axis, [axis.region(one) for one in dict.fromkeys(asked)], axis.domain)
            cells = cut.cells
            values.append((*(cell.witness for cell in cells), None))
            texts.append((*(axis.write_interval(cell.low, cell.high) for cell in cells), "missing"))
            if math.prod(map(len, values)) > MOST_CASES:
                return None
        return cls(first.inputs, tuple(values), tuple(texts))

    def judged(self, tables: Sequence[Table]) -> ThreeWay:
        places = list(itertools.product(*(range(len(one)) for one in self.values)))
        arrays = [
            pa.array([self.values[number][place[number]] for place in places])
            for number in range(len(self.inputs))
        ]
        frame = pa.table(dict(zip((one.name for one in self.inputs), arrays, strict=True)))
        given = [_results(table, frame) for table in tables]
        clashes: dict[tuple[str, str, str], list[tuple[int, ...]]] = {}
        wrong = ""
        for row, place in enumerate(places):
            before, ours, theirs, *merged = (one[row] for one in given)
            if len({before, ours, theirs}) == 3:
                clashes.setdefault((before, ours, theirs), []).append(place)
                continue
            wanted = theirs if theirs != before else ours
            if merged and merged[0] != wanted and not wrong:
                wrong = f"{self._region([place])} gives {merged[0]}, and {wanted} was wanted"
        found = [
            Clash(self._region(run), *three)
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

    def _region(self, run: Sequence[tuple[int, ...]]) -> str:
        parts = []
        for number, about in enumerate(self.inputs):
            texts = list(dict.fromkeys(self.texts[number][place[number]] for place in run))
            parts.append(f"{about.name} {' | '.join(texts)}")
        return ", ".join(parts)


def _results(table: Table, frame: pa.Table) -> list[str]:
    """Return what a table gives in each case, as text; where rows that differ meet, what the earlier gives."""
    lowered = replace(table, severity=dict.fromkeys(KINDS, "note"), given=(), examples=())
    made = apply_tables(frame, [lowered], with_report=False).frame
    columns = [made.column(name).to_pylist() for name in made.column_names[len(frame.column_names) :]]
    return [", ".join(map(write_plain, row)) for row in zip(*columns, strict=True)]


def _by_regions(base: Table, ours: Table, theirs: Table, merged: Table | None) -> ThreeWay:
    of_ours, of_theirs = compare_tables(base, ours), compare_tables(base, theirs)
    by_ours, by_theirs = _regions(of_ours), _regions(of_theirs)
    clashes = tuple(
        Clash(region, by_ours[region][0], by_ours[region][1], by_theirs[region][1])
        for region in by_ours
        if region in by_theirs and by_ours[region][1] != by_theirs[region][1]
    )
    is_whole = all(one.is_settled and not one.n_more and not one.options for one in (of_ours, of_theirs))
    if merged is None or not is_whole or clashes:
        return ThreeWay(clashes[:_MOST_CLASHES])
    alike = {region for region, one in by_ours.items() if by_theirs.get(region) == one}
    left = _results_by_region(by_theirs, alike), _results_by_region(by_ours, alike)
    made = [compare_tables(side, merged) for side in (ours, theirs)]
    if not all(one.is_settled and not one.n_more and not one.options for one in made):
        return ThreeWay()
    return ThreeWay(
        is_proven=all(
            _results_by_region(_regions(one), set()) == wanted for one, wanted in zip(made, left, strict=True)
        )
    )


def _regions(made: Comparison) -> dict[str, tuple[str, str]]:
    """Return by region what was given there, and what is."""
    return {
        ", ".join(f"{name} {text}" for name, text in one.region.items()): (
            _text(one.before),
            _text(one.after),
        )
        for one in made.regions
    }


def _text(gives: Gives) -> str:
    return ", ".join(gives.results.values()) or "no row"


def _results_by_region(regions: dict[str, tuple[str, str]], left_out: set[str]) -> dict[str, str]:
    return {region: after for region, (_, after) in regions.items() if region not in left_out}
