"""Regions of findings, as values: which rows of data lie in them, and the conditions that they are."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
import numpy.typing as npt

from kivvet.core.classify.compiled import compile_table
from kivvet.core.columns.column import Column
from kivvet.core.read.options import Faults
from kivvet.core.read.row_reader import RowReader
from kivvet.core.tables.inputs import Output
from kivvet.core.tables.table import WHEN, Table
from kivvet.core.words.conditions import Condition
from kivvet.core.words.findings import Finding

_HERE = Output("\0here", "text")


@dataclass(frozen=True)
class FoundRegions:
    """Some regions of the space that a table divides, in order.

    Attributes
    ----------
    table : Table
        With a row for each region; the first that holds the values wins.
    """

    table: Table

    @classmethod
    def of(cls, table: Table, regions: Sequence[Mapping[str, str]]) -> FoundRegions | None:
        """Return regions given by input in the condition syntax; None where there are none, or they are not
        conditions on the table's inputs.
        """
        inputs = tuple(
            replace(column, domain=None, domain_of="", column=None, period=None, required=False)
            for column in table.inputs
        )
        names = [column.name for column in inputs]
        asked = [*names, *([WHEN] if WHEN not in names else [])]
        faults = Faults()
        reader = RowReader(faults, inputs, (_HERE,), "inline", computes=False)
        rows = reader.parse_rows(
            [[*asked, _HERE.name], *([*(region.get(name, "") for name in asked), "1"] for region in regions)]
        )
        if len(faults) or not rows:
            return None
        computed = tuple(reader.whens.computed_inputs)
        return cls(Table(table.name, inputs, (_HERE,), rows, match="first", computed_inputs=computed))

    @classmethod
    def of_finding(cls, table: Table, found: Finding) -> FoundRegions | None:
        """Return the region of a finding: one, or one for each pair of rows that meet."""
        if found.region is None or table.lookup is not None:
            return None
        return cls.of(table, [pair.region for pair in found.pairs] or [found.region])

    @property
    def conditions(self) -> tuple[Mapping[str, Condition], ...]:
        """By region, what it asks of each declared input."""
        names = [column.name for column in self.table.inputs]
        return tuple(dict(zip(names, row.conditions, strict=True)) for row in self.table.rows)

    def first_of(self, columns: Mapping[str, Column]) -> npt.NDArray[np.int64]:
        """Return for each row of data the place of the first region that holds its values, -1 where none does."""
        compiled = compile_table(self.table)
        places = compiled.classify(columns).labels.astype(np.int64)
        places[places >= compiled.outcomes.n_rows] = -1
        return places

    def seen(self, columns: Mapping[str, Column]) -> tuple[npt.NDArray[np.int64], npt.NDArray[np.int64]]:
        """Return for each region how many rows of data lie in it, and the first of them (from 0; -1 where there is none). A
        row that lies in several is counted for each.
        """
        n_regions = len(self.table.rows)
        counts, first = np.zeros(n_regions, np.int64), np.full(n_regions, -1, np.int64)
        compiled = compile_table(self._of_every)
        outcomes, firsts, totals = np.unique(
            compiled.classify(columns).labels, return_index=True, return_counts=True
        )
        for outcome, row, n in zip(outcomes.tolist(), firsts.tolist(), totals.tolist(), strict=True):
            for region in compiled.outcomes.rows_of(outcome):
                counts[region] += n
                first[region] = row if first[region] < 0 else min(first[region], row)
        return counts, first

    @cached_property
    def _of_every(self) -> Table:
        return replace(self.table, match="every")

    def mask(self, columns: Mapping[str, Column]) -> npt.NDArray[np.bool_]:
        """Return which rows of data lie in one of the regions."""
        return self.first_of(columns) >= 0
